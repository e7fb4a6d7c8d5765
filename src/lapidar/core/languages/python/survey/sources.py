"""The source files of a project: Python files, notebooks, and which folders are not its own."""

from __future__ import annotations

import json
import os
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

import pathspec

from lapidar.core import foreign

__all__ = ["Unreadable", "code_of", "find"]

_IGNORE_FILE = ".gitignore"
_NEVER = frozenset({"__pycache__", "node_modules", "site-packages", "build", "dist"})


class Unreadable(Exception):
    """A source file that cannot be read as what it is; says why."""


class _Ignored(NamedTuple):
    """The ignore list of one folder."""

    folder: str
    patterns: pathspec.GitIgnoreSpec

    def matches(self, path: str) -> bool:
        below = os.path.relpath(path, self.folder or ".")
        return not below.startswith("..") and self.patterns.match_file(below)


def find(root: Path) -> Iterator[str]:
    """The Python files and notebooks of a project, sorted, as paths relative to it.

    Hidden folders, environments, build results and what version control ignores are not the project's own.
    """
    yield from _below(root, "", ())


def _below(root: Path, folder: str, ignored: tuple[_Ignored, ...]) -> Iterator[str]:
    place = root / folder
    try:
        entries = sorted(os.scandir(place), key=lambda entry: entry.name)
    except OSError:
        return
    names = {entry.name for entry in entries}
    if folder and ("pyvenv.cfg" in names or {"bin", "lib", "lapidar.toml"} <= names):
        return
    if _IGNORE_FILE in names:
        ignored = (*ignored, *_ignoring(folder, place / _IGNORE_FILE))
    for entry in entries:
        path = f"{folder}/{entry.name}" if folder else entry.name
        if entry.name.startswith(".") or entry.is_symlink():
            continue
        if entry.is_dir():
            if entry.name not in _NEVER and not _is_ignored(path + "/", ignored):
                yield from _below(root, path, ignored)
        # A pipe or a socket of such a name is told of by whoever reads it, and never waited for.
        elif entry.name.endswith((".py", ".ipynb")) and not _is_ignored(path, ignored):
            yield path


def _ignoring(folder: str, file: Path) -> Iterator[_Ignored]:
    """What a file of patterns says; nothing where it cannot be read, or its patterns make no sense."""
    try:
        lines = foreign.read_text(file, errors="replace").splitlines()
        yield _Ignored(folder, foreign.parsed(lambda: pathspec.GitIgnoreSpec.from_lines(lines)))
    except (OSError, ValueError):
        return


def _is_ignored(path: str, ignored: tuple[_Ignored, ...]) -> bool:
    return any(one.matches(path) or (path.endswith("/") and one.matches(path[:-1])) for one in ignored)


def code_of(path: Path) -> list[tuple[str, str]]:
    """The pieces of Python in a file, each with a label of the place ("" for a plain file, "cell 3" in a notebook).

    Raises:
        Unreadable: it is not UTF-8, or a notebook that is no JSON.
    """
    try:
        text = foreign.read(path).decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise Unreadable("it is not UTF-8") from error
    except OSError as error:
        raise Unreadable(error.strerror or str(error)) from error
    return _cells(text) if path.suffix == ".ipynb" else [("", text)]


def _cells(text: str) -> list[tuple[str, str]]:
    """The code cells of a notebook (nbformat 4), with the lines that are not Python blanked out."""
    try:
        cells = foreign.parsed(lambda: json.loads(text)["cells"])
        pieces = []
        for number, cell in enumerate(cells, 1):
            if cell.get("cell_type") == "code":
                source = cell.get("source", "")
                pieces.append((f"cell {number}", _without_magics("".join(source))))
        return pieces
    except (ValueError, KeyError, TypeError, AttributeError) as error:
        raise Unreadable("it is no notebook of format 4") from error


def _without_magics(code: str) -> str:
    """A line that begins with %, ! or ? is for the notebook; a cell that begins with %% is in another language."""
    if code.lstrip().startswith("%%"):
        return ""
    lines = [
        line[: len(line) - len(line.lstrip())] + "pass" if line.lstrip().startswith(("%", "!", "?")) else line
        for line in code.split("\n")
    ]
    return "\n".join(lines)
