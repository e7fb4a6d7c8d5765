"""Slurm as an engine: steps that are due are handed over as arrays of jobs, by its own commands.

Nothing rests on what the controller remembers: a job writes what came of it into the cache; one that is in the queue no
more and wrote nothing was cancelled, or its node died. A job that begins after others looks for what they made in the
cache too. Whoever asked may end: the same step asked for again is waited for where it still runs.
"""

from __future__ import annotations

import os
import shlex
import subprocess
import time
from collections import defaultdict
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence

from msgspec import Struct

from lapidar.core import atomic
from lapidar.core.cache.store import Cache
from lapidar.core.errors import LapidarError
from lapidar.core.steps.engines.protocol import Done, How
from lapidar.core.steps.engines.tasks import KEYS, Task, Tasks
from lapidar.core.steps.graph import Step

__all__ = ["Slurm", "SlurmOptions"]

_POLL_SECONDS = 0.5
_QUEUE_SECONDS = 3.0  # between two questions to the controller
_GRACE_SECONDS = 10.0  # for what a job wrote to be seen here, once it is in the queue no more
_MOST_IN_ARRAY = 1000  # where the controller does not say


class SlurmOptions(Struct, frozen=True, kw_only=True):
    """How jobs are handed over.

    Attributes:
        words: further words for ``sbatch``: a partition, an account.
        program: the words that start Lapidar on a node.
        tries: how often a job that came to nothing is handed over in all.
    """

    words: tuple[str, ...] = ()
    program: tuple[str, ...] = ("lapidar",)
    tries: int = 2


class _Needs(Struct, frozen=True):
    """What jobs of one array have in common: what they are given, and the arrays that they begin after."""

    processors: int
    memory: int
    at_most: float | None
    after: tuple[str, ...]

    def words(self) -> list[str]:
        """As ``sbatch`` is told. What begins after a job that failed looks for itself, and ends at once."""
        words = [f"--cpus-per-task={self.processors}"]
        words += [f"--mem={-(-self.memory // 1_000_000)}M"] if self.memory else []
        words += [f"--time={max(1, -(-int(self.at_most) // 60) + 1)}"] if self.at_most else []
        words += [f"--dependency=afterany:{':'.join(self.after)}"] if self.after else []
        return words


class _Asked(Struct):
    """A step that was asked for.

    Attributes:
        key: of its task. earlier: those of the tasks that it begins after.
        job: where it runs, by array and place; "" before it was handed over.
        tries: how often it was handed over.
        gone_since: when it was first seen in the queue no more, by the monotonic clock.
    """

    step: Step
    key: str
    earlier: tuple[str, ...] = ()
    job: str = ""
    tries: int = 0
    gone_since: float = 0.0


class Slurm:
    """See `Engine`.

    Args:
        make: makes a task of a step, with the keys of those that it begins after; what it needs is in the cache then.
        project: what this one is known by among all that use the cache.
        cache: reached by the nodes at the same path.
    """

    is_elsewhere = True

    def __init__(
        self,
        make: Callable[[Step, Mapping[str, str]], Task],
        project: str,
        cache: Cache,
        options: SlurmOptions,
    ) -> None:
        self._make, self._project, self._cache, self._options = make, project, cache, options
        self._tasks = Tasks(cache)
        self._asked: dict[str, _Asked] = {}  # by key
        self._keys: dict[str, str] = {}  # by the names of steps
        self._before = self._tasks.under_way(project)
        self._over: set[str] = set()  # the keys of those that are over, and that others may begin after
        self._asked_at = float("-inf")
        self._queue: set[str] = set()
        self._told: set[str] = set()  # the arrays that the queue was asked about

    def submit(self, step: Step, earlier: Collection[str] = ()) -> bool:
        """Have it handed over with the others; what is under way of it since before is waited for."""
        task = self._make(step, {name: self._keys[name] for name in earlier})
        asked = self._under_way(step, task)
        if asked is None:
            asked = _Asked(step, self._tasks.put(task), task.earlier)
            self._tasks.asked(self._project, asked.key)
        self._asked[asked.key], self._keys[step.name] = asked, asked.key
        return True

    def _under_way(self, step: Step, task: Task) -> _Asked | None:
        """The same, handed over before and in the queue still."""
        key, before = self._before.pop(step.name, ("", None))
        job = self._tasks.noted(key) if before is not None and _is_same(before, task) else ""
        if before is None or not job or job not in self._in_queue([_array(job)]):
            return None
        return _Asked(step, key, before.earlier, job, 1)

    def wait(self) -> Sequence[Done]:
        """Hand over what is due, and wait for the first that ends."""
        while True:
            self.hand_over()
            queue = self._in_queue(_array(one.job) for one in self._asked.values() if one.job)
            ended = [done for one in list(self._asked.values()) if (done := self._ended(one, queue)) is not None]
            if ended:
                return ended
            time.sleep(_POLL_SECONDS)

    def cancel(self) -> None:
        """What is under way goes on: the next refresh takes what came of it. Of what ended nothing is left."""
        needed = {key for one in self._asked.values() for key in one.earlier}
        for key in {*self._over, *self._tasks.over(self._project)} - needed - self._asked.keys():
            self._tasks.forget(key)
        self._tasks.clean()

    def _ended(self, asked: _Asked, queue: Collection[str]) -> Done | None:
        outcome = self._tasks.outcome(asked.key)
        if outcome is not None:
            return self._closed(asked, outcome.done(asked.step.name))
        if not asked.job or asked.job in queue:
            asked.gone_since = 0.0
            return None
        asked.gone_since = asked.gone_since or time.monotonic()
        if time.monotonic() - asked.gone_since < _GRACE_SECONDS:
            return None
        if asked.tries < self._options.tries:
            asked.job = ""  # once more
            return None
        why = f"the job {asked.job} came to nothing: it was cancelled, or its node died or does not reach the cache"
        return self._closed(asked, Done(asked.step.name, How.FAILED, error=why, said=self._said(asked.job)))

    def _closed(self, asked: _Asked, done: Done) -> Done:
        del self._asked[asked.key]
        self._over.add(asked.key)
        return done

    def _said(self, job: str) -> tuple[str, ...]:
        """The last of what a job said."""
        number, _, at = job.partition("_")
        for batch in self._tasks.batches.glob(f"*/{number}-{at}.out"):
            return tuple(batch.read_text("utf-8", "replace").splitlines()[-5:])
        return ()

    # ---- its commands

    def hand_over(self) -> None:
        """Hand over what is due, all that ask for the same as one array; what begins after others after these."""
        while True:
            groups: dict[_Needs, list[_Asked]] = defaultdict(list)
            for one in self._asked.values():
                if not one.job and all(self._job(key) for key in one.earlier):
                    groups[self._needs(one)].append(one)
            if not groups:
                return
            most = self._most()
            for needs, several in groups.items():
                for start in range(0, len(several), most):
                    self._batch(needs, several[start : start + most])
            self._asked_at = float("-inf")

    def _job(self, key: str) -> str:
        """Where a task runs, or ran."""
        return self._asked[key].job if key in self._asked else self._tasks.noted(key) or "0"

    def _needs(self, one: _Asked) -> _Needs:
        asks = one.step.declared
        arrays = {_array(self._job(key)) for key in one.earlier if key in self._asked}
        return _Needs(asks.processors, asks.memory, asks.at_most, tuple(sorted(arrays)))

    def _batch(self, needs: _Needs, several: Sequence[_Asked]) -> None:
        """Hand tasks over as one array."""
        folder = self._tasks.batches / atomic.random_name()
        atomic.make_folder(folder)
        atomic.write_file(folder / KEYS, "".join(f"{one.key}\n" for one in several).encode("ascii"))
        program = shlex.join([*self._options.program, "--cache", str(self._cache.root), "work", str(folder / KEYS)])
        atomic.write_file(folder / "job.sh", f"#!/bin/sh\nexec {program}\n".encode())
        words = [
            "sbatch", "--parsable", "--requeue", "--job-name=lapidar", f"--array=0-{len(several) - 1}",
            f"--output={folder}/%A-%a.out", *needs.words(),
        ]  # fmt: skip
        said = _said_by([*words, *self._options.words, str(folder / "job.sh")])
        number = said.strip().partition(";")[0]
        for at, one in enumerate(several):
            one.job, one.tries, one.gone_since = f"{number}_{at}", one.tries + 1, 0.0
            self._tasks.note(one.key, one.job)

    def _most(self) -> int:
        """How many jobs an array may have."""
        try:
            for line in _said_by(["scontrol", "show", "config"]).splitlines():
                name, _, value = line.partition("=")
                if name.strip() == "MaxArraySize":
                    return max(1, int(value) - 1)
        except (LapidarError, ValueError):
            pass
        return _MOST_IN_ARRAY

    def _of_array(self, number: str) -> set[str]:
        """The jobs of an array that are in the queue; of a controller that does not answer all are taken to be."""
        try:
            return set(_said_by(["squeue", "-h", "-r", "-j", number, "-o", "%i"]).split())
        except LapidarError as error:
            if _UNKNOWN_JOB in str(error).lower():
                return set()
            return {one.job for one in self._asked.values() if _array(one.job) == number}

    def _in_queue(self, numbers: Iterable[str]) -> set[str]:
        """The jobs of arrays that are in the queue, each by array and place; asked now and then."""
        wanted = set(numbers)
        is_old = time.monotonic() - self._asked_at > _QUEUE_SECONDS or not self._queue
        if is_old or not wanted <= self._told:
            self._queue, self._told = set(), wanted | (set() if is_old else self._told)
            for number in self._told:
                self._queue |= self._of_array(number)
            self._asked_at = time.monotonic()
        return self._queue


_UNKNOWN_JOB = "invalid job id"  # what squeue says of one that the controller knows no more


def _array(job: str) -> str:
    """The array that a job is of."""
    return job.partition("_")[0]


def _is_same(one: Task, other: Task) -> bool:
    """Whether two tasks run the same; of those that begin after others what they are given shows when they ended."""
    parts = [(task.command, task.folder, task.snapshot, task.values) for task in (one, other)]
    return parts[0] == parts[1] and bool(one.copy == other.copy or one.earlier or other.earlier)


def _said_by(words: Sequence[str]) -> str:
    """What one of Slurm's commands says.

    Raises:
        LapidarError: it is not here, or it fails.
    """
    try:
        done = subprocess.run(words, capture_output=True, text=True, check=False, env={**os.environ, "LC_ALL": "C"})
    except OSError as error:
        raise LapidarError(
            f"{words[0]} cannot be run", why=error.strerror or str(error), remedy="Go to a machine that submits jobs."
        ) from error
    if done.returncode:
        raise LapidarError(
            f"{words[0]} failed",
            why=done.stderr.strip() or f"exit code {done.returncode}",
            remedy="Look at the engine's options in your configuration, and whether the batch system answers: sinfo.",
        )
    return done.stdout
