"""What the project says that it needs, wherever it may say so, for the survey to compare with."""

from __future__ import annotations

from collections.abc import Collection
from pathlib import Path
from typing import NamedTuple

from packaging.requirements import InvalidRequirement, Requirement
from packaging.utils import canonicalize_name

from lapidar.core.declaring import reading
from lapidar.core.errors import DeclarationError
from lapidar.core.languages.python.declaring import standard
from lapidar.core.project import Project
from lapidar.core.records.declaration import Need

__all__ = ["DeclaredNeed", "of_project"]


class DeclaredNeed(NamedTuple):
    """One need as declared.

    Attributes:
        name: of a distribution, normalised.
        text: its range as written.
        binds: whether a version outside of that is none that was meant: not where something overrides it, or where it
            holds only on some platforms.
    """

    name: str
    text: str
    where: str
    binds: bool = True


def of_project(project: Project) -> tuple[list[DeclaredNeed], list[str]]:
    """The needs that the project's own files declare: lapidar.toml, pyproject.toml with its extras, lists.

    Returns:
        The declarations, and what could not be read, a sentence each.
    """
    lists = standard.of_lists(project.root)
    problems = list(lists.problems)
    needs: list[Need] = list(lists.needs)
    overridden: Collection[str] = ()
    try:
        declaration = reading.read(project)
        overridden = declaration.overrides
        # What was declared for lapidar counts; a list beside it may be what it was started from.
        needs = [*needs, *_of_extras(project.root), *declaration.needs]
    except DeclarationError as error:
        problems.append(str(error))
    return [
        DeclaredNeed(need.name, need.text, need.where, need.name not in overridden and ";" not in need.text)
        for need in needs
    ], problems


def _of_extras(root: Path) -> list[Need]:
    path = root / standard.PYPROJECT_NAME
    return standard.of_extras(reading.load(path, path.name)) if path.is_file() else []


def of_texts(texts: list[str], where: str) -> list[DeclaredNeed]:
    """Needs as texts, those that cannot be read passed over."""
    found = []
    for text in texts:
        try:
            found.append(DeclaredNeed(canonicalize_name(Requirement(text).name), text, where))
        except InvalidRequirement:
            continue
    return found
