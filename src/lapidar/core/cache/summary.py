"""Summary: what a cache holds."""

from __future__ import annotations

import os
from dataclasses import dataclass

from lapidar.core.cache.history import HeldByProjects, History, Moment
from lapidar.core.cache.store import Cache
from lapidar.core.records.snapshot import Snapshot

__all__ = ["HistoryEntry", "Summary", "last_moments", "summary"]


@dataclass(frozen=True, slots=True)
class HistoryEntry:
    """A snapshot in the history: when it was captured last, for which lockfile, and whether that holds it still."""

    snapshot: str
    time: float
    lockfile: str
    current: bool


@dataclass(frozen=True, slots=True)
class Summary:
    """What a cache holds. Sizes in bytes; `stands_for` is what its trees would take as separate copies."""

    files: int
    bytes: int
    trees: int
    derived: int
    set_aside: int
    stands_for: int
    snapshots: tuple[HistoryEntry, ...]


def summary(cache: Cache) -> Summary:
    """Count what a cache holds."""
    with cache.in_use():
        files = size = 0
        for entry in cache.all_files():
            files += 1
            size += entry.stat().st_size
        history = History(cache)
        readable = [snapshot for _, snapshot in history.copies() if isinstance(snapshot, Snapshot)]
        return Summary(
            files=files,
            bytes=size,
            trees=sum(1 for _ in cache.all_trees()),
            derived=sum(1 for _ in cache.all_derived()),
            set_aside=len(os.listdir(cache.root / "aside")) if (cache.root / "aside").is_dir() else 0,
            stands_for=sum(part.bytes for snapshot in readable for part in snapshot.parts()),
            snapshots=tuple(last_moments(history, history.held())),
        )


def last_moments(history: History, held: HeldByProjects) -> list[HistoryEntry]:
    """The last moment of every snapshot that the history has a copy of, oldest first."""
    last: dict[str, Moment] = {}
    for moment in history.moments():
        last[moment.snapshot] = moment
    ids = set(history.ids())
    return [
        HistoryEntry(moment.snapshot, moment.time, moment.lockfile, moment.snapshot in held)
        for moment in sorted(last.values(), key=lambda moment: moment.time)
        if moment.snapshot in ids
    ]
