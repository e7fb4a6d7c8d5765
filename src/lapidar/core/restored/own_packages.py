"""Packages of the project's own (members): which of their files are live in its environment, and whether their sources
are what was built."""

from __future__ import annotations

import hashlib
import os
import re
from collections.abc import Iterator, Mapping
from pathlib import Path

import msgspec
from msgspec.structs import replace

from lapidar.core import atomic, decoding, foreign, languages
from lapidar.core.cache.store import Cache
from lapidar.core.environment.layout import ToProject
from lapidar.core.languages import live, source_trees
from lapidar.core.place import Place
from lapidar.core.records.owner import PackageName
from lapidar.core.records.snapshot import Package, Snapshot

__all__ = [
    "Stamp",
    "Stamps",
    "is_here",
    "is_member",
    "known",
    "looked_at",
    "note",
    "note_again",
    "to_project",
    "was_edited",
]


_OF_METADATA = re.compile(r"\.(dist|egg)-info/")


class Stamp(msgspec.Struct, frozen=True):
    """How the folder of a member was when its environment was made.

    Attributes:
        path: of the folder, below the project.
        live: the files, below that, of which an edit shows at the next start, and is no reason to build.
        every: of all its files the names, sizes and times, as a digest; "" where they were not what was built.
        rest: the same, of live files the names alone.
    """

    path: str
    live: tuple[str, ...]
    every: str
    rest: str


class Stamps(msgspec.Struct, frozen=True):
    """Of all members of a project.

    Attributes:
        snapshot: that of the environment.
        locked: that of the lockfile that it follows from.
        members: by language and name.
    """

    snapshot: str
    locked: str
    members: dict[str, Stamp]


def is_member(package: Package) -> bool:
    """Whether a package was built from a folder of the project."""
    return package.origin.sources is not None


def is_here(package: Package, place: Place) -> bool:
    """Whether the folder of a member is there."""
    return is_member(package) and package.origin.path is not None and (place.root / package.origin.path).is_dir()


def to_project(place: Place, snapshot: Snapshot, environment: Path, cache: Cache, *, links: bool) -> ToProject:
    """The way from an environment to the project's files.

    Args:
        links: whether files of members are links to their sources.
    """
    way = os.path.relpath(place.root, environment)
    found = {
        one.key: files
        for one in snapshot.packages
        if links and one.origin.live and cache.has_tree(one.tree)
        if (files := live.files(cache.tree(one.tree), one.origin, place.root))
    }
    return ToProject(way, found)


def was_edited(package: Package, place: Place) -> bool:
    """Whether the folder of a member has other sources than were built."""
    if not is_here(package, place):
        return False
    assert package.origin.path is not None
    return f"sha256:{source_trees.digest_here(place.root / package.origin.path)}" != package.origin.sources


def known(place: Place) -> Stamps | None:
    """What was noted of a project's members; None where nothing was."""
    try:
        return foreign.parsed(lambda: decoding.from_json(foreign.read(place.members), Stamps))
    except (OSError, ValueError):
        return None


def looked_at(place: Place, stamp: Stamp) -> Stamp:
    """A member's folder as it is now."""
    return _stamp(place.root / stamp.path, stamp.path, frozenset(stamp.live))


def _edited_in_place(package: Package, links: Mapping[str, str], cache: Cache) -> Iterator[str]:
    """Of the live files of a member those that nothing else is made of, as far as one can know: where something of it
    is compiled or generated, only what its language runs."""
    is_made = any(
        path not in links and not _OF_METADATA.search(path) for path in (one.path for one in cache.tree(package.tree))
    )
    suffixes = languages.of(package.language).source_suffixes
    return (path for path in links.values() if not is_made or path.endswith(suffixes))


def note(
    place: Place, cache: Cache, snapshot: Snapshot, locked: str, links: Mapping[PackageName, Mapping[str, str]]
) -> None:
    """Note how the members' folders are, with the environment that was just made.

    Args:
        snapshot: that of the environment.
        locked: that of the lockfile.
        links: see `ToProject.live`.
    """
    members = {}
    for one in snapshot.packages:
        if not is_here(one, place) or one.origin.path is None:
            continue
        prefix = f"{one.origin.path}/"
        files = [path.removeprefix(prefix) for path in _edited_in_place(one, links.get(one.key, {}), cache)]
        stamp = _stamp(place.root / one.origin.path, one.origin.path, frozenset(files))
        if was_edited(one, place):
            stamp = replace(stamp, every="", rest="")
        members["/".join(one.key)] = stamp
    _write(place, Stamps(snapshot.snapshot, locked, members))


def _write(place: Place, stamps: Stamps) -> None:
    atomic.write_file(place.members, msgspec.json.encode(stamps), flush=False)


def _stamp(folder: Path, path: str, links: frozenset[str]) -> Stamp:
    every, rest = hashlib.sha256(), hashlib.sha256()
    for name in source_trees.files_of(folder):
        try:
            status = os.stat(folder / name)
        except OSError:
            continue
        line = f"{name}\0{status.st_mtime_ns} {status.st_size} {status.st_mode & 0o100}\n".encode(
            "utf-8", "surrogateescape"
        )
        every.update(line)
        rest.update(f"{name}\n".encode("utf-8", "surrogateescape") if name in links else line)
    return Stamp(path, tuple(sorted(links)), every.hexdigest(), rest.hexdigest())


def note_again(place: Place) -> None:
    """Note how the members' folders are now: what changed was nothing that is built."""
    if stamps := known(place):
        members = {name: looked_at(place, stamp) for name, stamp in stamps.members.items()}
        _write(place, replace(stamps, members=members))
