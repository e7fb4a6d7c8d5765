"""The layer of system libraries: what the environment's ELF files need of the operating system, the loader that finds
it, and what these open on demand."""

from __future__ import annotations

import functools
import os
import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import NamedTuple

import msgspec

from lapidar.core.cache.stowing import Draft, Stowed
from lapidar.core.cache.trees import Entry, Tree
from lapidar.core.environment import kept as kept_files
from lapidar.core.environment import marker, walk
from lapidar.core.records.snapshot import Libraries, Library
from lapidar.core.system import companions, owners
from lapidar.core.system.elf import Elf
from lapidar.core.system.loader import HWCAPS, Loader, System
from lapidar.core.system.memory import ElfMemory
from lapidar.core.system.owners import Owner
from lapidar.core.system.processor import LEVELS

__all__ = ["KEPT", "RUNTIME", "Missing", "Object", "Observed", "Request", "kept", "observe", "place"]

KEPT = f"{marker.PRIVATE}/libraries.json"  # what of the records cannot be read off the files again
RUNTIME = "runtime"
# They belong to the driver of a device, and work with that driver's version only.
_OF_THE_HOST = re.compile(
    r"lib(cuda|nvcuvid|nvidia-[\w-]+|nvoptix|GLX_nvidia|EGL_nvidia|vdpau_nvidia|amdgpu\w*|ze_intel_gpu)\.so(\.|$)"
)
# Names that no ELF file of an environment has; all others are looked at.
_NO_ELF = frozenset(
    "py pyc pyi pyx pxd txt md rst h hpp c cpp f f90 json csv html js css svg png gif ttf afm npy npz gz dat toml cfg "
    "ini typed yml yaml pem mo po xml ipynb sh bat ps1 cmake pc lib a map ts jpg pdf".split()
)
_FAMILY = re.compile(r"^(.*?)_?([0-9][0-9.]*)$")


class Object(NamedTuple):
    """A file of the environment: whose it is (``runtime``, a package, ``tool NAME``), where it lies, and where it goes
    below a restored environment."""

    user: str
    source: str
    path: str


class Request(NamedTuple):
    """A library that is asked for by its name: by whom."""

    user: str
    name: str


class Missing(NamedTuple):
    """A needed library that is nowhere: its name, the files that need it, and the operating system's package that has a
    file of this name somewhere else."""

    name: str
    needed_by: tuple[str, ...]
    owner: str | None


class _Facts(msgspec.Struct, frozen=True):
    """What is kept of a library beside its bytes."""

    sha256: str
    owner: str | None
    owner_version: str | None
    used_by: tuple[str, ...]


@dataclass(slots=True)
class _Use:
    """One library, by the path below the private folder that it goes to."""

    source: str
    users: set[str] = field(default_factory=set)
    versions: set[str] = field(default_factory=set)


@dataclass(slots=True)
class Observed:
    """The layer as found.

    Attributes:
        loader: the loader's file in the tree; "" where the environment does not use glibc, and nothing was observed.
        drafts: the files of the tree.
        missing: needed libraries that are nowhere.
        host: libraries that cannot travel, "NAME VERSION" each.
        notes: what the user should know.
    """

    loader: str = ""
    drafts: list[Draft] = field(default_factory=list)
    uses: dict[str, _Use] = field(default_factory=dict)
    owner_of: dict[str, Owner] = field(default_factory=dict)
    kept: dict[str, _Facts] = field(default_factory=dict)
    absolute: tuple[str, ...] = ()
    missing: list[Missing] = field(default_factory=list)
    host: list[str] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)

    def records(self, stowed: Stowed) -> tuple[Libraries, tuple[Library, ...]]:
        """The records, once the files are stowed."""
        tree = stowed.tree
        entries = {entry.path: entry for entry in tree}
        libraries = []
        for name, use in self.uses.items():
            entry = entries[name]
            owner = self._owner(name, use, entry)
            libraries.append(
                Library(
                    soname=name,
                    sha256=entry.content,
                    bytes=entry.bytes,
                    used_by=(RUNTIME,) if RUNTIME in use.users else tuple(sorted(use.users)),
                    owner=owner.name if owner else None,
                    owner_version=owner.version if owner else None,
                    versions=_newest(use.versions),
                )
            )
        layer = Libraries(self.loader, tree.digest, len(tree), tree.total_bytes, self.absolute)
        return layer, tuple(sorted(libraries, key=lambda library: library.soname))

    def _owner(self, name: str, use: _Use, entry: Entry) -> Owner | None:
        facts = self.kept.get(name)
        if facts and facts.sha256 == entry.content:
            return Owner(facts.owner, facts.owner_version or "") if facts.owner else None
        return self.owner_of.get(use.source)


def _newest(versions: set[str]) -> tuple[str, ...]:
    """Of each family of symbol versions (GLIBC_2.34, GLIBCXX_3.4.30) the newest: whoever has it has the older ones."""
    best: dict[str, tuple[tuple[int, ...], str]] = {}
    for version in versions:
        found = _FAMILY.match(version)
        family = found[1] if found else version
        number = tuple(int(part) for part in found[2].split(".") if part) if found else ()
        best[family] = max(best.get(family, ((), "")), (number, version))
    return tuple(sorted(version for _, version in best.values()))


def kept(environment: Path) -> dict[str, _Facts]:
    """What a restored environment says of its libraries; nothing where it has none of its own."""
    return kept_files.read(environment, KEPT, dict[str, _Facts]) or {}


def keep(libraries: Iterable[Library]) -> bytes:
    """The file `KEPT` of these."""
    facts = {
        library.soname: _Facts(library.sha256, library.owner, library.owner_version, library.used_by)
        for library in libraries
    }
    return kept_files.render(facts)


def observe(
    program: str,
    prefix: str,
    objects: Iterable[Object],
    memory: ElfMemory,
    *,
    requests: Iterable[Request] = (),
    data: Iterable[Draft] = (),
    library_path: Iterable[str] = (),
    at_their_place: bool = True,
) -> Observed:
    """Find the system libraries that an environment needs. No file is run.

    Args:
        program: the interpreter's executable.
        prefix: the environment's folder; where it is a restored one, its own libraries come first.
        objects: all files of the environment.
        memory: reads ELF files.
        requests: libraries that are asked for by name, beside those that ELF files need.
        data: what else the libraries are to find, as files of the tree.
        library_path: LD_LIBRARY_PATH.
        at_their_place: whether the objects lie as in an environment; in a cache, a library is told to be one of the
            environment's own by its name.
    """
    return _Observer(program, prefix, memory, tuple(library_path)).run(list(objects), requests, data, at_their_place)


class _Observer:
    def __init__(self, program: str, prefix: str, memory: ElfMemory, library_path: tuple[str, ...]) -> None:
        self.program = program
        self.private = f"{prefix}/{marker.PRIVATE}"
        self.result = Observed(kept=kept(Path(prefix)))
        restored = bool(self.result.kept)
        # As the launchers of a restored environment lead the loader, with libraries of its own or the host's.
        own: tuple[str, ...] = ()
        if restored:
            own = (self.private, f"{prefix}/lib")
        elif marker.read(Path(prefix)):
            own = (f"{prefix}/lib",)
        self.system = System.here((*own, *library_path))
        self.read = memory.read
        self.real = functools.cache(os.path.realpath)
        self.loader = Loader(self.system, memory.read)
        self.data_from = self.private if restored else None
        self.brought: dict[str, str] = {}  # libraries that packages bring, and who uses each
        self.data: dict[str, list[tuple[str, str, bool]]] = {}  # by its place: where each file goes, and where it is

    def run(
        self, objects: list[Object], requests: Iterable[Request], data: Iterable[Draft], at_their_place: bool
    ) -> Observed:
        result = self.result
        facts = self.read(self.program)
        if facts is None or not re.match(r"ld-linux|ld64\.so", os.path.basename(facts.interpreter)):
            result.notes.append(_no_glibc(facts))
            return result
        elves = [one for one in objects if _may_be_elf(one.path) and self._is_ours(one.source)]
        own_files = {self.real(one.source): one.path for one in elves} if at_their_place else {}
        own_names = {os.path.basename(one.path) for one in elves}
        own_names |= {elf.soname for one in elves if (elf := self.read(one.source)) and elf.soname}
        missing: dict[str, list[str]] = {}
        for one in elves:
            self._object(one, own_files, set() if at_their_place else own_names, missing)
        result.loader = os.path.basename(facts.interpreter)
        own_loader = f"{self.private}/{result.loader}"
        self._add(result.loader, own_loader if os.path.isfile(own_loader) else facts.interpreter, RUNTIME)
        for request in requests:
            self._request(request, own_names)
        self._on_demand()
        self._kept_ones({RUNTIME, *(one.user for one in objects), *(request.user for request in requests)})
        while self._data():
            pass
        self._levels()
        self._missing(missing, own_names)
        self._shadowed(own_files)
        self._programs_inside(elves)
        result.absolute = tuple(sorted({one.path for one in elves if self._has_absolute_rpath(one.source)}))
        self._draft(data)
        if not result.kept:
            result.owner_of = owners.here().of(use.source for use in result.uses.values())
        elif new := [use.source for name, use in result.uses.items() if name not in result.kept]:
            result.owner_of = owners.here().of(new)
        return result

    def _is_ours(self, source: str) -> bool:
        elf = self.read(source)
        return elf is not None and self.loader.fits(elf) and not elf.is_static

    def _has_absolute_rpath(self, source: str) -> bool:
        elf = self.read(source)
        return elf is not None and any(folder.startswith("/") for folder in elf.rpath)

    # ---- what the environment's files need

    def _object(
        self, one: Object, own_files: dict[str, str], own_names: set[str], missing: dict[str, list[str]]
    ) -> None:
        elf = self.read(one.source)
        assert elf is not None
        closure = self.loader.closure(one.source, None if elf.is_program else self.program)
        for name, path in closure.found.items():
            if name in own_names:
                continue
            place = own_files.get(self.real(path))
            # One of the environment's own that was found by an absolute path would not be found elsewhere, unless it
            # lies where a restored environment's loader looks anyway.
            is_looked_for = name not in closure.absolute or os.path.dirname(place or "") in ("lib", marker.PRIVATE)
            if place is None or not is_looked_for:
                self._add(name, path, one.user)
            else:
                self.brought.setdefault(name, one.user)
        for name, versions in elf.versions:
            if name in self.result.uses:
                self.result.uses[name].versions.update(versions)
        for name, needed_by in closure.missing.items():
            if name not in own_names:
                missing.setdefault(name, []).append(needed_by)

    def _shadowed(self, own_files: dict[str, str]) -> None:
        """Libraries that a package brings under the name of one of the system's that others use."""
        for name, user in sorted(self.brought.items()):
            use = self.result.uses.get(name)
            if use is not None and self.real(use.source) not in own_files:
                others = ", ".join(sorted(use.users)[:3])
                self.result.notes.append(
                    f"{user} brings a {name} of its own, and {others} uses the system's: with private libraries the "
                    "latter is found first"
                )

    def _programs_inside(self, elves: list[Object]) -> None:
        """Programs that a package has beside its modules, and starts by their paths."""
        by_user: dict[str, list[str]] = {}
        for one in elves:
            elf = self.read(one.source)
            in_bin = one.path.startswith(("bin/", f"{marker.PRIVATE}/"))
            if elf and elf.interpreter and ".so" not in one.path and not in_bin and one.user != RUNTIME:
                by_user.setdefault(one.user, []).append(os.path.basename(one.path))
        if by_user:
            told = "; ".join(f"{user}: {', '.join(sorted(names)[:3])}" for user, names in sorted(by_user.items()))
            self.result.notes.append(
                f"programs inside packages' folders run with the host's libraries, wherever they are restored ({told})"
            )

    def _add(self, name: str, path: str, user: str) -> None:
        if _OF_THE_HOST.match(name):
            version = os.path.basename(self.real(path)).partition(".so.")[2]
            note = f"{name} {version}".strip()
            if note not in self.result.host:
                self.result.host.append(note)
            return
        name = os.path.basename(name)
        if name in ("", ".", ".."):
            return  # an ELF file may say anything
        use = self.result.uses.get(name)
        if use is None:
            use = self.result.uses[name] = _Use(self._base(name, path))
        elif self.real(use.source) != self.real(path) and HWCAPS not in path:
            note = f"{name} is another library for {user} ({path}) than for others ({use.source}); the latter was taken"
            if note not in self.result.notes:
                self.result.notes.append(note)
        use.users.add(user)

    def _base(self, name: str, path: str) -> str:
        """The library for any processor, where the loader takes one for a level of it."""
        folder, found, _ = path.partition(f"/{HWCAPS}/")
        base = f"{folder}/{name}"
        return base if found and os.path.exists(base) else path

    def _request(self, request: Request, own_names: set[str]) -> None:
        """A library that is opened by its name, with what it needs."""
        name = os.path.basename(request.name)
        if name in own_names or name in self.result.uses:
            return
        # A path is taken at its word; a bare name is looked for.
        path = request.name if request.name.startswith("/") else self._named(name)
        if path is None or self.read(path) is None:
            return
        self._add(self._name_of(name, path), path, request.user)
        for other, found in self.loader.closure(path, self.program).found.items():
            if other not in own_names:
                self._add(other, found, request.user)

    def _named(self, name: str) -> str | None:
        """A library by its name, also where the number of its version is left out."""
        found = self.loader.find(name, self.program)
        if found is None:
            numbered = [one for one in self.system.cache if one.startswith(f"{name}.")]
            if self.data_from:
                numbered += [one for one in os.listdir(self.private) if one.startswith(f"{name}.")]
            if numbered:
                found = self.loader.find(min(numbered, key=lambda one: (len(one), one)), self.program)
        return found

    def _name_of(self, name: str, path: str) -> str:
        """The name that a library is looked for by; a development link's own is not."""
        elf = self.read(path)
        return elf.soname if elf and elf.soname else name

    def _on_demand(self) -> None:
        for name in companions.opened_by(list(self.result.uses)):
            self._request(Request(RUNTIME, name), set())

    def _kept_ones(self, users: set[str]) -> None:
        """Libraries of a restored environment that nothing but a request of then asked for."""
        for name, facts in self.result.kept.items():
            path = f"{self.private}/{name}"
            if name not in self.result.uses and "/" not in name and os.path.isfile(path):
                asking = users & set(facts.used_by) or {user for user in facts.used_by if " " in user}
                for user in asking:
                    self._add(name, path, user)

    def _data(self) -> bool:
        """Data of the libraries so far, and what modules among it need; whether there was anything new."""
        before = len(self.data)
        for data in companions.DATA:
            having = companions.whose(data, self.result.uses)
            if not having or data.place in self.data:
                continue
            self.data[data.place] = list(self._files(data))
            users = {user for name in having for user in self.result.uses[name].users}
            for path, source, _ in self.data[data.place]:
                if ".so" in path:
                    for name, library in self.loader.closure(source, self.program).found.items():
                        for user in users:
                            self._add(name, library, user)
        return len(self.data) > before

    def _files(self, data: companions.Data) -> Iterator[tuple[str, str, bool]]:
        """The files of data: where each goes, where it is, and whether it is a link."""
        for folder in companions.folders(data, self.data_from, self.system.machine):
            if os.path.isfile(folder):
                yield f"{data.place}/{os.path.basename(folder)}", folder, False
                return
            found = [one for one in walk.walk(folder) if companions.takes(data, one.path)]
            if found:
                yield from ((f"{data.place}/{one.path}", one.source, one.link) for one in found)
                return

    def _levels(self) -> None:
        """Variants of libraries for levels of the processor: all of them travel, whatever this machine has."""
        for name, use in list(self.result.uses.items()):
            folder = os.path.dirname(use.source)
            offered = {level: f"{folder}/{HWCAPS}/{level}/{name}" for level in LEVELS}
            offered |= {level: path for path, level in self.loader.everywhere(name) if level and not self.data_from}
            for level, path in offered.items():
                if os.path.isfile(path) and (elf := self.read(path)) and self.loader.fits(elf):
                    self.result.uses[f"{HWCAPS}/{level}/{name}"] = _Use(path, set(use.users))
                    for other, found in self.loader.closure(path, self.program).found.items():
                        for user in use.users:
                            self._add(other, found, user)

    def _missing(self, missing: dict[str, list[str]], own_names: set[str]) -> None:
        for name, files in sorted(missing.items()):
            # Found under a name of the environment's own only when another file has opened that before.
            if name in own_names or _OF_THE_HOST.match(name):
                continue
            self.result.missing.append(Missing(name, tuple(dict.fromkeys(files)), owners.here().has_file_named(name)))

    # ---- the tree

    def _draft(self, more: Iterable[Draft]) -> None:
        drafts = self.result.drafts
        drafts += [Draft(name, self.real(use.source)) for name, use in self.result.uses.items()]
        found = [one for several in self.data.values() for one in several]
        drafts += walk.drafts(dict.fromkeys(found)).drafts
        have = {draft.path for draft in drafts}
        drafts += [draft for draft in more if draft.path not in have]


def _no_glibc(facts: Elf | None) -> str:
    if facts is None or not facts.interpreter:
        return "the interpreter is a static program: no system libraries belong to it"
    return (
        f"the interpreter is started by {facts.interpreter}, which is not glibc's loader: system libraries were not "
        "captured, and a restored environment uses the host's"
    )


def _may_be_elf(path: str) -> bool:
    name = path[path.rfind("/") + 1 :]
    return name[name.rfind(".") + 1 :].lower() not in _NO_ELF


def place(tree: Tree) -> Iterator[tuple[Entry, str]]:
    """Where each entry of the layer's tree goes in a restored environment."""
    for entry in tree:
        yield entry, f"{marker.PRIVATE}/{entry.path}"
