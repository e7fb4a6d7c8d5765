"""Names of distributions that people are likely to mean: those of the snapshots in the cache, and a dated list of
well-known ones, which ships with the program."""

from __future__ import annotations

from importlib import resources

from lapidar.core.cache.history import History
from lapidar.core.cache.store import Cache
from lapidar.core.records.snapshot import Snapshot

__all__ = ["listed", "of_cache"]


def listed() -> list[str]:
    """The bundled names, the most used first."""
    text = resources.files(__package__).joinpath("well_known.txt").read_text("utf-8")
    return [line for line in text.splitlines() if not line.startswith("#")]


def of_cache(cache: Cache | None) -> list[str]:
    """The names that snapshots in the cache have."""
    if cache is None:
        return []
    snapshots = (one for _, one in History(cache).copies() if isinstance(one, Snapshot))
    return list(dict.fromkeys(package.name for snapshot in snapshots for package in snapshot.packages))
