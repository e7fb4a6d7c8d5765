"""Work in further processes while this one goes on."""

from __future__ import annotations

import marshal
import os
import threading
from collections.abc import Callable, Sequence
from functools import partial
from itertools import pairwise
from typing import Generic, TypeVar

__all__ = ["Begun", "both", "shares"]

One = TypeVar("One")
Other = TypeVar("Other")
Row = TypeVar("Row")

_MOST = 4  # processes: what they do together waits for one file system


class Begun(Generic[Other]):
    """Work that goes on in a forked process.

    For work that is all system calls and small objects, which threads of one interpreter cannot share. The child
    only hands its result (numbers, strings, tuples, dictionaries) back through a pipe. Where it fails, where there
    is only one processor, or where this process has other threads (a fork copies none of them, but every lock that
    they hold: whoever waits for such a lock in the child waits for ever), the work is done here when its result is
    asked for.

    Args:
        work: what to do.
    """

    def __init__(self, work: Callable[[], Other]) -> None:
        self._work = work
        self._child = -1
        self._reading: int | None = None
        if not _may_fork():
            return
        self._reading, writing = os.pipe()
        self._child = os.fork()
        if self._child == 0:
            # Where the first process is killed, this one must come to know: by no reader being left.
            os.close(self._reading)
            try:
                with open(writing, "wb") as stream:
                    stream.write(marshal.dumps(work()))  # type: ignore[arg-type]
            finally:
                os._exit(0)
        os.close(writing)

    def _received(self) -> bytes:
        """What the child has to say, once; it is waited for in any case, so that none is left behind."""
        # Given up before it is read: whoever is interrupted while reading must not find a closed descriptor later.
        reading, self._reading = self._reading, None
        if reading is None:
            return b""
        with open(reading, "rb") as stream:
            data = stream.read()
        if self._child > 0:
            os.waitpid(self._child, 0)
        return data

    def result(self) -> Other:
        """Wait for the result."""
        try:
            found: Other = marshal.loads(self._received())
        except (EOFError, ValueError, TypeError):
            return self._work()
        return found

    def drop(self) -> None:
        """Wait for the end; the result is not wanted any more."""
        self._received()


def _may_fork() -> bool:
    """Whether there is a second processor, and no thread but this one: of this interpreter or of any library."""
    if (os.cpu_count() or 1) < 2:
        return False
    try:
        return len(os.listdir("/proc/self/task")) == 1
    except OSError:
        return threading.active_count() == 1


def both(one: Callable[[], One], other: Callable[[], Other]) -> tuple[One, Other]:
    """Run `other` in a second process while `one` runs here; see `Begun`."""
    begun = Begun(other)
    try:
        mine = one()
    except BaseException:
        begun.drop()
        raise
    return mine, begun.result()


def shares(
    rows: Sequence[Row], work: Callable[[Sequence[Row]], One], here: Callable[[Sequence[Row]], One]
) -> list[One]:
    """Do one piece of work on equal shares of some rows: one share here, the others each in a process of its own.

    Args:
        here: the same work as it is done in this process, where somebody may want to hear of progress.

    Returns:
        What came of each share, in order.
    """
    many = max(1, min(_MOST, os.cpu_count() or 1, len(rows)))
    cuts = [len(rows) * at // many for at in range(many + 1)]
    parts = [rows[start:end] for start, end in pairwise(cuts)]
    others = [Begun(partial(work, part)) for part in parts[1:]]
    try:
        return [here(parts[0]), *(begun.result() for begun in others)]
    finally:
        for begun in others:
            begun.drop()
