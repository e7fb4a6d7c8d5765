"""What the cache lacks of a snapshot is asked of the sources in turn: each brings what it has.

In this order: other stores, runtimes of this machine, the origins of packages (which asks hosts), and the system
libraries of this machine. Without leave to ask hosts only single files of this machine are looked for.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

from msgspec import Struct, field

from lapidar.core import languages
from lapidar.core.cache.contents import lacking
from lapidar.core.cache.store import Cache
from lapidar.core.cache.taking import take
from lapidar.core.cache.trees import LINK, Entry
from lapidar.core.declaring import reading
from lapidar.core.errors import CacheError, MissingFromCache
from lapidar.core.layers.from_cache import with_lower_layers
from lapidar.core.pinning.session import PinOptions, PinRequest
from lapidar.core.place import Place
from lapidar.core.progress import Progress
from lapidar.core.records import lockfile, words
from lapidar.core.records.declaration import Declaration
from lapidar.core.records.snapshot import Snapshot
from lapidar.core.restored import healing
from lapidar.core.stores.protocol import Store

__all__ = ["Brought", "bring"]

_NAMED = 4


class Brought(Struct):
    """What was brought.

    Attributes:
        packages: the names of those that were fetched.
        notes: what else is to be known, a sentence each.
    """

    packages: list[str] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)


class _Wanted(Struct, frozen=True):
    place: Place
    cache: Cache
    snapshot: Snapshot
    stores: Sequence[Store]
    reporter: Progress


def bring(place: Place, cache: Cache, snapshot: Snapshot, reporter: Progress, stores: Sequence[Store] = ()) -> Brought:
    """Bring what the cache lacks of a snapshot; no host is asked that the project or the user does not name.

    Args:
        cache: in use by the caller.
        stores: asked before any origin.

    Raises:
        MissingFromCache: no source has something, or what comes is not what the lockfile says.
        IndexTrouble: an index cannot be used, or is not configured.
    """
    wanted, brought = _Wanted(place, cache, snapshot, stores, reporter), Brought()
    links = healing.damaged_links(cache, _files(cache, snapshot))
    for ask in _SOURCES:
        ask(wanted, brought)
    if mended := healing.mend_links(cache, links):
        projects = dict.fromkeys(str(one) for places in links.values() for one in places)
        brought.notes.append(
            f"{'a file' if mended == 1 else f'{mended} files'} of the cache had been altered through links of "
            f"environments; it is right again in all of these: {words.some(projects, _NAMED)}"
        )
    return brought


def _files(cache: Cache, snapshot: Snapshot) -> Iterator[Entry]:
    for part in snapshot.parts():
        try:
            yield from (entry for entry in cache.tree(part.tree) if entry.kind != LINK)
        except CacheError:
            continue


def _of_stores(wanted: _Wanted, brought: Brought) -> None:
    """Any part, from another store."""
    for store in wanted.stores:
        parts = {part.tree: words.owner(part.owner) for part in lacking(wanted.cache, wanted.snapshot)}
        if came := [parts[digest] for digest in take(parts, store, wanted.cache, wanted.reporter)]:
            brought.notes.append(f"taken from {store.called}: {words.some(came, _NAMED)}")


def _runtimes_here(wanted: _Wanted, brought: Brought) -> None:
    """Raises: MissingFromCache: one is not on this machine either."""
    for runtime in wanted.snapshot.runtimes:
        if wanted.cache.is_whole(runtime.tree):
            continue
        here = languages.of(runtime.language).runtimes
        same, told = False, "this lapidar looks for none on machines"
        if here:
            same, told = here.refill(runtime, wanted.place, wanted.cache, wanted.reporter)
        if not same:
            raise MissingFromCache(
                f"The cache lacks {words.owner(runtime.owner)}, and this machine has not the same",
                why=told,
                remedy="Find the cache, or a copy of it, that has it; or pin anew for a runtime of this machine: "
                "lapidar pin --runtime VERSION. Nothing was placed.",
            )
        brought.notes.append(told)


def _origins(wanted: _Wanted, brought: Brought) -> None:
    """Packages, each from where it came from."""
    request = PinRequest(
        wanted.place, wanted.cache, reading.read(wanted.place), wanted.snapshot, PinOptions(), wanted.reporter
    )
    for name in wanted.snapshot.languages:
        if pinning := languages.of(name).pinning:
            brought.packages += pinning.fetch_missing(request, wanted.snapshot)
        elif lost := [
            one for one in wanted.snapshot.packages if one.language == name and not wanted.cache.is_whole(one.tree)
        ]:
            raise MissingFromCache(
                f"The cache lacks {lost[0].name} {lost[0].version}, and no origin of it is known",
                remedy="Capture an environment that has it, or name a cache that is whole with --cache.",
            )


def _libraries_here(wanted: _Wanted, brought: Brought) -> None:
    """The system libraries of this machine, where they are the same. What differs is told.

    Raises:
        MissingFromCache: they are not.
    """
    snapshot, layer = wanted.snapshot, wanted.snapshot.library_layer
    if layer is None or wanted.cache.is_whole(layer.tree):
        return
    bare = lockfile.identified(snapshot.platform, snapshot.runtimes, snapshot.packages, snapshot.remainders)
    found, _ = with_lower_layers(wanted.cache, Declaration(), bare, None, wanted.reporter)
    if wanted.cache.is_whole(layer.tree):
        brought.notes.append("the system libraries were taken from this machine, which has the same bytes")
        return
    unlike = list(_unlike(snapshot, found))
    raise MissingFromCache(
        "The cache lacks the system libraries, and this machine has not the same",
        why=f"{len(unlike)} of {len(snapshot.libraries)} differ: {words.some(unlike, 5)}"
        if unlike
        else "the libraries are the same, and the data beside them differs",
        remedy="lapidar restore --libraries host runs with this machine's, where they satisfy all that is recorded; "
        "or find a cache that has them.",
    )


def _unlike(snapshot: Snapshot, found: Snapshot) -> Iterator[str]:
    here = {one.soname: one.sha256 for one in found.libraries}
    yield from (one.soname for one in snapshot.libraries if here.get(one.soname) != one.sha256)


# In this order: a source that asks a host comes after those that ask none.
_SOURCES: tuple[Callable[[_Wanted, Brought], None], ...] = (_of_stores, _runtimes_here, _origins, _libraries_here)
