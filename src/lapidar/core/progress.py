"""How the core tells of progress: one small protocol, drawn by whoever wants to."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Protocol

__all__ = ["Progress", "Silent"]


class Progress(Protocol):
    """Hears of long work. Called from one thread."""

    def begin(self, task: str, total: int, unit: str) -> None:
        """A task of `total` steps begins (0: nobody knows how many); `unit` is "files", "bytes" ...; "": nothing is
        heard of it until its end. One may begin inside of another."""

    def advance(self, steps: int) -> None:
        """`steps` more are done."""

    def end(self) -> None:
        """The task has ended, well or not."""


class Silent:
    """Hears, and says nothing."""

    def begin(self, task: str, total: int, unit: str) -> None:
        pass

    def advance(self, steps: int) -> None:
        pass

    def end(self) -> None:
        pass


@contextmanager
def task(progress: Progress, name: str, total: int, unit: str) -> Iterator[Progress]:
    """Begin a task and end it however the block is left."""
    progress.begin(name, total, unit)
    try:
        yield progress
    finally:
        progress.end()
