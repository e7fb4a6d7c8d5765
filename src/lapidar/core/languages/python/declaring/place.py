"""Where a Python project declares its needs in a standard file."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from lapidar.core import foreign, languages
from lapidar.core.declaring.project import load
from lapidar.core.errors import DeclarationError
from lapidar.core.languages.python.declaring.standard import PYPROJECT_NAME

if TYPE_CHECKING:
    from lapidar.core.declaring.editing import NeedsFile

__all__ = ["standard_place"]


def standard_place(root: Path) -> NeedsFile | None:
    """``pyproject.toml`` where it has a [project] table; None elsewhere.

    Raises:
        DeclarationError: the file cannot be read, or gets its needs from elsewhere.
    """
    path = root / PYPROJECT_NAME
    if not path.is_file() or not isinstance(load(path, PYPROJECT_NAME).get("project"), dict):
        return None
    from lapidar.core.declaring.editing import NeedsFile  # what edits is loaded where something is edited

    place = NeedsFile(
        PYPROJECT_NAME,
        foreign.read_text(path),
        language=languages.of("python"),
        main=("project", "dependencies"),
        groups=("dependency-groups",),
    )
    if "dependencies" in place.document["project"].get("dynamic", []):
        raise DeclarationError(
            f"{PYPROJECT_NAME} says that its dependencies are dynamic",
            remedy="Write them under [project] dependencies there, or declare the needs in lapidar.toml.",
        )
    return place
