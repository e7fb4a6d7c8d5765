"""Survey: what the project's own source needs, and how that stands to its environment and to what it declares."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from pathlib import Path

from msgspec.structs import replace

from lapidar.core import languages
from lapidar.core.cache.store import Cache
from lapidar.core.declaring import reading
from lapidar.core.environment import marker
from lapidar.core.errors import DeclarationError, EnvironmentUnusable
from lapidar.core.flows.locate import locate
from lapidar.core.languages import live
from lapidar.core.languages.protocol import Located
from lapidar.core.place import Place
from lapidar.core.records import lockfile, words
from lapidar.core.records.declaration import Index
from lapidar.core.records.findings import Finding, Problem
from lapidar.core.records.owner import Layer
from lapidar.core.records.snapshot import Snapshot
from lapidar.core.records.surveyed import Surveyed, together

__all__ = ["judge_imports", "survey"]

_PLACES = 3  # that are named


def survey(
    place: Place,
    cache: Cache | None,
    environment: Path | None = None,
    *,
    ask: bool = True,
    only: Collection[str] = (),
) -> tuple[Surveyed, tuple[Located, ...]]:
    """Read all sources of a project, without running them.

    Args:
        cache: looked in for what provides what is missing; it also keeps what was read of unchanged files.
        environment: a folder or an interpreter; None for what the project or the shell points to.
        ask: ask the configured indexes last.
        only: the names of the languages that are meant; none: all.

    Returns:
        What was found, and the environment that it was matched to; none where it was matched to the lockfile.

    Raises:
        EnvironmentUnusable: there is no such environment, and no lockfile.
        LockfileError: it is not valid.
    """
    pinned = lockfile.read_if_there(place.lockfile)
    located = _located(place, environment, pinned, cache, only)
    indexes = _configured(place) if ask else ()
    if located:
        reading = [(at, languages.of(at.language).surveying) for at in located]
        several = [one.survey(place, at, cache, indexes=indexes) for at, one in reading if one]
    else:
        assert pinned
        own = [languages.of(name).surveying for name in only or pinned.languages]
        several = [one.survey(place, None, cache, indexes=indexes, pinned=pinned) for one in own if one]
    names = frozenset(package.key for package in pinned.packages) if pinned else frozenset()
    return replace(together(several), pinned=names), located


def _configured(place: Place) -> tuple[Index, ...]:
    try:
        return reading.read(place).indexes
    except DeclarationError:
        return ()  # the survey tells of it


def _located(
    place: Place, environment: Path | None, pinned: Snapshot | None, cache: Cache | None, only: Collection[str]
) -> tuple[Located, ...]:
    """The environment; none where only chance speaks for one, and the lockfile tells more."""
    if environment is None and marker.read(place.environment):
        restored = "the project's restored environment"
        return tuple(one._replace(why=restored) for one in locate(place, place.environment, only))
    try:
        located = locate(place, environment, only)
    except EnvironmentUnusable:
        if environment is not None or pinned is None or cache is None:
            raise
        return ()
    by_lockfile = pinned is not None and cache is not None and all(one.by_chance for one in located)
    return () if by_lockfile and environment is None else located


def _is_the_projects(file: str, place: Place, snapshot: Snapshot, cache: Cache) -> bool:
    """Whether a source file is what the environment is for: of a package of the project's own those that are in the
    environment, and not what builds and tests it."""
    for one in snapshot.packages:
        if one.origin.sources and file.startswith(f"{one.origin.path}/"):
            return (
                cache.has_tree(one.tree) and file in live.files(cache.tree(one.tree), one.origin, place.root).values()
            )
    return True


def judge_imports(place: Place, snapshot: Snapshot, cache: Cache) -> Iterator[Finding]:
    """What the source imports and a snapshot does not have, or the project does not declare."""
    for name in snapshot.languages:
        surveying = languages.of(name).surveying
        for row in surveying.survey(place, None, cache, pinned=snapshot).rows if surveying else ():
            places = [one for one in row.places if _is_the_projects(one.file, place, snapshot, cache)]
            if not places:
                continue
            at = words.some(map(str, places), _PLACES)
            if row.standing == "missing":
                yield Finding(
                    Layer.DECLARATION, Problem.IMPORT_OF_NOTHING, name=row.module, details=(at,), language=name
                )
            elif row.standing == "not declared":
                details = (row.distribution, at)
                yield Finding(
                    Layer.DECLARATION, Problem.IMPORT_NOT_DECLARED, name=row.module, details=details, language=name
                )
