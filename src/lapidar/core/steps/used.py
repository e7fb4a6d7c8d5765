"""What a run stood on beside the bytes that it read: what it used of its environment, what it looked for, and which
folders it looked through. docs/steps.md says what of it counts.

It is kept in the cache with the lists of a record (`core/results/listing.py`), as JSON.
"""

from __future__ import annotations

import json
import os
import posixpath
from collections.abc import Callable, Collection, Iterable, Iterator
from functools import cached_property

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from lapidar.core import languages
from lapidar.core.declaring import reading
from lapidar.core.environment import marker
from lapidar.core.environment.folder import Environment
from lapidar.core.place import Place
from lapidar.core.records.owner import Layer, Owner
from lapidar.core.records.snapshot import Conditions, Snapshot
from lapidar.core.results.observing import ignored
from lapidar.core.system.observed import Image
from lapidar.core.system.supervision import Ended

__all__ = [
    "EVERYTHING",
    "RunSeen",
    "Used",
    "above",
    "both",
    "joined",
    "less",
    "listed_but",
    "names_in",
    "packed",
    "read",
    "variable_files",
]

_LIBRARY = f"{marker.SOUGHT}library/"
_SEVERAL = ("parts", "library_files", "libraries", "programs", "absent", "present", "unread", "partners")


class Used(msgspec.Struct, frozen=True, omit_defaults=True):
    """What a run stood on.

    Attributes:
        is_whole: nothing is known of what it used of its environment: all of that counts.
        parts: what the parts of the snapshot are called (`Owner.user`) that it opened a file of.
        library_files: of the tree of libraries, the paths that it opened, below the environment.
        names: by language, what it looked for of its packages; see `Using.sought`.
        libraries: beginnings of the names of libraries that it looked for and that are not there; ``*`` for any.
        programs: names of programs likewise.
        absent: paths below the project that it looked for and that were not there.
        present: paths below the project that it only asked about, and that were there.
        listed: the folders of the project that it looked through ("." for its root), each with the names in it.
        links: paths of links in the project on the way to what it asked for, each with what it says.
        files: those that were read for it and not by it (one of variables), each with its sha256.
        outside: absolute paths of files outside of the project that it read, each with its sha256 then.
        unread: those of its inputs that it found in such a folder and did not open.
        partners: whom it talked to.
    """

    is_whole: bool = False
    parts: tuple[str, ...] = ()
    library_files: tuple[str, ...] = ()
    names: dict[str, tuple[str, ...]] = {}
    libraries: tuple[str, ...] = ()
    programs: tuple[str, ...] = ()
    absent: tuple[str, ...] = ()
    present: tuple[str, ...] = ()
    listed: dict[str, tuple[str, ...]] = {}
    links: dict[str, str] = {}
    files: dict[str, str] = {}
    outside: dict[str, str] = {}
    unread: tuple[str, ...] = ()
    partners: tuple[str, ...] = ()


EVERYTHING = Used(is_whole=True)


def packed(used: Used) -> bytes:
    """As it is kept; names of files need not be UTF-8."""
    return json.dumps(msgspec.to_builtins(used), sort_keys=True).encode("ascii")


def read(data: bytes) -> Used | None:
    """What was kept; None where that is no such thing."""
    try:
        return msgspec.convert(json.loads(data), Used)
    except (ValueError, msgspec.ValidationError):
        return None


def _links(place: Place, paths: Iterable[str]) -> Iterator[tuple[str, str]]:
    """The links among paths below the project and the folders above these, each with what it says."""
    every = {one for path in paths for one in (path, *above(path))}
    for path in sorted(every):
        if os.path.islink(place.root / path):
            yield path, os.readlink(place.root / path)


def variable_files(place: Place, held: Conditions | None) -> tuple[str, ...]:
    """The files of a project that the variables of a run are read from.

    Args:
        held: the conditions of the environment.
    """
    declared = reading.read(place).conditions.env_file
    return tuple(sorted({name for name in (declared, held.env_file if held else None) if name}))


def names_in(place: Place, folder: str) -> tuple[str, ...] | None:
    """The names in a folder of the project, those of folders with a slash behind them, less what nobody wants to know
    of; None where there is no such folder.

    Args:
        folder: below the project; "." for its root.
    """
    is_ignored = ignored(place, [])
    root = os.path.realpath(place.root)
    try:
        entries = list(os.scandir(os.path.join(root, folder)))
    except OSError:
        return None
    found = []
    for entry in entries:
        if not is_ignored(f"{root}/{joined(folder, entry.name)}"):
            found.append(entry.name + ("/" if entry.is_dir() else ""))
    return tuple(sorted(found))


def less(used: Used, is_none: Callable[[str], bool]) -> Used:
    """What a run stood on, without what is no file of the project's."""

    def left(paths: tuple[str, ...]) -> tuple[str, ...]:
        return tuple(path for path in paths if not is_none(path))

    return replace(used, absent=left(used.absent), present=left(used.present), unread=left(used.unread))


def both(one: Used, other: Used, read: Collection[str]) -> Used:
    """What two runs stood on together, each of which did a part.

    Args:
        read: paths below the project that either read, or made.
    """

    def union(name: str) -> tuple[str, ...]:
        return tuple(sorted({*getattr(one, name), *getattr(other, name)}))

    names = {
        language: tuple(sorted({*one.names.get(language, ()), *other.names.get(language, ())}))
        for language in one.names.keys() | other.names.keys()
    }
    together = replace(
        one,
        is_whole=one.is_whole or other.is_whole,
        names=names,
        **{name: union(name) for name in _SEVERAL},
        **{name: {**getattr(other, name), **getattr(one, name)} for name in ("listed", "links", "files", "outside")},
    )
    return less(together, read.__contains__)


def listed_but(names: Iterable[str], folder: str, made: Collection[str]) -> set[str]:
    """The names in a folder, less files that were made, and the folders that these lie in.

    Args:
        made: paths below the project.
    """
    start = "" if folder == "." else f"{folder}/"
    inside = {path[len(start) :] for path in made if path.startswith(start)}
    first = {path.partition("/")[0] + ("/" if "/" in path else "") for path in inside}
    return set(names) - first


def joined(folder: str, name: str) -> str:
    """The path below the project of a name in a folder of it."""
    return name if folder == "." else f"{folder}/{name}"


def above(path: str) -> Iterator[str]:
    """The folders that a path below the project lies in."""
    while path := posixpath.dirname(path):
        yield path


class RunSeen(Struct, dict=True):
    """A run that has ended, read for what it stood on."""

    place: Place
    environment: Environment
    ended: Ended

    def stood_on(self, snapshot: Snapshot | None, read: Collection[str], results: Collection[str]) -> Used:
        """What it stood on.

        Args:
            snapshot: the environment's; None where it is not known.
            read: paths below the project that it opened.
            results: those that it wrote.
        """
        place = self.place
        listed = {one: names for one in self.folders if (names := names_in(place, one)) is not None}
        in_listed = (joined(folder, name) for folder, names in listed.items() for name in names)
        own = {*results, *(folder for one in results for folder in above(one))}
        # Where a link leads to what is not there, it is that which it looked for.
        inside = [f"{self._root}/{path}" for path in self.below(self.asked)]
        absent = self.below(os.path.realpath(path) for path in inside if not os.path.exists(path))
        asked_for = self.below(self.ended.touched.asked_for)
        present = set(asked_for) - {*read, *own, "."}
        of_environment = self.of_environment(snapshot) if snapshot is not None else EVERYTHING
        return replace(
            of_environment,
            absent=tuple(sorted({*absent} - own)),
            # Folders are asked about on the way to what lies in them, and what it made is no longer what it found.
            present=tuple(sorted(one for one in present if not (place.root / one).is_dir())),
            links=dict(_links(place, asked_for)),
            listed=listed,
            unread=tuple(sorted(one for one in in_listed if not one.endswith("/") and one not in read)),
            partners=self.ended.touched.partners,
        )

    @cached_property
    def _root(self) -> str:
        return os.path.realpath(self.place.root)

    @cached_property
    def told(self) -> frozenset[str]:
        """What hooks told, less the folder that is nowhere; folders with that before them."""
        return frozenset(
            path for paths in self.ended.absent.values() for path in paths if path.startswith(marker.SOUGHT)
        )

    @cached_property
    def asked(self) -> frozenset[str]:
        """Absolute paths that were asked for and not there."""
        every = {path for paths in self.ended.absent.values() for path in paths}
        return frozenset(every - self.told)

    @cached_property
    def listed(self) -> set[str]:
        """Absolute paths of folders that were looked through, and not by an import."""
        told = (one.removeprefix(marker.SOUGHT).partition("/") for one in self.told)
        found = {what.removeprefix("folder") for who, _, what in told if who and what.startswith("folder/")}
        for path, by in self.ended.touched.listed.items():
            if path not in found and not (by and all(self._only_imports(one, path) for one in by)):
                found.add(path)
        return found

    def _only_imports(self, image: Image, folder: str) -> bool:
        """Whether it may have looked through a folder only to import from it: a program tells of its own listings. What
        compiled code of packages lists, it does not tell."""
        language = self._loading.get(image)
        if language is None:
            return False
        using = languages.of(language).using
        return using is None or using.imports_from(folder, self._root)

    @cached_property
    def _loading(self) -> dict[Image, str]:
        """The interpreters among what ran, each with its language: they are that by their files, or told so."""
        paths = {one.name: self.environment.executable(one.name) for one in languages.every()}
        programs = {os.path.realpath(path): name for name, path in paths.items() if path}
        every = {image for by in self.ended.touched.listed.values() for image in by}
        found = {image: programs[image.running] for image in every if image.running in programs}
        for name in paths:
            told = f"{marker.SOUGHT}{name}/begun"
            found |= {image: name for image, asked in self.ended.absent.items() if told in asked}
        return found

    @cached_property
    def folders(self) -> tuple[str, ...]:
        """The folders of the project that it looked through, and not only to import from them. One that was not there
        is something that it asked for in vain, and no folder."""
        return tuple(one for one in self.below(self.listed) if (self.place.root / one).is_dir())

    def below(self, paths: Iterable[str]) -> list[str]:
        """Those of absolute paths that lie in the project and somebody wants to know of, relative to it."""
        root, is_ignored = self._root, ignored(self.place, [self.environment.folder])
        found = set()
        for path in paths:
            if path == root:
                found.add(".")
            elif path.startswith(root + "/") and not is_ignored(path):
                found.add(path[len(root) + 1 :])
        return sorted(found)

    def of_environment(self, snapshot: Snapshot) -> Used:
        """What it used of its environment, and looked for in it."""
        listed = self.environment.manifest
        if listed is None:
            return EVERYTHING
        folder = os.path.realpath(self.environment.folder)
        opened = {*self.ended.observed.opened, *self.ended.observed.mapped}
        inside = {path[len(folder) + 1 :] for path in opened if path.startswith(folder + "/")}
        owners: dict[str, Owner] = {}
        for path, at in zip(listed.listing.paths, listed.listing.owner_of, strict=True):
            if path in inside:
                owners[path] = listed.listing.owners[at]
        parts = {one for one in owners.values() if one.layer not in (Layer.LIBRARIES, Layer.ENVIRONMENT)}
        asked = [path[len(folder) + 1 :] for path in self.asked if path.startswith(folder + "/")]
        return Used(
            parts=tuple(sorted(one.user for one in parts)),
            library_files=tuple(sorted(path for path, one in owners.items() if one.layer is Layer.LIBRARIES)),
            names=dict(self._names(snapshot, {one.language for one in parts})),
            libraries=tuple(sorted({*_libraries(asked), *_told_libraries(self.told)})),
            programs=tuple(sorted({path[4:] for path in asked if path.startswith("bin/") and path.count("/") == 1})),
        )

    def _names(self, snapshot: Snapshot, used: Collection[str]) -> Iterator[tuple[str, tuple[str, ...]]]:
        """By language; those of which nothing ran, not even their runtime, have no say."""
        told = {one.removeprefix(marker.SOUGHT) for one in self.told} | self.asked
        folders = set(self.ended.touched.listed)
        for language in languages.every():
            runtime = snapshot.runtime_of(language.name)
            if runtime is None or language.name not in used:
                continue
            folder = os.path.realpath(self.environment.folder / language.checking.package_folder(runtime))
            names = language.using.sought(told, folders, folder) if language.using else ["*"]
            found = tuple(sorted(set(names)))
            yield language.name, ("*",) if "*" in found else found


def _libraries(asked: Iterable[str]) -> Iterator[str]:
    for path in asked:
        name = posixpath.basename(path)
        if ".so" in name:
            yield name


def _told_libraries(told: Iterable[str]) -> Iterator[str]:
    return (one.removeprefix(_LIBRARY) for one in told if one.startswith(_LIBRARY))
