"""A step as a task for another machine: all that it needs is in a cache that both reach, and so is what comes of it."""

from __future__ import annotations

import hashlib
from pathlib import Path
from typing import TypeVar

import msgspec

from lapidar.core import atomic, decoding, foreign
from lapidar.core.cache.store import Cache
from lapidar.core.steps.engines.protocol import Done, How

__all__ = ["KEYS", "Outcome", "Task", "Tasks"]

_FOLDER = "work"  # in the cache
KEYS = "keys"  # the file of a batch that has them
T = TypeVar("T")


class Task(msgspec.Struct, frozen=True):
    """One step that is to be run.

    Attributes:
        name, command, folder, values, results, leave: those of the step, see `DeclaredAnalysis`.
        copy: a tree in the cache: the files of the project that it is run with.
        folders: folders that are there, although nothing in them may be.
        snapshot: that of the environment.
        processors, memory, at_most: what it needs; bytes, 0 where nothing is said; seconds.
    """

    name: str
    command: tuple[str, ...]
    folder: str
    copy: str
    snapshot: str
    folders: tuple[str, ...] = ()
    values: dict[str, str] = {}
    results: tuple[str, ...] = ()
    leave: tuple[str, ...] = ()
    processors: int = 1
    memory: int = 0
    at_most: float | None = None

    @property
    def key(self) -> str:
        """What the task is known by: the same task has the same key, whoever asks for it."""
        return hashlib.sha256(msgspec.json.encode(self, order="deterministic")).hexdigest()


class Outcome(msgspec.Struct, frozen=True):
    """What came of a task.

    Attributes:
        error: why it failed; "" where it ran, and its run is in the cache.
        said: the last of what it said on standard error.
        absent: paths below the project that one which failed looked for in vain.
        seconds: how long it took.
        node: the name of the machine.
    """

    name: str
    error: str = ""
    said: tuple[str, ...] = ()
    seconds: float = 0.0
    node: str = ""
    absent: tuple[str, ...] = ()

    def done(self, name: str) -> Done:
        """As whoever asked is told."""
        notes = (f"it ran on {self.node}",) if self.node and not self.error else ()
        how = How.FAILED if self.error else How.RAN
        return Done(name, how, seconds=self.seconds, error=self.error, said=self.said, notes=notes, absent=self.absent)


class Tasks:
    """The tasks of a cache, each a folder by its key.

    Args:
        cache: reached by whoever asks and by whoever runs.
    """

    def __init__(self, cache: Cache) -> None:
        self._root = cache.root / _FOLDER

    def folder(self, key: str) -> Path:
        """Where a task and what came of it lie."""
        return self._root / key

    @property
    def batches(self) -> Path:
        """Where what was handed over together lies: a folder each, with the list of its keys."""
        return self._root / "batches"

    def clean(self) -> None:
        """Remove what is left of batches of which every task is over."""
        for keys in self.batches.glob(f"*/{KEYS}"):
            if not any(self.folder(key).is_dir() for key in foreign.read_text(keys).split()):
                atomic.remove(keys.parent)

    def put(self, task: Task) -> str:
        """Keep a task; its key. What came of it before is forgotten."""
        folder = self.folder(task.key)
        atomic.make_folder(folder)
        (folder / "outcome.json").unlink(missing_ok=True)
        atomic.write_file(folder / "task.json", msgspec.json.encode(task))
        return task.key

    def task(self, key: str) -> Task | None:
        """A task; None where there is none."""
        return self._read(self.folder(key) / "task.json", Task)

    def end(self, key: str, outcome: Outcome) -> None:
        """Say what came of a task: whole, or not at all."""
        atomic.replace_file(self.folder(key) / "outcome.json", msgspec.json.encode(outcome))

    def outcome(self, key: str) -> Outcome | None:
        """What came of it; None where it has not ended."""
        return self._read(self.folder(key) / "outcome.json", Outcome)

    def forget(self, key: str) -> None:
        """It is over, and what came of it was taken."""
        atomic.remove(self.folder(key))

    def note(self, key: str, text: str) -> None:
        """Note where it runs."""
        atomic.replace_file(self.folder(key) / "runs-at", text.encode("utf-8"))

    def noted(self, key: str) -> str:
        """Where it runs; "" where that is not noted."""
        try:
            return foreign.read_text(self.folder(key) / "runs-at")
        except (OSError, ValueError):
            return ""

    @staticmethod
    def _read(path: Path, kind: type[T]) -> T | None:
        try:
            return decoding.from_json(foreign.read(path), kind)
        except (OSError, ValueError):
            return None
