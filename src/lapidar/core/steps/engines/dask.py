"""A scheduler of dask.distributed as an engine: the same tasks, each with the key that it has in the cache."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from typing import Any

import msgspec

from lapidar._version import VERSION
from lapidar.core.cache.store import Cache
from lapidar.core.errors import LapidarError
from lapidar.core.steps.engines.protocol import Done, How
from lapidar.core.steps.engines.tasks import Outcome, Task
from lapidar.core.steps.graph import Step

__all__ = ["Dask"]

_KEY = "lapidar-"  # before the key that a task has in the cache


class Dask:
    """See `Engine`.

    Args:
        make: makes a task of a step, with the keys of those that it begins after; what it needs is in the cache then.
        cache: reached by the workers at the same path.
        address: of the scheduler.
        run: runs a task: it is given the cache's folder, the task and the outcomes of those before it as JSON, and
            gives the outcome as JSON.

    Raises:
        LapidarError: the library is not here, nobody answers at the address, or workers have another version.
    """

    is_elsewhere = True

    def __init__(
        self,
        make: Callable[[Step, Mapping[str, str]], Task],
        cache: Cache,
        address: str,
        run: Callable[..., bytes],
    ) -> None:
        try:
            from distributed import Client
        except ImportError as error:
            raise LapidarError("dask.distributed is not here", remedy="Install lapidar[dask].") from error
        try:
            self._client = Client(address, timeout="10s", set_as_default=False)
        except OSError as error:
            raise LapidarError(
                f"No scheduler answers at {address}",
                why=str(error),
                remedy="Start it, and name the address that it says: --on tcp://HOST:PORT.",
            ) from error
        self._make, self._cache, self._run = make, cache, run
        self._running: dict[Any, Step] = {}
        others = {one for one in self._client.run(_version).values() if one != VERSION}
        if others:
            raise LapidarError(
                f"Workers at {address} have Lapidar {', '.join(sorted(others))}, and here it is {VERSION}",
                remedy="Have the same version on all of them.",
            )

    def submit(self, step: Step, earlier: Collection[str] = ()) -> bool:
        """Hand it over. It goes on where this process ends: what came of it is in the cache."""
        from distributed import fire_and_forget

        before = {one.name: future for future, one in self._running.items() if one.name in earlier}
        task = self._make(step, {name: future.key.removeprefix(_KEY) for name, future in before.items()})
        words = (str(self._cache.root), msgspec.json.encode(task), *before.values())
        future = self._client.submit(self._run, *words, key=f"{_KEY}{task.key}", retries=1)
        with self._client.as_current():
            fire_and_forget(future)
        self._running[future] = step
        return True

    def wait(self) -> Sequence[Done]:
        """Wait for the first."""
        from distributed import wait

        with self._client.as_current():
            ended = wait(list(self._running), return_when="FIRST_COMPLETED").done
        return [self._done(future, self._running.pop(future)) for future in ended]

    def hand_over(self) -> None:
        """All that was asked for is with the scheduler already."""

    def cancel(self) -> None:
        """The connection is closed; what is under way goes on."""
        self._client.close()

    @staticmethod
    def _done(future: Any, step: Step) -> Done:
        error = future.exception()
        if error is not None:
            return Done(step.name, How.FAILED, error=f"its worker: {type(error).__name__}: {error}")
        outcome = msgspec.json.decode(future.result(), type=Outcome)
        return outcome.done(step.name)


def _version() -> str:
    from lapidar._version import VERSION

    return VERSION
