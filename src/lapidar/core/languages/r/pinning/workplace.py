"""The environment that packages are built in: R alone, restored like any other."""

from __future__ import annotations

from pathlib import Path

from lapidar.core.cache.store import Cache
from lapidar.core.place import Place
from lapidar.core.records import lockfile
from lapidar.core.records.layers import LowerLayers
from lapidar.core.records.snapshot import Platform, Runtime, Snapshot

__all__ = ["restored"]


def restored(
    place: Place, cache: Cache, runtime: Runtime, platform: Platform, previous: Snapshot | None, folder: Path
) -> None:
    """Restore an R into a folder.

    Args:
        previous: the lockfile that there is: its system libraries, where it has this R and the cache has them; else the
            host's.
    """
    from lapidar.core.flows.restore import RestoreOptions, restore

    lower = LowerLayers()
    known = previous.runtime_of("r") if previous else None
    if previous and previous.library_layer and known == runtime and cache.is_whole(previous.library_layer.tree):
        lower = LowerLayers(library_layer=previous.library_layer, libraries=previous.libraries)
    snapshot = lockfile.identified(platform, [runtime], [], lower=lower)
    restore(Place.of_project(folder.parent), cache, snapshot, RestoreOptions(into=folder))
