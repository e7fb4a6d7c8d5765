"""What was read before: a small table of path, inode, size and times -> digest.

With it, capturing an environment again reads only what changed. It is only ever a short cut: without it
everything is read again, with the same result.
"""

from __future__ import annotations

import hashlib
import os
import time
from pathlib import Path

import msgspec

from lapidar.core import atomic
from lapidar.core.cache.digest import sha256_of

__all__ = ["SETTLED_NS", "Seen"]

_Row = tuple[int, int, int, int, str]
_ROWS = msgspec.json.Decoder(dict[str, _Row])
# What changed within this time before it was looked at may change again within the same tick of the file system's
# clock, and its times would not show it.
SETTLED_NS = 2_000_000_000


class Seen:
    """The table of one environment.

    Args:
        folder: where the tables lie.
        environment: the environment's folder; each has a table of its own.
        keep_all: keep also what was not met again this time: the table is shared.
    """

    def __init__(self, folder: Path, environment: str, *, keep_all: bool = False) -> None:
        self._file = folder / hashlib.sha256(os.fsencode(environment)).hexdigest()[:32]
        self._began_ns = time.time_ns()
        self._now: dict[str, _Row] = {}
        try:
            self._before = _ROWS.decode(self._file.read_bytes())
        except (OSError, msgspec.MsgspecError, UnicodeDecodeError):
            self._before = {}
        if keep_all:
            self._now = dict(self._before)

    @classmethod
    def of_system(cls, folder: Path) -> Seen:
        """The table of the operating system's files, which all environments share."""
        return cls(folder, "the operating system", keep_all=True)

    def digest(self, path: str) -> str:
        """The sha256 of a file in hex, read only where it is not known."""
        status = os.stat(path)
        digest = self.known(path, status)
        if digest is None:
            digest = sha256_of(path)
            self.add(path, status, digest)
        return digest

    def known(self, path: str, found: os.stat_result) -> str | None:
        """What is known of a file read before and unchanged since, by its status: its digest (hex)."""
        row = self._before.get(path)
        if row is None or row[:4] != (found.st_ino, found.st_size, found.st_mtime_ns, found.st_ctime_ns):
            return None
        self._now[path] = row
        return row[4]

    def add(self, path: str, found: os.stat_result, digest: str) -> None:
        """Remember a file that was just read; `found` is its status from before it was read."""
        if max(found.st_mtime_ns, found.st_ctime_ns) < self._began_ns - SETTLED_NS:
            self._now[path] = (found.st_ino, found.st_size, found.st_mtime_ns, found.st_ctime_ns, digest)

    def save(self) -> None:
        """Keep the table for the next time."""
        if self._now == self._before:
            return
        atomic.write_short_cut(self._file, lambda: msgspec.json.encode(self._now))
