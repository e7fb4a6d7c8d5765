"""The project's own source in R; see `lapidar.core.languages.protocol.Surveying`."""

from __future__ import annotations

from collections.abc import Collection, Sequence

from lapidar.core.cache.store import Cache
from lapidar.core.errors import LapidarError
from lapidar.core.languages.protocol import Located
from lapidar.core.languages.r import packages, probe
from lapidar.core.languages.r.survey import flow
from lapidar.core.languages.r.survey.sources import find as sources
from lapidar.core.place import Place
from lapidar.core.records.declaration import Index
from lapidar.core.records.snapshot import Snapshot
from lapidar.core.records.surveyed import Surveyed

__all__ = ["sources", "survey"]


def survey(
    place: Place,
    located: Located | None,
    cache: Cache | None,
    *,
    indexes: Sequence[Index] = (),
    pinned: Snapshot | None = None,
) -> Surveyed:
    """Read all sources of a project, without running them."""
    if pinned is not None:
        here = {one.name: one.version for one in pinned.packages if one.language == "r"}
    else:
        here = packages.versions_in(probe.ask(located.interpreter, place.root)) if located else {}
    return flow.survey(place, here, cache, lambda missing: _unknown(missing, indexes, cache))


def _unknown(names: Collection[str], indexes: Sequence[Index], cache: Cache | None) -> set[str]:
    """Those of some packages that no repository has; none where nobody can be asked."""
    own = [index for index in indexes if index.language == "r"]
    if not own or cache is None:
        return set()
    from lapidar.core.languages.r.index.repositories import Repositories  # which asks hosts

    try:
        with Repositories(own, cache) as repositories:
            return {name for name in names if not repositories.offers(name)}
    except LapidarError:
        return set()  # who pins hears of it
