"""The source files of a project: Python files, and notebooks whose kernel is Python."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from lapidar.core.languages import sources as folders
from lapidar.core.languages.sources import Unreadable

__all__ = ["Unreadable", "code_of", "find"]

_SUFFIXES = (".py", ".ipynb")


def find(root: Path) -> Iterator[str]:
    """The Python files and notebooks of a project, sorted, as paths relative to it."""
    return folders.find(root, lambda name: name.endswith(_SUFFIXES), ("__pycache__", "site-packages"))


def code_of(path: Path) -> list[tuple[str, str]]:
    """The pieces of Python in a file, each with a label of the place ("" for a plain file, "cell 3" in a notebook).

    Raises:
        Unreadable: it is not UTF-8, or a notebook that is no JSON.
    """
    text = folders.text_of(path)
    if path.suffix != ".ipynb":
        return [("", text)]
    language, cells = folders.notebook_cells(text)
    if language not in ("", "python"):
        return []
    return [(label, _without_magics(code)) for label, code in cells]


def _without_magics(code: str) -> str:
    """A line that begins with %, ! or ? is for the notebook; a cell that begins with %% is in another language."""
    if code.lstrip().startswith("%%"):
        return ""
    lines = [
        line[: len(line) - len(line.lstrip())] + "pass" if line.lstrip().startswith(("%", "!", "?")) else line
        for line in code.split("\n")
    ]
    return "\n".join(lines)
