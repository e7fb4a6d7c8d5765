"""The survey: sources -> what they use -> who provides it -> how that stands to what is declared."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec.structs import replace
from packaging.utils import canonicalize_name

from lapidar.core.cache.store import Cache
from lapidar.core.declaring.own import Own
from lapidar.core.languages.python import packages, standard_library, versions
from lapidar.core.languages.python.declaring import standard
from lapidar.core.languages.python.survey import declared, imports, sources
from lapidar.core.languages.python.survey.providers import Providers, in_cache, on_indexes
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
from lapidar.core.records.surveyed import Surveyed, SurveyedModule

if TYPE_CHECKING:  # what asks hosts is loaded where hosts are asked
    from lapidar.core.languages.python.index.indexes import Indexes

__all__ = ["Suggesting", "installed", "suggesting", "survey"]

_SRC = "src/"


# Given the rows and what is declared, tells of missing modules what would provide them.
Suggesting = Callable[[list[SurveyedModule], Mapping[str, DeclaredNeed]], list[SurveyedModule]]


def survey(
    place: Place,
    providers: Providers,
    version: str,
    cache: Cache | None,
    *,
    files: Iterable[str] | None = None,
    suggest: Suggesting | None = None,
) -> Surveyed:
    """Read all sources of a project as saved on disk, without running them.

    Args:
        providers: who provides which module.
        version: of the runtime, whose standard modules nobody need provide.
        cache: keeps what was read of unchanged files.
        files: the project's source files, where they were found already.
        suggest: looks for what provides a missing module.
    """
    files = list(sources.find(place.root) if files is None else files)
    # What was read of a file that is unchanged is not read again.
    read = read_all(place.root, files, _read_file, cache, "what Python sources use")
    declarations, problems = declared.of_project(place)
    by_name = {one.name: one for one in (*declarations, *declared.of_scripts(read.needs))}
    apart = _on_no_path(place, files, read)
    members = _of_members(place, files, read)
    judge = Judge(
        language="python",
        top=lambda module: module.partition(".")[0],
        providers=providers.of,
        is_standard=standard_library.modules(version).__contains__,
        own=frozenset(name for file in files for name in _own_names(file)) - apart - members.keys(),
        called=canonicalize_name,
        allows=versions.allows,
    )
    found = judged(read, judge, by_name)
    found = found._replace(
        rows=[_of_the_project(row, apart, members) if row.standing == "missing" else row for row in found.rows]
    )
    if suggest:
        found = found._replace(rows=suggest(found.rows, by_name))
    return surveyed(read, found, by_name, problems, script_needs=declared.of_scripts(read.needs))


def suggesting(cache: Cache | None, indexes: Indexes | None = None) -> Suggesting:
    """What looks for missing modules in the cache, and then, where they are given, in indexes."""

    def suggest(rows: list[SurveyedModule], by_name: Mapping[str, DeclaredNeed]) -> list[SurveyedModule]:
        if cache is not None and any(row.standing == "missing" for row in rows):
            rows = _suggested(rows, in_cache(cache), by_name)
        if indexes is not None and indexes.indexes and any(map(_is_unknown, rows)):
            idle = by_name.keys() - {row.distribution for row in rows}
            unknown = [row.module for row in rows if _is_unknown(row)]
            rows = _suggested(rows, on_indexes(indexes, unknown, sorted(idle)), by_name)
        return rows

    return suggest


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


def _on_no_path(place: Place, files: Iterable[str], read: Reading) -> frozenset[str]:
    """The project's own modules in a folder ``src`` that files outside of it import: unless they are installed, or a
    variable leads there, no interpreter finds them."""
    inside = {file.split("/")[1].removesuffix(".py") for file in files if file.startswith(_SRC)}
    if not inside or declared.leads_to(place, _SRC.rstrip("/")):
        return frozenset()
    outside = {name for file in files if not file.startswith(_SRC) for name in _own_names(file)}
    used = {
        module.partition(".")[0]
        for module, places in read.modules.items()
        if any(not one.file.startswith(_SRC) for one in places)
    }
    return frozenset(inside & used - outside)


def _of_the_project(row: SurveyedModule, apart: Collection[str], members: Mapping[str, str]) -> SurveyedModule:
    """A missing module, if it is one of the project's own."""
    if row.module in apart:
        return replace(row, standing="on no path")
    if row.module in members:
        return replace(row, standing="not needed", distribution=members[row.module])
    return row


def _of_members(place: Place, files: Sequence[str], read: Reading) -> dict[str, str]:
    """The modules of packages of the project's own that files outside of these import, with the folder of each as one
    needs it: where nobody needs it, no interpreter finds them, unless a variable leads there."""
    users: dict[str, set[str]] = {}
    for module, uses in read.modules.items():
        users.setdefault(module.partition(".")[0], set()).update(one.file for one in uses)
    by_file = {file: _own_names(file) for file in files}
    # Their folders are looked for only where something is imported that lies in some folder.
    if not any(names & users.keys() for file, names in by_file.items() if file.rpartition("/")[0] not in ("", "src")):
        return {}
    found: dict[str, str] = {}
    for member in Own(place).every:
        inside = f"{member.path}/"
        if member.language != "python" or any(declared.leads_to(place, one) for one in (member.path, f"{inside}src")):
            continue
        theirs = {file.removeprefix(inside).removeprefix(_SRC) for file in files if file.startswith(inside)}
        outside = {name for file, names in by_file.items() if not file.startswith(inside) for name in names}
        for name in {one.partition("/")[0].removesuffix(".py") for one in theirs} - outside:
            if any(not file.startswith(inside) for file in users.get(name, ())):
                found[name] = member.typed
    return found


def installed(found: packages.PackagesFound) -> Providers:
    """Who provides which module in an environment."""
    providers = Providers()
    for package in found.packages:
        paths = (draft.path[5:] for draft in package.drafts if draft.path.startswith("site/"))
        providers.add(Provider(package.metadata.name, package.metadata.version), paths)
    return providers


def _is_unknown(row: SurveyedModule) -> bool:
    return row.standing == "missing" and not row.distribution


def _suggested(
    rows: list[SurveyedModule], known: Providers, declarations: Mapping[str, DeclaredNeed]
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
