"""The names that a run of Python looks for, and those that a package has; see `Using` of the protocol."""

from __future__ import annotations

import os
import posixpath
from collections.abc import Collection, Iterator
from contextlib import suppress

from packaging.utils import canonicalize_name

from lapidar.core.cache.trees import Tree

__all__ = ["given", "imports_from", "sought"]

_TELLS = "python/"
_COMPILED = (".so", ".pyd")
_MODULES = (".py", ".pyc", *_COMPILED)


def imports_from(folder: str, started_in: str) -> bool:
    """The import system looks through the folders of its path (where it began is the first of them) and of packages."""
    return folder == started_in or _has_modules(folder) or any(map(_has_modules, _folders(folder)))


def _has_modules(folder: str) -> bool:
    with suppress(OSError), os.scandir(folder) as entries:
        return any(entry.name.endswith(_MODULES) for entry in entries)
    return False


def _folders(folder: str) -> Iterator[str]:
    with suppress(OSError), os.scandir(folder) as entries:
        yield from (entry.path for entry in entries if entry.name.isidentifier() and entry.is_dir())


def sought(told: Collection[str], listed: Collection[str], folder: str) -> Iterator[str]:
    """Names of modules as they are, those of distributions with their kind before them; ``*`` for all. Where the
    interpreter told nothing at all, it may have looked for anything."""
    mine = {one.removeprefix(_TELLS) for one in told if one.startswith(_TELLS)}
    if "begun" not in mine or "every" in mine or any(one == f"folder{folder}" for one in mine):
        yield "*"
    for one in mine:
        kind, _, name = one.partition("/")
        if kind == "module":
            yield name
        elif kind == "distribution":
            yield f"distribution {canonicalize_name(name)}"


def given(name: str, tree: Tree) -> Iterator[str]:
    """What importing finds of a package, with the folders that lead there; ``.`` for what every start runs."""
    yield f"distribution {name}"
    for entry in tree:
        root, _, below = entry.path.partition("/")
        if root != "site":
            continue
        folder, file = posixpath.split(below)
        if not folder and (file.endswith(".pth") or file in ("sitecustomize.py", "usercustomize.py")):
            yield "."
        yield from _modules(folder, file)


def _modules(folder: str, file: str) -> Iterator[str]:
    parts = folder.split("/") if folder else []
    yield from (".".join(parts[: end + 1]) for end in range(len(parts)))
    stem, _, suffix = file.partition(".")
    if suffix == "py" or file.endswith(_COMPILED):
        yield ".".join([*parts, stem])
