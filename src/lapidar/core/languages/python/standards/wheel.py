"""Wheels: the tree of a package computed from the wheel itself.

Binary distribution format, https://packaging.python.org/en/latest/specifications/binary-distribution-format/
"""

from __future__ import annotations

import hashlib
import io
import stat
import zipfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import IO

from msgspec import Struct
from packaging.utils import InvalidWheelFilename, canonicalize_name, parse_wheel_filename
from packaging.version import InvalidVersion, Version

from lapidar.core import foreign
from lapidar.core.cache.stowing import StreamDraft
from lapidar.core.cache.trees import EXECUTABLE, FILE, Entry, Tree
from lapidar.core.environment import reserved
from lapidar.core.errors import PackageBroken
from lapidar.core.languages.python.standards import layout
from lapidar.core.languages.python.standards.metadata import Metadata

__all__ = ["BROKEN_ARCHIVE", "MOST_BYTES", "MOST_RATIO", "Wheel", "opened", "tree"]

_NEUTRAL_FIRST_LINES = (b"#!python", b"#!pythonw")
# What a wheel may unpack to. The largest real ones come to some 4 GB, at ratios below 20.
MOST_BYTES = 16_000_000_000
MOST_RATIO = 200
# What the standard reader of archives raises where one is broken, or is of a kind that no wheel is.
BROKEN_ARCHIVE = (zipfile.BadZipFile, zlib.error, EOFError, NotImplementedError, RuntimeError, ValueError)
_SMALL_BYTES = 50_000_000  # below this no ratio is suspicious
_DO_NOT_USE = "Do not use this wheel."


class _Member(Struct, frozen=True):
    """A file of a wheel, under its path in the package tree."""

    path: str
    info: zipfile.ZipInfo
    executable: bool
    script: bool


class Wheel:
    """An opened wheel.

    Attributes:
        metadata: its core metadata.

    Raises:
        PackageBroken: it is no wheel, lies about what it is, holds a path outside itself, a link, a path twice, or
            unpacks to more than is sane.
    """

    def __init__(self, archive: zipfile.ZipFile, file_name: str, packed_bytes: int) -> None:
        self._archive = archive
        self._file_name = file_name
        try:
            name, version, *_ = parse_wheel_filename(file_name)
        except InvalidWheelFilename as error:
            raise PackageBroken(f"{file_name} is not the name of a wheel", why=str(error)) from error
        self._name = canonicalize_name(name)
        _refuse_bomb(archive, file_name, packed_bytes)
        self._members = list(self._read_members())
        self.metadata = self._read_metadata(version)

    def _read_members(self) -> Iterator[_Member]:
        seen: set[str] = set()
        for info in self._archive.infolist():
            _refuse_odd(info, self._file_name)
            if info.is_dir():
                continue
            if info.filename in seen:
                raise PackageBroken(f"{self._file_name} holds {info.filename!r} twice", remedy=_DO_NOT_USE)
            seen.add(info.filename)
            member = _member(info, self._name)
            if member:
                if member.path.startswith("prefix/"):
                    reserved.refuse(self._file_name, member.path.removeprefix("prefix/"))
                yield member

    def _read_metadata(self, version: Version) -> Metadata:
        for member in self._members:
            if layout.is_metadata(member.path) and member.path.endswith("/METADATA"):
                if member.info.file_size > foreign.MOST_METADATA_BYTES:
                    raise PackageBroken(
                        f"The METADATA of {self._file_name} has {member.info.file_size:,} bytes",
                        why=f"more than {foreign.MOST_METADATA_BYTES:,} are refused",
                        remedy=_DO_NOT_USE,
                    )
                try:
                    metadata = Metadata.parse(self._archive.read(member.info).decode("utf-8", "replace"))
                    same = metadata.name == self._name and Version(metadata.version) == version
                except (ValueError, InvalidVersion) as error:
                    raise PackageBroken(f"The METADATA of {self._file_name} is broken", why=str(error)) from error
                if not same:
                    raise PackageBroken(
                        f"{self._file_name} lies about what it is",
                        why=f"its METADATA says {metadata.name} {metadata.version}",
                        remedy=_DO_NOT_USE,
                    )
                return metadata
        raise PackageBroken(f"{self._file_name} is not a wheel", why="it has no METADATA", remedy=_DO_NOT_USE)

    def drafts(self) -> list[StreamDraft]:
        """Its files, to be stowed while it is open."""
        return [self._draft(member) for member in self._members]

    def _draft(self, member: _Member) -> StreamDraft:
        def opener(info: zipfile.ZipInfo = member.info) -> IO[bytes]:
            return self._archive.open(info)

        def neutral(info: zipfile.ZipInfo = member.info) -> IO[bytes]:
            return io.BytesIO(_neutral(self._archive.read(info)))

        return StreamDraft(
            member.path,
            neutral if member.script else opener,
            member.info.file_size,
            executable=member.executable,
        )


@contextmanager
def opened(path: Path, file_name: str = "") -> Iterator[Wheel]:
    """Open a wheel.

    Args:
        file_name: what it is called, where that is not the name of `path`.

    Raises:
        PackageBroken: see `Wheel`; also for what is only found while its files are read.
    """
    file_name = file_name or path.name
    try:
        with zipfile.ZipFile(path) as archive:
            yield Wheel(archive, file_name, path.stat().st_size)
    except BROKEN_ARCHIVE as error:
        raise PackageBroken(f"{file_name} is not a wheel", why=str(error), remedy="Fetch or build it again.") from error


def _refuse_bomb(archive: zipfile.ZipFile, file_name: str, packed_bytes: int) -> None:
    unpacked = sum(info.file_size for info in archive.infolist())
    if unpacked > MOST_BYTES or (unpacked > _SMALL_BYTES and unpacked > MOST_RATIO * packed_bytes):
        raise PackageBroken(
            f"{file_name} unpacks to {unpacked:,} bytes from {packed_bytes:,}",
            why=f"more than {MOST_BYTES:,} bytes or {MOST_RATIO} times the packed size is refused",
            remedy=_DO_NOT_USE,
        )


def _refuse_odd(info: zipfile.ZipInfo, file_name: str) -> None:
    path = info.filename
    if path.startswith("/") or "\\" in path or ".." in path.split("/"):
        raise PackageBroken(f"{file_name} holds a path outside itself: {path!r}", remedy=_DO_NOT_USE)
    if stat.S_ISLNK(info.external_attr >> 16):
        raise PackageBroken(f"{file_name} holds a link: {path!r}", remedy=_DO_NOT_USE)


def _member(info: zipfile.ZipInfo, name: str) -> _Member | None:
    """Where a file of a wheel goes in the package tree; None where it is not part of it."""
    mode = info.external_attr >> 16
    executable = bool(mode and stat.S_ISREG(mode) and mode & 0o111)
    path = info.filename
    top, _, inner = path.partition("/")
    if not top.endswith(".data"):
        return None if _left_out(path) else _Member(f"site/{path}", info, executable, False)
    scheme, _, inner = inner.partition("/")
    if scheme in ("purelib", "platlib"):
        return None if _left_out(inner) else _Member(f"site/{inner}", info, executable, False)
    if scheme == "scripts":
        return _Member(f"prefix/bin/{inner}", info, True, True)
    if scheme == "headers":
        return _Member(f"prefix/include/python/{name}/{inner}", info, executable, False)
    if scheme == "data":
        return _Member(f"prefix/{layout.neutral_headers(inner)}", info, executable, False)
    raise PackageBroken(f"A wheel holds an unknown kind of data: {path!r}", remedy=_DO_NOT_USE)


def _left_out(site_path: str) -> bool:
    return layout.is_bytecode(site_path) or layout.is_installers_own(site_path)


def _neutral(data: bytes) -> bytes:
    line, newline, rest = data.partition(b"\n")
    if newline and line.split()[:1] and line.split()[0] in _NEUTRAL_FIRST_LINES:
        return layout.NEUTRAL_LINE + rest
    return data


def tree(wheel: Path) -> Tree:
    """The package tree of a wheel: the same as that of the package captured from an environment.

    Raises:
        PackageBroken: see `Wheel`.
    """
    entries = []
    with opened(wheel) as content:
        for draft in content.drafts():
            with draft.opener() as stream:
                data = stream.read()
            kind = EXECUTABLE if draft.executable else FILE
            entries.append(Entry(draft.path, kind, hashlib.sha256(data).hexdigest(), len(data)))
    try:
        return Tree(entries)
    except ValueError as error:
        raise PackageBroken(f"{wheel.name} is not a valid wheel", why=str(error)) from error
