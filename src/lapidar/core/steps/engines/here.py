"""This machine, as an engine."""

from __future__ import annotations

import os
from collections.abc import Callable, Collection, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait

from lapidar.core.steps.engines.protocol import Done
from lapidar.core.steps.graph import Step

__all__ = ["Here"]


class Here:
    """This machine: as many steps at a time as there are processors, but for those that need more.

    Args:
        work: runs a step; in a thread.
        jobs: how many at a time; as many as there are processors, where it is 0.
    """

    is_elsewhere = False

    def __init__(self, work: Callable[[Step], Done], jobs: int = 0) -> None:
        self._work = work
        self._processors = jobs or len(os.sched_getaffinity(0))
        self._memory = os.sysconf("SC_PHYS_PAGES") * os.sysconf("SC_PAGE_SIZE")
        self._pool = ThreadPoolExecutor(max_workers=self._processors)
        self._running: dict[Future[Done], Step] = {}

    def submit(self, step: Step, earlier: Collection[str] = ()) -> bool:
        """Begin it, where what it needs is free; one that needs more than there is runs alone."""
        asks = step.declared
        if self._running and (asks.processors > self._processors or asks.memory > self._memory):
            return False
        self._processors -= asks.processors
        self._memory -= asks.memory
        self._running[self._pool.submit(self._work, step)] = step
        return True

    def wait(self) -> Sequence[Done]:
        """Wait for the first."""
        ended, _ = wait(self._running, return_when=FIRST_COMPLETED)
        for future in ended:
            asks = self._running.pop(future).declared
            self._processors += asks.processors
            self._memory += asks.memory
        return [future.result() for future in ended]

    def hand_over(self) -> None:
        """Nothing goes on without this process."""

    def cancel(self) -> None:
        """Runs end with this process; what waits is not begun."""
        self._pool.shutdown(wait=False, cancel_futures=True)
