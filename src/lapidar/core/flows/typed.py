"""What a run is given on standard input, kept as it goes by."""

from __future__ import annotations

import os
import stat
import threading
from contextlib import suppress
from pathlib import Path

__all__ = ["Typed"]

_PIECE = 65_536


class Typed:
    """A descriptor for a run to read from, instead of this process's own standard input.

    A file is given as it is, and what the run took of it is kept at the end; what comes through a pipe is kept as it is
    passed on. What a person types on a terminal goes to the run directly, and is not kept.

    Args:
        into: the file that what was given is written to; it is not there where nothing was kept.
    """

    def __init__(self, into: Path) -> None:
        self._into = into
        self._start = 0
        self._writing = -1
        self._given = -1
        self._passing: threading.Thread | None = None

    def __enter__(self) -> int | None:
        try:
            mode = os.fstat(0).st_mode
        except OSError:
            return None  # it is closed
        if stat.S_ISREG(mode):
            self._start = os.lseek(0, 0, os.SEEK_CUR)
        elif stat.S_ISFIFO(mode) or stat.S_ISSOCK(mode):
            self._given, self._writing = os.pipe()
            self._passing = threading.Thread(target=self._pass_on, daemon=True)
            self._passing.start()
            return self._given
        return None

    def __exit__(self, *_: object) -> None:
        if self._passing is None:
            with suppress(OSError):
                self._keep(os.lseek(0, 0, os.SEEK_CUR))
            return
        os.close(self._given)  # whoever passes on finds nobody there
        self._passing.join(0.2)

    def _keep(self, end: int) -> None:
        if stat.S_ISREG(os.fstat(0).st_mode) and end > self._start:
            with self._into.open("wb") as kept:
                at = self._start
                while at < end and (piece := os.pread(0, min(_PIECE, end - at), at)):
                    kept.write(piece)
                    at += len(piece)

    def _pass_on(self) -> None:
        with self._into.open("wb", buffering=0) as kept, suppress(OSError):
            while piece := os.read(0, _PIECE):
                view = memoryview(piece)
                while view:
                    view = view[os.write(self._writing, view) :]
                kept.write(piece)
        os.close(self._writing)
