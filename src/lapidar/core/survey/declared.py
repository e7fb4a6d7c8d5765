"""What the project says that it needs, wherever a standard has a place for it.

``pyproject.toml`` ([project] and [dependency-groups]), inline script metadata (``# /// script``), and the
requirements-style lists that many projects keep.
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import NamedTuple

from packaging.requirements import InvalidRequirement, Requirement
from packaging.utils import canonicalize_name

__all__ = ["Declaration", "of_project", "of_script"]

# Inline script metadata specification, its reference expression.
_BLOCK = re.compile(r"(?m)^# /// (?P<type>[a-zA-Z0-9-]+)$\s(?P<content>(^#(| .*)$\s)+)^# ///$")


class Declaration(NamedTuple):
    """One need as declared: the normalised name of a distribution, its range as written, and where."""

    name: str
    text: str
    where: str


def _parsed(texts: Iterable[object], where: str) -> Iterator[Declaration]:
    for text in texts:
        if isinstance(text, str):
            try:
                requirement = Requirement(text)
            except InvalidRequirement:
                continue
            yield Declaration(canonicalize_name(requirement.name), text, where)


def of_project(root: Path) -> tuple[list[Declaration], list[str]]:
    """The needs that the project's own files declare.

    Returns:
        The declarations, and what could not be read, a sentence each.
    """
    found: list[Declaration] = []
    problems: list[str] = []
    path = root / "pyproject.toml"
    if path.is_file():
        try:
            data = tomllib.loads(path.read_text("utf-8"))
            found += _of_pyproject(data)
        except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
            problems.append(f"pyproject.toml cannot be read: {error}")
    for listed in sorted(root.glob("requirements*.txt")):
        found += _of_list(listed, listed.name, set())
    return found, problems


def _of_pyproject(data: dict[str, object]) -> Iterator[Declaration]:
    project = data.get("project")
    if isinstance(project, dict):
        yield from _parsed(project.get("dependencies") or (), "pyproject.toml")
        extras = project.get("optional-dependencies")
        for name, texts in (extras if isinstance(extras, dict) else {}).items():
            yield from _parsed(texts, f"pyproject.toml, extra {name}")
    groups = data.get("dependency-groups")
    for name, texts in (groups if isinstance(groups, dict) else {}).items():
        yield from _parsed(texts, f"pyproject.toml, group {name}")


def _of_list(path: Path, where: str, seen: set[Path]) -> Iterator[Declaration]:
    """A requirements-style list, with the lists that it includes (-r); its options are passed over."""
    if path in seen or not path.is_file():
        return
    seen.add(path)
    for line in path.read_text("utf-8", "replace").replace("\\\n", " ").splitlines():
        text = re.sub(r"(^|\s)#.*$", "", line).strip()
        included = re.match(r"(?:-r|--requirement)[\s=]+(\S+)", text)
        if included:
            yield from _of_list((path.parent / included[1]).resolve(), where, seen)
        elif text and not text.startswith("-"):
            yield from _parsed([re.split(r"\s+--\w", text)[0]], where)


def of_script(code: str, where: str) -> list[Declaration]:
    """The needs that a script declares in itself (Inline script metadata specification)."""
    for block in _BLOCK.finditer(code):
        if block["type"] == "script":
            lines = [line[2:] if line.startswith("# ") else line[1:] for line in block["content"].splitlines()]
            try:
                data = tomllib.loads("\n".join(lines))
            except tomllib.TOMLDecodeError:
                return []
            dependencies = data.get("dependencies")
            return list(_parsed(dependencies if isinstance(dependencies, list) else (), where))
    return []
