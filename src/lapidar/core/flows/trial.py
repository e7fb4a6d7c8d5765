"""Trial: what a snapshot would make of the recorded results, before it becomes the project's own."""

from __future__ import annotations

from pathlib import Path

from lapidar.core import atomic
from lapidar.core.cache.store import Cache
from lapidar.core.errors import LapidarError
from lapidar.core.flows.rerun import Rerun, RerunOptions, rerun
from lapidar.core.flows.restore import RestoreOptions, restore
from lapidar.core.place import Place
from lapidar.core.progress import Progress, Silent
from lapidar.core.records import results
from lapidar.core.records.snapshot import Snapshot

__all__ = ["recorded", "tried"]

_PREFIX = "trial-"


def recorded(place: Place) -> list[str]:
    """The names of the analyses that can be tried.

    Raises:
        LapidarError: there is none.
    """
    path = place.records
    names = [one.name for one in results.read(path).analysis] if path.is_file() else []
    if not names:
        raise LapidarError(
            "There is nothing to try: no analysis is recorded",
            remedy="Record one first: lapidar record NAME -- COMMAND; or leave --try out.",
        )
    return names


def tried(place: Place, cache: Cache, snapshot: Snapshot, reporter: Progress | None = None) -> list[Rerun]:
    """Every recorded analysis, run in an environment that is there only for this; the project is left as it is.

    Args:
        snapshot: its bytes are in the cache. Neither the history nor a lockfile needs to know of it.

    Raises:
        LapidarError: nothing is recorded, what a record needs is lost, or the environment cannot be made.
    """
    names, reporter = recorded(place), reporter or Silent()
    place.make_own_folder()
    with cache.in_use(), atomic.WorkFolder(place.own_folder, _PREFIX) as work:
        made = Path(work.path) / "environment"
        restore(place, cache, snapshot, RestoreOptions(into=made), reporter)
        return [rerun(place, cache, name, RerunOptions(environment=made, quiet=True), reporter) for name in names]
