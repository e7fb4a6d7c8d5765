"""Tar archives in one canonical form: the same files give the same bytes, whoever writes them.

The form is that of GNU tar with its long names, which every reader of tar knows, those of small shells included; no
owner, one time for all, no entries for folders. Standard: POSIX.1-1988 ustar headers, GNU extensions `L` and `K`.
"""

from __future__ import annotations

import gzip
import io
import os
import shutil
import stat
from collections.abc import Callable, Iterator
from typing import IO, Protocol

from lapidar.core.cache.files import FILE_TIME_SECONDS

__all__ = [
    "BLOCK",
    "END",
    "FILE",
    "FOLDER",
    "HARD_LINK",
    "LEVEL",
    "LINK",
    "Writer",
    "header",
    "packed",
    "padding",
    "walked",
]

BLOCK = 512
END = bytes(2 * BLOCK)
FILE, HARD_LINK, LINK, FOLDER = b"0", b"1", b"2", b"5"
_LONG_NAME, _LONG_LINK = b"L", b"K"
_LONGEST = 100
_MOST_OCTAL = 8**11
_MAGIC = b"ustar  \0"
_TIME = b"%011o\0" % FILE_TIME_SECONDS
_OWNER = b"0000000\0"
_PIECE_BYTES = 1 << 20
LEVEL = 4  # of gzip


def header(path: str, size: int, mode: int, kind: bytes = FILE, target: str = "") -> bytes:
    """What stands before the bytes of an entry.

    Args:
        path: relative, as the reader is to make it.
        size: of its bytes; 0 for links and folders.
        mode: the bits of its permissions.
        target: of a symbolic link, what it says; of a hard link, the path of an entry before it.
    """
    name, link = path.encode("utf-8", "surrogateescape"), target.encode("utf-8", "surrogateescape")
    before = b""
    if len(link) > _LONGEST:
        before += _long(_LONG_LINK, link)
    if len(name) > _LONGEST:
        before += _long(_LONG_NAME, name)
    return before + _block(name[:_LONGEST], size, mode, kind, link[:_LONGEST])


def padding(size: int) -> bytes:
    """What fills the last block of an entry's bytes."""
    return bytes(-size % BLOCK)


def _long(kind: bytes, text: bytes) -> bytes:
    data = text + b"\0"
    return _block(b"././@LongLink", len(data), 0o644, kind, b"") + data + padding(len(data))


def _block(name: bytes, size: int, mode: int, kind: bytes, link: bytes) -> bytes:
    number = b"%011o\0" % size if size < _MOST_OCTAL else b"\x80" + size.to_bytes(11, "big")
    start = name.ljust(100, b"\0") + b"%07o\0" % mode + _OWNER + _OWNER + number + _TIME
    rest = kind + link.ljust(100, b"\0") + _MAGIC
    total = sum(start) + sum(rest) + 8 * 32  # the field of the sum itself counts as blanks
    return (start + b"%06o\0 " % total + rest).ljust(BLOCK, b"\0")


def packed(out: IO[bytes]) -> IO[bytes]:
    """A stream that packs what is written to it with gzip, which every reader has: the same bytes always."""
    return gzip.GzipFile(filename="", mode="wb", fileobj=out, compresslevel=LEVEL, mtime=0)  # type: ignore[return-value]


class Written(Protocol):
    """What can be written to."""

    def write(self, data: bytes, /) -> object: ...


class Writer:
    """Writes entries one after the other; nothing is ever gone back to, so it may be a pipe. Modes are 0755 or 0644."""

    def __init__(self, out: Written) -> None:
        self._out = out

    def stream(self, name: str, stream: IO[bytes], size: int, *, executable: bool = False) -> None:
        """A file of so many bytes."""
        self._out.write(header(name, size, 0o755 if executable else 0o644))
        shutil.copyfileobj(stream, self._out, _PIECE_BYTES)
        self._out.write(padding(size))

    def data(self, name: str, data: bytes, *, executable: bool = False) -> None:
        """A file of these bytes."""
        self.stream(name, io.BytesIO(data), len(data), executable=executable)

    def link(self, name: str, target: str) -> None:
        """A symbolic link."""
        self._out.write(header(name, 0, 0o777, LINK, target))

    def same(self, name: str, other: str) -> None:
        """A second name for the file of an entry before it."""
        self._out.write(header(name, 0, 0o644, HARD_LINK, other))

    def folder(self, name: str, mode: int = 0o755) -> None:
        """A folder."""
        self._out.write(header(f"{name}/", 0, mode, FOLDER))

    def path(self, name: str, path: str) -> int:
        """What lies at a path: a file or a link; anything else is passed over.

        Returns:
            Its size in bytes.
        """
        status = os.lstat(path)
        if stat.S_ISLNK(status.st_mode):
            self.link(name, os.readlink(path))
        elif stat.S_ISREG(status.st_mode):
            with open(path, "rb") as stream:
                self.stream(name, stream, status.st_size, executable=bool(status.st_mode & stat.S_IXUSR))
            return status.st_size
        return 0

    def below(self, name: str, folder: str, heard: Callable[[int], None] = lambda size: None) -> None:
        """All of a folder, sorted.

        Args:
            name: what it is called.
            heard: is told the bytes of each file.
        """
        for path, is_folder in walked(folder):
            if is_folder:
                self.folder(f"{name}/{path}".removesuffix("/."))
            else:
                heard(self.path(f"{name}/{path}", f"{folder}/{path}"))

    def end(self) -> None:
        """What stands at the end of an archive."""
        self._out.write(END)


def walked(folder: str) -> Iterator[tuple[str, bool]]:
    """The files, links and empty folders below a folder, sorted; whether it is a folder."""
    for root, folders, files in os.walk(folder):
        folders.sort()
        below = os.path.relpath(root, folder)
        if not folders and not files:
            yield below, True
        links = [one for one in folders if os.path.islink(f"{root}/{one}")]
        folders[:] = [one for one in folders if one not in links]
        for one in sorted([*files, *links]):
            yield one if below == "." else f"{below}/{one}", False
