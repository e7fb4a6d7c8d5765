"""Places: those of a project and of the user, each with its snapshot and how it stands."""

from __future__ import annotations

import os
import time
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

from lapidar.core import foreign
from lapidar.core.cache.store import Cache
from lapidar.core.environment import marker
from lapidar.core.environment.folder import Environment
from lapidar.core.flows import script
from lapidar.core.flows.aside import TRIED
from lapidar.core.flows.near import in_cache
from lapidar.core.flows.restore import is_current
from lapidar.core.flows.shelf import Shelf
from lapidar.core.place import Place, lock_of
from lapidar.core.records import lockfile, words
from lapidar.core.restored import own_packages

__all__ = ["Row", "places"]

_DAY_SECONDS = 86_400


class Row(NamedTuple):
    """A place.

    Attributes:
        kind: project, member, script, shelf, aside, or call.
        standing: in a word or two.
        bytes: of its environment's files, shared or not; 0 where it has none of its own.
        path: of its folder or file.
    """

    kind: str
    name: str
    snapshot: str
    standing: str
    bytes: int
    path: str


def places(place: Place, cache: Cache | None) -> list[Row]:
    """All places that are known here.

    Args:
        place: the project that one is in, if it is one.
        cache: has the environments of scripts and asides; None: none.
    """
    rows = [*_of_project(place), *_of_shelf()]
    return [*rows, *(_of_cache(cache) if cache else ())]


def _of_project(place: Place) -> Iterator[Row]:
    locked = lockfile.read_if_there(place.lockfile)
    if locked is None:
        return
    there = marker.read(place.environment) is not None
    standing = "restored" if is_current(place) else "of another snapshot" if there else "not restored"
    yield Row("project", place.root.name, locked.snapshot, standing, _bytes(place.environment), str(place.root))
    for one in locked.packages:
        if not own_packages.is_member(one):
            continue
        folder = place.root / (one.origin.path or "")
        standing = (
            "folder is not here"
            if not folder.is_dir()
            else "edited since"
            if own_packages.was_edited(one, place)
            else "as pinned"
        )
        yield Row("member", f"{one.name} {one.version}", locked.snapshot, standing, one.bytes, str(folder))


def _of_shelf() -> Iterator[Row]:
    shelf = Shelf()
    for one in shelf.every():
        standing = ", ".join(one.programs) if one.programs else "not here"
        yield Row("shelf", f"{one.name} {one.version}".strip(), one.snapshot, standing, one.bytes, str(shelf.folder))


def _of_cache(cache: Cache) -> Iterator[Row]:
    """Scripts that were run, and the environments there that are none of theirs: of asides, and of snapshots that were
    called."""
    near, theirs = in_cache(cache.root), set()
    for own, file in script.known(cache.root):
        lock = lock_of(file) if lock_of(file).is_file() else own / "lapidar.lock"
        snapshot = (lockfile.identity_in(lock) or "") if lock.is_file() else ""
        environment = near.environment(snapshot) if snapshot else own
        theirs.add(environment)
        standing = "is gone" if not file.is_file() else "placed" if environment.is_dir() and snapshot else "not placed"
        yield Row("script", file.name, snapshot, standing, _bytes(environment), str(file))
    for used in sorted(near.folder.glob("*/used")):
        environment = used.parent / "env"
        if environment in theirs:
            continue
        days = int((time.time() - os.stat(used).st_mtime) / _DAY_SECONDS)
        found = marker.read(environment)
        when = "used today" if days < 1 else f"used {days} day{'s' * (days > 1)} ago"
        snapshot = found.snapshot if found else ""
        tried = used.parent / TRIED
        kind, name = ("aside", foreign.read_text(tried).strip()) if tried.is_file() else ("call", words.short(snapshot))
        yield Row(kind, name, snapshot, when, _bytes(environment), str(environment))


def _bytes(environment: Path) -> int:
    found = Environment(environment).manifest if environment.is_dir() else None
    return found.listing.total_bytes if found else 0
