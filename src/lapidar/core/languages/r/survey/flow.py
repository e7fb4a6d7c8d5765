"""The survey of R: sources -> the packages that they use -> which are here -> how that stands to what is declared."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping
from pathlib import Path

from msgspec.structs import replace

from lapidar.core.cache.store import Cache
from lapidar.core.declaring import reading
from lapidar.core.declaring.project import ProjectFiles
from lapidar.core.errors import DeclarationError
from lapidar.core.languages.r import declaring, description, requirements
from lapidar.core.languages.r.survey import documents, sources
from lapidar.core.languages.surveying import DeclaredNeed, Judge, Provider, judged, read_all, surveyed
from lapidar.core.place import Place
from lapidar.core.records.surveyed import Surveyed

__all__ = ["survey"]


def survey(
    place: Place,
    here: Mapping[str, str],
    cache: Cache | None,
    unknown: Callable[[Collection[str]], Collection[str]] = lambda _: (),
    files: Iterable[str] | None = None,
) -> Surveyed:
    """Read all sources of a project as saved on disk, without running them.

    Args:
        here: the packages that there are, with their versions.
        cache: keeps what was read of unchanged files.
        unknown: those of some missing packages that nobody has.
        files: the project's source files, where they were found already.
    """
    every = sources.find(place.root) if files is None else files
    read = read_all(place.root, every, documents.read, cache, "what R sources use")
    needs, problems = _declared(place)
    judge = Judge(
        language="r",
        top=str,
        providers=lambda name: [Provider(name, here[name])] if name in here else [],
        is_standard=requirements.BASE.__contains__,
        own=_own(place.root),
        called=str,
        allows=allows,
    )
    found = judged(read, judge, needs)
    lacking = {row.module for row in found.rows if row.standing == "missing" and not row.distribution}
    known = lacking.difference(unknown(lacking) if lacking else ())
    # A package is loaded by its own name.
    rows = [replace(row, distribution=row.module) if row.module in known else row for row in found.rows]
    return surveyed(read, found._replace(rows=rows), needs, problems)


def allows(need: str, version: str) -> bool:
    """Whether a version is in the range of a need."""
    return requirements.parse(need).range.contains(version)


def _own(root: Path) -> frozenset[str]:
    """The package that the project itself is."""
    try:
        return frozenset({description.read(root / description.FILE_NAME).name})
    except (OSError, ValueError):
        return frozenset()


def _declared(place: Place) -> tuple[dict[str, DeclaredNeed], list[str]]:
    """What the project declares of R, by name; and what could not be read, a sentence each."""
    try:
        declaration = reading.read(place)
        needs, overridden = declaration.needs_of("r"), set(declaration.overrides_of("r"))
        problems: list[str] = []
    except DeclarationError as error:
        needs, overridden, problems = declaring.declared(ProjectFiles(place.root)).needs, set(), [str(error)]
    return {
        need.name: DeclaredNeed(need.name, need.text, need.where, need.name not in overridden) for need in needs
    }, problems
