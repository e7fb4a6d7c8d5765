"""What the project says that it needs, wherever it may say so, for the survey to compare with."""

from __future__ import annotations

from pathlib import Path
from typing import NamedTuple

from packaging.requirements import InvalidRequirement, Requirement
from packaging.utils import canonicalize_name

from lapidar.core.declaring import reading
from lapidar.core.declaring.records import Need
from lapidar.core.errors import DeclarationError
from lapidar.core.project import Project

__all__ = ["Declaration", "of_project"]


class Declaration(NamedTuple):
    """One need as declared: the normalised name of a distribution, its range as written, and where."""

    name: str
    text: str
    where: str


def of_project(project: Project) -> tuple[list[Declaration], list[str]]:
    """The needs that the project's own files declare: lapidar.toml, pyproject.toml with its extras, lists.

    Returns:
        The declarations, and what could not be read, a sentence each.
    """
    lists = reading.of_lists(project.root)
    problems = list(lists.problems)
    needs: list[Need] = list(lists.needs)
    try:
        needs = [*reading.read(project).needs, *needs]
        needs += _of_extras(project.root)
    except DeclarationError as error:
        problems.append(str(error))
    return [Declaration(need.name, need.text, need.where) for need in needs], problems


def _of_extras(root: Path) -> list[Need]:
    path = root / reading.PYPROJECT_NAME
    if not path.is_file():
        return []
    extras = reading.load(path, path.name).get("project", {}).get("optional-dependencies", {})
    return [reading.parse_need(text, f"{path.name}, extra {name}") for name, texts in extras.items() for text in texts]


def of_texts(texts: list[str], where: str) -> list[Declaration]:
    """Needs as texts, those that cannot be read passed over."""
    found = []
    for text in texts:
        try:
            found.append(Declaration(canonicalize_name(Requirement(text).name), text, where))
        except InvalidRequirement:
            continue
    return found
