"""The project's own source in Python; see `lapidar.core.languages.protocol.Surveying`."""

from __future__ import annotations

from lapidar.core.cache.store import Cache
from lapidar.core.languages.protocol import Located
from lapidar.core.languages.python import probe
from lapidar.core.languages.python.survey import flow
from lapidar.core.languages.python.survey.sources import find as sources
from lapidar.core.place import Place
from lapidar.core.records.snapshot import Snapshot
from lapidar.core.records.surveyed import Surveyed

__all__ = ["sources", "survey"]


def survey(
    place: Place, located: Located | None, cache: Cache | None, *, ask: bool = False, pinned: Snapshot | None = None
) -> Surveyed:
    """Read all sources of a project, without running them."""
    answer = probe.ask(located.interpreter) if located else None
    packages = [one for one in pinned.packages if one.language == "python"] if pinned else None
    runtime = pinned.runtime_of("python") if pinned else None
    version = runtime.version if runtime else ""
    if ask:
        return flow.survey_asking(place, answer, cache, packages, version)
    return flow.survey(place, answer, cache, pinned=packages, suggest=pinned is None, version=version)
