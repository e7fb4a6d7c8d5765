"""The source files of a project: which folders are not its own, and what version control ignores; and what all
languages read alike: text, and the code cells of notebooks."""

from __future__ import annotations

import json
import os
from collections.abc import Callable, Collection, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from lapidar.core import foreign

if TYPE_CHECKING:
    import pathspec

__all__ = ["Unreadable", "find", "notebook_cells", "text_of"]

_IGNORE_FILE = ".gitignore"
_LONGEST_PATH = 4096  # PATH_MAX of Linux
_NEVER = frozenset({"node_modules", "build", "dist"})


class Unreadable(Exception):
    """A source file that cannot be read as what it is; says why."""


class _Ignored(NamedTuple):
    """The ignore list of one folder."""

    folder: str
    patterns: pathspec.GitIgnoreSpec

    def matches(self, path: str) -> bool:
        below = os.path.relpath(path, self.folder or ".")
        return not below.startswith("..") and self.patterns.match_file(below)


def find(root: Path, is_source: Callable[[str], bool], never: Collection[str] = ()) -> Iterator[str]:
    """The source files of a project, sorted, as paths relative to it.

    Hidden folders, environments, build results and what version control ignores are not the project's own.

    Args:
        is_source: whether a file of this name is one.
        never: further names of folders that nobody writes source in.
    """
    left_out = frozenset((*_NEVER, *never))
    waiting: list[tuple[str, bool, tuple[_Ignored, ...]]] = [("", True, ())]
    while waiting:  # folders may lie deeper than calls can
        path, is_folder, ignored = waiting.pop()
        if not is_folder:
            yield path
            continue
        found = list(_in_folder(root, path, ignored, is_source, left_out))
        waiting += reversed(found)


def _in_folder(
    root: Path, folder: str, ignored: tuple[_Ignored, ...], is_source: Callable[[str], bool], never: frozenset[str]
) -> Iterator[tuple[str, bool, tuple[_Ignored, ...]]]:
    """What of a folder is the project's own, sorted: folders, and source files."""
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
            if entry.name not in never and not _is_ignored(path + "/", ignored):
                yield path, True, ignored
        # A pipe or a socket of such a name is told of by whoever reads it, and never waited for.
        elif is_source(entry.name) and not _is_ignored(path, ignored):
            yield path, False, ignored


def _ignoring(folder: str, file: Path) -> Iterator[_Ignored]:
    """What a file of patterns says; nothing where it cannot be read, or its patterns make no sense."""
    import pathspec  # many files for what most projects have one of

    try:
        # A pattern that is longer than any path matches none, and costs seconds at every name.
        lines = [line for line in foreign.read_text(file, errors="replace").splitlines() if len(line) <= _LONGEST_PATH]
        yield _Ignored(folder, foreign.parsed(lambda: pathspec.GitIgnoreSpec.from_lines(lines)))
    except (OSError, ValueError):
        return


def _is_ignored(path: str, ignored: tuple[_Ignored, ...]) -> bool:
    return any(one.matches(path) or (path.endswith("/") and one.matches(path[:-1])) for one in ignored)


def text_of(path: Path) -> str:
    """The text of a source file.

    Raises:
        Unreadable: it is not UTF-8, or not there to be read.
    """
    try:
        return foreign.read(path).decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise Unreadable("it is not UTF-8") from error
    except OSError as error:
        raise Unreadable(error.strerror or str(error)) from error


def notebook_cells(text: str) -> tuple[str, list[tuple[str, str]]]:
    """The language of a notebook's kernel, in lower case ("" where it does not say), and its code cells (nbformat 4),
    each with a label.

    Raises:
        Unreadable: it is none.
    """
    try:
        notebook = foreign.parsed(lambda: json.loads(text))
        about = notebook.get("metadata", {})
        language = about.get("kernelspec", {}).get("language") or about.get("language_info", {}).get("name") or ""
        pieces = [
            (f"cell {number}", "".join(cell.get("source", "")))
            for number, cell in enumerate(notebook["cells"], 1)
            if cell.get("cell_type") == "code"
        ]
        return str(language).lower(), pieces
    except (ValueError, KeyError, TypeError, AttributeError) as error:
        raise Unreadable("it is no notebook of format 4") from error
