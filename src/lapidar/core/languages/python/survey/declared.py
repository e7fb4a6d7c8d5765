"""What the project says that it needs, wherever it may say so, for the survey to compare with."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from pathlib import Path

from packaging.requirements import InvalidRequirement, Requirement
from packaging.utils import canonicalize_name

from lapidar.core.declaring import reading
from lapidar.core.declaring.project import load
from lapidar.core.errors import DeclarationError
from lapidar.core.languages.python.declaring import standard
from lapidar.core.languages.surveying import DeclaredNeed
from lapidar.core.place import Place
from lapidar.core.records.declaration import Need

__all__ = ["leads_to", "of_project", "of_scripts"]


def of_project(place: Place) -> tuple[list[DeclaredNeed], list[str]]:
    """The needs that the project's own files declare: lapidar.toml, pyproject.toml with its extras, lists.

    Returns:
        The declarations, and what could not be read, a sentence each.
    """
    lists = standard.of_lists(place.root)
    problems = list(lists.problems)
    needs: list[Need] = list(lists.needs)
    overridden: Collection[str] = ()
    try:
        declaration = reading.read(place)
        overridden = declaration.overrides_of("python")
        # What was declared for lapidar counts; a list beside it may be what it was started from.
        needs = [*needs, *_of_extras(place.root), *declaration.needs]
    except DeclarationError as error:
        problems.append(str(error))
    return [
        DeclaredNeed(need.name, need.text, need.where, need.name not in overridden and ";" not in need.text)
        for need in needs
        if need.language == "python"
    ], problems


def leads_to(place: Place, folder: str) -> bool:
    """Whether the project declares a search path that leads to a folder of it."""
    try:
        told = reading.read(place).conditions.variables.get("PYTHONPATH") or ""
    except DeclarationError:
        return False
    return any(part.rstrip("/") in (folder, f"./{folder}", str(place.root / folder)) for part in told.split(":"))


def _of_extras(root: Path) -> list[Need]:
    path = root / standard.PYPROJECT_NAME
    return standard.of_extras(load(path, path.name)) if path.is_file() else []


def of_scripts(needs: Iterable[tuple[str, str]]) -> list[DeclaredNeed]:
    """What scripts declare in themselves, each with its file; texts that cannot be read are passed over."""
    found = []
    for text, where in needs:
        try:
            found.append(DeclaredNeed(canonicalize_name(Requirement(text).name), text, where))
        except InvalidRequirement:
            continue
    return found
