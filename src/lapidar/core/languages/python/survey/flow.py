"""The survey: sources -> what they use -> who provides it -> how that stands to what is declared."""

from __future__ import annotations

import sys
from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec
from packaging.utils import canonicalize_name

from lapidar.core.cache.seen import Seen
from lapidar.core.cache.store import Cache
from lapidar.core.declaring import reading
from lapidar.core.errors import DeclarationError
from lapidar.core.languages.python import packages, versions
from lapidar.core.languages.python.declaring import standard
from lapidar.core.languages.python.probe import Answer
from lapidar.core.languages.python.survey import declared, imports, sources
from lapidar.core.languages.python.survey.declared import DeclaredNeed
from lapidar.core.languages.python.survey.imports import SourceUses, Use
from lapidar.core.languages.python.survey.providers import Provider, Providers, in_cache, of_packages, on_indexes
from lapidar.core.project import Project
from lapidar.core.records.snapshot import Package
from lapidar.core.records.surveyed import Place, Standing, Surveyed, SurveyedModule

if TYPE_CHECKING:  # what asks hosts is loaded where hosts are asked
    from lapidar.core.languages.python.index.indexes import Indexes

__all__ = ["survey", "survey_asking"]


@dataclass(slots=True)
class _Read:
    """Everything that the sources use, by name."""

    files: int
    modules: dict[str, list[Place]]
    programs: dict[str, list[Place]]
    paths: dict[str, list[Place]]
    libraries: dict[str, list[Place]]
    problems: list[str]
    own: set[str]
    declarations: list[DeclaredNeed]


def survey(
    project: Project,
    answer: Answer | None,
    cache: Cache | None,
    *,
    installed: packages.PackagesFound | None = None,
    pinned: Iterable[Package] | None = None,
    indexes: Indexes | None = None,
    files: Iterable[str] | None = None,
    suggest: bool = True,
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
    """
    read = _read(project.root, sources.find(project.root) if files is None else files, cache)
    if pinned is None or cache is None:
        providers = _installed(project, answer, installed)
    else:
        providers = of_packages(cache, pinned)
    declarations, problems = declared.of_project(project)
    declarations = [*declarations, *read.declarations]
    return _judge(read, providers, declarations, problems, cache if suggest else None, indexes if suggest else None)


def survey_asking(
    project: Project, answer: Answer | None, cache: Cache | None, pinned: Iterable[Package] | None = None
) -> Surveyed:
    """As `survey`, and ask the configured indexes last for what provides a missing module."""
    from lapidar.core.languages.python.index.indexes import Indexes

    try:
        configured = reading.read(project).indexes
    except DeclarationError:
        configured = ()  # the survey tells of it
    with Indexes(configured, cache) as indexes:
        return survey(project, answer, cache, indexes=indexes, pinned=pinned)


class _FileRead(msgspec.Struct, array_like=True):
    """What was read in one file; pieces are the cells of a notebook.

    Attributes:
        needs: what a script declares in itself.
    """

    pieces: list[tuple[str, SourceUses]] = []
    problems: list[str] = []
    needs: list[str] = []


def _read(root: Path, files: Iterable[str], cache: Cache | None) -> _Read:
    read = _Read(0, defaultdict(list), defaultdict(list), defaultdict(list), defaultdict(list), [], set(), [])
    # What was read of a file that is unchanged is not read again.
    seen = _seen(root, cache) if cache else None
    for file in files:
        read.files += 1
        read.own.update(_own_names(file))
        one = _known_or_read(root / file, file, seen)
        read.problems += one.problems
        read.declarations += declared.of_texts(one.needs, file)
        for cell, found in one.pieces:
            _add(read.modules, found.modules, file, cell)
            _add(read.programs, found.programs, file, cell)
            _add(read.paths, found.paths, file, cell)
            _add(read.libraries, found.libraries, file, cell)
    if seen:
        seen.save()
    return read


def _seen(root: Path, cache: Cache) -> Seen[_FileRead]:
    """What was read of the sources of a project before."""
    return Seen(cache.root / "seen", f"sources, with what they open, of {root}", _FileRead)


def _known_or_read(path: Path, file: str, seen: Seen[_FileRead] | None) -> _FileRead:
    try:
        status = path.stat()
    except OSError as error:
        return _FileRead(problems=[f"{file}: {error.strerror}"])
    known = seen.known(str(path), status) if seen else None
    if known:
        return known
    one = _read_file(path, file)
    if seen:
        seen.add(str(path), status, one)
    return one


def _read_file(path: Path, file: str) -> _FileRead:
    one = _FileRead([], [], [])
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


def _add(into: dict[str, list[Place]], uses: Iterable[Use], file: str, cell: str) -> None:
    for use in uses:
        into[use.name].append(Place(file, cell, use.line, use.manner))


def _own_names(file: str) -> set[str]:
    """By what names other files of the project may import a file: from its root, from src, from beside it."""
    parts = file.removesuffix(".py").removesuffix(".ipynb").split("/")
    names = {parts[0], parts[-1] if parts[-1] != "__init__" else parts[-2] if len(parts) > 1 else parts[0]}
    if parts[0] == "src" and len(parts) > 1:
        names.add(parts[1])
    return names


def _installed(project: Project, answer: Answer | None, observed: packages.PackagesFound | None) -> Providers:
    providers = Providers()
    if observed is None and answer is not None:
        observed = packages.observe(answer, project, skip_outside=True)
    for package in observed.packages if observed else ():
        paths = (draft.path[5:] for draft in package.drafts if draft.path.startswith("site/"))
        providers.add(Provider(package.metadata.name, package.metadata.version), paths)
    return providers


def _judge(
    read: _Read,
    installed: Providers,
    declarations: list[DeclaredNeed],
    problems: list[str],
    cache: Cache | None,
    indexes: Indexes | None,
) -> Surveyed:
    by_name = {declaration.name: declaration for declaration in declarations}
    grouped: dict[tuple[str, Provider | None], list[Place]] = defaultdict(list)
    own, standard = set(), set()
    for module, places in read.modules.items():
        top = module.partition(".")[0]
        providers = installed.of(module)
        if top in sys.stdlib_module_names:
            standard.add(top)
        elif top in read.own and not providers:
            own.add(top)
        else:
            grouped[(top, providers[0] if providers else None)] += places
    rows = [_row(module, provider, places, by_name) for (module, provider), places in grouped.items()]
    if cache is not None and any(row.standing == "missing" for row in rows):
        rows = _suggested(rows, in_cache(cache), by_name)
    if indexes is not None and indexes.indexes and any(map(_is_unknown, rows)):
        idle = by_name.keys() - {row.distribution for row in rows}
        unknown = [row.module for row in rows if _is_unknown(row)]
        rows = _suggested(rows, on_indexes(indexes, unknown, sorted(idle)), by_name)
    used = {row.distribution for row in rows}
    rows += [
        SurveyedModule("", declaration.name, "", declaration.text, "not used", (Place(declaration.where, "", 0, ""),))
        for declaration in by_name.values()
        if declaration.name not in used
    ]
    order = ["missing", "out of range", "not declared", "not used", "optional", "provided"]
    return Surveyed(
        files=read.files,
        rows=tuple(sorted(rows, key=lambda row: (order.index(row.standing), row.module, row.distribution))),
        programs={name: tuple(places) for name, places in sorted(read.programs.items())},
        paths={name: tuple(places) for name, places in sorted(read.paths.items())},
        libraries={name: tuple(places) for name, places in sorted(read.libraries.items())},
        problems=(*problems, *read.problems),
        own=tuple(sorted(own)),
        standard=tuple(sorted(standard)),
        declares=bool(by_name),
        declared=frozenset(by_name),
        script_needs=tuple((one.text, one.where) for one in read.declarations),
    )


def _row(
    module: str, provider: Provider | None, places: list[Place], declarations: dict[str, DeclaredNeed]
) -> SurveyedModule:
    dispensable = all(place.manner in ("tried", "for type checking") for place in places)
    if provider is None:
        # Mostly a distribution is called as its module.
        named = declarations.get(canonicalize_name(module))
        standing: Standing = "optional" if dispensable else "missing"
        return SurveyedModule(
            module, named.name if named else "", "", named.text if named else "", standing, tuple(places)
        )
    declaration = declarations.get(provider.name)
    standing = "provided"
    if declarations and declaration is None:
        standing = "optional" if dispensable else "not declared"
    text = declaration.text if declaration else ""
    if declaration and declaration.binds and not versions.allows(text, provider.version):
        standing = "out of range"
    return SurveyedModule(module, provider.name, provider.version, text, standing, tuple(places))


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
            row = SurveyedModule(row.module, one.name, one.version, text, row.standing, row.places)
        suggested.append(row)
    return suggested
