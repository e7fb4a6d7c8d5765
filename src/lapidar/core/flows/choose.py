"""Which snapshot is meant."""

from __future__ import annotations

from pathlib import Path

from lapidar.core.cache.store import Cache
from lapidar.core.environment.folder import Environment
from lapidar.core.project import Project
from lapidar.core.records import lockfile, selection
from lapidar.core.records.snapshot import Snapshot

__all__ = ["placed_snapshot", "read_snapshot"]


def read_snapshot(project: Project, cache: Cache | None, lock: Path | None, snapshot_id: str | None) -> Snapshot:
    """The snapshot that is meant: from the history by its identity, else from a lockfile.

    Raises:
        LockfileError: there is none.
    """
    if snapshot_id and cache:
        from lapidar.core.cache.history import History

        return History(cache).find(snapshot_id)
    return lockfile.read(lock or project.lockfile)


def placed_snapshot(cache: Cache, environment: Environment, locked: Snapshot) -> Snapshot:
    """The snapshot that an environment is to be judged by: the lockfile's, but where another one was asked for, and
    the history knows it, that."""
    mark = environment.marker
    if mark is None or not mark.chosen:
        return locked
    from lapidar.core.cache.history import History

    for _, one in History(cache).copies():
        if isinstance(one, Snapshot) and selection.without(one, mark.left_out).snapshot == mark.snapshot:
            return one
    return locked
