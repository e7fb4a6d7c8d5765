"""Audit: read all of the cache again, mend what can be derived again, and set aside what is bad."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator, Mapping
from contextlib import suppress
from pathlib import Path

from msgspec import Struct, field

from lapidar.core import progress, sealed
from lapidar.core.cache.contents import trees_of
from lapidar.core.cache.digest import sha256_of
from lapidar.core.cache.files import FILE_TIME_NS, digest_of_name, environments_folder, is_cached_file
from lapidar.core.cache.history import History
from lapidar.core.cache.runs import FOLDER, Runs
from lapidar.core.cache.store import FOLDERS, MARK, Cache
from lapidar.core.cache.trees import EXECUTABLE, LINK, Tree
from lapidar.core.cache.work import folder_of_work
from lapidar.core.errors import CacheUnreadable, LapidarError, LockfileError
from lapidar.core.records import lockfile, words
from lapidar.core.records.owner import Owner
from lapidar.core.records.results import RecordUnread
from lapidar.core.records.snapshot import Snapshot

__all__ = ["Audit", "audit"]


class Audit(Struct):
    """What reading the whole cache again found. Bad entries were set aside.

    Attributes:
        corrupt: the paths of bad files, by whose they are; None for what is derived, or of no snapshot.
        missing: the paths of files that trees speak of, and that are not there, likewise.
        bad_trees: the digests of trees whose listing is bad and has no good copy, each with whose it is.
        unreadable: what could not be read now, each with why. It was left where it is: it may be good.
        bad_snapshots: the identities of snapshots whose copy is bad, each with why.
        mended: what was bad and could be had again, a sentence each.
        unknown: what lies in the cache and is none of its things; it was left alone.
    """

    files: int = 0
    bytes: int = 0
    corrupt: dict[Owner | None, list[str]] = field(default_factory=dict)
    missing: dict[Owner | None, list[str]] = field(default_factory=dict)
    bad_trees: dict[str, Owner | None] = field(default_factory=dict)
    bad_snapshots: dict[str, str] = field(default_factory=dict)
    unreadable: dict[str, str] = field(default_factory=dict)
    mended: list[str] = field(default_factory=list)
    unknown: list[str] = field(default_factory=list)

    @property
    def clean(self) -> bool:
        """Whether everything was as it must be."""
        return not (self.lossy or self.mended)

    @property
    def lossy(self) -> bool:
        """Whether something is bad that only its source can bring back."""
        return bool(self.corrupt or self.missing or self.bad_trees or self.bad_snapshots or self.unreadable)


def audit(cache: Cache, reporter: progress.Progress) -> Audit:
    """Read everything again; set bad entries aside, so that they can be stowed, fetched or derived again."""
    cache.require_writable()
    auditing = _Auditing(cache, reporter)
    with cache.in_use():
        auditing.run()
    return auditing.found


class _Auditing:
    def __init__(self, cache: Cache, reporter: progress.Progress) -> None:
        self.cache = cache
        self.reporter = reporter
        self.history = History(cache)
        self.history_runs = Runs(cache)
        self.found = Audit()
        self.bad: set[tuple[str, bool]] = set()

    def run(self) -> None:
        self._strangers()
        self._files()
        self._log()
        snapshots = self._snapshots()
        owners = trees_of(snapshots.values())
        self._runs()
        derived = self._derived()
        trees = self._trees(dict(owners))
        self._trees_files(trees, owners, derived)
        self._notes()

    def _strangers(self) -> None:
        cache = self.cache
        others = (cache.made_folder, cache.answers, cache.forgotten_path, folder_of_work(cache))
        known = {MARK, *FOLDERS, FOLDER, environments_folder(cache.root).name, *(path.name for path in others)}
        for entry in os.scandir(cache.root):
            if entry.name not in known:
                self.found.unknown.append(entry.path)

    def _runs(self) -> None:
        """Copies of records: one that is bad is set aside, and named."""
        for path, copy in self.history_runs.copies():
            if isinstance(copy, RecordUnread):
                self.found.unreadable[str(path)] = copy.why
            elif isinstance(copy, LapidarError):
                self.found.bad_snapshots[f"record {path.stem[:12]}"] = str(copy)
                self.cache.set_aside(str(path))

    # ---- files

    def _files(self) -> None:
        entries = [entry for entry in self.cache.all_files() if self._is_ours(entry)]
        sizes = [entry.stat(follow_symlinks=False).st_size for entry in entries]
        with progress.task(self.reporter, "Reading the cache", sum(sizes), "bytes"):
            for entry, size in zip(entries, sizes, strict=True):
                digest, executable = digest_of_name(entry.path)
                try:
                    sound = _is_sound(entry.path, digest, executable)
                except OSError as error:
                    self.found.unreadable[entry.path] = error.strerror or str(error)
                    continue
                if not sound:
                    self.bad.add((digest, executable))
                    self.cache.set_aside(entry.path)
                self.found.files += 1
                self.found.bytes += size
                self.reporter.advance(size)

    def _is_ours(self, entry: os.DirEntry[str]) -> bool:
        if is_cached_file(entry):
            return True
        self.found.unknown.append(entry.path)
        return False

    # ---- the history

    def _log(self) -> None:
        try:
            damaged = self.history.log().damaged
        except OSError as error:
            self.found.unreadable["the log of the history"] = error.strerror or str(error)
            return
        if damaged:
            self.history.mend_log()
            lines = ", ".join(map(str, damaged))
            self.found.mended.append(f"the log of the history: line {lines} could not be read, and was left out")

    def _snapshots(self) -> dict[str, Snapshot]:
        """The snapshots of the history; a bad copy is written anew from a project's lockfile."""
        found = {}
        held = self.history.held().snapshots
        for snapshot_id, copy in list(self.history.copies()):
            if isinstance(copy, Snapshot):
                found[snapshot_id] = copy
                continue
            if why := _cannot_be_read(self.history.path(snapshot_id)):
                self.found.unreadable[str(self.history.path(snapshot_id))] = why
                continue
            self.cache.set_aside(str(self.history.path(snapshot_id)))
            other = held.get(snapshot_id) or self._elsewhere(snapshot_id)
            if other is None:
                self.found.bad_snapshots[snapshot_id] = copy.why or copy.what
                continue
            self.history.put(other)
            found[snapshot_id] = other
            self.found.mended.append(f"the copy of snapshot {snapshot_id[7:19]}: from a lockfile that holds it")
        for snapshot_id in {moment.snapshot for moment in self.history.moments()} - set(self.history.ids()):
            if snapshot_id in held:
                self.history.put(held[snapshot_id])
                found[snapshot_id] = held[snapshot_id]
                self.found.mended.append(f"the copy of snapshot {snapshot_id[7:19]}: from a lockfile that holds it")
            elif snapshot_id not in self.found.bad_snapshots and not self.found.unreadable:
                self.found.bad_snapshots[snapshot_id] = "its copy is missing"
        return found | held

    def _elsewhere(self, snapshot_id: str) -> Snapshot | None:
        """A snapshot out of any lockfile that ever held it."""
        for place in {moment.lockfile for moment in self.history.moments() if moment.snapshot == snapshot_id}:
            try:
                snapshot = lockfile.read(Path(place))
            except LockfileError:
                continue
            if snapshot.snapshot == snapshot_id:
                return snapshot
        return None

    # ---- trees

    def _derived(self) -> dict[str, Path]:
        """The trees that were derived, each with the note of it; damaged notes are removed: it is derived again."""
        found = {}
        for _, note in list(self.cache.all_derived()):
            digest = self.cache.noted_derived(note)
            if digest is None:
                self._derive_again(note)
            else:
                found[digest] = note
        return found

    def _derive_again(self, note: Path) -> None:
        self.cache.set_aside(str(note))
        told = "byte-code that was damaged: the next restore makes it again"
        if told not in self.found.mended:
            self.found.mended.append(told)

    def _trees(self, wanted: dict[str, Owner | None]) -> dict[str, Tree]:
        """The trees that can be read; of listing and copy a bad one is written anew from the other."""
        found = {}
        for digest in sorted({*self.cache.all_trees(), *self._copies(), *wanted}):
            try:
                tree = self.cache.tree(digest)
            except CacheUnreadable as error:
                self.found.unreadable[str(self.cache.tree_path(digest))] = error.why
                continue
            except LapidarError:
                for path in self.cache.listing_paths(digest):
                    self.cache.set_aside(str(path))
                self.found.bad_trees[digest] = wanted.get(digest)
                continue
            found[digest] = tree
            if not self.cache.holds(tree):
                owner = wanted.get(digest)
                # Whoever wrote it was killed between the two, and nobody has spoken of it yet: nothing was lost.
                halved = owner is None and not all(map(os.path.lexists, self.cache.listing_paths(digest)))
                self.cache.put_tree(tree)
                if halved:
                    continue
                whose = words.owner(owner) if owner else f"tree {digest[7:19]}"
                self.found.mended.append(f"the listing of {whose}: from its other copy")
        return found

    def _copies(self) -> Iterator[str]:
        for path in (self.cache.root / "trees").glob("*/*.copy"):
            yield f"sha256:{path.parent.name}{path.name.removesuffix('.copy')}"

    def _trees_files(self, trees: dict[str, Tree], owners: Mapping[str, Owner], derived: dict[str, Path]) -> None:
        """Whose the bad and the missing files are. A tree that was derived is derived again."""
        for digest, note in derived.items():
            if digest in self.found.bad_trees:
                if self.found.bad_trees[digest] is None:
                    del self.found.bad_trees[digest]
                self._derive_again(note)
        for digest, tree in trees.items():
            bad, missing = [], []
            for entry in tree:
                if entry.kind == LINK:
                    continue
                if (entry.content, entry.kind == EXECUTABLE) in self.bad:
                    bad.append(entry.path)
                elif not os.path.lexists(self.cache.entry_path(entry)):
                    missing.append(entry.path)
            if not bad and not missing:
                continue
            if digest in derived and digest not in owners:
                self._derive_again(derived[digest])
                continue
            if bad:
                self.found.corrupt.setdefault(owners.get(digest), []).extend(bad)
            if missing and digest in owners:  # what no snapshot stands for may lack files
                self.found.missing.setdefault(owners[digest], []).extend(missing)
        told = {key for tree in trees.values() for entry in tree for key in [(entry.content, entry.kind == EXECUTABLE)]}
        stray = sorted(digest for digest, executable in self.bad if (digest, executable) not in told)
        if stray:
            self.found.corrupt.setdefault(None, []).extend(stray)

    # ---- what only saves work

    def _notes(self) -> None:
        """Notes and tables with a seal: a damaged one is removed, and what it saved is done again."""
        damaged = 0
        for pattern in ("seen/*", "made/*/*", "assembled/*"):
            for path in self.cache.root.glob(pattern):
                if not path.name.startswith(".") and path.is_file() and sealed.read(path) is None:
                    self.cache.set_aside(str(path))
                    damaged += 1
        if damaged:
            told = "1 short cut" if damaged == 1 else f"{damaged} short cuts"
            self.found.mended.append(f"{told}: what was saved is done again when it is needed")


def _protect(path: str, mode: int, executable: bool) -> None:
    """Take away again what lets somebody write a cached file."""
    if stat.S_IMODE(mode) & 0o222:
        with suppress(OSError):
            os.chmod(path, (mode & 0o444) | ((mode & 0o444) >> 2 if executable else 0))


def _is_sound(path: str, digest: str, executable: bool) -> bool:
    """Whether a cached file has its bytes, its time, and the mode that protects it."""
    try:
        status = os.lstat(path)
        if status.st_mtime_ns != FILE_TIME_NS or not stat.S_ISREG(status.st_mode):
            return False
        _protect(path, status.st_mode, executable)
        return sha256_of(path) == digest
    except FileNotFoundError:
        return True  # pruned meanwhile


def _cannot_be_read(path: Path) -> str:
    """Why a file cannot be read now; "" where it can."""
    try:
        with open(path, "rb") as stream:
            stream.read()
    except FileNotFoundError:
        return ""
    except OSError as error:
        return error.strerror or str(error)
    return ""
