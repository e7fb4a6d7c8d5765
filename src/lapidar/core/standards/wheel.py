"""Wheels: the tree of a package computed from the wheel itself.

Binary distribution format, https://packaging.python.org/en/latest/specifications/binary-distribution-format/
"""

from __future__ import annotations

import hashlib
import stat
import zipfile
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from packaging.utils import InvalidWheelFilename, canonicalize_name, parse_wheel_filename

from lapidar.core.cache.trees import EXECUTABLE, FILE, Entry, Tree
from lapidar.core.errors import PackageBroken
from lapidar.core.standards import layout

__all__ = ["WheelFile", "files", "tree"]

_NEUTRAL_FIRST_LINES = (b"#!python", b"#!pythonw")


@dataclass(frozen=True, slots=True)
class WheelFile:
    """One file of a wheel, under its path in the package tree."""

    path: str
    data: bytes
    executable: bool


def files(wheel: Path) -> Iterator[WheelFile]:
    """The files of a wheel as they are in its package tree.

    Raises:
        PackageBroken: it is no wheel, or holds a path outside itself.
    """
    try:
        name, *_ = parse_wheel_filename(wheel.name)
    except InvalidWheelFilename as error:
        raise PackageBroken(f"{wheel.name} is not the name of a wheel", why=str(error)) from error
    try:
        with zipfile.ZipFile(wheel) as archive:
            for member in archive.infolist():
                if not member.is_dir():
                    file = _file(archive, member, canonicalize_name(name))
                    if file:
                        yield file
    except zipfile.BadZipFile as error:
        raise PackageBroken(
            f"{wheel.name} is not a wheel", why=str(error), remedy="Fetch or build it again."
        ) from error


def _file(archive: zipfile.ZipFile, member: zipfile.ZipInfo, name: str) -> WheelFile | None:
    path = member.filename
    if path.startswith("/") or ".." in path.split("/"):
        raise PackageBroken(f"A wheel holds a path outside itself: {path!r}", remedy="Do not use this wheel.")
    data = archive.read(member)
    mode = member.external_attr >> 16
    executable = bool(mode and stat.S_ISREG(mode) and mode & 0o111)
    top, _, inner = path.partition("/")
    if not top.endswith(".data"):
        return None if _left_out(path) else WheelFile(f"site/{path}", data, executable)
    scheme, _, inner = inner.partition("/")
    if scheme in ("purelib", "platlib"):
        return None if _left_out(inner) else WheelFile(f"site/{inner}", data, executable)
    if scheme == "scripts":
        return WheelFile(f"prefix/bin/{inner}", _neutral(data), True)
    if scheme == "headers":
        return WheelFile(f"prefix/include/python/{name}/{inner}", data, executable)
    if scheme == "data":
        return WheelFile(f"prefix/{layout.neutral_headers(inner)}", data, executable)
    raise PackageBroken(f"A wheel holds an unknown kind of data: {path!r}", remedy="Do not use this wheel.")


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
        PackageBroken: it is no wheel, or holds a path outside itself.
    """
    entries = [
        Entry(file.path, EXECUTABLE if file.executable else FILE, hashlib.sha256(file.data).hexdigest(), len(file.data))
        for file in files(wheel)
    ]
    try:
        return Tree(entries)
    except ValueError as error:
        raise PackageBroken(f"{wheel.name} is not a valid wheel", why=str(error)) from error
