"""Adopt a folder as a project: what it has already becomes its declaration."""

from __future__ import annotations

import datetime
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

import tomlkit
from msgspec import Struct, field
from msgspec.structs import replace
from tomlkit.items import Table
from tomlkit.toml_document import TOMLDocument

from lapidar.core import languages
from lapidar.core.declaring import reading
from lapidar.core.declaring.files import DECLARATION_NAME
from lapidar.core.declaring.own import package_in
from lapidar.core.declaring.project import ProjectFiles
from lapidar.core.errors import LapidarError
from lapidar.core.net.addresses import without_credentials
from lapidar.core.place import Place
from lapidar.core.records.declaration import Declaration, Index, Need
from lapidar.core.records.owner import PackageName
from lapidar.core.records.snapshot import Snapshot
from lapidar.core.records.surveyed import Surveyed

__all__ = ["Proposal", "propose", "render"]


class Proposal(Struct):
    """What a project's declaration would be.

    Attributes:
        runtimes: by language, the versions of the runtime that it works with.
        needs: each with where it was found.
        stated: the languages whose standard files state needs and runtime already, so that only the rest is written.
        unknown: modules that are imported and that nobody is known to provide.
        as_of: nothing newer than this day is to be pinned.
        extras: what the project offers as extras of its own, and that can be taken as groups.
    """

    name: str
    runtimes: dict[str, str] = field(default_factory=dict)
    needs: list[Need] = field(default_factory=list)
    limits: list[Need] = field(default_factory=list)
    sha256: dict[PackageName, tuple[str, ...]] = field(default_factory=dict)
    indexes: list[Index] = field(default_factory=list)
    stated: frozenset[str] = frozenset()
    unknown: list[str] = field(default_factory=list)
    as_of: datetime.date | None = None
    extras: list[str] = field(default_factory=list)
    problems: list[str] = field(default_factory=list)


def propose(place: Place, surveyed: Surveyed | None, runtimes: Mapping[str, str], locked: Snapshot | None) -> Proposal:
    """What the folder has already, put together.

    Args:
        surveyed: what its source needs.
        runtimes: by language, the version of the runtime that is there.
        locked: the lockfile that there is.

    Raises:
        LapidarError: it is a project already.
    """
    if place.declaration.exists():
        raise LapidarError(
            f"{place.root} is a project already: it has a {DECLARATION_NAME}",
            remedy="`lapidar need NAME` declares more; `lapidar survey` shows what is missing.",
        )
    stated = reading.read(place)
    lists = _lists(place)
    proposal = Proposal(
        name=stated.name or place.root.name,
        runtimes={name: f">={'.'.join(version.split('.')[:2])}" for name, version in runtimes.items() if version}
        | {name: str(asked) for name, asked in lists.runtimes.items()}
        | {name: str(asked) for name, asked in stated.runtimes.items()},
        limits=list(lists.limits),
        sha256=lists.sha256,
        # Those of the user's own configuration serve every project, and need not stand in this one.
        indexes=[replace(one, address=without_credentials(one.address)) for one in lists.indexes],
        stated=_stated(place),
        problems=list(lists.problems),
        extras=list(stated.extras),
    )
    known = {(need.language, need.group, need.name) for need in stated.needs}
    found = [*lists.needs, *_of_source(place, surveyed), *_of_lock(locked, lists)]
    for need in (one for one in found if one.language not in proposal.stated):
        key = (need.language, need.group, need.name)
        if key not in known and (need.language, "", need.name) not in known:
            known.add(key)
            proposal.needs.append(need)
    if surveyed:
        proposal.unknown = [row.module for row in surveyed.rows if row.standing == "missing" and not row.distribution]
    return proposal


def _lists(place: Place) -> Declaration:
    """What the lists of needs of all languages propose."""
    whole = Declaration()
    for language in languages.every():
        if language.declaring is None:
            continue
        found = language.declaring.proposed(place.root)
        whole = replace(
            whole,
            runtimes={**whole.runtimes, **found.runtimes},
            needs=(*whole.needs, *found.needs),
            limits=(*whole.limits, *found.limits),
            sha256={**whole.sha256, **found.sha256},
            indexes=(*whole.indexes, *found.indexes),
            problems=(*whole.problems, *found.problems),
        )
    return whole


def _stated(place: Place) -> frozenset[str]:
    """The languages with a standard file that declares anything."""
    project = ProjectFiles(place.root)
    declaring = {one.name: one.declaring for one in languages.every() if one.declaring}
    return frozenset(name for name, one in declaring.items() if one.declared(project).files)


def _of_source(place: Place, surveyed: Surveyed | None) -> Iterable[Need]:
    """What scripts declare in themselves, then what the source imports."""
    if surveyed is None:
        return
    for one in surveyed.script_needs:
        yield reading.parse_need(one.text, one.where, language=one.language)
    for row in surveyed.rows:
        if row.module and row.distribution and row.standing != "optional":
            where = str(row.places[0]) if row.places else ""
            if row.standing == "not needed":
                text = package_in(place, place.root / row.distribution).as_need(DECLARATION_NAME)
                yield reading.parse_need(text, where, language=row.language)
                continue
            yield reading.parse_need(row.distribution, where, language=row.language)


def _of_lock(locked: Snapshot | None, lists: Declaration) -> Iterable[Need]:
    if locked is not None and not lists.needs:
        for package in locked.packages:
            if package.asked_for:
                extras = f"[{','.join(package.extras)}]" if package.extras else ""
                for group in ("",) if package.wanted else package.groups:
                    yield reading.parse_need(f"{package.name}{extras}", "lapidar.lock", group, package.language)


def render(proposal: Proposal) -> str:
    """The text of the lapidar.toml."""
    document = tomlkit.document()
    document.add(tomlkit.comment("What this project needs; see `lapidar need`, `lapidar pin`."))
    if not proposal.stated:
        _add(document, "project", {"name": proposal.name})
    runtimes = {name: text for name, text in proposal.runtimes.items() if name not in proposal.stated}
    if runtimes:
        _add(document, "runtime", runtimes)
    _needs(document, proposal)
    indexes = tomlkit.table()
    if proposal.as_of:
        indexes.add("as-of", proposal.as_of)
    for at, index in enumerate(proposal.indexes):
        name = index.name if index.name.isidentifier() else "main" if not at else f"other-{at}"
        indexes.add(name, _index(index))
    if not proposal.indexes:
        indexes.add(tomlkit.comment('main = "https://packages.example/simple"    or the path of a folder of packages'))
    document.add("index", indexes)
    return tomlkit.dumps(document)


def _index(index: Index) -> Any:
    if index.language in ("", languages.usual().name):
        return index.address
    fields = tomlkit.inline_table()
    fields.update({"address": index.address, "language": index.language})
    return fields


def _add(document: TOMLDocument, name: str, fields: Mapping[str, str]) -> None:
    table = tomlkit.table()
    for key, value in fields.items():
        table.add(key, value)
    document.add(name, table)


def _needs(document: TOMLDocument, proposal: Proposal) -> None:
    """Those of the usual language, and those of each other one in a list or a table of its own."""
    table = tomlkit.table()
    usual = languages.usual().name
    for language in languages.every():
        own = [need for need in proposal.needs if need.language == language.name]
        is_usual = language.name == usual
        if language.name in proposal.stated or (not own and (proposal.needs or proposal.stated or not is_usual)):
            continue
        into = table if is_usual else tomlkit.table()
        _needs_of(into, own, proposal, language.name)
        if not is_usual:
            table.add(language.name, into if len(into) > 1 else into["packages"])
    if len(table):
        document.add("needs", table)


def _needs_of(table: Table, needs: Sequence[Need], proposal: Proposal, language: str) -> None:
    """The needs of a language with their groups, what lists limit, and their digests."""
    table.add("packages", _array([need for need in needs if not need.group]))
    if limits := [need for need in proposal.limits if need.language == language]:
        table.add("limits", _array(limits))
    if groups := sorted({need.group for need in needs if need.group}):
        inner = tomlkit.table()
        for group in groups:
            inner.add(group, _array([need for need in needs if need.group == group]))
        table.add("groups", inner)
    digests = tomlkit.table()
    for package, several in sorted(proposal.sha256.items()):
        if package.language == language:
            digests.add(package.name, list(several))
    if len(digests):
        table.add("sha256", digests)


def _array(needs: Sequence[Need]) -> tomlkit.items.Array:
    array = tomlkit.array()
    for need in sorted(needs, key=lambda need: need.name):
        array.append(need.text)
    return array.multiline(True)
