"""Prune: remove what no snapshot of the history and no known project needs. What cannot be read is not deleted: as
long as anything that says what is needed is in doubt, nothing is."""

from __future__ import annotations

import os
import shutil
import time
from collections.abc import Callable, Collection, Iterator
from contextlib import nullcontext
from pathlib import Path
from typing import Protocol

from msgspec import Struct, field

from lapidar.core import atomic
from lapidar.core.cache.contents import trees_of
from lapidar.core.cache.files import digest_of_name, is_cached_file
from lapidar.core.cache.history import HeldByProjects, History
from lapidar.core.cache.runs import Runs
from lapidar.core.cache.store import Cache
from lapidar.core.cache.summary import last_moments
from lapidar.core.cache.trees import EXECUTABLE, LINK
from lapidar.core.cache.work import trees_of_work
from lapidar.core.errors import CacheError
from lapidar.core.records import words
from lapidar.core.records.results import Analysis
from lapidar.core.records.snapshot import Snapshot

__all__ = ["PruneOptions", "Pruned", "prune"]

_ANSWER_DAYS = 60
_DAY_SECONDS = 86_400
_SHOWN = 6


class Pruned(Struct):
    """What a prune removes, or would remove. Sizes in bytes.

    Attributes:
        unknown: why snapshots are kept of which it cannot be known whether a project holds them, by their identities.
        environments: of scripts, asides and calls.
        scripts: that are gone, and are forgotten; what only they need may go in the same prune.
    """

    dropped: list[str] = field(default_factory=list)
    unknown: dict[str, str] = field(default_factory=dict)
    trees: int = 0
    files: int = 0
    bytes: int = 0
    set_aside: int = 0
    environments: int = 0
    scripts: list[str] = field(default_factory=list)
    dry_run: bool = False

    @property
    def nothing(self) -> bool:
        return not (self.dropped or self.trees or self.files or self.set_aside or self.environments or self.scripts)


class Environments(Protocol):
    """The environments that a cache keeps for scripts, asides and calls; see `lapidar.core.flows.near.Near`."""

    def unneeded(self, dropped: Collection[str], days: float | None) -> list[Path]:
        """Those of snapshots that are dropped, and those unused for longer."""

    def remove(self, folder: Path) -> None:
        """Remove one, unless somebody runs in it."""

    def scripts_gone(self, *, forget: bool) -> list[str]:
        """The scripts that are gone."""


class PruneOptions(Struct, frozen=True, kw_only=True):
    """What is to go.

    Attributes:
        history_days: drop snapshots from the history whose last capture is longer ago and that no known
            project's lockfile holds.
        give_up: snapshots to drop in any case, by the first digits of their identities.
        dry_run: only tell.
    """

    history_days: float | None = None
    give_up: Collection[str] = ()
    dry_run: bool = False


def prune(
    cache: Cache,
    options: PruneOptions,
    *,
    waiting: Callable[[], None] | None = None,
    announce: Callable[[Pruned], None] | None = None,
    environments: Environments | None = None,
) -> Pruned:
    """Remove what no snapshot of the history and no known project needs.

    Args:
        waiting: called once where other processes use the cache and are waited for.
        announce: called with what will be removed, before anything is.
        environments: those that the cache keeps.

    Raises:
        CacheError: what the cache says of what is needed cannot be read; nothing was removed.
    """
    if not options.dry_run:
        cache.require_writable()
    with nullcontext() if options.dry_run else cache.alone(waiting):  # who only looks waits for nobody
        scripts = environments.scripts_gone(forget=False) if environments else []
        if environments and scripts and not options.dry_run:
            _Pruning(
                cache, options.history_days, options.give_up
            ).needed()  # is all beyond doubt, before anything goes?
            environments.scripts_gone(forget=True)
        pruning = _Pruning(cache, options.history_days, options.give_up)
        unneeded = environments.unneeded(pruning.dropped, options.history_days) if environments else []
        plan = pruning.run(Pruned(environments=len(unneeded), scripts=scripts, dry_run=options.dry_run), announce)
        if environments and not options.dry_run:
            for one in unneeded:
                environments.remove(one)
        return plan


class _Pruning:
    def __init__(self, cache: Cache, history_days: float | None, give_up: Collection[str]) -> None:
        self.cache = cache
        self.history = History(cache)
        self.doubts: list[str] = []
        self.held = self.history.held()
        self.runs = Runs(cache)
        self.old_runs = set() if history_days is None else self.runs.old(history_days)
        given_up = {self._identity(prefix) for prefix in give_up}
        old = set() if history_days is None else set(self._older(history_days, self.held))
        self.records: dict[str, Analysis] = {}
        self.recorded: set[str] = set()
        self._read_runs()
        # What a record was made with, or somebody has named, is dropped only where it is named.
        self.dropped = old - self.recorded - set(self.history.noted()) | given_up
        self.held.unknown = {one: why for one, why in self.held.unknown.items() if one not in given_up}
        self.held.snapshots = {one: held for one, held in self.held.snapshots.items() if one not in given_up}

    def _read_runs(self) -> None:
        """The records whose trees are kept."""
        for path, copy in self.runs.copies():
            if isinstance(copy, Analysis):
                self.recorded.add(copy.snapshot)
            if self.runs.record_of(path) in self.old_runs:
                continue
            if isinstance(copy, Analysis):
                self.records[copy.record] = copy
            else:
                self.doubts.append(str(copy))
        for record in self.runs.in_projects():
            if isinstance(record, Analysis):
                self.recorded.add(record.snapshot)
                self.records[record.record] = record
            else:
                self.doubts.append(str(record))

    def _identity(self, prefix: str) -> str:
        plain = prefix.removeprefix("sha256:")
        known = {*self.history.ids(), *(moment.snapshot for moment in self.history.moments())}
        matching = [one for one in known if plain and one.removeprefix("sha256:").startswith(plain)]
        if len(matching) == 1:
            return matching[0]
        raise CacheError(
            f"{len(matching) or 'No'} snapshots of the history begin with {prefix!r}",
            remedy="Run `lapidar cache summary` to see which there are.",
        )

    def _older(self, days: float, held: HeldByProjects) -> Iterator[str]:
        limit = time.time() - days * _DAY_SECONDS
        for kept in last_moments(self.history, held):
            if kept.time < limit and not kept.current:
                yield kept.snapshot

    def run(self, plan: Pruned, announce: Callable[[Pruned], None] | None) -> Pruned:
        keep_trees, keep_files = self.needed()
        trees = [digest for digest in self.cache.all_trees() if digest not in keep_trees]
        ours = filter(is_cached_file, self.cache.all_files())  # what is not stays
        files = [entry for entry in ours if digest_of_name(entry.path) not in keep_files]
        aside = self.cache.aside
        plan.dropped, plan.unknown = sorted(self.dropped), self.held.unknown
        plan.trees, plan.files = len(trees), len(files)
        plan.bytes = sum(entry.stat(follow_symlinks=False).st_size for entry in files)
        plan.set_aside = len(os.listdir(aside)) if aside.is_dir() else 0
        if announce:
            announce(plan)
        if not plan.dry_run:
            self._remove(trees, files, keep_trees)
        return plan

    def _remove(self, trees: list[str], files: list[os.DirEntry[str]], keep_trees: set[str]) -> None:
        # From the reader's end to the bytes: no lockfile of the history is ever without its trees, nor a
        # tree without its files, whenever this is stopped.
        if self.dropped:
            self.history.drop(self.dropped)
        for record in self.old_runs:
            self.runs.drop(record)
        _drop_derived(self.cache, keep_trees)
        _drop_assembled(self.cache, set(self.history.ids()))
        _drop_made(self.cache, keep_trees)
        _drop_old_answers(self.cache)
        for digest in trees:
            for path in self.cache.listing_paths(digest):
                path.unlink(missing_ok=True)
        for entry in files:
            Path(entry.path).unlink(missing_ok=True)
        shutil.rmtree(self.cache.aside, ignore_errors=True)
        atomic.sweep(self.cache.root / "staging", "")

    # ---- what is needed, and what of that is in doubt

    def needed(self) -> tuple[set[str], set[tuple[str, bool]]]:
        """The trees and the files that are needed.

        Raises:
            CacheError: something of that is in doubt.
        """
        trees = self._needed_trees()
        files = self._files_of(trees)
        self._refuse_doubts()
        return trees, files

    def _refuse_doubts(self) -> None:
        if not self.doubts:
            return
        shown = self.doubts[:_SHOWN]
        more = [f"and {len(self.doubts) - _SHOWN} more"] if len(self.doubts) > _SHOWN else []
        raise CacheError(
            f"Nothing was removed from {self.cache.root}: what it says of what is needed cannot be read",
            why="\n  ".join(["", *shown, *more]),
            remedy="Run `lapidar cache audit`, which mends what can be mended; then capture what it could not again, "
            "or give a snapshot up with --give-up.",
        )

    def _needed_trees(self) -> set[str]:
        self._read_log()
        snapshots = dict(self.held.snapshots)
        for snapshot_id, copy in self.history.copies():
            if snapshot_id in self.dropped:
                continue
            if isinstance(copy, Snapshot):
                snapshots[snapshot_id] = copy
            elif snapshot_id not in snapshots:
                self.doubts.append(str(copy))
        self._missing_copies(set(snapshots))
        needed = set(trees_of(snapshots.values()))
        needed |= {tree for one in self.records.values() for tree in (one.given, one.made, one.lists) if tree}
        needed |= set(self.runs.listings_in_projects())
        needed |= set(filter(self.cache.has_tree, trees_of_work(self.cache)))
        for source, note in self.cache.all_derived():
            if source not in needed:
                continue
            digest = self.cache.noted_derived(note)
            if digest is None:
                self.doubts.append(f"{note} is damaged")
            else:
                needed.add(digest)
        return needed

    def _read_log(self) -> None:
        try:
            log = self.history.log()
        except OSError as error:
            self.doubts.append(f"the log of the history: {error.strerror}")
            return
        if log.damaged:
            lines = ", ".join(map(str, log.damaged[:_SHOWN]))
            self.doubts.append(f"the log of the history is damaged (line {lines})")

    def _missing_copies(self, there: set[str]) -> None:
        """Snapshots that the log or a project speaks of, and that the history has no copy of."""
        told = {moment.snapshot for moment in self.history.moments()} | set(self.held.unknown)
        known = there | self.dropped | set(self.history.ids())
        for snapshot_id in sorted(told - known):
            self.doubts.append(f"the copy of snapshot {words.short(snapshot_id)} is missing")

    def _files_of(self, trees: set[str]) -> set[tuple[str, bool]]:
        needed: set[tuple[str, bool]] = set()
        for digest in sorted(trees):
            try:
                tree = self.cache.tree(digest)
            except CacheError as error:
                self.doubts.append(str(error))
                continue
            needed.update((entry.content, entry.kind == EXECUTABLE) for entry in tree if entry.kind != LINK)
        return needed


def _drop_derived(cache: Cache, keep: set[str]) -> None:
    for source, note in list(cache.all_derived()):
        if source not in keep:
            note.unlink(missing_ok=True)


def _drop_assembled(cache: Cache, snapshots: set[str]) -> None:
    for path in cache.assemblies.glob("*"):
        if f"sha256:{path.name.partition('-')[0]}" not in snapshots:
            path.unlink(missing_ok=True)


def _drop_made(cache: Cache, keep: set[str]) -> None:
    """The notes of what an archive or a build gave, where its tree goes."""
    for path in cache.made_folder.glob("*/*"):
        made = cache.noted_made(path)
        if made and made.tree not in keep:
            path.unlink(missing_ok=True)


def _drop_old_answers(cache: Cache) -> None:
    """Answers of indexes that nobody asked for in a long time; they can be asked for again."""
    limit = time.time() - _ANSWER_DAYS * _DAY_SECONDS
    for path in cache.answers.glob("*/*"):
        if path.stat().st_mtime < limit:
            path.unlink(missing_ok=True)
