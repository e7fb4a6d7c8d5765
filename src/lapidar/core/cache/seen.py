"""What was read before: a small table of path, inode, size and times -> what was found, mostly a digest.

With it, capturing an environment again reads only what changed. It is only ever a short cut: without it
everything is read again, with the same result.
"""

from __future__ import annotations

import hashlib
import os
import time
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Generic, TypeVar

import msgspec

from lapidar.core import sealed
from lapidar.core.cache.digest import sha256_of

__all__ = [
    "SETTLED_NS",
    "Seen",
    "SeenFiles",
    "known_paths",
    "seen_by_all",
    "seen_files",
    "seen_of_system",
    "sha256_by",
]

# What changed within this time before it was looked at may change again within the same tick of the file system's
# clock, and its times would not show it.
SETTLED_NS = 2_000_000_000

T = TypeVar("T")


class Seen(Generic[T]):
    """The table of one environment.

    Args:
        folder: where the tables lie.
        name: what the table is of: an environment's folder; each has a table of its own.
        kind: what is remembered of a file.
        keep_all: keep also what was not met again this time: the table is shared.
    """

    def __init__(self, folder: Path, name: str, kind: type[T], *, keep_all: bool = False) -> None:
        self._file = folder / hashlib.sha256(os.fsencode(name)).hexdigest()[:32]
        self._began_ns = time.time_ns()
        self._before: dict[str, tuple[int, int, int, int, T]] = {}
        try:
            rows = msgspec.msgpack.Decoder(dict[str, tuple[int, int, int, int, kind]])  # type: ignore[valid-type]
            self._before = rows.decode(sealed.read(self._file) or b"")
        except (msgspec.MsgspecError, UnicodeDecodeError):
            pass
        self._now = dict(self._before) if keep_all else {}

    def known(self, path: str, found: os.stat_result) -> T | None:
        """What is known of a file read before and unchanged since, by its status."""
        row = self._before.get(path)
        if row is None or row[:4] != (found.st_ino, found.st_size, found.st_mtime_ns, found.st_ctime_ns):
            return None
        self._now[path] = row
        return row[4]

    def add(self, path: str, found: os.stat_result, value: T) -> None:
        """Remember a file that was just read; `found` is its status from before it was read."""
        if max(found.st_mtime_ns, found.st_ctime_ns) < self._began_ns - SETTLED_NS:
            self._now[path] = (found.st_ino, found.st_size, found.st_mtime_ns, found.st_ctime_ns, value)

    def save(self) -> None:
        """Keep the table for the next time."""
        if self._now != self._before:
            sealed.keep(self._file, lambda: msgspec.msgpack.encode(self._now))


def known_paths(folder: Path, digests: set[str]) -> Iterator[tuple[str, str]]:
    """Of digests, the paths of files that had them when they were read, by all tables of files.

    Args:
        digests: sha256 in hex.
    """
    rows = msgspec.msgpack.Decoder(dict[str, tuple[int, int, int, int, str]])
    try:
        tables = sorted(folder.iterdir())
    except OSError:
        return
    for table in tables:
        try:
            found = rows.decode(sealed.read(table) or b"")
        except (msgspec.MsgspecError, UnicodeDecodeError, OSError):
            continue  # a table of something else
        yield from ((row[4], path) for path, row in found.items() if row[4] in digests)


class SeenFiles:
    """The digests of an environment's files, in a table for each of its folders: a runtime that several environments
    have is read once for all of them.

    Args:
        folder: where the tables lie.
        environment: the environment's folder.
        shared: folders that other environments have too.
    """

    def __init__(self, folder: Path, environment: str, shared: Iterable[str] = ()) -> None:
        self._own = seen_files(folder, environment)
        others = sorted({one for one in shared if one != environment}, key=len, reverse=True)
        self._shared = [(f"{one}/", seen_by_all(folder, one)) for one in others]

    def _table(self, path: str) -> Seen[str]:
        return next((table for below, table in self._shared if path.startswith(below)), self._own)

    def known(self, path: str, found: os.stat_result) -> str | None:
        """What is known of a file read before and unchanged since, by its status."""
        return self._table(path).known(path, found)

    def add(self, path: str, found: os.stat_result, digest: str) -> None:
        """Remember a file that was just read; `found` is its status from before it was read."""
        self._table(path).add(path, found, digest)

    def save(self) -> None:
        """Keep the tables for the next time."""
        for table in (self._own, *(table for _, table in self._shared)):
            table.save()


def seen_files(folder: Path, name: str) -> Seen[str]:
    """The digests of the files of one folder, or of whatever else has a name."""
    return Seen(folder, name, str)


def seen_by_all(folder: Path, name: str) -> Seen[str]:
    """The digests of the files of what several environments have, as a runtime: none is forgotten because one of these
    does not have it."""
    return Seen(folder, name, str, keep_all=True)


def seen_of_system(folder: Path) -> Seen[str]:
    """The digests of the operating system's files; all environments share them."""
    return seen_by_all(folder, "the operating system")


def sha256_by(seen: Seen[str], path: str) -> str:
    """The sha256 of a file in hex, read only where it is not known."""
    status = os.stat(path)
    digest = seen.known(path, status)
    if digest is None:
        digest = sha256_of(path)
        seen.add(path, status, digest)
    return digest
