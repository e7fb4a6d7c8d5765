"""What one ELF file says that a loader goes by. System V ABI, chapters 4 and 5; symbol versions: LSB core, chapter 10.

A reader of our own, because a capture looks at a thousand files and may take two seconds for them; the tests hold it
against a library's. It reads a few small pieces of the file by their places, each place bounded by the file's size and
each count by a limit, so that what a file says of itself costs neither memory nor time.
"""

from __future__ import annotations

import mmap
import os
import re
import struct
from collections.abc import Callable, Iterator
from typing import TypeVar

import msgspec

__all__ = ["Elf", "defined_versions", "read"]

_MAGIC = b"\x7fELF"
_HEADER = struct.Struct("<16sHHIQQQIHHHHHH")
_SEGMENT = struct.Struct("<IIQQQQQQ")
_SECTION = struct.Struct("<IIQQQQIIQQ")
_TAG = struct.Struct("<qQ")
_NEED, _NEED_AUX = struct.Struct("<HHIII"), struct.Struct("<IHHII")
_DEFINED, _DEFINED_AUX = struct.Struct("<HHHHIII"), struct.Struct("<II")
_LOAD, _DYNAMIC, _INTERPRETER = 1, 2, 3
_MOST_SEGMENTS, _MOST_TAGS, _MOST_PIECES, _LONGEST_STRING = 512, 4096, 20_000, 4096
_NEEDED, _STRINGS, _STRINGS_SIZE, _SONAME, _RPATH, _RUNPATH = 1, 5, 10, 14, 15, 29
_FLAGS_1, _VERSIONS_DEFINED, _VERSIONS_DEFINED_COUNT = 0x6FFFFFFB, 0x6FFFFFFC, 0x6FFFFFFD
_VERSIONS_NEEDED, _VERSIONS_NEEDED_COUNT = 0x6FFFFFFE, 0x6FFFFFFF
_NO_DEFAULT_FOLDERS = 0x800  # DF_1_NODEFLIB
_IS_BASE = 1  # VER_FLG_BASE: the name of the file itself, no version
_EXECUTABLE, _SHARED = 2, 3
_LIBRARY_NAME = re.compile(rb"lib[A-Za-z][\w+-]*\.so(\.[0-9]+){0,3}")
_MOST_SECTIONS, _MOST_NAMED, _LONGEST_NAME = 4096, 500, 80


T = TypeVar("T")


class Elf(msgspec.Struct, frozen=True, array_like=True, omit_defaults=True):
    """What an ELF file says of itself.

    Attributes:
        bits, machine: 32 or 64, and the number of the processor's kind (62: AMD64).
        interpreter: the loader that an executable asks for; "" for a library and for a static executable.
        is_program: whether it is an executable with fixed addresses, or one that asks for a loader.
        needed: the names of the libraries that it needs, in order (DT_NEEDED).
        rpath, runpath: folders to look in (DT_RPATH, DT_RUNPATH), with $ORIGIN as it stands there.
        versions: for each library, the symbol versions that it needs of it.
        no_default_folders: the loader is not to look in its default folders.
        named: other libraries whose names stand in it as texts: it may open them while it runs (dlopen(3)).
    """

    bits: int
    machine: int
    interpreter: str = ""
    is_program: bool = False
    needed: tuple[str, ...] = ()
    soname: str = ""
    rpath: tuple[str, ...] = ()
    runpath: tuple[str, ...] = ()
    versions: tuple[tuple[str, tuple[str, ...]], ...] = ()
    no_default_folders: bool = False
    named: tuple[str, ...] = ()

    @property
    def is_static(self) -> bool:
        """Whether it is a program that no loader has a part in."""
        return self.is_program and not self.interpreter and not self.needed


class _Broken(Exception):
    """The file ends early, or says something that cannot be."""


def read(path: str) -> Elf | None:
    """Read an ELF file.

    Args:
        path: any file.

    Returns:
        What it says; None where it is no ELF file, cannot be read, or is broken. Of one for 32 bits or with the other
        order of bytes, no more than its kind is read.
    """
    return _ask(path, _Reader.facts)


def defined_versions(path: str) -> frozenset[str]:
    """The symbol versions that a library defines; none where it cannot be read."""
    return _ask(path, lambda reader: frozenset(reader.versions_defined())) or frozenset()


def _ask(path: str, question: Callable[[_Reader], T]) -> T | None:
    try:
        descriptor = os.open(path, os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK)
    except OSError:
        return None
    try:
        head = os.pread(descriptor, _HEADER.size, 0)
        return question(_Reader(descriptor, head)) if head[:4] == _MAGIC else None
    except (OSError, _Broken, struct.error, OverflowError):
        return None
    finally:
        os.close(descriptor)


class _Reader:
    def __init__(self, descriptor: int, head: bytes) -> None:
        self.descriptor = descriptor
        self.head = head
        self.size = os.fstat(descriptor).st_size
        self.loaded: list[tuple[int, int, int]] = []  # address, offset, bytes
        self.tags: dict[int, int] = {}
        self.left = _MOST_PIECES

    def facts(self) -> Elf:
        if len(self.head) < _HEADER.size:
            raise _Broken
        bits = {1: 32, 2: 64}.get(self.head[4])
        if bits is None:
            raise _Broken
        if bits == 32 or self.head[5] != 1:
            order = ">" if self.head[5] == 2 else "<"
            return Elf(bits, struct.unpack_from(order + "H", self.head, 18)[0])
        fields = _HEADER.unpack(self.head)
        kind, machine, offset, entry_size, count = fields[1], fields[2], fields[5], fields[9], fields[10]
        if kind not in (_EXECUTABLE, _SHARED) or entry_size != _SEGMENT.size or count > _MOST_SEGMENTS:
            return Elf(bits, machine)
        interpreter, dynamic = self._segments(self._piece(offset, entry_size * count))
        is_program = kind == _EXECUTABLE or bool(interpreter)
        if dynamic is None:
            return Elf(bits, machine, interpreter, is_program)
        names, searched = self._dynamic(*dynamic)
        needed = tuple(self._name(at) for at in names)
        soname = self._name(self.tags[_SONAME]) if _SONAME in self.tags else ""
        return Elf(
            bits=bits,
            machine=machine,
            interpreter=interpreter,
            is_program=is_program,
            needed=needed,
            soname=soname,
            # Where both are there, the newer kind alone counts.
            rpath=self._folders(searched.get(_RPATH)) if _RUNPATH not in searched else (),
            runpath=self._folders(searched.get(_RUNPATH)),
            versions=tuple(self._versions_needed()),
            no_default_folders=bool(self.tags.get(_FLAGS_1, 0) & _NO_DEFAULT_FOLDERS),
            named=tuple(name for name in self._named(fields) if name not in needed and name != soname),
        )

    def _named(self, fields: tuple[int, ...]) -> list[str]:
        """The names of libraries among its constants, sorted. What it links stands elsewhere, and what it linked before
        somebody changed that does too."""
        found: set[str] = set()
        start, size = self._constants(*fields[6:7], *fields[11:14])
        if not size:
            return []
        with mmap.mmap(self.descriptor, 0, access=mmap.ACCESS_READ) as data:
            end = start + size
            at = data.find(b".so", start, end)
            while at >= 0 and len(found) < _MOST_NAMED:
                last = data.find(b"\0", at, min(at + _LONGEST_NAME, end))
                first = data.rfind(b"\0", max(start, at - _LONGEST_NAME), at) + 1 or start
                if last > 0 and _LIBRARY_NAME.fullmatch(text := data[first:last]):
                    found.add(text.decode("ascii"))
                at = data.find(b".so", at + 3, end)
        return sorted(found)

    def _constants(self, table: int, entry_size: int, count: int, names_at: int) -> tuple[int, int]:
        """Where the section of constants lies, and how large it is; 0 where there is none, or no table of sections."""
        if entry_size != _SECTION.size or not names_at < count <= _MOST_SECTIONS:
            return 0, 0
        try:
            sections = list(_SECTION.iter_unpack(self._piece(table, entry_size * count)))
            _, _, _, _, offset, size, *_ = sections[names_at]
            names = self._piece(offset, min(size, 1 << 16))
        except _Broken:
            return 0, 0  # a loader does without it
        for name, _, _, _, offset, size, *_ in sections:
            if names.startswith(b".rodata\0", name) and offset + size <= self.size:
                return offset, size
        return 0, 0

    def _piece(self, offset: int, size: int) -> bytes:
        self.left -= 1
        if offset + size > self.size or self.left < 0:
            raise _Broken
        data = os.pread(self.descriptor, size, offset)
        if len(data) != size:
            raise _Broken
        return data

    def _segments(self, table: bytes) -> tuple[str, tuple[int, int] | None]:
        interpreter, dynamic = "", None
        for kind, _, offset, address, _, in_file, _, _ in _SEGMENT.iter_unpack(table):
            if kind == _LOAD:
                self.loaded.append((address, offset, in_file))
            elif kind == _DYNAMIC:
                dynamic = (offset, in_file)
            elif kind == _INTERPRETER:
                if in_file > _LONGEST_STRING:
                    raise _Broken
                interpreter = os.fsdecode(self._piece(offset, in_file).rstrip(b"\0"))
        return interpreter, dynamic

    def _dynamic(self, offset: int, size: int) -> tuple[list[int], dict[int, int]]:
        size = min(size, _MOST_TAGS * _TAG.size, self.size - offset)
        size -= size % _TAG.size
        needed: list[int] = []
        searched: dict[int, int] = {}
        for tag, value in _TAG.iter_unpack(self._piece(offset, max(size, 0))):
            if tag == 0:
                break
            if tag == _NEEDED:
                needed.append(value)
            elif tag in (_RPATH, _RUNPATH):
                searched[tag] = value
            else:
                self.tags[tag] = value
        return needed, searched

    def _at(self, address: int) -> int:
        """Where in the file an address of the loaded image lies."""
        for start, offset, size in self.loaded:
            if start <= address < start + size:
                return address - start + offset
        raise _Broken

    def _name(self, at: int) -> str:
        """A string of the table of strings."""
        self.left -= 1
        if at >= self.tags.get(_STRINGS_SIZE, 0) or self.left < 0:
            raise _Broken
        start = self._at(self.tags.get(_STRINGS, -1)) + at
        data = os.pread(self.descriptor, 128, start)
        if b"\0" not in data:
            data = os.pread(self.descriptor, _LONGEST_STRING, start)
        text, end, _ = data.partition(b"\0")
        if not end:
            raise _Broken
        return os.fsdecode(text)

    def _folders(self, at: int | None) -> tuple[str, ...]:
        return () if at is None else tuple(self._name(at).split(":"))

    def _versions_needed(self) -> Iterator[tuple[str, tuple[str, ...]]]:
        if _VERSIONS_NEEDED not in self.tags:
            return
        at = self._at(self.tags[_VERSIONS_NEEDED])
        for _ in range(min(self.tags.get(_VERSIONS_NEEDED_COUNT, 0), _MOST_PIECES)):
            _, count, file, first, following = _NEED.unpack(self._piece(at, _NEED.size))
            yield self._name(file), tuple(self._auxiliary(at + first, count))
            if not following:
                return
            at += following

    def _auxiliary(self, at: int, count: int) -> Iterator[str]:
        for _ in range(min(count, _MOST_PIECES)):
            _, _, _, name, following = _NEED_AUX.unpack(self._piece(at, _NEED_AUX.size))
            yield self._name(name)
            if not following:
                return
            at += following

    def versions_defined(self) -> Iterator[str]:
        self.facts()  # where everything lies
        if _VERSIONS_DEFINED not in self.tags:
            return
        at = self._at(self.tags[_VERSIONS_DEFINED])
        for _ in range(min(self.tags.get(_VERSIONS_DEFINED_COUNT, 0), _MOST_PIECES)):
            _, flags, _, _, _, first, following = _DEFINED.unpack(self._piece(at, _DEFINED.size))
            name, _ = _DEFINED_AUX.unpack(self._piece(at + first, _DEFINED_AUX.size))
            if not flags & _IS_BASE:
                yield self._name(name)
            if not following:
                return
            at += following
