"""Read what a project declares: ``lapidar.toml``, the standard files of its languages, the user's own configuration.

Where a language has a standard place for needs and for the versions of the runtime, these are read there;
``lapidar.toml`` has the same for projects without, and what there is no standard place for: indexes, limits, overrides,
outside programs, conditions.
"""

from __future__ import annotations

import datetime
import os
import re
import shlex
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path
from typing import Annotated, Any, Literal, TypeVar

import msgspec
from msgspec import Struct, field

from lapidar.core import decoding, foreign, languages
from lapidar.core.declaring.files import DECLARATION_NAME, user_file
from lapidar.core.declaring.project import ProjectFiles, load
from lapidar.core.errors import DeclarationError, LapidarError
from lapidar.core.languages.protocol import Language
from lapidar.core.net.addresses import without_credentials
from lapidar.core.place import Place
from lapidar.core.records import called
from lapidar.core.records.declaration import (
    Declaration,
    DeclaredAnalysis,
    DeclaredConditions,
    Index,
    Need,
    Override,
    SystemNeeds,
    VersionRange,
    group_name,
)
from lapidar.core.records.owner import PackageName
from lapidar.core.sizes import parse_bytes

__all__ = ["load", "parse_need", "read"]

T = TypeVar("T")


# ---- the tables of lapidar.toml

_Strings = tuple[str, ...]
_Text = Annotated[str, msgspec.Meta(min_length=1)]


class _Table(msgspec.Struct, frozen=True, forbid_unknown_fields=True, rename="kebab"):
    """A table whose keys are all known."""


class _ProjectTable(msgspec.Struct, frozen=True):
    name: str = ""


class _NeedsTable(_Table, frozen=True):
    packages: _Strings = ()
    groups: dict[str, _Strings] = {}
    limits: _Strings = ()
    sha256: dict[str, _Strings] = {}
    tools: _Strings = ()
    system_packages: _Strings = ()
    files: _Strings = ()
    libraries: _Strings = ()
    fonts: _Strings = ()
    locales: _Strings = ()
    extras: _Strings = ()


class _LanguageNeeds(_Table, frozen=True):
    packages: _Strings = ()
    groups: dict[str, _Strings] = {}
    limits: _Strings = ()
    sha256: dict[str, _Strings] = {}


class _RerunTable(_Table, frozen=True):
    trusts: _Strings = ()


class _IndexTable(_Table, frozen=True):
    address: _Text
    language: str = ""
    only: _Strings = ()
    claims: _Strings = ()
    upload: str = ""


class _ConditionsTable(_Table, frozen=True):
    numerics: Literal["native", "portable"] = "native"
    env: _Strings | dict[str, str] = ()
    secrets: _Strings = ()
    env_file: str | None = None


class _OverrideTable(_Table, frozen=True):
    because: str = ""
    until: Any = None
    version: str = ""
    file: str = ""
    folder: str = ""
    commit: str = ""
    url: str = ""


class _RecordTable(_Table, frozen=True):
    by_digest_only: _Strings = ()


class _ReadingTable(_Table, frozen=True, omit_defaults=True):
    kind: str = ""
    delimiter: str = ""
    decimal: str = ""
    encoding: str = ""
    text: _Strings = ()
    key: _Strings = ()


class _AnalysisTable(_Table, frozen=True):
    command: _Strings | str = ()
    results: _Strings = ()
    leave: _Strings = ()
    ignore: _Strings = ()
    tolerance: dict[str, dict[str, float]] = {}
    matched_by: dict[str, _Strings] = {}
    reading: dict[str, _ReadingTable] = {}
    after: _Strings = ()
    processors: int = 1
    memory: str = ""
    at_most: float | None = None
    keep: _Strings = ()
    sweep: dict[str, tuple[str | int | float, ...] | str] = msgspec.field(name="for", default={})


_TABLES = {"analysis", "record", "project", "runtime", "needs", "index", "override", "conditions", "store"}
_KINDS = ("version", "file", "folder", "commit")
_VARIABLE = re.compile(r"[A-Za-z_][A-Za-z0-9_]*")


def parse_need(text: str, where: str = "", group: str = "", language: str = "") -> Need:
    """A need as one writes it.

    Args:
        language: whose it is, by its name; the usual one unless given.

    Raises:
        DeclarationError: it is not one.
    """
    return _language(language).versions.parse_need(text, where, group)


def _language(name: str) -> Language:
    return languages.of(name) if name else languages.usual()


def read(place: Place, texts: Mapping[str, str] | None = None) -> Declaration:
    """Everything that a project declares.

    Args:
        texts: by their names, files as they would be, instead of as they are.

    Raises:
        DeclarationError: a file is no TOML, or says something that cannot be meant; with file, place and remedy.
    """
    called = place.name or DECLARATION_NAME  # that of a script follows from its block
    reading = _Reading(ProjectFiles(place.declaration.parent, texts or {}), called)
    for language in languages.every():
        reading.standard(language)
    reading.own()
    return reading.declaration()


def _system(told: _NeedsTable, where: str) -> SystemNeeds:
    """Raises: DeclarationError: a file is not named by its whole path."""
    for path in told.files:
        if not os.path.isabs(path):
            raise DeclarationError(
                f"{where} files: {path} is no absolute path",
                why="these are files of the machine, which outside programs find at their places",
                remedy="What lies in the project needs no declaration: it travels with it.",
            )
    several = (told.tools, told.system_packages, told.files, told.libraries, told.fonts, told.locales)
    return SystemNeeds(*(tuple(dict.fromkeys(one)) for one in several))


class _Reading(Struct):
    """Puts a declaration together from the files of a project."""

    project: ProjectFiles
    called: str = DECLARATION_NAME
    name: str = ""
    runtimes: dict[str, VersionRange] = field(default_factory=dict)
    needs: list[Need] = field(default_factory=list)
    extras: dict[str, tuple[Need, ...]] = field(default_factory=dict)
    limits: list[Need] = field(default_factory=list)
    sha256: dict[PackageName, tuple[str, ...]] = field(default_factory=dict)
    indexes: list[Index] = field(default_factory=list)
    as_of: datetime.date | None = None
    overrides: dict[PackageName, Override] = field(default_factory=dict)
    system: SystemNeeds = field(default_factory=SystemNeeds)
    conditions: DeclaredConditions = field(default_factory=DeclaredConditions)
    by_digest_only: tuple[str, ...] = ()
    analyses: dict[str, DeclaredAnalysis] = field(default_factory=dict)
    files: list[str] = field(default_factory=list)

    def declaration(self) -> Declaration:
        return Declaration(
            name=self.name or self.project.root.name,
            runtimes=self.runtimes,
            needs=tuple(self.needs),
            limits=tuple(self.limits),
            sha256=self.sha256,
            indexes=tuple(self.indexes) or tuple(_users_indexes()),
            extras=tuple(self.extras),
            as_of=self.as_of,
            overrides=self.overrides,
            system=self.system,
            conditions=self.conditions,
            by_digest_only=self.by_digest_only,
            analyses=self.analyses,
            files=tuple(self.files),
        )

    def standard(self, language: Language) -> None:
        """What the standard files of a language declare."""
        if language.declaring is None:
            return
        told = language.declaring.declared(self.project)
        self.name = told.name or self.name
        self.needs += told.needs
        self.extras |= told.extras
        self.files += told.files
        if told.runtime is not None:
            self.runtimes[language.name] = told.runtime

    def own(self) -> None:
        """What lapidar.toml declares."""
        data = self.project.toml(DECLARATION_NAME)
        if data is None:
            return
        self.files.append(DECLARATION_NAME)
        if unknown := sorted(set(data) - _TABLES):
            raise DeclarationError(
                f"{self.called} has a table that means nothing: [{unknown[0]}]",
                remedy=f"Known are: {', '.join(sorted(_TABLES))}.",
            )
        self.name = _table(data, "project", _ProjectTable).name or self.name
        self._own_runtimes(_table(data, "runtime", dict[str, str]))
        self._own_needs(_table(data, "needs", dict[str, Any]))
        self.as_of, indexes = _as_of(data.get("index", {}))
        self.indexes = list(_indexes(indexes, DECLARATION_NAME, self.project.root))
        self.conditions = _conditions(_table(data, "conditions", _ConditionsTable))
        self.by_digest_only = _table(data, "record", _RecordTable).by_digest_only
        for name, fields in _table(data, "analysis", dict[str, Any]).items():
            self.analyses[name] = _analysis(name, fields)
        self._own_overrides(_table(data, "override", dict[str, Any]))

    def _own_overrides(self, table: Mapping[str, Any]) -> None:
        """``[override.NAME]``, and of another language than the usual one ``[override.LANGUAGE.NAME]``."""
        usual, *others = languages.every()
        by_language = {one.name: one for one in others}
        for name, fields in table.items():
            language = by_language.get(name)
            if language and isinstance(fields, dict) and all(isinstance(one, dict) for one in fields.values()):
                several = [_override(language, below, told) for below, told in fields.items()]
            else:
                several = [_override(usual, name, fields)]
            self.overrides |= {override.key: override for override in several}

    def _own_runtimes(self, table: Mapping[str, str]) -> None:
        known = {language.name: language for language in languages.every()}
        for name, text in table.items():
            where = f"{self.called}, [runtime] {name}"
            if name not in known:
                raise DeclarationError(f"{where}: there is no such language", remedy=f"Known are {', '.join(known)}.")
            self.runtimes[name] = known[name].versions.parse_range(text, where, self.runtimes.get(name))

    def _own_needs(self, table: dict[str, Any]) -> None:
        """``packages`` are of the usual language; those of another stand under its name."""
        where = f"{self.called}, [needs]"
        usual, *others = languages.every()
        of_others = {one: table.pop(one.name) for one in others if one.name in table}
        told = _converted(table, _NeedsTable, where)
        self.system = _system(told, where)
        self.needs += _needs(usual, told.packages, self.called)
        for name in map(group_name, told.extras):
            if name not in self.extras:
                offered = ", ".join(self.extras) or "none"
                raise DeclarationError(
                    f"{where} extras: the project offers no extra {name}",
                    why=f"it offers {offered}",
                    remedy="Correct its name.",
                )
            self.needs += self.extras[name]
        self.limits += _needs(usual, told.limits, f"{where} limits")
        for group, texts in told.groups.items():
            self.needs += _needs(usual, texts, f"{self.called}, group {group}", _group(group))
        self._digests(usual, told.sha256)
        for language, found in of_others.items():
            self._needs_of(language, found, f"{where} {language.name}")

    def _needs_of(self, language: Language, found: Any, where: str) -> None:
        """The needs of another language than the usual one: a list, or a table as [needs] itself is one."""
        if not isinstance(found, dict):
            found = {"packages": _converted(found, _Strings, where)}
        told = _converted(found, _LanguageNeeds, where)
        self.needs += _needs(language, told.packages, self.called)
        self.limits += _needs(language, told.limits, f"{where} limits")
        for group, texts in told.groups.items():
            self.needs += _needs(language, texts, f"{self.called}, group {group}", _group(group))
        self._digests(language, told.sha256)

    def _digests(self, language: Language, told: Mapping[str, _Strings]) -> None:
        self.sha256 |= {PackageName(language.name, language.versions.normalised(name)): told[name] for name in told}


def _group(name: str) -> str:
    return group_name(called.checked(name, "a group", DECLARATION_NAME))


def _needs(language: Language, texts: Iterable[str], where: str, group: str = "") -> Iterator[Need]:
    for text in texts:
        yield language.versions.parse_need(text, where, group)


# ---- tables


def _table(data: Mapping[str, Any], key: str, kind: type[T]) -> T:
    found = data.get(key, {})
    if not isinstance(found, dict):
        raise DeclarationError(f"{DECLARATION_NAME}: {key} must be a table", remedy=f"Write [{key}].")
    return _converted(found, kind, f"{DECLARATION_NAME}, [{key}]")


def _converted(value: Any, kind: type[T], where: str) -> T:
    """A value of a TOML file as what it must be.

    Raises:
        DeclarationError: it is something else; says which key, and what there may be.
    """
    try:
        return decoding.convert(value, kind)
    except msgspec.ValidationError as error:
        raise _unfit(error, kind, where) from error


def _unfit(error: msgspec.ValidationError, kind: type[Any], where: str) -> DeclarationError:
    text, _, place = str(error).partition(" - at `$")
    place = place.removesuffix("`").lstrip(".").replace("[...]", "")
    at = f"{where} {place}" if place else where
    if unknown := re.search(r"unknown field `(.*)`", text):
        known = ", ".join(one.encode_name for one in msgspec.structs.fields(kind))
        return DeclarationError(f"{at} has a key that means nothing: {unknown[1]}", remedy=f"Known are {known}.")
    if "array" in text:
        return DeclarationError(f"{at} must be a list of strings", why=text, remedy='Write ["one", "two"].')
    return DeclarationError(f"{at} is not what it must be", why=text, remedy="See docs/declaration.md.")


# ---- indexes


def _as_of(table: Any) -> tuple[datetime.date | None, Any]:
    """``as-of = 2026-01-31`` among the indexes, and these without it."""
    if not isinstance(table, dict) or "as-of" not in table:
        return None, table
    found = table["as-of"]
    if not isinstance(found, datetime.date) or isinstance(found, datetime.datetime):
        raise DeclarationError(
            f"{DECLARATION_NAME}, [index] as-of is not a date", remedy="Write as-of = 2026-01-31, without quotes."
        )
    return found, {name: value for name, value in table.items() if name != "as-of"}


def _indexes(table: Any, where: str, base: Path) -> Iterator[Index]:
    """``[index] NAME = "address"``, or ``NAME = { address = "...", only = ["name", "pattern-*"] }``."""
    if not isinstance(table, dict):
        raise DeclarationError(f"{where}: index must be a table", remedy="Write [index].")
    for name, value in table.items():
        called.checked(name, "an index", where)
        fields = {"address": value} if isinstance(value, str) else value
        if not isinstance(fields, dict) or not fields.get("address"):
            raise DeclarationError(
                f"{where}: the index {name} has no address",
                remedy=f'Write {name} = "https://packages.example/simple", or the path of a folder of packages.',
            )
        told = _converted(fields, _IndexTable, f"{where}: the index {name}")
        if any(without_credentials(one) != one.rstrip("#?") for one in (told.address, told.upload)):
            raise DeclarationError(
                f"{where}: the address of the index {name} holds a name, a password or a query",
                why="what is written there is committed and copied",
                remedy="Put name and password into ~/.netrc, or the whole address into LAPIDAR_INDEX.",
            )
        language = _of_index(told.language, f"{where}: the index {name}")
        only, claims = (tuple(map(language.versions.normalised, several)) for several in (told.only, told.claims))
        yield Index(name, address_of(told.address, base), only, claims, language.name, told.upload)


def _of_index(name: str, where: str) -> Language:
    """Raises: DeclarationError: there is no such language."""
    known = {one.name: one for one in languages.every()}
    if name and name not in known:
        raise DeclarationError(
            f"{where} is of the language {name}, which is not known", remedy=f"Known are {', '.join(known)}."
        )
    return known[name] if name else languages.usual()


def address_of(text: str, base: Path) -> str:
    """An address as given, or the absolute path of a folder.

    Args:
        base: what a relative path is relative to.
    """
    if re.match(r"^[a-z][a-z+]*://", text):
        return text.rstrip("/")
    return str((base / foreign.expanded(text)).resolve())


def _users_indexes() -> Iterator[Index]:
    """`LAPIDAR_INDEX` (several addresses with blanks between; one of another language than the usual has its name
    before it: ``r=ADDRESS``), else the user's configuration file."""
    named = os.environ.get("LAPIDAR_INDEX", "").split()
    if named:
        others = [language.name for language in languages.every()[1:]]
        for number, text in enumerate(named, 1):
            language, sign, rest = text.partition("=")
            language, address = (language, rest) if sign and language in others else (languages.usual().name, text)
            yield Index(f"index {number} of LAPIDAR_INDEX", address_of(address, Path.cwd()), language=language)
    elif user_file().is_file():
        data = load(user_file(), str(user_file()))
        yield from _indexes(data.get("index", {}), str(user_file()), user_file().parent)


def is_trusted(place: Place) -> bool:
    """Whether the user runs the records of a project unasked: it lies in one of the folders that her own configuration
    names, ``[rerun] trusts = ["~/lab"]``. A project's own declaration has no say in it."""
    if not user_file().is_file():
        return False
    where = str(user_file())
    told = _converted(load(user_file(), where).get("rerun", {}), _RerunTable, f"{where}, [rerun]")
    root = Path(os.path.realpath(place.root))
    return any(root.is_relative_to(os.path.realpath(address_of(text, user_file().parent))) for text in told.trusts)


# ---- conditions


def _conditions(told: _ConditionsTable) -> DeclaredConditions:
    where = f"{DECLARATION_NAME}, [conditions]"
    inside = told.env_file
    if inside is not None and (inside.startswith("/") or ".." in inside.split("/") or not inside):
        raise DeclarationError(f"{where}: env-file must be a path inside the project", remedy='Write ".env".')
    variables = dict(_variables(told.env))
    for name in (*variables, *told.secrets):
        if not _VARIABLE.fullmatch(name):
            raise DeclarationError(f"{where}: {name!r} is no name of a variable", remedy='Write ["NAME=VALUE"].')
    if both := sorted(set(told.secrets) & variables.keys()):
        raise DeclarationError(
            f"{where}: {both[0]} is both in env and in secrets", remedy="A secret's value is never kept; choose one."
        )
    return DeclaredConditions(told.numerics, variables, told.secrets, inside)


def _variables(told: tuple[str, ...] | dict[str, str]) -> Iterator[tuple[str, str | None]]:
    """``["NAME=VALUE", "NAME"]``, or ``{ NAME = "VALUE", NAME = "record" }``; None: recorded when it is captured."""
    if isinstance(told, dict):
        yield from ((name, None if text == "record" else text) for name, text in told.items())
        return
    for text in told:
        name, given, content = text.partition("=")
        yield name.strip(), content if given else None


# ---- analyses


def _analysis(name: str, fields: Any) -> DeclaredAnalysis:
    where = f"{DECLARATION_NAME}, [analysis.{name}]"
    called.checked(name, "an analysis", DECLARATION_NAME)
    told = _converted(fields, _AnalysisTable, where)
    try:
        command = tuple(shlex.split(told.command)) if isinstance(told.command, str) else told.command
    except ValueError as error:
        raise DeclarationError(f"{where}: the command cannot be read", why=str(error)) from error
    tolerance = {pattern: dict(measures) for pattern, measures in told.tolerance.items()}
    readings = {pattern: msgspec.to_builtins(one) for pattern, one in told.reading.items()}
    if told.processors < 1 or (told.at_most is not None and told.at_most <= 0):
        raise DeclarationError(f"{where}: processors must be 1 or more, and at-most more than 0")
    return DeclaredAnalysis(
        name,
        command,
        told.results,
        (*told.leave, *told.keep),
        told.ignore,
        tolerance,
        dict(told.matched_by),
        readings,
        tuple(called.checked(one, "an analysis", where) for one in told.after),
        told.processors,
        _size(told.memory, where),
        told.at_most,
        told.keep,
        dict(_swept(told.sweep, where)),
    )


def _swept(told: Mapping[str, tuple[str | int | float, ...] | str], where: str) -> Iterator[tuple[str, Any]]:
    """Raises: DeclarationError: a name is none of a variable, or there is no value."""
    for name, values in told.items():
        if not _VARIABLE.fullmatch(name) or not values:
            raise DeclarationError(
                f"{where}: `for` has no values for {name!r}",
                remedy='Write for = { kiln = ["upper"], seed = "1..100" }.',
            )
        yield name, values if isinstance(values, str) else tuple(map(str, values))


def _size(text: str, where: str) -> int:
    """Raises: DeclarationError: it is no size."""
    try:
        return parse_bytes(text) if text else 0
    except LapidarError as error:
        raise DeclarationError(f"{where}: {error.what}", remedy=error.remedy) from error


# ---- overrides


def _override(language: Language, name: str, fields: Any) -> Override:
    where = f"{DECLARATION_NAME}, [override.{language.versions.normalised(name)}]"
    told = _converted(fields, _OverrideTable, where)
    if sum(bool(getattr(told, kind)) for kind in _KINDS) != 1:
        raise DeclarationError(f"{where} must have one of {', '.join(_KINDS)}", remedy='Write version = "1.2".')
    if not told.because.strip():
        raise DeclarationError(
            f"{where} does not say why", remedy='Write because = "...", so that it is understood later.'
        )
    if told.commit and not told.url:
        raise DeclarationError(
            f"{where} has a commit and no url", remedy='Write url = "https://packages.example/..." beside it.'
        )
    try:
        until = datetime.date.fromisoformat(told.until) if isinstance(told.until, str) else told.until
        if isinstance(until, datetime.datetime):  # which is a date too, and cannot be compared with one
            until = until.date()
        if until is not None and not isinstance(until, datetime.date):
            raise ValueError(f"until is no day: {until!r}")
        if told.version:
            language.versions.require(told.version)
    except ValueError as error:
        raise DeclarationError(f"{where}: {error}", remedy='Write until = 2027-01-31, version = "1.2".') from error
    return Override(
        language.versions.normalised(name),
        told.because,
        until,
        told.version,
        told.file,
        told.folder,
        told.url,
        told.commit,
        language.name,
    )
