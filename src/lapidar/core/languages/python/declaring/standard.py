"""What the standard files of Python projects declare: ``pyproject.toml``, scripts in themselves, and the plain lists of
common use."""

from __future__ import annotations

import functools
import re
import tomllib
from collections.abc import Callable, Iterable, Iterator, Mapping
from pathlib import Path
from typing import Any

from msgspec import Struct
from msgspec.structs import replace
from packaging.dependency_groups import DependencyGroupResolver
from packaging.specifiers import InvalidSpecifier, SpecifierSet
from packaging.utils import canonicalize_name

from lapidar.core import foreign
from lapidar.core.declaring.reading import address_of
from lapidar.core.errors import DeclarationError
from lapidar.core.languages.protocol import Declared
from lapidar.core.languages.python import requirements
from lapidar.core.languages.python.declaring import lists
from lapidar.core.languages.python.declaring.spoken import of_notebooks
from lapidar.core.net.addresses import without_credentials
from lapidar.core.records.declaration import Declaration, Index, Need, VersionRange
from lapidar.core.records.owner import PackageName

__all__ = ["PYPROJECT_NAME", "RuntimeRange", "declared", "of_extras", "of_lists", "of_script", "parse_range"]

PYPROJECT_NAME = "pyproject.toml"
# Inline script metadata specification, its reference expression.
_BLOCK = re.compile(r"(?m)^# /// (?P<type>[a-zA-Z0-9-]+)$\s(?P<content>(^#(| .*)$\s)+)^# ///$")


class RuntimeRange(Struct, frozen=True):
    """Versions of the runtime (Version specifiers specification). A pre-release that is there is taken as any other."""

    specifier: SpecifierSet

    def contains(self, version: str) -> bool:
        """Whether a version is in it."""
        return self.specifier.contains(version, prereleases=True)

    def __str__(self) -> str:
        return requirements.in_order(self.specifier)


def parse_range(text: str, where: str, before: VersionRange | None = None) -> RuntimeRange:
    """A range of runtimes. A plain version means that line of versions: 3.11 is any 3.11.x.

    Args:
        before: one that must hold too.

    Raises:
        DeclarationError: it is none.
    """
    try:
        asked = _runtimes(text)
    except InvalidSpecifier as error:
        raise DeclarationError(f"{where}: {text!r} is not a range of versions", remedy='Write ">=3.11".') from error
    return RuntimeRange(asked & before.specifier if isinstance(before, RuntimeRange) else asked)


def _runtimes(text: str) -> SpecifierSet:
    if not re.fullmatch(r"\d+(\.\d+)*", text.strip()):
        return SpecifierSet(text)
    return SpecifierSet(f"=={text}" if text.count(".") > 1 else f"=={text}.*")


# ---- pyproject.toml


def declared(load: Callable[[str], dict[str, Any] | None]) -> Declared:
    """What ``pyproject.toml`` declares (pyproject.toml and Dependency groups specifications).

    Args:
        load: gives a file of the project; None where there is none.

    Raises:
        DeclarationError: it says something that cannot be meant.
    """
    data = load(PYPROJECT_NAME)
    if data is None:
        return Declared()
    project = _table(data, "project")
    asked = project.get("requires-python")
    return Declared(
        name=str(project.get("name") or ""),
        runtime=parse_range(str(asked), f"{PYPROJECT_NAME}, requires-python") if asked is not None else None,
        needs=(*_needs(project.get("dependencies"), f"{PYPROJECT_NAME}, dependencies"), *_of_groups(data)),
        extras=dict(_extras(project)),
        files=(PYPROJECT_NAME,) if project or "dependency-groups" in data else (),
    )


def _of_groups(data: Mapping[str, Any]) -> Iterator[Need]:
    groups = _table(data, "dependency-groups")
    resolver = DependencyGroupResolver(groups)
    for group in groups:
        try:
            found = resolver.resolve(group)
        except Exception as error:  # the library raises several kinds, gathered into an exception group
            raise DeclarationError(
                f"The group {group} of {PYPROJECT_NAME} cannot be understood",
                why=_first_cause(error),
                remedy="Correct [dependency-groups] there.",
            ) from error
        for requirement in found:
            yield requirements.need(requirement, canonicalize_name(group), f"{PYPROJECT_NAME}, group {group}")


def _first_cause(error: BaseException) -> str:
    while isinstance(error, BaseExceptionGroup):
        error = error.exceptions[0]
    return " ".join(str(error).split())


def _table(data: Mapping[str, Any], key: str) -> dict[str, Any]:
    found = data.get(key, {})
    if not isinstance(found, dict):
        raise DeclarationError(f"{PYPROJECT_NAME}: {key} must be a table", remedy=f"Write [{key}].")
    return found


def _needs(value: object, where: str) -> Iterator[Need]:
    if value is None:
        return
    if not isinstance(value, list) or not all(isinstance(item, str) for item in value):
        raise DeclarationError(f"{where} must be a list of strings", remedy='Write ["one", "two"].')
    for text in value:
        yield requirements.parse(text, where)


def _extras(project: Mapping[str, Any]) -> Iterator[tuple[str, tuple[Need, ...]]]:
    """The extras that a project offers, each as a group of its name."""
    for name, texts in project.get("optional-dependencies", {}).items():
        group = canonicalize_name(name)
        yield group, tuple(requirements.parse(text, f"{PYPROJECT_NAME}, extra {name}", group) for text in texts)


def of_extras(data: Mapping[str, Any]) -> list[Need]:
    """The needs of the extras that a ``pyproject.toml`` offers."""
    return [need for _, needs in _extras(data.get("project", {})) for need in needs]


# ---- scripts and lists


def of_script(code: str, where: str) -> Declaration:
    """The needs that a script declares in itself (Inline script metadata specification)."""
    for block in _BLOCK.finditer(code):
        if block["type"] != "script":
            continue
        lines = [line[2:] if line.startswith("# ") else line[1:] for line in block["content"].splitlines()]
        try:
            data = foreign.parsed(functools.partial(tomllib.loads, "\n".join(lines)))
            needs = tuple(_needs(data.get("dependencies"), where))
            runtime = RuntimeRange(SpecifierSet(str(data.get("requires-python") or "")))
        except (ValueError, DeclarationError) as error:
            return Declaration(problems=(f"{where}: its inline metadata cannot be read: {error}",))
        return Declaration(needs=needs, runtimes={"python": runtime}, files=(where,))
    return Declaration()


def of_lists(root: Path, *, adopting: bool = False) -> Declaration:
    """The needs of the requirements-style lists at a project's root. A list of another name than
    ``requirements.txt`` is a group: ``requirements-dev.txt``, or ``dev-requirements.txt``, is the group dev.

    Args:
        adopting: for who makes it a project: which runtime the notebooks speak for, and what is not taken over.
    """
    whole = Declaration()
    for path in sorted({*root.glob("requirements*.txt"), *root.glob("*-requirements.txt")}):
        group = path.stem.replace("requirements", "").strip("-_.")
        found = lists.read(path, canonicalize_name(group) if group else "")
        taken, refused = _of_this_project(found.indexes, root)
        indexes = (Index(f"{path.name} {at}", address) for at, address in enumerate(taken, 1))
        whole = replace(
            whole,
            needs=(*whole.needs, *found.needs),
            limits=(*whole.limits, *found.limits),
            sha256=whole.sha256 | {PackageName("python", name): told for name, told in found.sha256.items()},
            indexes=(*whole.indexes, *indexes),
            files=(*whole.files, path.name),
            problems=(
                *whole.problems,
                *found.problems,
                *(_not_adopted(path.name, text) for text in refused if adopting),
            ),
        )
    spoken = of_notebooks(root) if adopting else ""
    return replace(whole, runtimes={"python": parse_range(spoken, "the notebooks")}) if spoken else whole


def _of_this_project(texts: Iterable[str], root: Path) -> tuple[list[str], list[str]]:
    """Of the places of packages that a list names, the folders of the project itself, and all others."""
    taken: list[str] = []
    refused: list[str] = []
    for text in texts:
        path = Path(address_of(text, root))
        inside = "://" not in text and path.is_dir() and path.is_relative_to(root.resolve())
        (taken if inside else refused).append(str(path) if inside else text)
    return taken, refused


def _not_adopted(list_name: str, text: str) -> str:
    return (
        f"{list_name} names {without_credentials(text)} as a place of packages; that was its author's, and is not "
        "adopted: lapidar start --index ADDRESS takes one"
    )
