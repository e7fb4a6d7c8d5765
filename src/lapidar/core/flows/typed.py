"""What a run is given on standard input, kept as it goes by."""

from __future__ import annotations

import os
import select
import stat
import threading
from contextlib import suppress
from pathlib import Path

from lapidar.core.flows.kept_copy import KeptCopy

__all__ = ["Typed"]

_DOING = "keep what the run is given on standard input"
_PIECE = 65_536


class Typed:
    """A descriptor for a run to read from, instead of this process's own standard input.

    A file is given as it is, and what the run took of it is kept at the end; what comes through a pipe is kept as it is
    passed on. What a person types on a terminal goes to the run directly, and is not kept. Only a program that nobody
    else runs in may take what is on its standard input: in a notebook, that is somebody else's.

    Args:
        into: the file that what was given is written to; it is not there where nothing was kept.

    Raises:
        LapidarError: what was given could not be kept, at the beginning or at the end.
    """

    def __init__(self, into: Path) -> None:
        self._into = into
        self._start = 0
        self._writing = -1
        self._given = -1
        self._ended: tuple[int, int] | None = None  # a pipe by which whoever passes on hears that the run has ended
        self._passing: threading.Thread | None = None
        self._kept: KeptCopy | None = None

    def __enter__(self) -> int | None:
        try:
            mode = os.fstat(0).st_mode
        except OSError:
            return None  # it is closed
        if stat.S_ISREG(mode):
            self._start = os.lseek(0, 0, os.SEEK_CUR)
        elif stat.S_ISFIFO(mode) or stat.S_ISSOCK(mode):
            self._kept = KeptCopy(self._into, _DOING)
            self._given, self._writing = os.pipe()
            self._ended = os.pipe()
            self._passing = threading.Thread(target=self._pass_on, args=(self._kept,), daemon=True)
            self._passing.start()
            return self._given
        return None

    def __exit__(self, *_: object) -> None:
        if self._passing is None:
            try:
                end = os.lseek(0, 0, os.SEEK_CUR)
            except OSError:
                return  # a terminal, or closed
            self._keep(end)
            return
        assert self._ended is not None and self._kept is not None
        os.close(self._given)  # whoever passes on finds nobody there
        os.close(self._ended[1])
        self._passing.join()
        os.close(self._ended[0])
        self._kept.require_whole()

    def _keep(self, end: int) -> None:
        if not stat.S_ISREG(os.fstat(0).st_mode) or end <= self._start:
            return
        with KeptCopy(self._into, _DOING) as kept:
            at = self._start
            while at < end and (piece := os.pread(0, min(_PIECE, end - at), at)):
                kept.add(piece)
                at += len(piece)
        kept.require_whole()

    def _has_more(self) -> bool:
        """Wait until there is something to pass on; false where the run has ended."""
        assert self._ended is not None
        ready, _, _ = select.select([0, self._ended[0]], [], [])
        return self._ended[0] not in ready

    def _pass_on(self, kept: KeptCopy) -> None:
        with kept, suppress(OSError):  # the run reads no more
            while self._has_more() and (piece := os.read(0, _PIECE)):
                view = memoryview(piece)
                while view:
                    view = view[os.write(self._writing, view) :]
                kept.add(piece)
        os.close(self._writing)
