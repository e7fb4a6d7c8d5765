"""Editable installations: a package whose code is used from a folder instead of from the environment.

Installers do it in two ways: a ``.pth`` file that adds the folder to the path, or a finder module with a
table of module names and places. Both are listed in the distribution's RECORD.
"""

from __future__ import annotations

import ast
import functools
import os
from collections.abc import Iterable, Iterator

from msgspec import Struct

from lapidar.core import foreign
from lapidar.core.cache.stowing import Draft
from lapidar.core.environment import walk
from lapidar.core.environment.walk import Found

__all__ = ["Editable", "added_folders", "find", "linked", "stow_drafts"]

_NOT_CODE = frozenset({"__pycache__", "node_modules", "build", "dist"})
_NOT_MODULES = frozenset({"setup.py", "conftest.py", "noxfile.py", "tasks.py"})


class Editable(Struct, frozen=True):
    """How an editable installation is wired.

    Attributes:
        folders: the folders that must be on the path.
        modules: the single modules or packages that are used, where a table names them.
        wiring: the files in the packages' folder that do it; they are the installer's, not the package's.
    """

    folders: tuple[str, ...]
    modules: tuple[str, ...]
    wiring: frozenset[str]


def added_folders(pth: str) -> Iterator[str]:
    """The existing folders, outside its own, that a ``.pth`` file adds to the path (absolute)."""
    site = os.path.dirname(pth)
    try:
        text = foreign.read_text(pth, "utf-8-sig", "surrogateescape")
    except OSError:
        return
    yield from _added(text.splitlines(), site)


def _added(lines: Iterable[str], site: str) -> Iterator[str]:
    for line in lines:
        if not line.strip() or line.startswith(("#", "import ", "import\t")):
            continue
        folder = os.path.normpath(os.path.join(site, line.rstrip()))
        # A folder, or an archive of modules.
        if os.path.exists(folder) and folder != site and not folder.startswith(site + "/"):
            yield folder


def other_lines(pth: str) -> bytes:
    """The lines of a ``.pth`` file but for those by which it adds folders outside its own."""
    try:
        text = foreign.read_text(pth, "utf-8-sig", "surrogateescape")
    except OSError:
        return b""
    kept = [line for line in text.splitlines() if line.strip() and not list(_added([line], os.path.dirname(pth)))]
    return "".join(line + "\n" for line in kept).encode("utf-8", "surrogateescape")


def _table(module: str) -> dict[str, str]:
    """The table of a finder module: module name -> place."""
    try:
        text = foreign.read_text(module)
        tree = foreign.parsed(lambda: ast.parse(text))
    except (OSError, ValueError):
        return {}
    for node in tree.body:
        if not isinstance(node, ast.Assign | ast.AnnAssign):
            continue
        targets = node.targets if isinstance(node, ast.Assign) else [node.target]
        if any(isinstance(target, ast.Name) and target.id == "MAPPING" for target in targets):
            try:
                value = foreign.parsed(functools.partial(ast.literal_eval, node.value)) if node.value else None
            except ValueError:
                return {}
            if isinstance(value, dict):
                return {str(name): str(place) for name, place in value.items()}
    return {}


def linked(egg_link: str) -> str | None:
    """The folder that an egg link (setuptools' older form of an editable installation) leads to; None where it is none.

    Its first line is the folder; what imports find it by is a line of ``easy-install.pth``.
    """
    try:
        lines = foreign.read_text(egg_link, "utf-8", "surrogateescape").splitlines()
    except OSError:
        return None
    folder = os.path.normpath(os.path.join(os.path.dirname(egg_link), lines[0].strip())) if lines else ""
    return folder if os.path.isdir(folder) else None


def find(site: str, listed: Iterable[str]) -> Editable | None:
    """Whether a distribution is installed in editable form.

    Args:
        site: the packages' folder.
        listed: absolute paths of the distribution's files.
    """
    folders: list[str] = []
    modules: list[str] = []
    wiring = set()
    for path in listed:
        if os.path.dirname(path) != site or not path.endswith((".pth", ".py")) or not os.path.isfile(path):
            continue
        if path.endswith(".pth"):
            added = list(added_folders(path))
            folders += added
            if added or _starts_finder(path):
                wiring.add(path)
        elif path.endswith(".py") and (table := _table(path)):
            wiring.add(path)
            modules += table.values()
            folders += [os.path.dirname(place) for place in table.values()]
    if not folders:
        return None
    return Editable(tuple(sorted(set(folders))), tuple(sorted(set(modules))), frozenset(wiring))


def _starts_finder(pth: str) -> bool:
    try:
        return "import __editable__" in foreign.read_text(pth, "utf-8", "replace")
    except OSError:
        return False


def stow_drafts(editable: Editable, top_level: Iterable[str]) -> list[Draft]:
    """The code of an editable installation as files of a package tree.

    Args:
        editable: how it is wired.
        top_level: the names of its importable modules and packages, where it says so (top_level.txt).
    """
    places = list(editable.modules) or [
        place for folder in editable.folders for place in _importable(folder, set(top_level))
    ]
    found = []
    for place in places:
        name = os.path.basename(place)
        if os.path.isdir(place):
            found += [Found(f"site/{name}/{file.path}", file.source, file.link) for file in walk.walk(place, _code)]
        else:
            source = place if place.endswith(".py") else place + ".py"
            if os.path.isfile(source):
                found.append(Found(f"site/{os.path.basename(source)}", source, False))
    return walk.drafts(found, _code).drafts


def _code(path: str, folder: bool) -> bool:
    name = os.path.basename(path)
    return not (folder and (name in _NOT_CODE or name.startswith(".") or name.endswith(".egg-info")))


def _importable(folder: str, names: set[str]) -> list[str]:
    found = []
    for entry in sorted(os.scandir(folder), key=lambda entry: entry.name):
        module = entry.name.removesuffix(".py")
        if names:
            if module in names:
                found.append(entry.path)
        elif entry.is_dir():
            if os.path.isfile(f"{entry.path}/__init__.py") and entry.name not in ("test", "tests"):
                found.append(entry.path)
        elif entry.name.endswith(".py") and entry.name not in _NOT_MODULES:
            found.append(entry.path)
    return found
