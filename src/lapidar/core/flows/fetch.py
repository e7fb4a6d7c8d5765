"""Fetch what the cache lacks of a snapshot, each package from the origin that its lockfile names."""

from __future__ import annotations

from lapidar.core import languages
from lapidar.core.cache.store import Cache
from lapidar.core.declaring import reading
from lapidar.core.progress import Progress
from lapidar.core.project import Project
from lapidar.core.records.snapshot import Snapshot

__all__ = ["fetch_missing"]


def fetch_missing(project: Project, cache: Cache, snapshot: Snapshot, reporter: Progress) -> list[str]:
    """Fetch the packages of a snapshot that the cache lacks. Only hosts that the project or the user's configuration
    names are asked.

    Returns:
        The names of what was fetched.

    Raises:
        MissingFromCache: something has no origin to fetch it from, or what comes is not what the lockfile says.
        IndexTrouble: an index cannot be used, or is not configured.
    """
    declaration = reading.read(project)
    fetched = []
    for name in snapshot.languages:
        fetched += languages.of(name).fetch_missing(project, cache, snapshot, declaration, reporter)
    return fetched
