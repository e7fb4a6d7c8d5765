"""Members: packages of the project's own, brought up in its environment to their sources as they are."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import NamedTuple

from msgspec.structs import replace

from lapidar.core import atomic
from lapidar.core.cache.store import Cache
from lapidar.core.declaring import reading
from lapidar.core.environment import marker
from lapidar.core.errors import Conflict, LapidarError
from lapidar.core.flows import pin
from lapidar.core.flows.restore import RestoreOptions, restore
from lapidar.core.layers.from_cache import with_lower_layers
from lapidar.core.pinning.session import PinRequest
from lapidar.core.place import Place
from lapidar.core.progress import Progress
from lapidar.core.records import lockfile
from lapidar.core.records.owner import PackageName
from lapidar.core.records.snapshot import Package, Snapshot
from lapidar.core.restored import own_packages

__all__ = ["BuiltAgain", "brought_up"]


class BuiltAgain(NamedTuple):
    """A member that was built again.

    Attributes:
        why: the folder that changed, or the members that it needs and that changed.
        seconds: how long it took, for all together.
    """

    name: str
    why: str
    seconds: float


def brought_up(
    place: Place, cache: Callable[[], Cache], reporter: Progress, *, wholly: bool = False
) -> list[BuiltAgain]:
    """Bring the environment of a project up to its members' sources: those are built again of which something changed
    that no link shows. The environment that is there stays as it is for whoever runs in it.

    Args:
        cache: has what the lockfile holds.
        wholly: also where links show the change, so that its snapshot is what runs.

    Raises:
        LapidarError: a member cannot be built, or needs other things than are pinned; nothing was changed.
    """
    stamps, mark = own_packages.known(place), marker.read(place.environment)
    if stamps is None or mark is None or not mark.live or mark.snapshot != stamps.snapshot:
        return []
    if not any(_has_changed(place, stamp, wholly) for stamp in stamps.members.values()):
        return []
    began = time.monotonic()
    locked = lockfile.read(place.lockfile)
    if locked.snapshot != stamps.locked:
        return []  # the environment is another's, which is said elsewhere
    changed = [one for one in locked.packages if own_packages.was_edited(one, place)]
    edited = _with_dependents(locked, changed)
    there = cache()
    try:
        snapshot = _with(place, there, locked, edited, reporter) if edited else locked
    except LapidarError as error:
        if isinstance(error, Conflict):
            raise
        told = error.remedy.partition(";")[0].rstrip(".")
        error.remedy = f"{told}. Or run what was built for the snapshot: lapidar restore --kept.".removeprefix(". ")
        raise
    own = place.members_snapshot
    if edited:
        atomic.write_file(own, lockfile.render(snapshot).encode("utf-8"))
    else:
        own.unlink(missing_ok=True)
    options = RestoreOptions(
        left_out=mark.left_out,
        libraries=mark.libraries,
        lockfile=own if edited else place.lockfile,
        chosen=marker.AS_THEY_ARE if edited else "",
    )
    done = restore(place, there, snapshot, options, reporter)
    if done.already:
        own_packages.note_again(place)
        return []
    took = time.monotonic() - began
    names = [one.name for one in changed]
    return [
        BuiltAgain(one.name, (one.origin.path or "") if one in changed else ", ".join(names), took) for one in edited
    ]


def _with_dependents(snapshot: Snapshot, edited: list[Package]) -> list[Package]:
    """Members that were edited, and those that need one of them: they may be built with it."""
    names = {one.key for one in edited}
    while True:
        more = {
            one.key
            for one in snapshot.packages
            if own_packages.is_member(one) and any(PackageName(one.language, name) in names for name in one.requires)
        } - names
        if not more:
            return [one for one in snapshot.packages if one.key in names]
        names |= more


def _has_changed(place: Place, stamp: own_packages.Stamp, wholly: bool) -> bool:
    if not (place.root / stamp.path).is_dir():
        return False
    now = own_packages.looked_at(place, stamp)
    return now.rest != stamp.rest or (wholly and now.every != stamp.every)


def _with(place: Place, cache: Cache, locked: Snapshot, edited: list[Package], reporter: Progress) -> Snapshot:
    """A snapshot with members as their sources are."""
    built: dict[object, Package] = {}
    for language in {one.language for one in edited}:
        request = PinRequest(place, cache, reading.read(place), locked, reporter=reporter)
        with pin.opened(request, only=language) as pinning:
            session = pinning.of(language)
            several = session.built_again([one for one in edited if one.language == language])
            built |= {one.key: one for one in several}
    packages = tuple(built.get(one.key, one) for one in locked.packages)
    made = lockfile.identify(replace(locked, packages=packages))
    if not any(_has_libraries(cache, one) for one in built.values()):
        return made
    bare = lockfile.identified(locked.platform, locked.runtimes, packages, locked.remainders)
    layered, _ = with_lower_layers(cache, request.declaration, bare, locked, reporter, None)
    return layered


def _has_libraries(cache: Cache, package: Package) -> bool:
    return any(".so" in entry.path for entry in cache.tree(package.tree))
