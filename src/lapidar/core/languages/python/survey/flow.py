"""The survey: sources -> what they use -> who provides it -> how that stands to what is declared."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from packaging.utils import canonicalize_name

from lapidar.core.cache.store import Cache
from lapidar.core.declaring import reading
from lapidar.core.errors import DeclarationError
from lapidar.core.languages.python import packages, standard_library, versions
from lapidar.core.languages.python.declaring import standard
from lapidar.core.languages.python.probe import Answer
from lapidar.core.languages.python.survey import declared, imports, sources
from lapidar.core.languages.python.survey.providers import Providers, in_cache, of_packages, on_indexes
from lapidar.core.languages.surveying import (
    DeclaredNeed,
    FileRead,
    Judge,
    Provider,
    Reading,
    judged,
    read_all,
    surveyed,
)
from lapidar.core.place import Place
from lapidar.core.records.snapshot import Package
from lapidar.core.records.surveyed import Surveyed, SurveyedModule

if TYPE_CHECKING:  # what asks hosts is loaded where hosts are asked
    from lapidar.core.languages.python.index.indexes import Indexes

__all__ = ["survey", "survey_asking"]


def survey(
    place: Place,
    answer: Answer | None,
    cache: Cache | None,
    *,
    installed: packages.PackagesFound | None = None,
    pinned: Iterable[Package] | None = None,
    indexes: Indexes | None = None,
    files: Iterable[str] | None = None,
    suggest: bool = True,
    version: str = "",
) -> Surveyed:
    """Read all sources of a project as saved on disk, without running them.

    Args:
        answer: the interpreter of the environment that the project is used with, if there is one.
        cache: looked in for what provides a missing module; it also keeps what was read of unchanged files.
        installed: what the environment was found to hold, where that is known already.
        pinned: judge by these packages, and by no environment.
        indexes: asked last for what provides a missing module.
        files: the project's source files, where they were found already.
        suggest: whether to look for what provides a missing module.
        version: of the runtime, where the interpreter does not tell.
    """
    files = list(sources.find(place.root) if files is None else files)
    # What was read of a file that is unchanged is not read again.
    read = read_all(place.root, files, _read_file, cache, "what Python sources use")
    by_pins = of_packages(cache, pinned) if pinned is not None and cache is not None else None
    providers = by_pins or _installed(place, answer, installed)
    declarations, problems = declared.of_project(place)
    declarations = [*declarations, *declared.of_scripts(read.needs)]
    own = frozenset(name for file in files for name in _own_names(file))
    return _judge(
        read,
        own,
        providers,
        declarations,
        problems,
        cache if suggest else None,
        indexes if suggest else None,
        version or (answer.version if answer else ""),
    )


def survey_asking(
    place: Place,
    answer: Answer | None,
    cache: Cache | None,
    pinned: Iterable[Package] | None = None,
    version: str = "",
) -> Surveyed:
    """As `survey`, and ask the configured indexes last for what provides a missing module."""
    from lapidar.core.languages.python.index.indexes import Indexes

    try:
        configured = reading.read(place).indexes
    except DeclarationError:
        configured = ()  # the survey tells of it
    with Indexes(configured, cache) as indexes:
        return survey(place, answer, cache, indexes=indexes, pinned=pinned, version=version)


def _read_file(path: Path, file: str) -> FileRead:
    one = FileRead([], [], [])
    try:
        pieces = sources.code_of(path)
    except sources.Unreadable as error:
        one.problems.append(f"{file}: {error}")
        return one
    for cell, code in pieces:
        script = standard.of_script(code, file)
        one.needs += [need.text for need in script.needs]
        one.problems += script.problems
        try:
            one.pieces.append((cell, imports.read(code)))
        except (SyntaxError, ValueError, RecursionError, MemoryError) as error:
            where = f"{file}, {cell}" if cell else file
            line = f", line {error.lineno}" if isinstance(error, SyntaxError) and error.lineno else ""
            one.problems.append(f"{where}{line}: {getattr(error, 'msg', None) or error}")
    return one


def _own_names(file: str) -> set[str]:
    """By what names other files of the project may import a file: from its root, from src, from beside it."""
    parts = file.removesuffix(".py").removesuffix(".ipynb").split("/")
    names = {parts[0], parts[-1] if parts[-1] != "__init__" else parts[-2] if len(parts) > 1 else parts[0]}
    if parts[0] == "src" and len(parts) > 1:
        names.add(parts[1])
    return names


def _installed(place: Place, answer: Answer | None, observed: packages.PackagesFound | None) -> Providers:
    providers = Providers()
    if observed is None and answer is not None:
        observed = packages.observe(answer, place, skip_outside=True)
    for package in observed.packages if observed else ():
        paths = (draft.path[5:] for draft in package.drafts if draft.path.startswith("site/"))
        providers.add(Provider(package.metadata.name, package.metadata.version), paths)
    return providers


def _judge(
    read: Reading,
    own: frozenset[str],
    installed: Providers,
    declarations: list[DeclaredNeed],
    problems: list[str],
    cache: Cache | None,
    indexes: Indexes | None,
    version: str,
) -> Surveyed:
    by_name = {declaration.name: declaration for declaration in declarations}
    judge = Judge(
        language="python",
        top=lambda module: module.partition(".")[0],
        providers=installed.of,
        is_standard=standard_library.modules(version).__contains__,
        own=own,
        called=canonicalize_name,
        allows=versions.allows,
    )
    found = judged(read, judge, by_name)
    rows = found.rows
    if cache is not None and any(row.standing == "missing" for row in rows):
        rows = _suggested(rows, in_cache(cache), by_name)
    if indexes is not None and indexes.indexes and any(map(_is_unknown, rows)):
        idle = by_name.keys() - {row.distribution for row in rows}
        unknown = [row.module for row in rows if _is_unknown(row)]
        rows = _suggested(rows, on_indexes(indexes, unknown, sorted(idle)), by_name)
    return surveyed(read, found._replace(rows=rows), by_name, problems, script_needs=declared.of_scripts(read.needs))


def _is_unknown(row: SurveyedModule) -> bool:
    return row.standing == "missing" and not row.distribution


def _suggested(
    rows: list[SurveyedModule], known: Providers, declarations: dict[str, DeclaredNeed]
) -> list[SurveyedModule]:
    """For each missing module, the distribution that would provide it: a declared one, where one would."""
    suggested = []
    for row in rows:
        found = known.of(row.module) if _is_unknown(row) else []
        if found:
            one = next((one for one in reversed(found) if one.name in declarations), found[-1])
            text = declarations[one.name].text if one.name in declarations else ""
            row = replace(row, distribution=one.name, version=one.version, declared=text)
        suggested.append(row)
    return suggested
