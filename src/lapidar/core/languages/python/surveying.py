"""The project's own source in Python; see `lapidar.core.languages.protocol.Surveying`."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager, nullcontext

from lapidar.core.cache.store import Cache
from lapidar.core.languages.protocol import Located
from lapidar.core.languages.python import packages, probe
from lapidar.core.languages.python.probe import Answer
from lapidar.core.languages.python.survey import flow
from lapidar.core.languages.python.survey.providers import Providers, of_packages
from lapidar.core.languages.python.survey.sources import find as sources
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
    answer = probe.ask(located.interpreter) if located else None
    runtime = pinned.runtime_of("python") if pinned else None
    version = runtime.version if runtime else answer.version if answer else ""
    with _suggesting(cache, indexes) if indexes or pinned is None else nullcontext() as suggest:
        return flow.survey(place, _providers(place, answer, cache, pinned), version, cache, suggest=suggest)


def _providers(place: Place, answer: Answer | None, cache: Cache | None, pinned: Snapshot | None) -> Providers:
    if pinned is not None and cache is not None:
        return of_packages(cache, [one for one in pinned.packages if one.language == "python"])
    return flow.installed(packages.observe(answer, place, skip_outside=True)) if answer else Providers()


@contextmanager
def _suggesting(cache: Cache | None, asked: Sequence[Index]) -> Iterator[flow.Suggesting]:
    """What looks for missing modules in the cache, and last in indexes."""
    if not asked:
        yield flow.suggesting(cache)
        return
    from lapidar.core.languages.python.index.indexes import Indexes  # which asks hosts

    with Indexes(asked, cache) as indexes:
        yield flow.suggesting(cache, indexes)
