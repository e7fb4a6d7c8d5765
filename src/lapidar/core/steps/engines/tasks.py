"""A step as a task for another machine: all that it needs is in a cache that both reach, and so is what comes of it."""

from __future__ import annotations

import hashlib
import time
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from typing import TypeVar

import msgspec

from lapidar.core import atomic, decoding, foreign
from lapidar.core.cache.store import Cache
from lapidar.core.cache.work import LEFT_SECONDS, folder_of_attempts, folder_of_work
from lapidar.core.steps.engines.protocol import Done, How

__all__ = ["KEYS", "Outcome", "Task", "Tasks"]

KEYS = "keys"  # the file of a batch that has them
_ASKED = "asked"  # a folder for each project, with an empty file for each of its tasks
T = TypeVar("T")


class Task(msgspec.Struct, frozen=True):
    """One step that is to be run.

    Attributes:
        name, command, folder, values, results, leave: those of the step, see `DeclaredAnalysis`.
        copy: a tree in the cache: the files of the project that it is run with.
        folders: folders that are there, although nothing in them may be.
        snapshot: that of the environment.
        processors, memory, at_most: what it needs; bytes, 0 where nothing is said; seconds.
        keep: patterns of files that the next attempt is given, where one does not come to its end.
        earlier: the keys of tasks that it begins after, with what they make.
        unless: by what earlier ones make, the digests that the step has results of: where they come out so, it stands.
        record: of these results.
        anew: it is given nothing of what attempts before it left.
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
    keep: tuple[str, ...] = ()
    earlier: tuple[str, ...] = ()
    unless: dict[str, str] = {}
    record: str = ""
    anew: bool = False

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
        record: of the run whose results the step has now.
        how: what became of it.
        attempt: which it was, from 1 on.
    """

    name: str
    error: str = ""
    said: tuple[str, ...] = ()
    seconds: float = 0.0
    node: str = ""
    absent: tuple[str, ...] = ()
    record: str = ""
    how: How = How.RAN
    attempt: int = 1

    def done(self, name: str) -> Done:
        """As whoever asked is told."""
        again = f", at attempt {self.attempt}" if self.attempt > 1 else ""
        notes = (f"it ran on {self.node}{again}",) if self.node and not self.error else ()
        return Done(
            name, self.how, seconds=self.seconds, error=self.error, said=self.said, notes=notes, absent=self.absent
        )


class Tasks:
    """The tasks of a cache, each a folder by its key.

    Args:
        cache: reached by whoever asks and by whoever runs.
    """

    def __init__(self, cache: Cache) -> None:
        self._root, self._kept = folder_of_work(cache), folder_of_attempts(cache)

    def folder(self, key: str) -> Path:
        """Where a task and what came of it lie."""
        return self._root / key

    @property
    def batches(self) -> Path:
        """Where what was handed over together lies: a folder each, with the list of its keys."""
        return self._root / "batches"

    def clean(self) -> None:
        """Remove what is left of batches of which every task is over, and of what nobody came for."""
        for path in (*self._root.glob("*/outcome.json"), *self._kept.glob("*")):
            if time.time() - path.stat().st_mtime > LEFT_SECONDS:
                atomic.remove(path if path.parent == self._kept else path.parent)
        for path in self._root.glob(f"{_ASKED}/*/*"):
            if not self.folder(path.name).is_dir():
                path.unlink(missing_ok=True)
        for folder in (*self._root.glob(f"{_ASKED}/*"), self._root / _ASKED, self._kept):
            with suppress(OSError):
                folder.rmdir()  # where it is empty
        for keys in self.batches.glob(f"*/{KEYS}"):
            if not any(self.folder(key).is_dir() for key in foreign.read_text(keys).split()):
                atomic.remove(keys.parent)

    def put(self, task: Task) -> str:
        """Keep a task; its key. What came of it before is forgotten, but for what an attempt kept for the next."""
        folder = self.folder(task.key)
        atomic.make_folder(folder)
        for name in ("outcome.json", "attempts"):
            (folder / name).unlink(missing_ok=True)
        atomic.write_file(folder / "task.json", msgspec.json.encode(task))
        return task.key

    def under_way(self, project: str) -> dict[str, tuple[str, Task]]:
        """By the names of a project's steps, the tasks that were handed over and are not over, each with its key."""
        return {task.name: (key, task) for key, task, ended in self._of(project) if not ended}

    def asked(self, project: str, key: str) -> None:
        """Note that a task is one of a project's."""
        atomic.make_folder(self._asked(project))
        (self._asked(project) / key).touch()

    def handed_over(self, project: str) -> dict[str, bool]:
        """The steps of a project that were handed over and not taken yet, each with whether it has ended."""
        found: dict[str, bool] = {}
        for _, task, ended in self._of(project):
            found[task.name] = found.get(task.name, True) and ended
        return found

    def over(self, project: str) -> list[str]:
        """The keys of a project's tasks that are over."""
        return [key for key, _, ended in self._of(project) if ended]

    def _of(self, project: str) -> Iterator[tuple[str, Task, bool]]:
        """The tasks of a project that are there, by their keys, each with whether it has ended."""
        for path in self._asked(project).glob("*"):
            task = self.task(path.name)
            if task is not None:
                yield path.name, task, self.outcome(path.name) is not None

    def _asked(self, project: str) -> Path:
        return self._root / _ASKED / hashlib.sha256(project.encode("utf-8", "surrogateescape")).hexdigest()[:32]

    def task(self, key: str) -> Task | None:
        """A task; None where there is none."""
        return self._read(self.folder(key) / "task.json", Task)

    def attempt(self, key: str) -> int:
        """Note that a task is begun; which attempt at it this is, from 1 on."""
        atomic.append_line(self.folder(key) / "attempts", b"begun")
        return len(foreign.read(self.folder(key) / "attempts").splitlines())

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
