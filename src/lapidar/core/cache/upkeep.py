"""Looking after the cache: summary, audit, prune."""

from __future__ import annotations

import os
import shutil
import time
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from pathlib import Path

from lapidar.core import atomic, progress
from lapidar.core.cache.digest import sha256_of
from lapidar.core.cache.history import History, Moment
from lapidar.core.cache.store import FILE_TIME_NS, Cache, digest_of_name
from lapidar.core.cache.trees import LINK, Tree
from lapidar.core.errors import LapidarError
from lapidar.core.records import lockfile
from lapidar.core.records.snapshot import Snapshot

__all__ = ["Audit", "Pruned", "Summary", "audit", "prune", "summary"]

_ANSWER_DAYS = 60
_DAY_SECONDS = 86_400


# ---- summary


@dataclass(frozen=True, slots=True)
class Kept:
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
    bytecode: int
    set_aside: int
    stands_for: int
    snapshots: tuple[Kept, ...]


def summary(cache: Cache) -> Summary:
    """Count what a cache holds."""
    with cache.in_use():
        files = size = 0
        for entry in cache.all_files():
            files += 1
            size += entry.stat().st_size
        kept = _kept(History(cache))
        return Summary(
            files=files,
            bytes=size,
            trees=sum(1 for _ in cache.all_trees()),
            bytecode=sum(1 for _ in cache.all_bytecode()),
            set_aside=len(os.listdir(cache.root / "aside")) if (cache.root / "aside").is_dir() else 0,
            stands_for=sum(_stands_for(snapshot) for _, snapshot in _snapshots(History(cache))),
            snapshots=tuple(kept),
        )


def _kept(history: History) -> list[Kept]:
    last: dict[str, Moment] = {}
    for moment in history.moments():
        last[moment.snapshot] = moment
    current = {snapshot.snapshot for snapshot in _current(history.moments()).values()}
    ids = set(history.ids())
    return [
        Kept(moment.snapshot, moment.time, moment.lockfile, moment.snapshot in current)
        for moment in sorted(last.values(), key=lambda moment: moment.time)
        if moment.snapshot in ids
    ]


def _stands_for(snapshot: Snapshot) -> int:
    return (
        sum(runtime.bytes for runtime in snapshot.runtime)
        + sum(package.bytes for package in snapshot.package)
        + sum(rest.bytes for rest in snapshot.remainder)
    )


def _snapshots(history: History) -> Iterable[tuple[str, Snapshot]]:
    for snapshot_id in history.ids():
        try:
            yield snapshot_id, lockfile.read(history.path(snapshot_id))
        except LapidarError:
            continue


def _current(moments: list[Moment]) -> dict[str, Snapshot]:
    """The snapshots that the lockfiles of known projects hold now."""
    found = {}
    for path in {moment.lockfile for moment in moments}:
        try:
            found[path] = lockfile.read(Path(path))
        except LapidarError:
            continue
    return found


# ---- audit


@dataclass(slots=True)
class Audit:
    """What reading the whole cache again found: the bad entries, which were set aside, and whose they were."""

    files: int = 0
    bytes: int = 0
    corrupt: dict[str, list[str]] = field(default_factory=dict)
    bad_trees: list[str] = field(default_factory=list)

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
    owners = {digest: label for _, snapshot in _snapshots(History(cache)) for label, digest in snapshot.trees()}
    for digest in list(cache.all_trees()):
        try:
            tree = cache.tree(digest)
        except LapidarError:
            cache.set_aside(str(cache.tree_path(digest)))
            found.bad_trees.append(owners.get(digest, digest))
            continue
        paths = [entry.path for entry in tree if (entry.content, entry.kind == "x") in bad and entry.kind != LINK]
        if paths:
            found.corrupt.setdefault(owners.get(digest, "byte-code, or of no snapshot"), []).extend(paths)


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
        keep_files = _needed_files(cache, keep_trees)
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
        _drop_bytecode(cache, keep_trees)
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
    return [kept.snapshot for kept in _kept(history) if kept.time < limit and not kept.current]


def _needed_trees(cache: Cache, history: History, dropped: set[str]) -> set[str]:
    needed = {
        digest
        for snapshot_id, snapshot in _snapshots(history)
        if snapshot_id not in dropped
        for _, digest in snapshot.trees()
    }
    for snapshot in _current(history.moments()).values():
        needed.update(digest for _, digest in snapshot.trees())
    for source, note in cache.all_bytecode():
        if source in needed:
            needed.add(note.read_text("ascii").strip())
    return needed


def _needed_files(cache: Cache, trees: set[str]) -> set[tuple[str, bool]]:
    needed = set()
    for digest in trees:
        for entry in _tree_or_empty(cache, digest):
            if entry.kind != LINK:
                needed.add((entry.content, entry.kind == "x"))
    return needed


def _tree_or_empty(cache: Cache, digest: str) -> Tree:
    try:
        return cache.tree(digest)
    except LapidarError:
        return Tree(())


def _drop_bytecode(cache: Cache, keep: set[str]) -> None:
    for source, note in list(cache.all_bytecode()):
        if source not in keep:
            note.unlink(missing_ok=True)


def _drop_assembled(cache: Cache, snapshots: set[str]) -> None:
    for path in (cache.root / "assembled").glob("*"):
        if f"sha256:{path.name.partition('-')[0]}" not in snapshots:
            path.unlink(missing_ok=True)


def _drop_made(cache: Cache, keep: set[str]) -> None:
    """The notes of what came of a wheel or a build whose tree goes."""
    for path in (cache.root / "made").glob("*/*"):
        if path.read_text("utf-8", "replace").partition("\n")[0] not in keep:
            path.unlink(missing_ok=True)


def _drop_old_answers(cache: Cache) -> None:
    """Answers of indexes that nobody asked for in a long time; they can be asked for again."""
    limit = time.time() - _ANSWER_DAYS * _DAY_SECONDS
    for path in (cache.root / "index").glob("*/*"):
        if path.stat().st_mtime < limit:
            path.unlink(missing_ok=True)
