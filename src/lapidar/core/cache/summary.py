"""Summary: what a cache holds."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

from msgspec import Struct

from lapidar.core.cache.history import HeldByProjects, History, Moment
from lapidar.core.cache.store import Cache
from lapidar.core.place import Place
from lapidar.core.records.snapshot import Snapshot

__all__ = ["HistoryEntry", "ProjectUse", "SnapshotSize", "Summary", "last_moments", "summary"]


class HistoryEntry(Struct, frozen=True):
    """A snapshot in the history: when it was captured last, for which lockfile, and whether that holds it still."""

    snapshot: str
    time: float
    lockfile: str
    current: bool


class SnapshotSize(Struct, frozen=True):
    """What a snapshot stands for, and how much of that no other snapshot has; in bytes."""

    bytes: int
    own: int


class ProjectUse(Struct, frozen=True):
    """What a project that is known here takes beside the cache, in bytes, without what is linked from it.

    Attributes:
        folder: the project's.
        snapshots: how many of its snapshots the history has.
        stands_for: what these stand for, each part once.
        environment: its restored environment.
        reruns: environments that records were run again in.
    """

    folder: str
    snapshots: int
    stands_for: int
    environment: int
    reruns: int


class Summary(Struct, frozen=True):
    """What a cache holds. Sizes in bytes; `stands_for` is what its trees would take as separate copies."""

    files: int
    bytes: int
    trees: int
    derived: int
    set_aside: int
    stands_for: int
    snapshots: tuple[HistoryEntry, ...]
    sizes: Mapping[str, SnapshotSize]
    projects: tuple[ProjectUse, ...]


def summary(cache: Cache) -> Summary:
    """Count what a cache holds."""
    with cache.in_use():
        files = size = 0
        for entry in cache.all_files():
            files += 1
            size += entry.stat().st_size
        history = History(cache)
        readable = [snapshot for _, snapshot in history.copies() if isinstance(snapshot, Snapshot)]
        last = last_moments(history, history.held())
        return Summary(
            files=files,
            bytes=size,
            trees=sum(1 for _ in cache.all_trees()),
            derived=sum(1 for _ in cache.all_derived()),
            set_aside=len(os.listdir(cache.aside)) if cache.aside.is_dir() else 0,
            stands_for=sum(part.bytes for snapshot in readable for part in snapshot.parts()),
            snapshots=tuple(last),
            sizes=_sizes(readable),
            projects=tuple(_projects(history.moments(), {one.snapshot: one for one in readable})),
        )


def _sizes(snapshots: Sequence[Snapshot]) -> dict[str, SnapshotSize]:
    users = Counter(tree for one in snapshots for tree in {part.tree for part in one.parts()})
    return {
        one.snapshot: SnapshotSize(
            sum(part.bytes for part in one.parts()), sum(part.bytes for part in one.parts() if users[part.tree] == 1)
        )
        for one in snapshots
    }


def _projects(moments: Sequence[Moment], snapshots: Mapping[str, Snapshot]) -> Iterator[ProjectUse]:
    by_folder: dict[Path, set[str]] = {}
    for moment in moments:
        if moment.snapshot in snapshots:
            by_folder.setdefault(Place.of_lockfile(Path(moment.lockfile)).root, set()).add(moment.snapshot)
    for folder, several in sorted(by_folder.items()):
        if folder.is_dir():
            place = Place.of_project(folder)
            parts = {part.tree: part.bytes for one in several for part in snapshots[one].parts()}
            reruns = _taken(place.own_folder / "reruns")
            yield ProjectUse(str(folder), len(several), sum(parts.values()), _taken(place.environment), reruns)


def _taken(folder: Path) -> int:
    """The bytes of the files below a folder that are nobody's else."""
    taken = 0
    for place, _, names in os.walk(folder):
        for name in names:
            status = os.lstat(os.path.join(place, name))
            taken += status.st_size if status.st_nlink == 1 else 0
    return taken


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
