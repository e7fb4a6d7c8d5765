"""The layer of system libraries: what the environment's ELF files need of the operating system, the loader that finds
it, and what these open on demand."""

from __future__ import annotations

import functools
import os
import re
from collections.abc import Iterable, Iterator, Mapping
from typing import NamedTuple

from msgspec import Struct, field

from lapidar.core import foreign
from lapidar.core.cache.seen import seen_of_system, sha256_by
from lapidar.core.cache.stowing import Draft, FileDraft, Stowed
from lapidar.core.cache.trees import LINK, Entry
from lapidar.core.environment import kept as kept_files
from lapidar.core.environment import launchers, marker, walk
from lapidar.core.environment.folder import Environment
from lapidar.core.environment.layout import Layout, Placing
from lapidar.core.environment.marker import WhoseLibraries
from lapidar.core.environment.walk import Found
from lapidar.core.languages.protocol import ObjectFile
from lapidar.core.layers.protocol import HeldLibraries, HeldLibrary, Judged, Judgement, Request, Subject
from lapidar.core.records import words
from lapidar.core.records.findings import Finding, Problem
from lapidar.core.records.owner import LAPIDAR, LIBRARIES, Layer, Owner
from lapidar.core.records.snapshot import Libraries, Library, Snapshot
from lapidar.core.system import companions, fonts, host, owners
from lapidar.core.system.elf import Elf
from lapidar.core.system.elf import read as read_elf
from lapidar.core.system.loader import HWCAPS, Loader, System, closed
from lapidar.core.system.owners import SystemPackage
from lapidar.core.system.processor import LEVELS

__all__ = ["KEPT", "LibrariesFound", "Missing", "held_in", "judge", "kept_file", "observe", "place"]

KEPT = f"{marker.PRIVATE}/libraries.json"  # what of the records cannot be read off the files again
_LEFT = f"{marker.PRIVATE}/libraries-left.json"  # the names of those that were not taken, where there are any
# They belong to the driver of a device, and work with that driver's version only.
_OF_THE_HOST = re.compile(
    r"lib(cuda|nvcuvid|nvidia-[\w-]+|nvoptix|GLX_nvidia|EGL_nvidia|vdpau_nvidia|amdgpu\w*|ze_intel_gpu)\.so(\.|$)"
)
_ON_A_DEVICE = re.compile(r"lib(cudart|cublas|cublasLt|cudnn|cufft|nvrtc)\.so(\.|$)")
_DRIVER = "libcuda.so.1"
# Suffixes of files that are never ELF files; all others are looked at.
_NO_ELF = frozenset(
    "py pyc pyi pyx pxd txt md rst h hpp c cpp f f90 json csv html js css svg png gif ttf afm npy npz gz dat toml cfg "
    "ini typed yml yaml pem mo po xml ipynb sh bat ps1 cmake pc lib a map ts jpg pdf".split()
)
_SHOWN = 3
_MOST_OPTIONAL = 12_000_000  # bytes of a library that may be opened, with what it needs
_FAMILY = re.compile(r"^(.*?)_?([0-9][0-9.]*)$")


class Missing(NamedTuple):
    """A needed library that is nowhere.

    Attributes:
        needed_by: the files that need it.
        package: the operating system's package that has a file of this name somewhere else.
    """

    name: str
    needed_by: tuple[str, ...]
    package: str | None

    @property
    def sentence(self) -> str:
        """What the user should know of it."""
        files = words.some(map(os.path.basename, self.needed_by), _SHOWN)
        where = f"; the system's package {self.package} has such a file elsewhere" if self.package else ""
        return f"{self.name} is nowhere on this machine, and {files} needs it{where}"


class _Use(Struct):
    """One library, by the path below the private folder that it goes to; its users as `Owner.user` has them."""

    source: str
    users: set[str] = field(default_factory=set)
    versions: set[str] = field(default_factory=set)


class LibrariesFound(Struct):
    """The layer as found.

    Attributes:
        loader: the loader's file in the tree; "" where the environment does not use glibc, and nothing was observed.
        files: those of the tree.
        left: libraries that files may open, which are here and are not taken.
        missing: needed libraries that are nowhere.
        host: libraries that cannot travel, "NAME VERSION" each.
        notes: what the user should know.
    """

    loader: str = ""
    files: list[Draft] = field(default_factory=list)
    uses: dict[str, _Use] = field(default_factory=dict)
    package_of: dict[str, SystemPackage] = field(default_factory=dict)
    held: Mapping[str, HeldLibrary] = field(default_factory=dict)
    absolute: tuple[str, ...] = ()
    left: tuple[str, ...] = ()
    missing: list[Missing] = field(default_factory=list)
    host: list[str] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)

    def drafts(self) -> Mapping[Owner, list[Draft]]:
        """The files of the layer's one tree."""
        return {LIBRARIES: self.files} if self.files else {}

    def objects(self) -> Iterator[ObjectFile]:
        """None: what libraries need is among them already."""
        yield from ()

    @property
    def warnings(self) -> list[str]:
        """What the user should know, a sentence each."""
        if len(self.missing) <= _SHOWN:
            return [*self.notes, *(one.sentence for one in self.missing)]
        named = words.some((one.name for one in self.missing), 2 * _SHOWN)
        return [*self.notes, f"{len(self.missing)} libraries that files need are nowhere on this machine: {named}"]

    @property
    def details(self) -> list[str]:
        """What `warnings` puts together, a sentence each."""
        return [one.sentence for one in self.missing] if len(self.missing) > _SHOWN else []

    def records(self, stowed: Mapping[Owner, Stowed]) -> tuple[Libraries | None, tuple[Library, ...]]:
        """The records, once the files are stowed."""
        if LIBRARIES not in stowed:
            return None, ()
        tree = stowed[LIBRARIES].tree
        entries = {entry.path: entry for entry in tree}
        libraries = []
        for name, use in self.uses.items():
            entry = entries[name]
            package = self._package(name, use, entry)
            libraries.append(
                Library(
                    soname=name,
                    sha256=entry.content,
                    bytes=entry.bytes,
                    used_by=_telling(use.users),
                    owner=package.name if package else None,
                    owner_version=package.version if package else None,
                    versions=_newest(use.versions),
                )
            )
        layer = Libraries(self.loader, tree.digest, len(tree), tree.total_bytes, self.absolute, self.left)
        return layer, tuple(sorted(libraries, key=lambda library: library.soname))

    def _package(self, name: str, use: _Use, entry: Entry) -> SystemPackage | None:
        held = self.held.get(name)
        if held and held.sha256 == entry.content:
            return SystemPackage.recorded(held.owner, held.owner_version)
        return self.package_of.get(use.source)


def _telling(users: set[str]) -> tuple[str, ...]:
    """The runtimes, where one is among them: what each of its packages uses too is not told besides."""
    runtimes = [user for user in users if user.startswith(Layer.RUNTIME)]
    return tuple(sorted(runtimes or users))


def _newest(versions: set[str]) -> tuple[str, ...]:
    """Of each family of symbol versions (GLIBC_2.34, GLIBCXX_3.4.30) the newest: whoever has it has the older ones."""
    best: dict[str, tuple[tuple[int, ...], str]] = {}
    for version in versions:
        found = _FAMILY.match(version)
        family = found[1] if found else version
        number = tuple(int(part) for part in found[2].split(".") if part) if found else ()
        best[family] = max(best.get(family, ((), "")), (number, version))
    return tuple(sorted(version for _, version in best.values()))


def held_in(environment: Environment) -> HeldLibraries | None:
    """The libraries of a restored environment; None where it has none of its own."""
    records = environment.kept(KEPT, dict[str, HeldLibrary])
    left = environment.kept(_LEFT, tuple[str, ...]) or ()
    return HeldLibraries(environment.private_folder, records, left) if records else None


def kept_file(libraries: Iterable[Library]) -> bytes:
    """The file `KEPT` of these."""
    return kept_files.render(held_records(libraries))


def held_records(libraries: Iterable[Library]) -> dict[str, HeldLibrary]:
    """What is kept of libraries beside their bytes, by their names."""
    return {one.soname: HeldLibrary(one.sha256, one.owner, one.owner_version, one.used_by) for one in libraries}


def observe(subject: Subject) -> LibrariesFound:
    """Find the system libraries that an environment needs. No file is run.

    Where the objects lie as in an environment, a library is told to be one of its own by its place; in a cache, by its
    name.
    """
    program = subject.program or _compiled_program(subject)
    return _Observer(subject, program).run() if program else LibrariesFound()


def _compiled_program(subject: Subject) -> ObjectFile | None:
    """Where no runtime is a compiled program, one of the objects that a loader starts."""
    for one in subject.objects:
        elf = subject.memory.read(one.source) if _may_be_elf(one.path) else None
        if elf and elf.interpreter:
            return one
    return None


class _Observer:
    def __init__(self, subject: Subject, program: ObjectFile) -> None:
        self.subject = subject
        self.program = program.source
        self.program_user = program.user.user
        held = subject.held_libraries
        self.held_folder = str(held.folder) if held else None
        self.result = LibrariesFound(held=held.records if held else {}, left=held.left if held else ())
        # As the launchers of a restored environment lead the loader, with libraries of its own or the host's.
        self.held_folders = [self.held_folder, f"{self.held_folder}/{launchers.LATE}"] if self.held_folder else []
        # Where a restored environment's launchers have libraries looked for.
        places = [place for folders in subject.library_folders.values() for place in folders.values()]
        self.looked_in = {"lib", marker.PRIVATE, *filter(None, places)}
        self.system = self._system("")
        self.read = subject.memory.read
        self.real = functools.cache(os.path.realpath)
        self.loader = Loader(self.system, subject.memory.read)
        self.loaders = {
            language: Loader(self._system(language), subject.memory.read)
            for language, folders in subject.library_folders.items()
            if folders and language
        }
        self.brought: dict[str, str] = {}  # libraries that packages bring, and who uses each
        self.data: dict[str, list[Found]] = {}  # by its place: where each file goes, and where it is

    def _system(self, language: str) -> System:
        """Where the loader looks for what a language's files need."""
        subject = self.subject
        folders = [one for key in dict.fromkeys((language, "")) for one in subject.library_folders.get(key, ())]
        return System.here((*self.held_folders[:1], *folders, *subject.library_path), self.held_folders[1:])

    def run(self) -> LibrariesFound:
        result = self.result
        facts = self.read(self.program)
        if facts is None or not re.match(r"ld-linux|ld64\.so", os.path.basename(facts.interpreter)):
            result.notes.append(_no_glibc(facts))
            return result
        elves = [one for one in self.subject.objects if _may_be_elf(one.path) and self._is_ours(one.source)]
        lie_in_place = self.subject.environment is not None
        own_files = {self.real(one.source): one.path for one in elves} if lie_in_place else {}
        own_names = {os.path.basename(one.path) for one in elves}
        own_names |= {elf.soname for one in elves if (elf := self.read(one.source)) and elf.soname}
        missing: dict[str, list[str]] = {}
        for one in elves:
            self._object(one, own_files, set() if lie_in_place else own_names, missing)
        result.loader = os.path.basename(facts.interpreter)
        own_loader = f"{self.held_folder}/{result.loader}"
        self._add(result.loader, own_loader if os.path.isfile(own_loader) else facts.interpreter, self.program_user)
        for request in self.subject.requests:
            self._request(request, own_names)
        self._optional(elves, own_names)
        self._on_demand()
        users = {self.program_user, *(owner.user for owner in {one.user for one in self.subject.objects})}
        self._held_ones(users | {request.user.user for request in self.subject.requests})
        while self._data():
            pass
        self._fonts(elves)
        self._levels()
        self._missing(missing, own_names)
        self._shadowed(own_files)
        self._programs_inside(elves)
        result.absolute = tuple(sorted({one.path for one in elves if self._has_absolute_rpath(one.source)}))
        self._draft(self.subject.data)
        if not result.held:
            result.package_of = owners.here().of(use.source for use in result.uses.values())
        elif new := [use.source for name, use in result.uses.items() if name not in result.held]:
            result.package_of = owners.here().of(new)
        return result

    def _is_ours(self, source: str) -> bool:
        elf = self.read(source)
        return elf is not None and self.loader.fits(elf) and not elf.is_static

    def _has_absolute_rpath(self, source: str) -> bool:
        elf = self.read(source)
        return elf is not None and any(folder.startswith("/") for folder in elf.rpath)

    # ---- what the environment's files need

    def _object(
        self, one: ObjectFile, own_files: dict[str, str], own_names: set[str], missing: dict[str, list[str]]
    ) -> None:
        elf = self.read(one.source)
        assert elf is not None
        loader = self.loaders.get(one.user.language, self.loader)
        program = self.subject.programs_of.get(one.user.language, self.program)
        closure = loader.closure(one.source, None if elf.is_program else program)
        for name, path in closure.found.items():
            if name in own_names:
                continue
            place = own_files.get(self.real(path))
            # One of the environment's own that was found by an absolute path would not be found elsewhere, unless it
            # lies where a restored environment's loader looks anyway.
            is_looked_for = name not in closure.absolute or os.path.dirname(place or "") in self.looked_in
            if place is None or not is_looked_for:
                self._add(name, path, one.user.user)
            else:
                self.brought.setdefault(name, one.user.user)
        for name in elf.needed:
            # What works with a device opens its driver by name, which no file says.
            if _ON_A_DEVICE.match(name):
                self._of_host(_DRIVER, self.loader.find(_DRIVER, self.program) or "")
        for name, versions in elf.versions:
            if name in self.result.uses:
                self.result.uses[name].versions.update(versions)
        for name, needed_by in closure.missing.items():
            if name not in own_names:
                missing.setdefault(name, []).append(needed_by)

    def _shadowed(self, own_files: dict[str, str]) -> None:
        """Libraries that a package brings under the name of one of the system's that others use."""
        loader = closed(foreign.read(self.result.uses[self.result.loader].source), launchers.AT_LATE)
        if loader and launchers.AT_LATE.encode() in loader:
            return  # such a library is looked for last then, as it was here
        for name, user in sorted(self.brought.items()):
            use = self.result.uses.get(name)
            if use is not None and self.real(use.source) not in own_files:
                others = ", ".join(map(_called, sorted(use.users)[:_SHOWN]))
                self.result.notes.append(
                    f"{_called(user)} brings a {name} of its own, and {others} uses the system's: with "
                    "private libraries the latter is found first"
                )

    def _programs_inside(self, elves: list[ObjectFile]) -> None:
        """Programs that a package has beside its modules and starts by their paths, where no starter can stand in for
        them."""
        by_user: dict[str, list[str]] = {}
        loader = self.result.loader
        for one in elves:
            elf = self.read(one.source)
            in_bin = one.path.startswith(("bin/", f"{marker.PRIVATE}/"))
            inside = elf and elf.interpreter and ".so" not in one.path and not in_bin
            if inside and one.user.layer is not Layer.RUNTIME and not launchers.can_start(one.source, loader):
                by_user.setdefault(words.user(one.user), []).append(os.path.basename(one.path))
        if by_user:
            told = "; ".join(f"{user}: {', '.join(sorted(names)[:3])}" for user, names in sorted(by_user.items()))
            self.result.notes.append(
                f"programs inside packages' folders run with the host's libraries, wherever they are restored ({told})"
            )

    def _add(self, name: str, path: str, user: str) -> None:
        if _OF_THE_HOST.match(name):
            self._of_host(name, path)
            return
        name = os.path.basename(name)
        if name in ("", ".", ".."):
            return  # an ELF file may say anything
        use = self.result.uses.get(name)
        if use is None:
            use = self.result.uses[name] = _Use(self._base(name, path))
        elif self.real(use.source) != self.real(path) and HWCAPS not in path:
            note = (
                f"{name} is another library for {_called(user)} ({path}) than for others ({use.source}); "
                "the latter was taken"
            )
            if note not in self.result.notes:
                self.result.notes.append(note)
        use.users.add(user)

    def _of_host(self, name: str, path: str) -> None:
        """Note a library that cannot travel: it is to be looked for on the host."""
        version = os.path.basename(self.real(path)).partition(".so.")[2] if path else ""
        note = f"{name} {version}".strip()
        if not any(one.split(" ")[0] == name for one in self.result.host):
            self.result.host.append(note)

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
        self._add(self._name_of(name, path), path, request.user.user)
        for other, found in self.loader.closure(path, self.program).found.items():
            if other not in own_names:
                self._add(other, found, request.user.user)

    def _optional(self, elves: Iterable[ObjectFile], own_names: set[str]) -> None:
        """Libraries that files name among their constants: they are opened where they are there, and nothing says
        so where they are not. Of an earlier snapshot's, those that it has; of this machine's, those that belong to the
        operating system and are small."""
        wanted: dict[str, tuple[str, list[Owner]]] = {}
        for one in elves:
            elf = self.read(one.source)
            for name in elf.named if elf else ():
                if name in own_names or _OF_THE_HOST.match(name):
                    continue
                path = wanted[name][0] if name in wanted else self.loader.find(name, self.program)
                if path is not None:
                    wanted.setdefault(name, (path, []))[1].append(one.user)
        left: list[str] = []
        if not self.held_folder:
            known = owners.here().of(path for path, _ in wanted.values())
            left += [name for name, (path, _) in wanted.items() if path not in known]
            wanted = {name: found for name, found in wanted.items() if found[0] in known}
        for name, (path, users) in sorted(wanted.items()):
            if self.held_folder and not path.startswith(f"{self.held_folder}/"):
                continue
            if (size := self._size_of(path)) > _MOST_OPTIONAL and not self.held_folder:
                who = ", ".join(dict.fromkeys(map(words.user, users)))
                many = f"{size / 1e6:,.0f} MB with what it needs"
                self.result.notes.append(f"{who} may open {name}, which was not taken: it is {many}")
                left.append(name)
                continue
            for user in users:
                self._request(Request(user, name), own_names)
                if use := self.result.uses.get(self._name_of(name, path)):
                    use.users.add(user.user)
        self.result.left = self.result.left or tuple(sorted({name for name in left if name not in self.result.uses}))

    def _size_of(self, path: str) -> int:
        """How large a library is, with those of what it needs that are not taken already."""
        new = {path, *self.loader.closure(path, self.program).found.values()}
        have = {self.real(use.source) for use in self.result.uses.values()}
        return sum(os.path.getsize(one) for one in map(self.real, new) if one not in have)

    def _named(self, name: str) -> str | None:
        """A library by its name, also where the number of its version is left out."""
        found = self.loader.find(name, self.program)
        if found is None:
            numbered = [one for one in self.system.cache if one.startswith(f"{name}.")]
            for folder in filter(os.path.isdir, self.held_folders):
                numbered += [one for one in os.listdir(folder) if one.startswith(f"{name}.")]
            if numbered:
                found = self.loader.find(min(numbered, key=lambda one: (len(one), one)), self.program)
        return found

    def _name_of(self, name: str, path: str) -> str:
        """The name that a library is looked for by; a development link's own is not."""
        elf = self.read(path)
        return elf.soname if elf and elf.soname else name

    def _on_demand(self) -> None:
        for name in companions.opened_by(list(self.result.uses)):
            self._request(Request(Owner.of_user(self.program_user), name), set())

    def _held_ones(self, users: set[str]) -> None:
        """Libraries of an earlier snapshot that nothing but a request of then asked for."""
        for name, held in self.result.held.items():
            if use := self.result.uses.get(name):  # a run of then used it too, and there is none to see now
                use.users.update(user for user in held.used_by if Owner.of_user(user).layer is Layer.RUN)
            path = next((f"{one}/{name}" for one in self.held_folders if os.path.isfile(f"{one}/{name}")), None)
            if name not in self.result.uses and "/" not in name and path:
                for user in users & set(held.used_by) or set(filter(_asks_by_name, held.used_by)):
                    self._add(name, path, user)

    def _data(self) -> bool:
        """Data of the libraries so far, and what modules among it need; whether there was anything new."""
        before = len(self.data)
        for data in companions.DATA:
            having = companions.having(data, self.result.uses)
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

    def _files(self, data: companions.Data) -> Iterator[Found]:
        """The files of data: where each goes, where it is, and whether it is a link."""
        for folder in companions.folders(data, self.held_folder, self.system.machine):
            if os.path.isfile(folder):
                yield Found(f"{data.place}/{os.path.basename(folder)}", folder, False)
                return
            found = [one for one in walk.walk(folder) if companions.takes(data, one.path)]
            if found:
                yield from (Found(f"{data.place}/{one.path}", one.source, one.link) for one in found)
                return

    def _fonts(self, elves: Iterable[ObjectFile]) -> None:
        """The fonts that the font library finds for the usual families, and those that a run was seen to open."""
        if self.data.get(fonts.PLACE):
            return  # an earlier snapshot's
        asked = self.subject.declaration.system.fonts
        named = self.subject.named
        opened = [*self.subject.fonts, *named.fonts, *(path for path in asked if os.path.isfile(path))]
        families = [name for name in asked if "/" not in name]
        use = self.result.uses.get(fonts.LIBRARY)
        of_package = (one.source for one in elves if os.path.basename(one.path).startswith(fonts.LIBRARY))
        library = use.source if use else next(of_package, None)
        if library:
            resolved = fonts.resolve(library, self.subject.memory.folder, [*families, *named.families])
            opened += [*resolved.files, *(path for several in resolved.by_family.values() for path in several)]
            families = [name for name in families if name not in resolved.by_family]
            self.result.notes += [resolved.problem] if resolved.problem else []
            if resolved.problem:
                return
        unmet = [*families, *(path for path in asked if "/" in path and not os.path.isfile(path))]
        self.result.notes += [f"the font {name}, which lapidar.toml needs, is not on this machine" for name in unmet]
        self.result.files += fonts.drafts(opened)

    def _levels(self) -> None:
        """Variants of libraries for levels of the processor: all of them travel, whatever this machine has."""
        for name, use in list(self.result.uses.items()):
            folder = os.path.dirname(use.source)
            offered = {level: f"{folder}/{HWCAPS}/{level}/{name}" for level in LEVELS}
            offered |= {level: path for path, level in self.loader.everywhere(name) if level and not self.held_folder}
            for level, path in offered.items():
                if os.path.isfile(path) and (elf := self.read(path)) and self.loader.fits(elf):
                    self.result.uses[f"{HWCAPS}/{level}/{name}"] = _Use(path, set(use.users))
                    for other, found in self.loader.closure(path, self.program).found.items():
                        for user in use.users:
                            self._add(other, found, user)

    def _missing(self, missing: dict[str, list[str]], own_names: set[str]) -> None:
        for name, files in sorted(missing.items()):
            # Found under a name of the environment's own only when another file has opened that before.
            if name in own_names:
                continue
            if _OF_THE_HOST.match(name):
                self._of_host(name, "")
                continue
            self.result.missing.append(Missing(name, tuple(dict.fromkeys(files)), owners.here().has_file_named(name)))

    # ---- the tree

    def _draft(self, more: Iterable[Draft]) -> None:
        drafts = self.result.files
        drafts += [FileDraft(name, self.real(use.source)) for name, use in self.result.uses.items()]
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


def _called(user: str) -> str:
    return words.user(Owner.of_user(user))


def _asks_by_name(user: str) -> bool:
    """Whether a user may ask for a library without any file of it saying so."""
    return Owner.of_user(user).layer in (Layer.TOOLS, Layer.PROJECT, Layer.RUN)


def place(snapshot: Snapshot, layout: Layout, at: Placing) -> None:
    """Add the libraries and what is kept of them, where the environment is to have its own."""
    layer = snapshot.library_layer
    if layer is None or at.private is None:
        return
    for entry in at.trees[layer.tree]:
        late = f"{launchers.LATE}/" if entry.path.rpartition("/")[2] in at.late else ""
        layout.add(LIBRARIES, [(entry, f"{marker.PRIVATE}/{late}{entry.path}")])
    layout.generate(LAPIDAR, KEPT, kept_file(snapshot.libraries))
    if layer.left:
        layout.generate(LAPIDAR, _LEFT, kept_files.render(layer.left))
    if at.closed_loader is not None:
        path = f"{marker.PRIVATE}/{launchers.CLOSED}/{layer.loader}"
        layout.generate(LAPIDAR, path, at.closed_loader, executable=True)
    for name, target in at.drivers.items():
        path = f"{marker.PRIVATE}/{launchers.DRIVERS}/{name}"
        layout.add(LAPIDAR, [(Entry(path, LINK, target, 0), path)])


def drivers_here() -> dict[str, str]:
    """The libraries of this host's device drivers, by the names that programs open them by: name -> path."""
    loader = Loader(System.here(), read_elf)
    return {name: path for name in loader.system.cache if _OF_THE_HOST.match(name) and (path := loader.find(name))}


def judge(snapshot: Snapshot, at: Judged) -> Judgement:
    """The host's libraries against the recorded ones; they matter to an environment that runs with them."""
    if not snapshot.libraries:
        return Judgement()
    seen = seen_of_system(at.cache.short_cuts)
    found = host.find(snapshot)
    drift = host.drift(found, functools.partial(sha256_by, seen))
    if at.cache.writable:
        seen.save()
    if not at.environment.is_ours or at.environment.libraries is not WhoseLibraries.HOST:
        return Judgement(remarks=tuple(_not_taken(snapshot)), drift=drift)
    findings = [lack_finding(one) for one in host.lacking(found)]
    findings += [Finding(Layer.HOST, Problem.HOST_DIFFERS, name=name) for name in drift.different]
    return Judgement(tuple(findings), drift=drift)


def _not_taken(snapshot: Snapshot) -> Iterator[str]:
    """What could be opened where the snapshot was captured, and cannot be here."""
    if snapshot.library_layer and (left := snapshot.library_layer.left):
        several = len(left) > 1
        yield (
            f"{words.some(left, 2 * _SHOWN)} {'were' if several else 'was'} there where the snapshot was captured, and "
            f"{'are' if several else 'is'} not in it: what may open {'them' if several else 'it'} does without "
            "(libraries in [needs] takes along what matters)"
        )


def lack_finding(lack: host.Lack) -> Finding:
    """What the host lacks, as a finding."""
    name = lack.library.soname
    if not lack.path:
        users = ", ".join(map(words.user, lack.library.users[:_SHOWN]))
        return Finding(Layer.HOST, Problem.HOST_LACKS, details=(name, users))
    details = (name, lack.path, ", ".join(lack.versions))
    return Finding(Layer.HOST, Problem.HOST_LACKS_VERSIONS, details=details)
