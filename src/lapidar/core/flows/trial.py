"""Trial: what a snapshot would make of the recorded results, before it becomes the project's own."""

from __future__ import annotations

from pathlib import Path

from lapidar.core import atomic
from lapidar.core.cache.store import Cache
from lapidar.core.errors import LapidarError
from lapidar.core.flows.rerun import Rerun, RerunOptions, rerun
from lapidar.core.flows.restore import RestoreOptions, restore
from lapidar.core.progress import Progress, Silent
from lapidar.core.project import Project
from lapidar.core.records import results
from lapidar.core.records.snapshot import Snapshot

__all__ = ["recorded", "tried"]

_PREFIX = "trial-"


def recorded(project: Project) -> list[str]:
    """The names of the analyses that can be tried.

    Raises:
        LapidarError: there is none.
    """
    path = project.root / results.FILE_NAME
    names = [one.name for one in results.read(path).analysis] if path.is_file() else []
    if not names:
        raise LapidarError(
            "There is nothing to try: no analysis is recorded",
            remedy="Record one first: lapidar record NAME -- COMMAND; or leave --try out.",
        )
    return names


def tried(project: Project, cache: Cache, snapshot: Snapshot, reporter: Progress | None = None) -> list[Rerun]:
    """Every recorded analysis, run in an environment that is there only for this; the project is left as it is.

    Args:
        snapshot: its bytes are in the cache. Neither the history nor a lockfile needs to know of it.

    Raises:
        LapidarError: nothing is recorded, what a record needs is lost, or the environment cannot be made.
    """
    names, reporter = recorded(project), reporter or Silent()
    project.make_own_folder()
    with cache.in_use(), atomic.WorkFolder(project.own_folder, _PREFIX) as work:
        place = Path(work.path) / "environment"
        restore(project, cache, snapshot, RestoreOptions(into=place), reporter)
        return [rerun(project, cache, name, RerunOptions(environment=place, quiet=True), reporter) for name in names]
