"""Read what a project declares: ``lapidar.toml``, ``pyproject.toml``, and the user's own configuration.

``pyproject.toml`` has standard places for needs ([project] dependencies, [dependency-groups]) and for the runtime
(requires-python); ``lapidar.toml`` has the same for projects without one, and what there is no standard place for:
indexes, limits, overrides.
"""

from __future__ import annotations

import datetime
import os
import re
import tomllib
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any, Protocol

from packaging.dependency_groups import DependencyGroupResolver
from packaging.requirements import InvalidRequirement, Requirement
from packaging.specifiers import InvalidSpecifier, SpecifierSet
from packaging.utils import canonicalize_name
from packaging.version import InvalidVersion, Version

from lapidar.core.declaring.records import Declaration, Declared, Index, Need, Override
from lapidar.core.errors import DeclarationError
from lapidar.core.languages.python.declaring import lists as listed
from lapidar.core.languages.python.standards.direct_url import without_credentials

__all__ = ["DECLARATION_NAME", "PYPROJECT_NAME", "load", "of_lists", "of_script", "parse_need", "read", "user_file"]

DECLARATION_NAME = "lapidar.toml"
PYPROJECT_NAME = "pyproject.toml"
_TABLES = {"project", "runtime", "needs", "index", "override", "conditions"}
# Inline script metadata specification, its reference expression.
_BLOCK = re.compile(r"(?m)^# /// (?P<type>[a-zA-Z0-9-]+)$\s(?P<content>(^#(| .*)$\s)+)^# ///$")


class _Rooted(Protocol):
    """A project, or anything else with a root folder."""

    @property
    def root(self) -> Path: ...


def user_file() -> Path:
    """The user's configuration file (XDG Base Directory Specification)."""
    return Path(os.environ.get("XDG_CONFIG_HOME") or "~/.config").expanduser() / "lapidar" / "config.toml"


def parse_need(text: str, where: str = "", group: str = "") -> Need:
    """A need as one writes it.

    Raises:
        DeclarationError: it is not one (Dependency specifiers specification).
    """
    try:
        return Need(Requirement(text), group, where)
    except InvalidRequirement as error:
        why = " ".join(str(error).split("\n")[0].split())
        raise DeclarationError(
            f"{text!r} is not a need" + (f" ({where})" if where else ""),
            why=why,
            remedy="Write it as NAME, NAME>=1.2,<2, NAME[extra], or NAME @ ADDRESS.",
        ) from error


def read(project: _Rooted, texts: Mapping[str, str] | None = None) -> Declaration:
    """Everything that a project declares.

    Args:
        texts: by their names, files as they would be, instead of as they are.

    Raises:
        DeclarationError: a file is no TOML, or says something that cannot be meant; with file, line and remedy.
    """
    reading = _Reading(project.root, texts or {})
    reading.pyproject()
    reading.own()
    return reading.declaration()


def load(path: Path, shown: str) -> dict[str, Any]:
    """A TOML file's content.

    Raises:
        DeclarationError: it cannot be read; says the line and the column.
    """
    try:
        return tomllib.loads(path.read_text("utf-8"))
    except tomllib.TOMLDecodeError as error:
        raise DeclarationError(
            f"{shown} is not valid TOML", why=str(error), remedy=f"Correct {shown} at that place."
        ) from error
    except UnicodeDecodeError as error:
        raise DeclarationError(f"{shown} is not UTF-8 text", remedy="Save it as UTF-8.") from error
    except OSError as error:
        raise DeclarationError(f"{shown} cannot be read", why=error.strerror or str(error)) from error


@dataclass(slots=True)
class _Reading:
    """Puts a declaration together from the files of a project."""

    root: Path
    texts: Mapping[str, str]
    name: str = ""
    python: SpecifierSet = field(default_factory=SpecifierSet)
    needs: list[Need] = field(default_factory=list)
    limits: list[Need] = field(default_factory=list)
    sha256: dict[str, tuple[str, ...]] = field(default_factory=dict)
    indexes: list[Index] = field(default_factory=list)
    overrides: dict[str, Override] = field(default_factory=dict)
    tools: tuple[str, ...] = ()
    conditions: Declared = field(default_factory=Declared)
    files: list[str] = field(default_factory=list)

    def declaration(self) -> Declaration:
        return Declaration(
            name=self.name or self.root.name,
            python=self.python,
            needs=tuple(self.needs),
            limits=tuple(self.limits),
            sha256=self.sha256,
            indexes=tuple(self.indexes) or tuple(_users_indexes()),
            overrides=self.overrides,
            tools=self.tools,
            conditions=self.conditions,
            files=tuple(self.files),
        )

    def _load(self, name: str) -> dict[str, Any] | None:
        if name in self.texts:
            return tomllib.loads(self.texts[name])
        return load(self.root / name, name) if (self.root / name).is_file() else None

    # ---- pyproject.toml

    def pyproject(self) -> None:
        data = self._load(PYPROJECT_NAME)
        if data is None:
            return
        project = _table(data, "project", PYPROJECT_NAME)
        if project or "dependency-groups" in data:
            self.files.append(PYPROJECT_NAME)
        self.name = str(project.get("name") or "")
        self._python(project.get("requires-python"), f"{PYPROJECT_NAME}, requires-python")
        self.needs += _needs(project.get("dependencies"), f"{PYPROJECT_NAME}, dependencies")
        groups = _table(data, "dependency-groups", PYPROJECT_NAME)
        resolver = DependencyGroupResolver(groups)
        for group in groups:
            where = f"{PYPROJECT_NAME}, group {group}"
            try:
                found = resolver.resolve(group)
            except Exception as error:  # the library raises several kinds, gathered into an exception group
                raise DeclarationError(
                    f"The group {group} of {PYPROJECT_NAME} cannot be understood",
                    why=_first_cause(error),
                    remedy="Correct [dependency-groups] there.",
                ) from error
            self.needs += [Need(requirement, canonicalize_name(group), where) for requirement in found]

    def _python(self, text: object, where: str) -> None:
        if text is None:
            return
        try:
            asked = _runtimes(str(text))
        except InvalidSpecifier as error:
            raise DeclarationError(f"{where}: {text!r} is not a range of versions", remedy='Write ">=3.11".') from error
        self.python = self.python & asked

    # ---- lapidar.toml

    def own(self) -> None:
        data = self._load(DECLARATION_NAME)
        if data is None:
            return
        self.files.append(DECLARATION_NAME)
        unknown = sorted(set(data) - _TABLES)
        if unknown:
            raise DeclarationError(
                f"{DECLARATION_NAME} has a table that means nothing: [{unknown[0]}]",
                remedy=f"Known are: {', '.join(sorted(_TABLES))}.",
            )
        self.name = str(_table(data, "project", DECLARATION_NAME).get("name") or self.name)
        self._python(_table(data, "runtime", DECLARATION_NAME).get("python"), f"{DECLARATION_NAME}, [runtime] python")
        self._own_needs(_table(data, "needs", DECLARATION_NAME))
        self.indexes = list(_indexes(_table(data, "index", DECLARATION_NAME), DECLARATION_NAME, self.root))
        self.conditions = _conditions(_table(data, "conditions", DECLARATION_NAME))
        for name, fields in _table(data, "override", DECLARATION_NAME).items():
            override = _override(canonicalize_name(name), fields)
            self.overrides[override.name] = override

    def _own_needs(self, table: Mapping[str, Any]) -> None:
        where = f"{DECLARATION_NAME}, [needs]"
        unknown = sorted(set(table) - {"packages", "groups", "limits", "sha256", "tools"})
        if unknown:
            raise DeclarationError(
                f"{where} has a key that means nothing: {unknown[0]}",
                remedy="Known are packages, groups, limits, sha256, tools.",
            )
        self.tools = tuple(dict.fromkeys(_strings(table.get("tools"), f"{where} tools")))
        self.needs += _needs(table.get("packages"), DECLARATION_NAME)
        self.limits += _needs(table.get("limits"), f"{where} limits")
        for group, texts in _table(table, "groups", where).items():
            self.needs += _needs(texts, f"{DECLARATION_NAME}, group {group}", canonicalize_name(group))
        for name, digests in _table(table, "sha256", where).items():
            self.sha256[canonicalize_name(name)] = tuple(_strings(digests, f"{where} sha256.{name}"))


def _runtimes(text: str) -> SpecifierSet:
    """A range of runtimes. A plain version means that line of versions: 3.11 is any 3.11.x."""
    if not re.fullmatch(r"\d+(\.\d+)*", text.strip()):
        return SpecifierSet(text)
    return SpecifierSet(f"=={text}" if text.count(".") > 1 else f"=={text}.*")


def _first_cause(error: BaseException) -> str:
    while isinstance(error, BaseExceptionGroup):
        error = error.exceptions[0]
    return " ".join(str(error).split())


def _table(data: Mapping[str, Any], key: str, where: str) -> dict[str, Any]:
    found = data.get(key, {})
    if not isinstance(found, dict):
        raise DeclarationError(f"{where}: {key} must be a table", remedy=f"Write [{key}].")
    return found


def _strings(value: object, where: str) -> list[str]:
    if value is None:
        return []
    if not isinstance(value, list) or not all(isinstance(item, str) for item in value):
        raise DeclarationError(f"{where} must be a list of strings", remedy='Write ["one", "two"].')
    return value


def _needs(value: object, where: str, group: str = "") -> Iterator[Need]:
    for text in _strings(value, where):
        yield parse_need(text, where, group)


def _indexes(table: Mapping[str, Any], where: str, base: Path) -> Iterator[Index]:
    """``[index] NAME = "address"``, or ``NAME = { address = "...", only = ["name", "pattern-*"] }``."""
    for name, value in table.items():
        fields = {"address": value} if isinstance(value, str) else value
        if not isinstance(fields, dict) or not isinstance(fields.get("address"), str):
            raise DeclarationError(
                f"{where}: the index {name} has no address",
                remedy=f'Write {name} = "https://packages.example/simple", or the path of a folder of wheels.',
            )
        if without_credentials(fields["address"]) != fields["address"].rstrip("#?"):
            raise DeclarationError(
                f"{where}: the address of the index {name} holds a name, a password or a query",
                why="what is written there is committed and copied",
                remedy="Put name and password into ~/.netrc, or the whole address into LAPIDAR_INDEX.",
            )
        only = tuple(_strings(fields.get("only"), f"{where}, index {name}, only"))
        claims = tuple(_strings(fields.get("claims"), f"{where}, index {name}, claims"))
        if unknown := sorted(set(fields) - {"address", "only", "claims"}):
            raise DeclarationError(
                f"{where}: the index {name} has a key that means nothing: {unknown[0]}",
                remedy="Known are address, only, claims.",
            )
        yield Index(name, _address(fields["address"], base), _normalised(only), _normalised(claims))


def _normalised(names: Iterable[str]) -> tuple[str, ...]:
    return tuple(canonicalize_name(name) for name in names)


def _address(text: str, base: Path) -> str:
    """An address as given, or the absolute path of a folder."""
    if re.match(r"^[a-z]+://", text):
        return text.rstrip("/")
    return str((base / Path(text).expanduser()).resolve())


def _users_indexes() -> Iterator[Index]:
    """`LAPIDAR_INDEX` (several addresses with blanks between), else the user's configuration file."""
    named = os.environ.get("LAPIDAR_INDEX", "").split()
    if named:
        for number, address in enumerate(named, 1):
            yield Index(f"index {number} of LAPIDAR_INDEX", _address(address, Path.cwd()))
    elif user_file().is_file():
        data = load(user_file(), str(user_file()))
        yield from _indexes(_table(data, "index", str(user_file())), str(user_file()), user_file().parent)


_VARIABLE = re.compile(r"[A-Za-z_][A-Za-z0-9_]*")


def _conditions(table: Mapping[str, Any]) -> Declared:
    """``[conditions]``: numerics, env, secrets, env-file."""
    where = f"{DECLARATION_NAME}, [conditions]"
    if unknown := sorted(set(table) - {"numerics", "env", "secrets", "env-file"}):
        raise DeclarationError(
            f"{where} has a key that means nothing: {unknown[0]}",
            remedy="Known are numerics, env, secrets, env-file.",
        )
    numerics = table.get("numerics", "native")
    if numerics not in ("native", "portable"):
        raise DeclarationError(
            f"{where}: numerics is {numerics!r}", remedy='Write numerics = "native" or numerics = "portable".'
        )
    env_file = table.get("env-file")
    if env_file is not None and (
        not isinstance(env_file, str) or env_file.startswith("/") or ".." in env_file.split("/") or not env_file
    ):
        raise DeclarationError(f"{where}: env-file must be a path inside the project", remedy='Write ".env".')
    variables = dict(_variables(table.get("env"), where))
    secrets = tuple(_strings(table.get("secrets"), f"{where} secrets"))
    for name in (*variables, *secrets):
        if not _VARIABLE.fullmatch(name):
            raise DeclarationError(f"{where}: {name!r} is no name of a variable", remedy='Write ["NAME=VALUE"].')
    if both := sorted(set(secrets) & variables.keys()):
        raise DeclarationError(
            f"{where}: {both[0]} is both in env and in secrets", remedy="A secret's value is never kept; choose one."
        )
    return Declared(numerics, variables, secrets, env_file)


def _variables(value: object, where: str) -> Iterator[tuple[str, str | None]]:
    """``["NAME=VALUE", "NAME"]``, or ``{ NAME = "VALUE", NAME = "record" }``; None: recorded when it is captured."""
    if isinstance(value, dict) and all(isinstance(one, str) for one in value.values()):
        yield from ((name, None if text == "record" else text) for name, text in value.items())
        return
    for text in _strings(value, f"{where} env"):
        name, given, content = text.partition("=")
        yield name.strip(), content if given else None


_KINDS = ("version", "file", "folder", "commit")


def _override(name: str, fields: object) -> Override:
    where = f"{DECLARATION_NAME}, [override.{name}]"
    if not isinstance(fields, dict):
        raise DeclarationError(f"{where} must be a table")
    given = [kind for kind in _KINDS if fields.get(kind)]
    if len(given) != 1:
        raise DeclarationError(f"{where} must have one of {', '.join(_KINDS)}", remedy='Write version = "1.2".')
    if not str(fields.get("because") or "").strip():
        raise DeclarationError(
            f"{where} does not say why", remedy='Write because = "...", so that it is understood later.'
        )
    if unknown := sorted(set(fields) - {*_KINDS, "because", "until", "url"}):
        raise DeclarationError(f"{where} has a key that means nothing: {unknown[0]}")
    if fields.get("commit") and not fields.get("url"):
        raise DeclarationError(
            f"{where} has a commit and no url", remedy='Write url = "https://packages.example/..." beside it.'
        )
    try:
        until = fields.get("until")
        day = datetime.date.fromisoformat(until) if isinstance(until, str) else until
        if "version" in fields:
            Version(fields["version"])
    except (ValueError, InvalidVersion, TypeError) as error:
        raise DeclarationError(f"{where}: {error}", remedy='Write until = 2027-01-31, version = "1.2".') from error
    texts = {key: str(fields[key]) for key in (*_KINDS, "url", "because") if fields.get(key)}
    return Override(name=name, until=day, **texts)


# ---- what else a project may declare in


def of_script(code: str, where: str) -> Declaration:
    """The needs that a script declares in itself (Inline script metadata specification)."""
    for block in _BLOCK.finditer(code):
        if block["type"] != "script":
            continue
        lines = [line[2:] if line.startswith("# ") else line[1:] for line in block["content"].splitlines()]
        try:
            data = tomllib.loads("\n".join(lines))
            needs = tuple(_needs(data.get("dependencies"), where))
            python = SpecifierSet(str(data.get("requires-python") or ""))
        except (tomllib.TOMLDecodeError, DeclarationError, InvalidSpecifier) as error:
            return Declaration(problems=(f"{where}: its inline metadata cannot be read: {error}",))
        return Declaration(needs=needs, python=python, files=(where,))
    return Declaration()


def of_lists(root: Path) -> Declaration:
    """The needs of the requirements-style lists at a project's root. A list of another name than
    ``requirements.txt`` is a group: ``requirements-dev.txt``, or ``dev-requirements.txt``, is the group dev."""
    whole = Declaration()
    for path in sorted({*root.glob("requirements*.txt"), *root.glob("*-requirements.txt")}):
        group = path.stem.replace("requirements", "").strip("-_.")
        found = listed.read(path, canonicalize_name(group) if group else "")
        indexes = (Index(f"{path.name} {at}", _address(text, root)) for at, text in enumerate(found.indexes, 1))
        whole = replace(
            whole,
            needs=(*whole.needs, *found.needs),
            limits=(*whole.limits, *found.limits),
            sha256={**whole.sha256, **found.sha256},
            indexes=(*whole.indexes, *indexes),
            files=(*whole.files, path.name),
            problems=(*whole.problems, *found.problems),
        )
    return whole
