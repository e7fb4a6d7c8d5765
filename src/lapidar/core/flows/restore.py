"""Restore: lockfile and cache -> environment, with no network call."""

from __future__ import annotations

import errno
import os
import time
from collections.abc import Collection, Iterable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from lapidar.core import atomic
from lapidar.core.cache.placing import Placement
from lapidar.core.cache.store import Cache
from lapidar.core.environment import assemblies, folder, marker
from lapidar.core.environment.build import EnvironmentBuilder
from lapidar.core.environment.folder import Environment
from lapidar.core.environment.linked import unlinked
from lapidar.core.environment.listing import Assembled
from lapidar.core.environment.status import Walking
from lapidar.core.errors import LapidarError, MissingFromCache, TargetRefused, from_os_error
from lapidar.core.flows import compare
from lapidar.core.place import Place
from lapidar.core.progress import Progress, Silent
from lapidar.core.records import selection, words
from lapidar.core.records.lockfile import identity_in
from lapidar.core.records.snapshot import Snapshot
from lapidar.core.restored.libraries import whose_libraries

if TYPE_CHECKING:
    from lapidar.core.cache.contents import Contents, Flaw

__all__ = ["RestoreOptions", "Restored", "restore", "would_replace"]


class RestoreOptions(msgspec.Struct, frozen=True):
    """How to restore.

    Attributes:
        into: the folder to make; an environment that Lapidar made there before is replaced in one step. None for the
            project's own.
        placement: how files get there.
        left_out: groups that are not restored.
        libraries: whose system libraries it is to run with: ``private`` (the snapshot's), ``host`` or ``auto``.
        verify: read every byte in the cache first; otherwise sizes and times vouch for them.
        chosen: how another snapshot than that of the project's lockfile was asked for, as one types it.
        replace: an environment that stands there may become that of another project's lockfile.
        lockfile: the lockfile that the snapshot was read from: the history notes it, so that what it needs is kept.
    """

    into: Path | None = None
    placement: Placement = Placement.AUTO
    left_out: tuple[str, ...] = ()
    libraries: str = "auto"
    verify: bool = False
    lockfile: Path | None = None
    chosen: str = ""
    replace: bool = False


class Restored(msgspec.Struct, frozen=True, kw_only=True):
    """What came of a restore.

    Attributes:
        already: whether the environment was there and matched, and nothing was done.
        replaced: whether an older one was replaced.
        compiled: from how many trees something was derived for the first time.
        bytes: the size of all files placed.
        libraries: whose system libraries it runs with: its own (``private``) or the ``host``'s.
    """

    environment: Path
    snapshot: Snapshot
    placement: str
    libraries: str
    seconds: float
    files: int = 0
    bytes: int = 0
    compiled: int = 0
    already: bool = False
    replaced: bool = False
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
    began = time.monotonic()
    options, reporter = options or RestoreOptions(), reporter or Silent()
    _same_kind_of_machine(snapshot)
    whole, snapshot = snapshot, selection.without(snapshot, options.left_out)
    target = Path(os.path.abspath(options.into)) if options.into else place.environment
    libraries, notes = whose_libraries(snapshot, options.libraries, target)
    _refuse_foreign(target)
    if not options.replace and would_replace(place, options.lockfile, target):
        raise TargetRefused(
            f"{target} has an environment, and {options.lockfile} is another project's lockfile",
            remedy="Name a folder of its own with --into, or say --replace. Nothing was changed.",
        )
    atomic.sweep(target.parent, _work_prefix(target))  # what a killed restore left, also where nothing is to do
    with cache.in_use():
        notes = (*notes, *_noted(place, cache, whole, options.lockfile))
        contents = _verified(cache, snapshot, reporter) if options.verify else None
        there = Environment(target)
        if there.libraries == libraries and _matches(
            snapshot, there, options.placement, cache, contents, os.path.relpath(place.root, target), reporter
        ):
            return Restored(
                environment=target,
                snapshot=snapshot,
                placement=there.marker.placement if there.marker else "",
                libraries=libraries,
                seconds=time.monotonic() - began,
                already=True,
                warnings=tuple(notes),
            )
        try:
            if not options.into:
                place.make_own_folder()
            target.parent.mkdir(parents=True, exist_ok=True)
            with atomic.WorkFolder(target.parent, _work_prefix(target)) as work:
                builder = EnvironmentBuilder(
                    cache, work.path, options.placement, reporter, options.left_out, libraries, options.chosen
                )
                building = _Building(cache, snapshot, os.path.relpath(place.root, target), builder, contents)
                assembled = building.run()
                _refuse_foreign(target)
                replaced = _put_in_place(work.path, target)
        except OSError as error:
            raise from_os_error(error, f"restore into {target}") from error
    return Restored(
        environment=target,
        snapshot=snapshot,
        placement=str(builder.placement),
        libraries=libraries,
        files=len(assembled.listing),
        bytes=assembled.listing.total_bytes,
        compiled=building.compiled,
        replaced=replaced,
        warnings=(*notes, *building.warnings),
        seconds=time.monotonic() - began,
    )


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
        identity = "" if place.relative(lockfile) is None else place.identity()
        History(cache).note_restored(snapshot, lockfile, identity)
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


def _verified(cache: Cache, snapshot: Snapshot, reporter: Progress) -> Contents:
    """What the snapshot stands for, every byte of it read; what is derived from it and damaged is derived anew."""
    from lapidar.core.cache.contents import Contents
    from lapidar.core.restored import assemble

    contents = Contents(cache, snapshot)
    _refuse_nothing(contents)
    flaws = list(contents.flaws(deep=True, reporter=reporter))
    if flaws:
        _heal_or_refuse(cache, flaws)
        contents = Contents(cache, snapshot)
        _refuse_flaws(cache, list(contents.flaws(deep=True, reporter=reporter)))
    assemble.forget_damaged(snapshot, contents, reporter)
    return contents


def _refuse_nothing(contents: Contents) -> None:
    """Raises: MissingFromCache: the cache has no part of the snapshot."""
    if contents.has_nothing:
        raise MissingFromCache(
            f"The cache at {contents.cache.root} has nothing of this snapshot: is it the right one?",
            remedy="Name another with --cache or LAPIDAR_CACHE; or `lapidar restore --fetch` brings packages from "
            "where they came from, and runtime and libraries of this machine, where they are the same.",
        )


def _heal_or_refuse(cache: Cache, flaws: list[Flaw]) -> list[str]:
    """What was healed, a sentence each.

    Raises:
        MissingFromCache: not all could be.
    """
    if not flaws:
        return []
    from lapidar.core.restored import sources

    healed = sources.from_this_machine(cache, flaws)
    _refuse_flaws(cache, healed.left, healed.told)
    return healed.told


_PARTS = 12  # that are named where many lack


def _refuse_flaws(cache: Cache, flaws: Collection[Flaw], told_of: Iterable[str] = ()) -> None:
    """Raises: MissingFromCache: there are any; it names every part that is incomplete.

    Args:
        told_of: what is known of how that came, a sentence each.
    """
    by_owner: dict[str, list[str]] = {}
    for flaw in flaws:
        told = f"{flaw.path} ({flaw.kind})" if flaw.path else flaw.why
        by_owner.setdefault(words.owner(flaw.owner), []).append(told)
    if by_owner:
        lines = [f"{owner}: {_first(told)}" for owner, told in by_owner.items()]
        more = [f"and {len(lines) - _PARTS} more parts"] if len(lines) > _PARTS else []
        raise MissingFromCache(
            f"The cache at {cache.root} cannot restore this snapshot, and nothing was placed",
            why="\n  ".join(["", *lines[:_PARTS], *more, *told_of]),
            remedy="`lapidar restore --fetch` brings packages from where they came from, and what this machine has of "
            "the rest; or name a cache that is whole with --cache, or capture the original environment again.",
        )


def _first(told: Collection[str]) -> str:
    shown = list(told)[:3]
    more = f", and {len(told) - 3} more" if len(told) > 3 else ""
    return ", ".join(shown) + more


def _matches(
    snapshot: Snapshot,
    there: Environment,
    placement: Placement,
    cache: Cache,
    contents: Contents | None,
    way_to_project: str,
    reporter: Progress,
) -> bool:
    """Whether an environment is there as it must be.

    Args:
        contents: what was verified, where everything is to be read; otherwise sizes and times vouch for it.
    """
    mark = there.marker
    if mark is None or mark.snapshot != snapshot.snapshot or placement not in (Placement.AUTO, mark.placement):
        return False
    if contents is None:
        return not compare.quickly(snapshot, there) and not unlinked(cache, snapshot, there)
    if compare.is_of(snapshot, there):
        return False
    derived = compare.derived_part(snapshot, there, contents, way_to_project)
    if derived is None or (derived.missing and cache.writable):
        return False
    return not compare.by_bytes(snapshot, there, derived, Walking(there.folder).result(), contents, reporter)


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
    """Builds the environment of a snapshot: as it was kept from an earlier time, or derived from the trees.

    Args:
        contents: what was verified already: then nothing that was kept is taken.
    """

    def __init__(
        self,
        cache: Cache,
        snapshot: Snapshot,
        way_to_project: str,
        builder: EnvironmentBuilder,
        contents: Contents | None,
    ) -> None:
        self.cache = cache
        self.snapshot = snapshot
        self.way_to_project = way_to_project
        self.builder = builder
        self.contents = contents
        self.warnings: list[str] = []
        self.compiled = 0

    def run(self) -> Assembled:
        """Build it."""
        key = self._key()
        assembled = None if self.contents else assemblies.kept(self.cache, self.snapshot.snapshot, key)
        if assembled is None or not self.builder.place(assembled):
            assembled = self._derived()
            if self.cache.writable:
                assemblies.keep(self.cache, self.snapshot.snapshot, key, assembled)
        self.builder.finish(assembled, self.snapshot)
        return assembled

    def _key(self) -> str:
        """What the files of the environment follow from beside the snapshot."""
        local = any(package.origin.folders for package in self.snapshot.packages)
        own = self.builder.libraries == folder.PRIVATE
        held_to = self.snapshot.conditions
        drivers = own and held_to is not None and held_to.host
        of_host = _hosts_drivers() if drivers else "" if own else _hosts_options()
        return "\n".join([self.builder.libraries, self.way_to_project if local else "", of_host])

    def _derived(self) -> Assembled:
        from lapidar.core.cache.contents import Contents
        from lapidar.core.restored import assemble

        contents = self.contents
        if contents is None:
            contents = Contents(self.cache, self.snapshot)
            _refuse_nothing(contents)
            self.warnings += _heal_or_refuse(self.cache, list(contents.flaws(deep=False, reporter=Silent())))
        derived = assemble.derive(
            self.snapshot,
            contents.trees,
            self.cache,
            self.way_to_project,
            self.builder.libraries,
            there=self.contents.has_read if self.contents else self.cache.has_files,
        )
        assembled = derived.layout.assembled(self.snapshot)
        self._place(assembled)
        if derived.missing and not self.cache.writable:
            self.warnings.append("The cache is read-only: byte-code was not placed, so first imports take longer")
        elif derived.missing:
            self.compiled = derived.missing_trees
            derived.complete(self.builder.work, self.builder.reporter)
            assembled = derived.layout.assembled(self.snapshot)
            self._place(assembled)
        return assembled

    def _place(self, assembled: Assembled) -> None:
        if not self.builder.place(assembled):
            raise MissingFromCache(
                "The cache changed while it was read", remedy="Run the same command again, or `lapidar cache audit`."
            )


def _hosts_drivers() -> str:
    """The libraries of device drivers, which the environment has links to."""
    from lapidar.core.layers.libraries import drivers_here

    return " ".join(f"{name}={path}" for name, path in sorted(drivers_here().items()))


def _hosts_options() -> str:
    """With the host's libraries, the launchers follow from what the host's loader can do."""
    from lapidar.core.environment.launchers import LOADER
    from lapidar.core.system.loader import options_of

    return " ".join(sorted(options_of(LOADER)))
