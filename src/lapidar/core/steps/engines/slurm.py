"""Slurm as an engine: steps that are due are handed over as arrays of jobs, by its own commands.

Nothing rests on what the controller remembers: a job writes what came of it into the cache; one that is in the queue no
more and wrote nothing was cancelled, or its node died. Whoever asked may end: the same task asked for again is waited
for where it still runs.
"""

from __future__ import annotations

import os
import shlex
import subprocess
import time
from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass

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


@dataclass(frozen=True, slots=True, kw_only=True)
class SlurmOptions:
    """How jobs are handed over.

    Attributes:
        words: further words for ``sbatch``: a partition, an account.
        program: the words that start Lapidar on a node.
        tries: how often a job that came to nothing is handed over in all.
    """

    words: tuple[str, ...] = ()
    program: tuple[str, ...] = ("lapidar",)
    tries: int = 2


@dataclass(slots=True)
class _Running:
    step: Step
    job: str
    tries: int
    gone_since: float = 0.0


class Slurm:
    """See `Engine`.

    Args:
        make: makes a task of a step; what it needs is in the cache then.
        cache: reached by the nodes at the same path.
    """

    is_elsewhere = True

    def __init__(self, make: Callable[[Step], Task], cache: Cache, options: SlurmOptions) -> None:
        self._make, self._cache, self._options = make, cache, options
        self._tasks = Tasks(cache)
        self._due: list[tuple[Step, str, int]] = []  # with the key, and how often it was tried
        self._running: dict[str, _Running] = {}
        self._asked_at = float("-inf")
        self._queue: set[str] = set()

    def submit(self, step: Step) -> bool:
        """Have it handed over with the others; one that is under way since before is waited for."""
        task = self._make(step)
        job = self._tasks.noted(task.key)
        if job and self._tasks.outcome(task.key) is None and job in self._in_queue([job.partition("_")[0]]):
            self._running[task.key] = _Running(step, job, 1)
        else:
            self._due.append((step, self._tasks.put(task), 0))
        return True

    def wait(self) -> Sequence[Done]:
        """Hand over what is due, and wait for the first that ends."""
        self._hand_over()
        while True:
            ended = [done for key in list(self._running) if (done := self._ended(key)) is not None]
            if ended:
                return ended
            self._hand_over()  # what came to nothing, again
            time.sleep(_POLL_SECONDS)

    def cancel(self) -> None:
        """What is under way goes on: the next refresh takes what came of it. Of what ended nothing is left."""
        self._tasks.clean()

    def _ended(self, key: str) -> Done | None:
        running = self._running[key]
        outcome = self._tasks.outcome(key)
        if outcome is not None:
            del self._running[key]
            self._tasks.forget(key)
            return outcome.done(running.step.name)
        if running.job in self._in_queue({one.job.partition("_")[0] for one in self._running.values()}):
            running.gone_since = 0.0
            return None
        running.gone_since = running.gone_since or time.monotonic()
        if time.monotonic() - running.gone_since < _GRACE_SECONDS:
            return None
        del self._running[key]
        if running.tries < self._options.tries:
            self._due.append((running.step, key, running.tries))
            return None
        why = f"the job {running.job} came to nothing: it was cancelled, or its node died"
        said = self._said(running.job)
        self._tasks.forget(key)
        return Done(running.step.name, How.FAILED, error=why, said=said)

    def _said(self, job: str) -> tuple[str, ...]:
        """The last of what a job said."""
        number, _, at = job.partition("_")
        for batch in self._tasks.batches.glob(f"*/{number}-{at}.out"):
            return tuple(batch.read_text("utf-8", "replace").splitlines()[-5:])
        return ()

    # ---- its commands

    def _hand_over(self) -> None:
        due, self._due = self._due, []
        groups: dict[tuple[int, int, float | None], list[tuple[Step, str, int]]] = defaultdict(list)
        for one in due:
            needs = one[0].declared
            groups[needs.processors, needs.memory, needs.at_most].append(one)
        for asks, several in groups.items():
            for part in _parts(several, self._most()):
                number = self._batch([key for _, key, _ in part], *asks)
                for at, (step, key, tries) in enumerate(part):
                    job = f"{number}_{at}"
                    self._tasks.note(key, job)
                    self._running[key] = _Running(step, job, tries + 1)
        self._asked_at = float("-inf") if due else self._asked_at

    def _batch(self, keys: Sequence[str], processors: int, memory: int, at_most: float | None) -> str:
        """Hand tasks over as one array; its number."""
        folder = self._tasks.batches / atomic.random_name()
        atomic.make_folder(folder)
        atomic.write_file(folder / KEYS, "".join(f"{key}\n" for key in keys).encode("ascii"))
        program = shlex.join([*self._options.program, "--cache", str(self._cache.root), "work", str(folder / KEYS)])
        atomic.write_file(folder / "job.sh", f"#!/bin/sh\nexec {program}\n".encode())
        words = [
            "sbatch", "--parsable", "--requeue", "--job-name=lapidar", f"--array=0-{len(keys) - 1}",
            f"--output={folder}/%A-%a.out", f"--cpus-per-task={processors}",
        ]  # fmt: skip
        words += [f"--mem={-(-memory // 1_000_000)}M"] if memory else []
        words += [f"--time={max(1, -(-int(at_most) // 60) + 1)}"] if at_most else []
        return _said_by([*words, *self._options.words, str(folder / "job.sh")]).strip().partition(";")[0]

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

    def _in_queue(self, numbers: Iterable[str]) -> set[str]:
        """The jobs of arrays that are in the queue, each by array and place; asked now and then."""
        if time.monotonic() - self._asked_at > _QUEUE_SECONDS or not self._queue:
            self._queue = set()
            for number in numbers:
                try:
                    told = _said_by(["squeue", "-h", "-r", "-j", number, "-o", "%i"])
                except LapidarError:
                    continue  # it knows it no more
                self._queue |= set(told.split())
            self._asked_at = time.monotonic()
        return self._queue


def _parts(several: Sequence[tuple[Step, str, int]], most: int) -> Iterator[Sequence[tuple[Step, str, int]]]:
    for start in range(0, len(several), most):
        yield several[start : start + most]


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
