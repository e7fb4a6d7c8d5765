"""Which snapshot is meant."""

from __future__ import annotations

from pathlib import Path

from lapidar.core.cache.store import Cache
from lapidar.core.project import Project
from lapidar.core.records import lockfile
from lapidar.core.records.snapshot import Snapshot

__all__ = ["read_snapshot"]


def read_snapshot(project: Project, cache: Cache, lock: Path | None, snapshot_id: str | None) -> Snapshot:
    """The snapshot that is meant: from the history by its identity, else from a lockfile.

    Raises:
        LockfileError: there is none.
    """
    if snapshot_id:
        from lapidar.core.cache.history import History

        return History(cache).find(snapshot_id)
    return lockfile.read(lock or project.lockfile)
