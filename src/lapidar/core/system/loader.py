"""How the operating system's loader finds libraries, without running it or any file: ld.so(8).

A library that an ELF file needs is looked for in the folders of DT_RPATH (its own, its loader's and so on, where it
has no DT_RUNPATH), of LD_LIBRARY_PATH, of DT_RUNPATH, in the loader's cache, and in its default folders; in each folder
first in those of the processor's levels.
"""

from __future__ import annotations

import functools
import os
import re
import struct
from collections import deque
from collections.abc import Callable, Iterable
from pathlib import Path

import msgspec

from lapidar.core.system import processor
from lapidar.core.system.elf import Elf

__all__ = ["CACHE", "HWCAPS", "VARIABLES", "Closure", "Loader", "System", "closed", "options_of", "read_cache"]

CACHE = Path("/etc/ld.so.cache")
HWCAPS = "glibc-hwcaps"
_MAGIC = b"glibc-ld.so.cache1.1"
_HEADER, _ENTRY = struct.Struct("<20sIIB3xI12x"), struct.Struct("<iIIIQ")
_EXTENSIONS, _SECTION, _HWCAPS_SECTION = struct.Struct("<II"), struct.Struct("<IIII"), 1
_EXTENSIONS_MAGIC = 0xEAA42174
_HAS_LEVEL = 1 << 62  # in an entry's hwcap: its low half is an index into the names of levels
_KINDS = {"x86_64": 0x0303, "aarch64": 0x0A03}  # flags of an entry: libc6, and the processor's kind
_MACHINES = {"x86_64": 62, "aarch64": 183}
_TOKEN = re.compile(r"\$(?:\{(\w+)\}|(ORIGIN|LIB|PLATFORM))")

# By these a caller has the loader take other libraries.
VARIABLES = ("LD_LIBRARY_PATH", "LD_PRELOAD", "LD_AUDIT")

# For a name, where the cache has it: path, and the level that it is for ("" for any).
Known = dict[str, list[tuple[str, str]]]


# Options by which a loader is told how to start a program, that not every loader has (glibc 2.33 came with the first).
_LATE_OPTIONS = ("--argv0", "--inhibit-cache")


def options_of(file: str | Path) -> frozenset[str]:
    """Which of the options that came late a loader has: their names stand in its bytes. None where it is not there."""
    try:
        data = Path(file).read_bytes()
    except OSError:
        return frozenset()
    return frozenset(option for option in _LATE_OPTIONS if option.encode("ascii") + b"\0" in data)


# A loader's default folders stand in its bytes one after the other, each with a slash and a zero at its end.
_DEFAULT_FOLDERS = re.compile(rb"(?<=\0)(?:/(?:[\w.+-]+/)*lib(?:32|64|x32)?/(?:[\w-]+-linux-gnu\w*/)?\0)+")
# Other files by which the system's libraries come into a process.
_SYSTEMS_FILES = (b"/etc/ld.so.cache\0", b"/etc/ld.so.preload\0")
_NOWHERE = b"/sys"  # the kernel's own: nobody can put a file there


def closed(loader: bytes, last: str = "") -> bytes | None:
    """A loader that finds nothing by itself: its default folders, its cache and its list of what is loaded into every
    process lead nowhere. What it is told with ``--library-path`` and what files say of others' places is all it has.

    Args:
        loader: the bytes of the dynamic loader of glibc.
        last: a folder that it is to have as its default one, where a library is looked for last; short enough.

    Returns:
        The altered bytes, of the same size; None where no default folders are found in them.
    """
    folders = 0

    def nowhere(found: re.Match[bytes]) -> bytes:
        nonlocal folders
        names = found[0].split(b"\0")[:-1]
        folders += len(names)
        fits = [name for name in names if last and len(name) > len(last)]
        places = [last.encode() if name in fits[:1] else _NOWHERE for name in names]
        return b"".join(
            place + b"/" * (len(name) - len(place)) + b"\0" for place, name in zip(places, names, strict=True)
        )

    altered = _DEFAULT_FOLDERS.sub(nowhere, loader)
    if not folders:
        return None
    for name in _SYSTEMS_FILES:
        altered = altered.replace(name, name.replace(b"/etc", _NOWHERE))
    return altered


def read_cache(path: Path = CACHE, machine: str = "x86_64") -> Known:
    """The loader's cache; nothing where there is none, or it is broken."""
    try:
        data = path.read_bytes()
        start = data.find(_MAGIC)
        if start < 0:
            return {}
        return _entries(data, start, _KINDS.get(machine, 0))
    except (OSError, struct.error, ValueError, IndexError):
        return {}


def _entries(data: bytes, start: int, kind: int) -> Known:
    _, count, _, _, extensions = _HEADER.unpack_from(data, start)
    levels = _levels(data, extensions)
    known: Known = {}
    for at in range(min(count, len(data) // _ENTRY.size)):
        flags, key, value, _, hwcap = _ENTRY.unpack_from(data, start + _HEADER.size + at * _ENTRY.size)
        if flags != kind:
            continue
        level = levels[hwcap & 0xFFFFFFFF] if hwcap & _HAS_LEVEL else ""
        if level or not hwcap:
            known.setdefault(_text(data, start + key), []).append((_text(data, start + value), level))
    return known


def _text(data: bytes, at: int) -> str:
    return os.fsdecode(data[at : data.index(b"\0", at)])


def _levels(data: bytes, at: int) -> list[str]:
    if not at:
        return []
    magic, count = _EXTENSIONS.unpack_from(data, at)
    if magic != _EXTENSIONS_MAGIC:
        return []
    for number in range(min(count, 16)):
        tag, _, offset, size = _SECTION.unpack_from(data, at + _EXTENSIONS.size + number * _SECTION.size)
        if tag == _HWCAPS_SECTION:
            places = struct.unpack_from(f"<{size // 4}I", data, offset)
            return [_text(data, place) for place in places]
    return []


class System(msgspec.Struct, frozen=True):
    """Where a loader looks beside what the files say.

    Attributes:
        machine: the kind of processor: x86_64.
        library_path: folders that come before DT_RUNPATH (LD_LIBRARY_PATH).
        late: folders that come after DT_RUNPATH, before its cache.
        cache: what its cache knows.
        folders: its default folders.
        levels: the processor's levels, the highest first.
    """

    machine: str
    library_path: tuple[str, ...]
    cache: Known
    folders: tuple[str, ...]
    levels: tuple[str, ...]
    late: tuple[str, ...] = ()

    @classmethod
    def here(cls, library_path: Iterable[str] = (), late: Iterable[str] = ()) -> System:
        """This machine's."""
        machine = os.uname().machine
        own = f"{machine}-linux-gnu"
        offered = (f"/lib/{own}", f"/usr/lib/{own}", "/lib64", "/usr/lib64", "/lib", "/usr/lib")
        folders = tuple(folder for folder in offered if os.path.isdir(folder))
        return cls(machine, tuple(library_path), read_cache(machine=machine), folders, processor.levels(), tuple(late))


class Closure(msgspec.Struct):
    """All that one ELF file needs, and what that needs.

    Attributes:
        found: by the name that is asked for, the path.
        absolute: the names among them that were found by no way relative to a file ($ORIGIN).
        missing: by the name, the path of the file that asks for it.
    """

    found: dict[str, str] = {}
    absolute: set[str] = set()
    missing: dict[str, str] = {}


class _Loaded(msgspec.Struct, frozen=True):
    """An object in a process: where it was found, and who had it loaded."""

    path: str
    elf: Elf
    by: _Loaded | None

    @property
    def origin(self) -> str:
        return os.path.dirname(self.path)


class Loader:
    """Finds what ELF files need, as the system's loader would.

    Args:
        system: where it looks.
        read: reads an ELF file; asked again and again for the same paths.
    """

    def __init__(self, system: System, read: Callable[[str], Elf | None]) -> None:
        self.system = system
        self.read = read
        self._there: dict[tuple[str, str], str | None] = {}
        self._cached: dict[str, str | None] = {}
        self._real = functools.cache(os.path.realpath)

    def closure(self, path: str, program: str | None = None) -> Closure:
        """All that a file needs.

        Args:
            path: the ELF file.
            program: the executable of the process that would open it; its DT_RPATH counts too.
        """
        result = Closure()
        elf = self.read(path)
        if elf is None or not self.fits(elf):
            return result
        main = None
        if program and program != path and (facts := self.read(program)):
            main = _Loaded(self._real(program), facts, None)
        # A program's $ORIGIN is where the kernel found it, links followed; a library's the way it was found.
        start = _Loaded(self._real(path) if elf.is_program else path, elf, main)
        names = {os.path.basename(path): path} | ({elf.soname: path} if elf.soname else {})
        waiting = deque([start])
        while waiting:
            self._load(waiting.popleft(), names, waiting, result)
        return result

    def _load(self, user: _Loaded, names: dict[str, str], waiting: deque[_Loaded], result: Closure) -> None:
        for name in user.elf.needed:
            if name in names:
                result.found.setdefault(name, names[name])
                continue
            if name in result.missing:
                continue
            path, absolute = self._find(name, user)
            elf = self.read(path) if path else None
            if path is None or elf is None:
                result.missing[name] = user.path
                continue
            names[name] = result.found[name] = path
            if elf.soname:
                names.setdefault(elf.soname, path)
            if absolute:
                result.absolute.add(name)
            waiting.append(_Loaded(path, elf, user))

    def find(self, name: str, program: str | None = None) -> str | None:
        """Where a library lies that a program opens by its name."""
        facts = self.read(program) if program else None
        user = _Loaded(self._real(program) if program else "/", facts or Elf(64, 0), None)
        return self._find(name, user)[0]

    def everywhere(self, name: str) -> list[tuple[str, str]]:
        """All that the cache has of a name: path, and the level that it is for."""
        return self.system.cache.get(name, [])

    def _find(self, name: str, user: _Loaded) -> tuple[str | None, bool]:
        """The path, and whether it was found by an absolute way."""
        if "/" in name:
            path = self._expand(name, user.origin)
            return (path if self._is_library(path) else None), "$" not in name
        ways: list[tuple[str, Iterable[str]]] = []
        found: str | None
        if not user.elf.runpath:
            asking: _Loaded | None = user
            while asking:
                ways += [(asking.origin, asking.elf.rpath)] if asking.elf.rpath else []
                asking = asking.by
        ways.append(("", self.system.library_path))
        ways.append((user.origin, user.elf.runpath))
        for origin, folders in ways:
            for folder in folders:
                if folder and (found := self._in_folder(name, self._expand(folder, origin))):
                    return found, "ORIGIN" not in folder
        return self._by_default(name, user.elf.no_default_folders), True

    def _expand(self, text: str, origin: str) -> str:
        if "$" not in text:
            return text
        multiarch = f"lib/{self.system.machine}-linux-gnu"
        library = multiarch if os.path.isdir("/" + multiarch) else "lib64"
        values = {"ORIGIN": origin, "LIB": library, "PLATFORM": self.system.machine}
        return _TOKEN.sub(lambda found: values.get(found[1] or found[2], found[0]), text)

    def _by_default(self, name: str, no_default_folders: bool) -> str | None:
        for folder in self.system.late:
            if found := self._in_folder(name, folder):
                return found
        if name not in self._cached:
            self._cached[name] = self._in_cache(name)
        path = self._cached[name]
        if path and not (no_default_folders and os.path.dirname(path) in self.system.folders):
            return path
        if no_default_folders:
            return None
        for folder in self.system.folders:
            if found := self._in_folder(name, folder):
                return found
        return None

    def _in_cache(self, name: str) -> str | None:
        ranks = {level: rank for rank, level in enumerate((*self.system.levels, ""))}
        offered = [(ranks[level], path) for path, level in self.everywhere(name) if level in ranks]
        for _, path in sorted(offered, key=lambda one: one[0]):
            if self._is_library(path):
                return path
        return None

    def _in_folder(self, name: str, folder: str) -> str | None:
        key = (folder, name)
        if key not in self._there:
            self._there[key] = self._look(name, folder)
        return self._there[key]

    def _look(self, name: str, folder: str) -> str | None:
        for below in (*(f"{HWCAPS}/{level}/" for level in self.system.levels), ""):
            path = f"{folder}/{below}{name}"
            if os.path.exists(path) and self._is_library(path):
                return path
        return None

    def fits(self, elf: Elf) -> bool:
        """Whether a file is for this kind of processor."""
        return elf.bits == 64 and elf.machine == _MACHINES.get(self.system.machine, elf.machine)

    def _is_library(self, path: str) -> bool:
        """Whether the loader would take it: one for another processor is passed over."""
        elf = self.read(path)
        return elf is not None and self.fits(elf)
