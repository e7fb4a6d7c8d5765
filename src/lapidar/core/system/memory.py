"""What was read of ELF files before: a table of path, inode, size and time -> what the file says.

Like the table of files seen it is only ever a short cut.
"""

from __future__ import annotations

import hashlib
import os
import stat
from pathlib import Path

import msgspec

from lapidar._version import VERSION
from lapidar.core import sealed
from lapidar.core.system import elf
from lapidar.core.system.elf import Elf

__all__ = ["ElfMemory"]

_Row = tuple[int, int, int, Elf | None]
_ROWS = msgspec.msgpack.Decoder(dict[str, _Row])


class ElfMemory:
    """Reads ELF files, each once.

    Args:
        folder: where the tables lie; None to keep nothing.
        environment: the environment's folder; each has a table of its own.
    """

    def __init__(self, folder: Path | None, environment: str) -> None:
        self.folder = folder
        # What is read of a file may come to be more: a table from before has not that.
        form = f"{VERSION}\n{Elf.__struct_fields__}\n{environment}"
        key = hashlib.sha256(os.fsencode(form)).hexdigest()[:32]
        self._file = folder / f"{key}-elf" if folder else None
        self._now: dict[str, _Row] = {}
        self._before: dict[str, _Row] = {}
        if self._file:
            try:
                self._before = _ROWS.decode(sealed.read(self._file) or b"")
            except (msgspec.MsgspecError, UnicodeDecodeError):
                pass

    def read(self, path: str) -> Elf | None:
        """What an ELF file says; None where it is none."""
        row = self._now.get(path)
        if row is None:
            row = self._now[path] = self._look(path)
        return row[3]

    def _look(self, path: str) -> _Row:
        try:
            status = os.stat(path)
        except OSError:
            return (0, 0, 0, None)
        if not stat.S_ISREG(status.st_mode):
            return (0, 0, 0, None)
        key = (status.st_ino, status.st_size, status.st_mtime_ns)
        before = self._before.get(path)
        return before if before and before[:3] == key else (*key, elf.read(path))

    def save(self) -> None:
        """Keep the table for the next time."""
        if self._file and self._now != self._before:
            sealed.keep(self._file, lambda: msgspec.msgpack.encode(self._now))
