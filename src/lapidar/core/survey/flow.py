"""The survey: sources -> what they use -> who provides it -> how that stands to what is declared."""

from __future__ import annotations

import sys
from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from lapidar.core.cache.store import Cache
from lapidar.core.environment.probe import Answer
from lapidar.core.layers import packages
from lapidar.core.project import Project
from lapidar.core.survey import declared, imports, sources
from lapidar.core.survey.declared import Declaration
from lapidar.core.survey.imports import Use
from lapidar.core.survey.providers import Provider, Providers, in_cache

__all__ = ["Place", "Row", "Standing", "Surveyed", "survey"]

Standing = Literal["provided", "missing", "optional", "not declared", "not used"]


@dataclass(frozen=True, slots=True)
class Place:
    """Where something is used: a file of the project, a cell ("" in a plain file), a line, and how."""

    file: str
    cell: str
    line: int
    manner: str

    def __str__(self) -> str:
        return f"{self.file}:{self.cell + ':' if self.cell else ''}{self.line}"


@dataclass(frozen=True, slots=True)
class Row:
    """A module that the project imports, or a distribution that it declares and does not use.

    Attributes:
        module: its top-level name; "" for a distribution that is not used.
        distribution, version: what provides it here; for a missing one, what in the cache would.
        declared: the range as declared, "" where it is not.
    """

    module: str
    distribution: str
    version: str
    declared: str
    standing: Standing
    places: tuple[Place, ...]


@dataclass(frozen=True, slots=True)
class Surveyed:
    """What a survey found.

    Attributes:
        files: how many source files were read.
        programs, paths: outside programs started by literal commands, and paths on a person's own machine.
        problems: files that could not be read, a sentence each.
        own, standard: the project's own modules, and the standard library's, that are imported.
    """

    files: int
    rows: tuple[Row, ...]
    programs: dict[str, tuple[Place, ...]]
    paths: dict[str, tuple[Place, ...]]
    problems: tuple[str, ...]
    own: tuple[str, ...]
    standard: tuple[str, ...]
    declares: bool

    @property
    def agrees(self) -> bool:
        """Whether source, declaration and environment fit together."""
        return not self.problems and all(row.standing in ("provided", "optional") for row in self.rows)


@dataclass(slots=True)
class _Read:
    """Everything that the sources use, by name."""

    files: int
    modules: dict[str, list[Place]]
    programs: dict[str, list[Place]]
    paths: dict[str, list[Place]]
    problems: list[str]
    own: set[str]
    declarations: list[Declaration]


def survey(project: Project, answer: Answer | None, cache: Cache | None) -> Surveyed:
    """Read all sources of a project as saved on disk, without running them.

    Args:
        answer: the interpreter of the environment that the project is used with, if there is one.
        cache: looked in for what provides a missing module.
    """
    read = _read(project.root)
    installed = _installed(project, answer)
    declarations, problems = declared.of_project(project.root)
    declarations += read.declarations
    return _judge(read, installed, declarations, problems, cache)


def _read(root: Path) -> _Read:
    read = _Read(0, defaultdict(list), defaultdict(list), defaultdict(list), [], set(), [])
    for file in sources.find(root):
        read.files += 1
        read.own.update(_own_names(file))
        try:
            pieces = sources.code_of(root / file)
        except sources.Unreadable as error:
            read.problems.append(f"{file}: {error}")
            continue
        for cell, code in pieces:
            read.declarations += declared.of_script(code, file)
            try:
                found = imports.read(code)
            except (SyntaxError, ValueError, RecursionError) as error:
                where = f"{file}, {cell}" if cell else file
                line = f", line {error.lineno}" if isinstance(error, SyntaxError) and error.lineno else ""
                read.problems.append(f"{where}{line}: {getattr(error, 'msg', None) or error}")
                continue
            _add(read.modules, found.modules, file, cell)
            _add(read.programs, found.programs, file, cell)
            _add(read.paths, found.paths, file, cell)
    return read


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


def _installed(project: Project, answer: Answer | None) -> Providers:
    providers = Providers()
    if answer is None:
        return providers
    observed = packages.observe(answer, project, skip_outside=True)
    for package in observed.packages:
        paths = (draft.path[5:] for draft in package.drafts if draft.path.startswith("site/"))
        providers.add(Provider(package.metadata.name, package.metadata.version), paths)
    return providers


def _judge(
    read: _Read, installed: Providers, declarations: list[Declaration], problems: list[str], cache: Cache | None
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
        rows = _suggested(rows, in_cache(cache))
    used = {row.distribution for row in rows}
    rows += [
        Row("", declaration.name, "", declaration.text, "not used", (Place(declaration.where, "", 0, ""),))
        for declaration in by_name.values()
        if declaration.name not in used
    ]
    order = ["missing", "not declared", "not used", "optional", "provided"]
    return Surveyed(
        files=read.files,
        rows=tuple(sorted(rows, key=lambda row: (order.index(row.standing), row.module, row.distribution))),
        programs={name: tuple(places) for name, places in sorted(read.programs.items())},
        paths={name: tuple(places) for name, places in sorted(read.paths.items())},
        problems=(*problems, *read.problems),
        own=tuple(sorted(own)),
        standard=tuple(sorted(standard)),
        declares=bool(by_name),
    )


def _row(module: str, provider: Provider | None, places: list[Place], declarations: dict[str, Declaration]) -> Row:
    dispensable = all(place.manner in ("tried", "for type checking") for place in places)
    if provider is None:
        return Row(module, "", "", "", "optional" if dispensable else "missing", tuple(places))
    declaration = declarations.get(provider.name)
    standing: Standing = "provided"
    if declarations and declaration is None:
        standing = "optional" if dispensable else "not declared"
    text = declaration.text if declaration else ""
    return Row(module, provider.name, provider.version, text, standing, tuple(places))


def _suggested(rows: list[Row], cached: Providers) -> list[Row]:
    """For each missing module, the distribution of the cache that provides it."""
    suggested = []
    for row in rows:
        found = cached.of(row.module) if row.standing == "missing" else []
        if found:
            row = Row(row.module, found[-1].name, found[-1].version, row.declared, row.standing, row.places)
        suggested.append(row)
    return suggested
