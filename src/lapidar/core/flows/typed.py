"""What a run is given on standard input, kept as it goes by."""

from __future__ import annotations

import os
import select
import stat
import threading
from contextlib import suppress
from pathlib import Path

__all__ = ["Typed"]

_PIECE = 65_536


class Typed:
    """A descriptor for a run to read from, instead of this process's own standard input.

    A file is given as it is, and what the run took of it is kept at the end; what comes through a pipe is kept as it is
    passed on. What a person types on a terminal goes to the run directly, and is not kept. Only a program that nobody
    else runs in may take what is on its standard input: in a notebook, that is somebody else's.

    Args:
        into: the file that what was given is written to; it is not there where nothing was kept.
    """

    def __init__(self, into: Path) -> None:
        self._into = into
        self._start = 0
        self._writing = -1
        self._given = -1
        self._ended: tuple[int, int] | None = None  # a pipe by which whoever passes on hears that the run has ended
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
            self._ended = os.pipe()
            self._passing = threading.Thread(target=self._pass_on, daemon=True)
            self._passing.start()
            return self._given
        return None

    def __exit__(self, *_: object) -> None:
        if self._passing is None:
            with suppress(OSError):
                self._keep(os.lseek(0, 0, os.SEEK_CUR))
            return
        assert self._ended is not None
        os.close(self._given)  # whoever passes on finds nobody there
        os.close(self._ended[1])
        self._passing.join()
        os.close(self._ended[0])

    def _keep(self, end: int) -> None:
        if stat.S_ISREG(os.fstat(0).st_mode) and end > self._start:
            with self._into.open("wb") as kept:
                at = self._start
                while at < end and (piece := os.pread(0, min(_PIECE, end - at), at)):
                    kept.write(piece)
                    at += len(piece)

    def _has_more(self) -> bool:
        """Wait until there is something to pass on; false where the run has ended."""
        assert self._ended is not None
        ready, _, _ = select.select([0, self._ended[0]], [], [])
        return self._ended[0] not in ready

    def _pass_on(self) -> None:
        with self._into.open("wb", buffering=0) as kept, suppress(OSError):
            while self._has_more() and (piece := os.read(0, _PIECE)):
                view = memoryview(piece)
                while view:
                    view = view[os.write(self._writing, view) :]
                kept.write(piece)
        os.close(self._writing)
