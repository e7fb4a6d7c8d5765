"""Looking after the cache: summary, audit, prune."""

from __future__ import annotations

import os
import shutil
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

from lapidar.core import atomic, progress
from lapidar.core.cache.contents import files_of, trees_of
from lapidar.core.cache.digest import sha256_of
from lapidar.core.cache.history import History, Moment
from lapidar.core.cache.store import FILE_TIME_NS, Cache, digest_of_name
from lapidar.core.cache.trees import LINK
from lapidar.core.errors import LapidarError
from lapidar.core.records import lockfile
from lapidar.core.records.owner import Owner
from lapidar.core.records.snapshot import Snapshot

__all__ = ["Audit", "Pruned", "Summary", "audit", "prune", "summary"]

_ANSWER_DAYS = 60
_DAY_SECONDS = 86_400


# ---- summary


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
        kept = _entries(History(cache))
        return Summary(
            files=files,
            bytes=size,
            trees=sum(1 for _ in cache.all_trees()),
            derived=sum(1 for _ in cache.all_derived()),
            set_aside=len(os.listdir(cache.root / "aside")) if (cache.root / "aside").is_dir() else 0,
            stands_for=sum(part.bytes for snapshot in _snapshots(History(cache)).values() for part in snapshot.parts()),
            snapshots=tuple(kept),
        )


def _entries(history: History) -> list[HistoryEntry]:
    last: dict[str, Moment] = {}
    for moment in history.moments():
        last[moment.snapshot] = moment
    current = history.current()
    ids = set(history.ids())
    return [
        HistoryEntry(moment.snapshot, moment.time, moment.lockfile, moment.snapshot in current)
        for moment in sorted(last.values(), key=lambda moment: moment.time)
        if moment.snapshot in ids
    ]


def _snapshots(history: History) -> dict[str, Snapshot]:
    """The snapshots of the history that can be read, by their identities."""
    found = {}
    for snapshot_id in history.ids():
        try:
            found[snapshot_id] = lockfile.read(history.path(snapshot_id))
        except LapidarError:
            continue
    return found


# ---- audit


@dataclass(slots=True)
class Audit:
    """What reading the whole cache again found: the bad entries, which were set aside.

    Attributes:
        corrupt: the paths of bad files, by whose they are; None for what is derived, or of no snapshot.
        bad_trees: the digests of trees whose listing is bad, each with whose it is.
    """

    files: int = 0
    bytes: int = 0
    corrupt: dict[Owner | None, list[str]] = field(default_factory=dict)
    bad_trees: dict[str, Owner | None] = field(default_factory=dict)

    @property
    def clean(self) -> bool:
        return not self.corrupt and not self.bad_trees


def audit(cache: Cache, reporter: progress.Progress) -> Audit:
    """Read everything again; set bad entries aside, so that they can be stowed or fetched again."""
    cache.require_writable()
    found = Audit()
    with cache.in_use():
        entries = list(cache.all_files())
        bad: set[tuple[str, bool]] = set()
        sizes = [entry.stat().st_size for entry in entries]
        with progress.task(reporter, "Reading the cache", sum(sizes), "bytes"):
            for entry, size in zip(entries, sizes, strict=True):
                digest, executable = digest_of_name(entry.path)
                if not _is_sound(entry.path, digest):
                    bad.add((digest, executable))
                    cache.set_aside(entry.path)
                found.files += 1
                found.bytes += size
                reporter.advance(size)
        _audit_trees(cache, bad, found)
    return found


def _is_sound(path: str, digest: str) -> bool:
    try:
        status = os.stat(path)
    except FileNotFoundError:
        return True  # pruned meanwhile
    if status.st_mtime_ns != FILE_TIME_NS:
        return False
    return sha256_of(path) == digest


def _audit_trees(cache: Cache, bad: set[tuple[str, bool]], found: Audit) -> None:
    owners = trees_of(_snapshots(History(cache)).values())
    for digest in list(cache.all_trees()):
        try:
            tree = cache.tree(digest)
        except LapidarError:
            cache.set_aside(str(cache.tree_path(digest)))
            found.bad_trees[digest] = owners.get(digest)
            continue
        paths = [entry.path for entry in tree if (entry.content, entry.kind == "x") in bad and entry.kind != LINK]
        if paths:
            found.corrupt.setdefault(owners.get(digest), []).extend(paths)


# ---- prune


@dataclass(slots=True)
class Pruned:
    """What a prune removes, or would remove. Sizes in bytes."""

    dropped: list[str] = field(default_factory=list)
    trees: int = 0
    files: int = 0
    bytes: int = 0
    set_aside: int = 0
    dry_run: bool = False

    @property
    def nothing(self) -> bool:
        return not (self.dropped or self.trees or self.files or self.set_aside)


def prune(
    cache: Cache,
    *,
    history_days: float | None = None,
    dry_run: bool = False,
    waiting: Callable[[], None] | None = None,
    announce: Callable[[Pruned], None] | None = None,
) -> Pruned:
    """Remove what no snapshot of the history and no known project needs.

    Args:
        history_days: drop snapshots from the history whose last capture is longer ago and that no known
            project's lockfile holds.
        dry_run: only tell.
        waiting: called once where other processes use the cache and are waited for.
        announce: called with what will be removed, before anything is.
    """
    cache.require_writable()
    with cache.alone(waiting):
        history = History(cache)
        plan = Pruned(dry_run=dry_run)
        plan.dropped = _to_drop(history, history_days)
        keep_trees = _needed_trees(cache, history, set(plan.dropped))
        trees = [digest for digest in cache.all_trees() if digest not in keep_trees]
        keep_files = files_of(cache, keep_trees)
        files = [entry for entry in cache.all_files() if digest_of_name(entry.path) not in keep_files]
        aside = cache.root / "aside"
        plan.trees, plan.files = len(trees), len(files)
        plan.bytes = sum(entry.stat().st_size for entry in files)
        plan.set_aside = len(os.listdir(aside)) if aside.is_dir() else 0
        if announce:
            announce(plan)
        if dry_run:
            return plan
        # From the reader's end to the bytes: no lockfile of the history is ever without its trees, nor a
        # tree without its files, whenever this is stopped.
        if plan.dropped:
            history.drop(set(plan.dropped))
        _drop_derived(cache, keep_trees)
        _drop_assembled(cache, set(history.ids()))
        _drop_made(cache, keep_trees)
        _drop_old_answers(cache)
        for digest in trees:
            cache.tree_path(digest).unlink(missing_ok=True)
        for entry in files:
            Path(entry.path).unlink(missing_ok=True)
        shutil.rmtree(aside, ignore_errors=True)
        atomic.sweep(cache.root / "staging", "")
    return plan


def _to_drop(history: History, days: float | None) -> list[str]:
    if days is None:
        return []
    limit = time.time() - days * _DAY_SECONDS
    return [kept.snapshot for kept in _entries(history) if kept.time < limit and not kept.current]


def _needed_trees(cache: Cache, history: History, dropped: set[str]) -> set[str]:
    kept = {name: one for name, one in _snapshots(history).items() if name not in dropped}
    needed = set(trees_of((kept | history.current()).values()))
    for source, note in cache.all_derived():
        if source in needed:
            needed.add(note.read_text("ascii").strip())
    return needed


def _drop_derived(cache: Cache, keep: set[str]) -> None:
    for source, note in list(cache.all_derived()):
        if source not in keep:
            note.unlink(missing_ok=True)


def _drop_assembled(cache: Cache, snapshots: set[str]) -> None:
    for path in (cache.root / "assembled").glob("*"):
        if f"sha256:{path.name.partition('-')[0]}" not in snapshots:
            path.unlink(missing_ok=True)


def _drop_made(cache: Cache, keep: set[str]) -> None:
    """The notes of what an archive or a build gave, where its tree goes."""
    for path in (cache.root / "made").glob("*/*"):
        if path.read_text("utf-8", "replace").partition("\n")[0] not in keep:
            path.unlink(missing_ok=True)


def _drop_old_answers(cache: Cache) -> None:
    """Answers of indexes that nobody asked for in a long time; they can be asked for again."""
    limit = time.time() - _ANSWER_DAYS * _DAY_SECONDS
    for path in (cache.root / "index").glob("*/*"):
        if path.stat().st_mtime < limit:
            path.unlink(missing_ok=True)
