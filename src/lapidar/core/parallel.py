"""Two halves of a work at once, on two processors."""

from __future__ import annotations

import marshal
import os
from collections.abc import Callable
from typing import TypeVar

__all__ = ["both"]

One = TypeVar("One")
Other = TypeVar("Other")


def both(one: Callable[[], One], other: Callable[[], Other]) -> tuple[One, Other]:
    """Run `other` in a forked process while `one` runs here.

    For work that is all system calls and small objects, which threads of one interpreter cannot share. The child
    only reads, and hands its result (numbers, strings, tuples, dictionaries) back through a pipe; where it fails,
    the work is done here instead. To be called while there are no other threads.
    """
    reading, writing = os.pipe()
    child = os.fork() if (os.cpu_count() or 1) > 1 else -1
    if child == 0:
        try:
            with open(writing, "wb") as stream:
                stream.write(marshal.dumps(other()))  # type: ignore[arg-type]
        finally:
            os._exit(0)
    os.close(writing)
    try:
        mine = one()
    finally:
        with open(reading, "rb") as stream:
            data = stream.read()
        if child > 0:
            os.waitpid(child, 0)
    try:
        theirs: Other = marshal.loads(data)
    except (EOFError, ValueError, TypeError):
        theirs = other()
    return mine, theirs
