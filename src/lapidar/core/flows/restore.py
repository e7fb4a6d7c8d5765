"""Restore: lockfile and cache -> environment, with no network call."""

from __future__ import annotations

import errno
import os
import time
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec
from msgspec import Struct, field
from msgspec.structs import replace

from lapidar.core import atomic
from lapidar.core.cache.contents import lacking
from lapidar.core.cache.placing import Placement
from lapidar.core.cache.store import Cache
from lapidar.core.environment import marker
from lapidar.core.environment.build import EnvironmentBuilder
from lapidar.core.environment.folder import Environment
from lapidar.core.environment.layout import ToProject
from lapidar.core.environment.linked import unlinked
from lapidar.core.environment.marker import WhoseLibraries
from lapidar.core.environment.status import Walking
from lapidar.core.errors import LapidarError, LockfileError, TargetRefused, from_os_error
from lapidar.core.flows import compare
from lapidar.core.place import Place
from lapidar.core.progress import Progress, Silent
from lapidar.core.records import lockfile, selection, words
from lapidar.core.records.lockfile import identity_in
from lapidar.core.records.snapshot import Snapshot
from lapidar.core.restored.building import Building
from lapidar.core.restored.libraries import whose_libraries

if TYPE_CHECKING:
    from lapidar.core.cache.contents import Contents

__all__ = ["RestoreOptions", "Restored", "again", "is_current", "restore", "would_replace"]


class RestoreOptions(msgspec.Struct, frozen=True, kw_only=True):
    """How to restore.

    Attributes:
        into: the folder to make; an environment that Lapidar made there before is replaced in one step. None for the
            project's own.
        placement: how files get there.
        left_out: groups that are not restored.
        libraries: whose system libraries it is to run with.
        verify: read every byte in the cache first; otherwise sizes and times vouch for them.
        chosen: how another snapshot than that of the project's lockfile was asked for, as one types it.
        replace: an environment that stands there may become that of another project's lockfile.
        dry_run: tell what would be done, and do nothing.
        kept: packages of the project's own are what was built of them, and not linked to their sources.
        lockfile: the lockfile that the snapshot was read from: the history notes it, so that what it needs is kept.
    """

    into: Path | None = None
    placement: Placement = Placement.AUTO
    left_out: tuple[str, ...] = ()
    libraries: WhoseLibraries = WhoseLibraries.AUTO
    verify: bool = False
    lockfile: Path | None = None
    chosen: str = ""
    replace: bool = False
    dry_run: bool = False
    kept: bool = False


class Restored(msgspec.Struct, frozen=True, kw_only=True):
    """What came of a restore.

    Attributes:
        already: whether the environment was there and matched, and nothing was done.
        replaced: whether an older one was replaced.
        lacking: where nothing was to be done, the parts that the cache lacks, as one says them.
        compiled: from how many trees something was derived for the first time.
        bytes: the size of all files placed.
        libraries: whose system libraries it runs with.
    """

    environment: Path
    snapshot: Snapshot
    placement: str
    libraries: WhoseLibraries
    seconds: float
    files: int = 0
    bytes: int = 0
    compiled: int = 0
    already: bool = False
    replaced: bool = False
    lacking: tuple[str, ...] = ()
    warnings: tuple[str, ...] = ()


def restore(
    place: Place,
    cache: Cache,
    snapshot: Snapshot,
    options: RestoreOptions | None = None,
    reporter: Progress | None = None,
) -> Restored:
    """Build the environment of a snapshot from the cache alone.

    Args:
        place: gets the environment in its `.lapidar/env` unless `into` is given; local packages point into it.
        cache: has the bytes.
        snapshot: what to restore.
        reporter: hears of progress.

    Raises:
        MissingFromCache: the cache lacks files or holds altered ones; nothing was placed.
        TargetRefused: the folder holds something that Lapidar did not make.
        LapidarError: the snapshot is of another kind of machine; the libraries asked for cannot be had; the disk is
            full ...
    """
    return _Restoring(place, cache, options or RestoreOptions(), reporter or Silent()).restore(snapshot)


def is_current(place: Place) -> bool:
    """Whether a place's environment is that of its lockfile, less the groups that were left out of it."""
    mark = marker.read(place.environment)
    try:
        locked = lockfile.read_if_there(place.lockfile) if mark else None
    except LockfileError:
        return False
    if mark and locked and mark.live and place.members.is_file():
        from lapidar.core.restored import own_packages

        # With its own packages as they are it still is that of the lockfile.
        stamps = own_packages.known(place)
        if stamps and (stamps.snapshot, stamps.locked) == (mark.snapshot, locked.snapshot):
            return True
    return bool(mark and locked and selection.without(locked, mark.left_out).snapshot == mark.snapshot)


def again(place: Place, cache: Cache, snapshot: Snapshot, reporter: Progress | None = None) -> Restored:
    """Bring a place's environment up to another snapshot; groups that were left out of it stay so. See `restore`."""
    mark, there = marker.read(place.environment), selection.groups_of(snapshot)
    left_out = tuple(group for group in mark.left_out if group in there) if mark else ()
    return restore(place, cache, snapshot, RestoreOptions(left_out=left_out), reporter)


class _Wanted(Struct, frozen=True):
    """What is to stand where.

    Attributes:
        notes: what the user should know of it, a sentence each.
        project: the way to the project's files.
    """

    snapshot: Snapshot
    target: Path
    libraries: WhoseLibraries
    notes: tuple[str, ...]
    project: ToProject


class _Restoring(Struct, frozen=True):
    place: Place
    cache: Cache
    options: RestoreOptions
    reporter: Progress
    began: float = field(default_factory=time.monotonic)

    def restore(self, whole: Snapshot) -> Restored:
        _same_kind_of_machine(whole)
        target = Path(os.path.abspath(self.options.into)) if self.options.into else self.place.environment
        snapshot = selection.without(whole, self.options.left_out)
        libraries, notes = whose_libraries(snapshot, self.options.libraries, target)
        self._refuse_what_stands_there(target)
        if self.options.dry_run:
            return self._told(_Wanted(snapshot, target, libraries, tuple(notes), self._to_project(snapshot, target)))
        atomic.sweep(target.parent, _work_prefix(target))  # what a killed restore left, also where nothing is to do
        notes = (*notes, *_not_here(snapshot, self.place))
        with self.cache.in_use():
            contents, healed = self._verified(snapshot) if self.options.verify else (None, [])
            project = self._to_project(snapshot, target)
            wanted = _Wanted(snapshot, target, libraries, (*notes, *healed), project)
            there = Environment(target)
            try:
                stands = self._stands(wanted, there, contents)
                restored = self._already(wanted, there) if stands else self._built(wanted, contents)
            except OSError as error:
                raise from_os_error(error, f"restore into {target}", "with --into") from error
            if target == self.place.environment and not (self.options.kept or restored.already):
                self._note_members(snapshot, project)
            # Only now: what never was here is not to be missed.
            noted = _noted(self.place, self.cache, whole, self.options.lockfile)
            return replace(restored, warnings=(*restored.warnings, *noted))

    def _refuse_what_stands_there(self, target: Path) -> None:
        _refuse_foreign(target)
        if not self.options.replace and would_replace(self.place, self.options.lockfile, target):
            raise TargetRefused(
                f"{target} has an environment, and {self.options.lockfile} is another project's lockfile",
                remedy="Name a folder of its own with --into, or say --replace. Nothing was changed.",
            )

    def _verified(self, snapshot: Snapshot) -> tuple[Contents, list[str]]:
        from lapidar.core.restored.whole import verified

        return verified(self.cache, snapshot, self.reporter)

    def _to_project(self, snapshot: Snapshot, target: Path) -> ToProject:
        if not any(one.origin.live for one in snapshot.packages):
            return ToProject(os.path.relpath(self.place.root, target))
        from lapidar.core.restored import own_packages  # few projects have any

        links = not self.options.kept and target == self.place.environment
        return own_packages.to_project(self.place, snapshot, target, self.cache, links=links)

    def _note_members(self, snapshot: Snapshot, project: ToProject) -> None:
        if not any(one.origin.sources for one in snapshot.packages):
            return
        from lapidar.core.restored import own_packages

        locked = identity_in(self.place.lockfile) or ""
        own_packages.note(self.place, self.cache, snapshot, locked, project.live)

    def _stands(self, wanted: _Wanted, there: Environment, contents: Contents | None) -> bool:
        """Whether an environment is there as it must be.

        Args:
            contents: what was verified, where everything is to be read; otherwise sizes and times vouch for it.
        """
        mark, snapshot = there.marker, wanted.snapshot
        if mark is None or mark.snapshot != snapshot.snapshot or there.libraries != wanted.libraries:
            return False
        if self.options.placement not in (Placement.AUTO, mark.placement) or mark.live != bool(wanted.project.live):
            return False
        if contents is None:
            return not compare.quickly(snapshot, there) and not unlinked(self.cache, snapshot, there)
        if compare.is_of(snapshot, there):
            return False
        derived = compare.derived_part(snapshot, there, contents, wanted.project)
        if derived is None or (derived.missing and self.cache.writable):
            return False
        walked = Walking(there.folder).result()
        return not compare.by_bytes(snapshot, there, derived, walked, contents, self.reporter)

    def _told(self, wanted: _Wanted) -> Restored:
        """What would be done."""
        there = Environment(wanted.target)
        parts, absent = list(wanted.snapshot.parts()), lacking(self.cache, wanted.snapshot)
        return replace(
            self._already(wanted, there),
            already=not absent and self._stands(wanted, there, None),
            bytes=sum(part.bytes for part in parts),
            files=sum(part.files for part in parts),
            replaced=there.marker is not None,
            lacking=tuple(words.owner(part.owner) for part in absent),
        )

    def _already(self, wanted: _Wanted, there: Environment) -> Restored:
        return Restored(
            environment=wanted.target,
            snapshot=wanted.snapshot,
            placement=there.marker.placement if there.marker else "",
            libraries=wanted.libraries,
            seconds=time.monotonic() - self.began,
            already=True,
            warnings=wanted.notes,
        )

    def _built(self, wanted: _Wanted, contents: Contents | None) -> Restored:
        """Build it beside the target, and put it in place in one step."""
        options, target, snapshot = self.options, wanted.target, wanted.snapshot
        if not options.into:
            self.place.make_own_folder()
        target.parent.mkdir(parents=True, exist_ok=True)
        with atomic.WorkFolder(target.parent, _work_prefix(target)) as work:
            builder = EnvironmentBuilder(self.cache, work.path, options.placement, self.reporter)
            building = Building(snapshot, builder, wanted.project, wanted.libraries, contents)
            assembled = building.run()
            builder.finish(
                assembled,
                snapshot,
                left_out=options.left_out,
                libraries=wanted.libraries,
                chosen=options.chosen,
                live=bool(wanted.project.live),
            )
            _refuse_foreign(target)
            replaced = _put_in_place(work.path, target)
        return Restored(
            environment=target,
            snapshot=snapshot,
            placement=str(builder.placement),
            libraries=wanted.libraries,
            files=len(assembled.listing),
            bytes=assembled.listing.total_bytes,
            compiled=building.compiled,
            replaced=replaced,
            warnings=(*wanted.notes, *building.warnings),
            seconds=time.monotonic() - self.began,
        )


def _not_here(snapshot: Snapshot, place: Place) -> Iterator[str]:
    """What is as it was built, for its folder is not there, a sentence each."""
    for one in snapshot.packages:
        if one.origin.sources and one.origin.path and not (place.root / one.origin.path).is_dir():
            yield f"{one.name} is as it was built for the snapshot: {one.origin.path} is not here"


def would_replace(place: Place, lockfile: Path | None, target: Path) -> bool:
    """Whether a lockfile of another project would take the place of an environment that stands there."""
    mark = marker.read(target)
    if mark is None or lockfile is None or mark.snapshot == identity_in(lockfile):
        return False
    return (Place.of_environment(target) or place).relative(lockfile) is None


def _noted(place: Place, cache: Cache, snapshot: Snapshot, lockfile: Path | None) -> Iterator[str]:
    """Let the history know who holds the snapshot, where it can be written; what the user should know of that."""
    if lockfile is None or not cache.writable:
        return
    from lapidar.core.cache.history import History

    try:
        History(cache).note_restored(snapshot, replace(place, lockfile=lockfile))
    except OSError as error:
        yield (
            f"The cache's history could not note this lockfile ({error.strerror}): prune may not know that it is in use"
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
