"""Fetch what the cache lacks of a snapshot, each package from the origin that its lockfile names."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from lapidar.core import languages
from lapidar.core.cache.store import Cache
from lapidar.core.declaring import reading
from lapidar.core.errors import MissingFromCache
from lapidar.core.place import Place
from lapidar.core.progress import Progress
from lapidar.core.records import lockfile, words
from lapidar.core.records.declaration import Declaration
from lapidar.core.records.snapshot import Snapshot

__all__ = ["Fetched", "fetch_missing"]


class Fetched(NamedTuple):
    """What was brought.

    Attributes:
        packages: the names of those that were fetched.
        told: of the layers below, a sentence each.
    """

    packages: tuple[str, ...] = ()
    told: tuple[str, ...] = ()


def fetch_missing(place: Place, cache: Cache, snapshot: Snapshot, reporter: Progress) -> Fetched:
    """Fetch the packages of a snapshot that the cache lacks; only hosts that the project or the user's configuration
    names are asked. A runtime, and system libraries, come from this machine, where that has the same bytes.

    Raises:
        MissingFromCache: something has no origin to fetch it from, or what comes is not what the lockfile says.
        IndexTrouble: an index cannot be used, or is not configured.
    """
    declaration = reading.read(place)
    told = list(_runtimes(place, cache, snapshot, reporter))
    fetched: list[str] = []
    for name in snapshot.languages:
        fetched += languages.of(name).fetch_missing(place, cache, snapshot, declaration, reporter)
    told += _libraries(cache, snapshot, reporter)
    return Fetched(tuple(fetched), tuple(told))


def _runtimes(place: Place, cache: Cache, snapshot: Snapshot, reporter: Progress) -> Iterator[str]:
    """Raises: MissingFromCache: one is not on this machine either."""
    for runtime in snapshot.runtimes:
        if cache.is_whole(runtime.tree):
            continue
        same, told = languages.of(runtime.language).refill(runtime, place, cache, reporter)
        if not same:
            raise MissingFromCache(
                f"The cache lacks {words.owner(runtime.owner)}, and this machine has not the same",
                why=told,
                remedy="Find the cache, or a copy of it, that has it; or pin anew for a runtime of this machine: "
                "lapidar pin --runtime VERSION. Nothing was placed.",
            )
        yield told


def _libraries(cache: Cache, snapshot: Snapshot, reporter: Progress) -> Iterator[str]:
    """Take the system libraries of this machine, where they are the same. What differs is told."""
    from lapidar.core.layers.from_cache import with_lower_layers

    layer = snapshot.library_layer
    if layer is None or cache.is_whole(layer.tree):
        return
    bare = lockfile.identified(snapshot.platform, snapshot.runtimes, snapshot.packages, snapshot.remainders)
    found, _ = with_lower_layers(cache, Declaration(), bare, None, reporter)
    if cache.is_whole(layer.tree):
        yield "the system libraries were taken from this machine, which has the same bytes"
        return
    here = {one.soname: one.sha256 for one in found.libraries}
    unlike = [one.soname for one in snapshot.libraries if here.get(one.soname) != one.sha256]
    raise MissingFromCache(
        "The cache lacks the system libraries, and this machine has not the same",
        why=f"{len(unlike)} of {len(snapshot.libraries)} differ: {words.some(unlike, 5)}"
        if unlike
        else "the libraries are the same, and the data beside them differs",
        remedy="lapidar restore --libraries host runs with this machine's, where they satisfy all that is recorded; "
        "or find a cache that has them.",
    )
