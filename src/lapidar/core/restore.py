"""Restore: lockfile and cache -> environment, with no network call."""

from __future__ import annotations

import os
import platform
import time
from dataclasses import dataclass
from pathlib import Path

from lapidar.core import atomic, check, lockfile
from lapidar.core.bytecode import Compiler, bytecode_of
from lapidar.core.cache import placing
from lapidar.core.cache.history import History
from lapidar.core.cache.placing import Placement
from lapidar.core.cache.store import FILE_TIME_NS, Cache
from lapidar.core.cache.trees import EXECUTABLE, LINK, Tree
from lapidar.core.environment import assemble, manifest, marker
from lapidar.core.errors import LapidarError, MissingFromCache, TargetRefused, from_os_error
from lapidar.core.progress import Progress, Silent
from lapidar.core.project import Project
from lapidar.core.snapshot import Snapshot

__all__ = ["Restored", "restore"]


@dataclass(frozen=True, slots=True)
class Restored:
    """What came of a restore.

    Attributes:
        already: whether the environment was there and matched, and nothing was done.
        replaced: whether an older one was replaced.
        compiled: how many trees had their byte-code compiled for the first time.
        bytes: the size of all files placed.
    """

    environment: Path
    snapshot: Snapshot
    placement: str
    files: int
    bytes: int
    compiled: int
    already: bool
    replaced: bool
    warnings: tuple[str, ...]
    seconds: float


def restore(
    project: Project,
    cache: Cache,
    snapshot: Snapshot,
    *,
    into: Path | None = None,
    placement: Placement = Placement.AUTO,
    verify: bool = False,
    reporter: Progress | None = None,
) -> Restored:
    """Build the environment of a snapshot from the cache alone.

    Args:
        project: gets the environment in its `.lapidar/env` unless `into` is given; local packages point into it.
        cache: has the bytes.
        snapshot: what to restore.
        into: the folder to make; an environment that Lapidar made there before is replaced in one step.
        placement: how files get there.
        verify: read every byte in the cache first; otherwise sizes and times vouch for them.
        reporter: hears of progress.

    Raises:
        MissingFromCache: the cache lacks files or holds altered ones; nothing was placed.
        TargetRefused: the folder holds something that Lapidar did not make.
        LapidarError: the snapshot is of another kind of machine; the disk is full ...
    """
    began = time.monotonic()
    reporter = reporter or Silent()
    _same_kind_of_machine(snapshot)
    target = Path(os.path.abspath(into)) if into else project.environment
    _refuse_foreign(target)
    atomic.sweep(target.parent, _work_prefix(target))  # what a killed restore left, also where nothing is to do
    with cache.in_use():
        trees = _trees(cache, snapshot, verify, reporter)
        there = marker.read(target)
        if there and _matches(cache, snapshot, target, there, placement):
            return _already(target, snapshot, there, began)
        try:
            if not into:
                project.make_own_folder()
            target.parent.mkdir(parents=True, exist_ok=True)
            with atomic.WorkFolder(target.parent, _work_prefix(target)) as work:
                built = _Builder(cache, snapshot, trees, work.path, target, project, reporter).build(placement)
                _refuse_foreign(target)
                replaced = _put_in_place(work.path, target)
        except OSError as error:
            raise from_os_error(error, f"restore into {target}") from error
    return Restored(
        environment=target,
        snapshot=snapshot,
        placement=str(built.placement),
        files=built.files,
        bytes=built.bytes,
        compiled=built.compiled,
        already=False,
        replaced=replaced,
        warnings=tuple(built.warnings),
        seconds=time.monotonic() - began,
    )


def _work_prefix(target: Path) -> str:
    return f".{target.name}.lapidar-"


def _same_kind_of_machine(snapshot: Snapshot) -> None:
    here = (platform.system().lower(), platform.machine())
    captured = (snapshot.platform.system, snapshot.platform.machine)
    if here != captured:
        raise LapidarError(
            f"The snapshot is for {' '.join(captured)}, and this machine is {' '.join(here)}",
            remedy="Restore it on a machine of its kind (an emulated one will do).",
        )


def _refuse_foreign(target: Path) -> None:
    if not os.path.lexists(target):
        return
    if not target.is_dir() or target.is_symlink():
        raise TargetRefused(f"{target} is not a folder", remedy="Name another folder with --into.")
    if marker.read(target) is None and any(target.iterdir()):
        raise TargetRefused(
            f"{target} is not empty, and not an environment that lapidar made",
            why=f"it has no {marker.FILE_NAME} of lapidar",
            remedy="Name another folder with --into, or move this one away. Nothing was changed.",
        )


def _trees(cache: Cache, snapshot: Snapshot, verify: bool, reporter: Progress) -> dict[str, Tree]:
    """All trees of a snapshot, once it is sure that the cache has every byte of them.

    Raises:
        MissingFromCache: it names every package that is incomplete.
    """
    trees: dict[str, Tree] = {}
    flawed: dict[str, list[str]] = {}
    for label, digest in snapshot.trees():
        try:
            tree = trees[digest] = cache.tree(digest)
        except LapidarError as error:
            flawed[label] = [str(error)]
            continue
        for entry in tree:
            if entry.kind != LINK and (flaw := cache.flaw(entry)):
                flawed.setdefault(label, []).append(f"{entry.path} ({flaw})")
    if verify and not flawed:
        for finding in check.judge_cache(snapshot, cache, deep=True, reporter=reporter):
            flawed[finding.name] = [f"{path} ({finding.problem})" for path in finding.paths]
    if flawed:
        raise MissingFromCache(
            f"The cache at {cache.root} cannot restore this snapshot, and nothing was placed",
            why=_tell(flawed),
            remedy="Run `lapidar cache audit` to set bad entries aside, then capture the original environment "
            "again, or name a cache that is whole with --cache.",
        )
    return trees


def _tell(flawed: dict[str, list[str]]) -> str:
    lines = []
    for label, flaws in flawed.items():
        more = f", and {len(flaws) - 3} more" if len(flaws) > 3 else ""
        lines.append(f"{label}: {', '.join(flaws[:3])}{more}")
    return "\n  ".join(["", *lines])


def _matches(cache: Cache, snapshot: Snapshot, target: Path, there: marker.Marker, placement: Placement) -> bool:
    if there.snapshot != snapshot.snapshot or placement not in (Placement.AUTO, there.placement):
        return False
    return not check.judge_environment(snapshot, target, cache)


def _already(target: Path, snapshot: Snapshot, there: marker.Marker, began: float) -> Restored:
    return Restored(
        environment=target,
        snapshot=snapshot,
        placement=there.placement,
        files=0,
        bytes=0,
        compiled=0,
        already=True,
        replaced=False,
        warnings=(),
        seconds=time.monotonic() - began,
    )


def _put_in_place(new: Path, target: Path) -> bool:
    """Make the new folder the target in one step; what was there comes to lie where the new one was built."""
    if target.exists():
        had_content = any(target.iterdir())
        atomic.exchange(new, target)
        return had_content
    os.rename(new, target)
    return False


class _Builder:
    """Builds one environment in a work folder."""

    def __init__(
        self,
        cache: Cache,
        snapshot: Snapshot,
        trees: dict[str, Tree],
        work: Path,
        target: Path,
        project: Project,
        reporter: Progress,
    ) -> None:
        self.cache = cache
        self.snapshot = snapshot
        self.trees = trees
        self.work = work
        self.reporter = reporter
        self.plan = assemble.assemble(snapshot, trees, cache, os.path.relpath(project.root, target))
        self.folders: set[str] = {""}
        self.warnings: list[str] = []
        self.compiled = 0
        self.placement = Placement.COPY

    @property
    def files(self) -> int:
        return len(self.plan.items)

    @property
    def bytes(self) -> int:
        return sum(item.entry.bytes for item in self.plan.items.values())

    def build(self, placement: Placement) -> _Builder:
        os.chmod(self.work, 0o755)
        sample = next(entry for entry in self.trees[self.snapshot.only_runtime.tree] if entry.kind != LINK)
        self.placement = placing.choose(
            self.cache,
            self.work,
            placement,
            placing.File(self.cache.entry_path(sample), "", sample.bytes, sample.kind == EXECUTABLE),
        )
        compiled, missing = self._known_bytecode()
        assemble.add_bytecode(self.plan, self.snapshot, compiled)
        self._place(set())
        if missing:
            self._compile(missing)
        self._finish()
        return self

    def _known_bytecode(self) -> tuple[dict[str, Tree], dict[str, Tree]]:
        """The byte-code the cache has, and the trees it has none of."""
        known = {}
        missing = {}
        for digest, tree in self.trees.items():
            found = bytecode_of(self.cache, self.snapshot.only_runtime, digest)
            if found is not None:
                known[digest] = found
            else:
                missing[digest] = tree
        return known, missing

    def _compile(self, missing: dict[str, Tree]) -> None:
        if not self.cache.writable:
            self.warnings.append("The cache is read-only: byte-code was not placed, so first imports take longer")
            return
        before = set(self.plan.items)
        compiler = Compiler(self.cache, self.snapshot.only_runtime, self.work / "bin" / "python")
        assemble.add_bytecode(self.plan, self.snapshot, compiler.compile(missing, self.reporter))
        self.compiled = len(missing)
        self._place(before)

    def _place(self, done: set[str]) -> None:
        """Place every item of the plan that is not done."""
        files, links, generated = [], [], []
        for path, item in self.plan.items.items():
            if path in done:
                continue
            self._make_folder(path.rpartition("/")[0])
            if item.data is not None:
                generated.append((path, item))
            elif item.entry.kind == LINK:
                links.append((path, item.entry.content))
            else:
                entry = item.entry
                source = self.cache.entry_path(entry)
                files.append(placing.File(source, path, entry.bytes, entry.kind == EXECUTABLE))
        placing.place(files, self.work, self.placement, self.reporter)
        for path, link_target in links:
            os.symlink(link_target, f"{self.work}/{path}")
        for path, item in generated:
            self._write(path, item)

    def _make_folder(self, folder: str) -> None:
        if folder in self.folders:
            return
        self._make_folder(folder.rpartition("/")[0])
        os.mkdir(f"{self.work}/{folder}")
        self.folders.add(folder)

    def _write(self, path: str, item: assemble.Item) -> None:
        mode = 0o777 if item.entry.kind == EXECUTABLE else 0o666
        descriptor = os.open(f"{self.work}/{path}", os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, mode)
        with open(descriptor, "wb") as stream:
            stream.write(item.data or b"")
            stream.flush()
            os.utime(descriptor, ns=(FILE_TIME_NS, FILE_TIME_NS))  # so that an edit shows here too

    def _finish(self) -> None:
        """Write what the environment says of itself, last, and have all of it on the disk."""
        data, digest = manifest.render(self._manifest())
        (self.work / manifest.FILE_NAME).write_bytes(data)
        executable = os.path.basename(self.snapshot.only_runtime.executable)
        mark = marker.Marker(marker.FORMAT, self.snapshot.snapshot, str(self.placement), executable, digest)
        (self.work / marker.FILE_NAME).write_text(mark.render(), encoding="utf-8")
        atomic.flush_file_system(self.work)

    def _manifest(self) -> manifest.Manifest:
        owners: dict[str, int] = {}
        placed = []
        linked = self.placement is Placement.HARDLINK
        for path, item in self.plan.items.items():
            entry = item.entry
            cached = item.data is None and entry.kind != LINK
            inode = os.lstat(f"{self.work}/{path}").st_ino if linked and cached else manifest.GENERATED
            owner = owners.setdefault(item.owner, len(owners))
            placed.append(manifest.Placed(path, owner, entry.kind, entry.content, entry.bytes, inode, cached))
        wanted = [package.name for package in self.snapshot.package if package.wanted]
        return manifest.Manifest(list(owners), placed, wanted)


def read_snapshot(project: Project, cache: Cache, lock: Path | None, snapshot_id: str | None) -> Snapshot:
    """The snapshot that is meant: from the history by its identity, else from a lockfile.

    Raises:
        LockfileError: there is none.
    """
    if snapshot_id:
        return History(cache).find(snapshot_id)
    return lockfile.read(lock or project.lockfile)
