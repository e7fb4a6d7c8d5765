"""Restore: lockfile and cache -> environment, with no network call."""

from __future__ import annotations

import errno
import os
import time
from collections.abc import Collection
from pathlib import Path

import msgspec

from lapidar.core import atomic
from lapidar.core.cache.placing import Placement
from lapidar.core.cache.store import Cache
from lapidar.core.cache.trees import LINK, Tree
from lapidar.core.environment import assemblies, marker
from lapidar.core.environment.build import Builder
from lapidar.core.environment.listing import Assembled
from lapidar.core.environment.whose import PRIVATE, whose_libraries
from lapidar.core.errors import LapidarError, MissingFromCache, TargetRefused, from_os_error
from lapidar.core.flows import check
from lapidar.core.progress import Progress, Silent
from lapidar.core.project import Project
from lapidar.core.records import selection
from lapidar.core.records.snapshot import Snapshot

__all__ = ["Restored", "restore"]


class Restored(msgspec.Struct, frozen=True):
    """What came of a restore.

    Attributes:
        already: whether the environment was there and matched, and nothing was done.
        replaced: whether an older one was replaced.
        compiled: how many trees had their byte-code compiled for the first time.
        bytes: the size of all files placed.
        libraries: whose system libraries it runs with: its own (``private``) or the ``host``'s.
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
    libraries: str = "host"


def restore(
    project: Project,
    cache: Cache,
    snapshot: Snapshot,
    *,
    into: Path | None = None,
    placement: Placement = Placement.AUTO,
    left_out: Collection[str] = (),
    libraries: str = "auto",
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
        left_out: groups that are not restored.
        libraries: whose system libraries it is to run with: ``private`` (the snapshot's), ``host`` or ``auto``.
        verify: read every byte in the cache first; otherwise sizes and times vouch for them.
        reporter: hears of progress.

    Raises:
        MissingFromCache: the cache lacks files or holds altered ones; nothing was placed.
        TargetRefused: the folder holds something that Lapidar did not make.
        LapidarError: the snapshot is of another kind of machine; the libraries asked for cannot be had; the disk is
            full ...
    """
    began = time.monotonic()
    reporter = reporter or Silent()
    _same_kind_of_machine(snapshot)
    snapshot = selection.without(snapshot, left_out)
    target = Path(os.path.abspath(into)) if into else project.environment
    libraries, notes = whose_libraries(snapshot, libraries, target)
    _refuse_foreign(target)
    atomic.sweep(target.parent, _work_prefix(target))  # what a killed restore left, also where nothing is to do
    with cache.in_use():
        there = marker.read(target)
        if verify:
            _trees(cache, snapshot, True, reporter)
        if there and there.libraries == libraries and _matches(snapshot, target, there, placement):
            return Restored(
                target, snapshot, there.placement, 0, 0, 0, True, False, (), time.monotonic() - began, libraries
            )
        try:
            if not into:
                project.make_own_folder()
            target.parent.mkdir(parents=True, exist_ok=True)
            with atomic.WorkFolder(target.parent, _work_prefix(target)) as work:
                way = os.path.relpath(project.root, target)
                builder = Builder(cache, work.path, placement, reporter, tuple(left_out), libraries)
                building = _Building(cache, snapshot, way, builder)
                assembled = building.run(derive=verify)
                _refuse_foreign(target)
                replaced = _put_in_place(work.path, target)
        except OSError as error:
            raise from_os_error(error, f"restore into {target}") from error
    return Restored(
        environment=target,
        snapshot=snapshot,
        placement=str(building.builder.placement),
        files=len(assembled.listing),
        bytes=assembled.listing.total_bytes,
        compiled=building.compiled,
        already=False,
        replaced=replaced,
        warnings=(*notes, *building.warnings),
        libraries=libraries,
        seconds=time.monotonic() - began,
    )


def _work_prefix(target: Path) -> str:
    return f".{target.name}.lapidar-"


def _same_kind_of_machine(snapshot: Snapshot) -> None:
    system = os.uname()
    here = (system.sysname.lower(), system.machine)
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


def _matches(snapshot: Snapshot, target: Path, there: marker.Marker, placement: Placement) -> bool:
    if there.snapshot != snapshot.snapshot or placement not in (Placement.AUTO, there.placement):
        return False
    return not check.judge_environment(snapshot, target)


def _put_in_place(new: Path, target: Path) -> bool:
    """Make the new folder the target in one step; what was there comes to lie where the new one was built.

    Returns:
        Whether something was there (another restore may have put it there since we began).
    """
    try:
        os.rename(new, target)  # also onto an empty folder
        return False
    except OSError as error:
        if error.errno not in (errno.ENOTEMPTY, errno.EEXIST):
            raise
    atomic.exchange(new, target)
    return True


class _Building:
    """Builds the environment of a snapshot: as it was kept from an earlier time, or derived from the trees."""

    def __init__(self, cache: Cache, snapshot: Snapshot, way_to_project: str, builder: Builder) -> None:
        self.cache = cache
        self.snapshot = snapshot
        self.way_to_project = way_to_project
        self.builder = builder
        self.warnings: list[str] = []
        self.compiled = 0

    def run(self, *, derive: bool) -> Assembled:
        """Build it.

        Args:
            derive: take nothing that was kept.
        """
        local = any(package.origin.folders for package in self.snapshot.package)
        key = f"{self.builder.libraries}\n{self.way_to_project if local else ''}\n{self._hosts_options()}"
        assembled = None if derive else assemblies.kept(self.cache, self.snapshot.snapshot, key)
        if assembled is None or not self.builder.place(assembled):
            assembled = self._derived()
            if self.cache.writable:
                assemblies.keep(self.cache, self.snapshot.snapshot, key, assembled)
        self.builder.finish(assembled, self.snapshot)
        return assembled

    def _hosts_options(self) -> str:
        """With the host's libraries, the launchers follow from what the host's loader can do."""
        if self.builder.libraries == PRIVATE:
            return ""
        from lapidar.core.environment.launchers import LOADER
        from lapidar.core.system.loader import options_of

        return " ".join(sorted(options_of(LOADER)))

    def _derived(self) -> Assembled:
        from lapidar.core.environment import assemble
        from lapidar.core.languages.python.bytecode import Compiler

        trees = _trees(self.cache, self.snapshot, False, self.builder.reporter)
        plan, missing = assemble.derive(self.snapshot, trees, self.cache, self.way_to_project, self.builder.libraries)
        assembled = plan.assembled(self.snapshot)
        self._place(assembled)
        if missing and not self.cache.writable:
            self.warnings.append("The cache is read-only: byte-code was not placed, so first imports take longer")
        elif missing:
            # It is compiled by the runtime that was just placed.
            compiler = Compiler(self.cache, self.snapshot.only_runtime, self.builder.work / "bin" / "python")
            assemble.add_bytecode(plan, self.snapshot, compiler.compile(missing, self.builder.reporter))
            self.compiled = len(missing)
            assembled = plan.assembled(self.snapshot)
            self._place(assembled)
        return assembled

    def _place(self, assembled: Assembled) -> None:
        if not self.builder.place(assembled):
            raise MissingFromCache(
                "The cache changed while it was read", remedy="Run the same command again, or `lapidar cache audit`."
            )
