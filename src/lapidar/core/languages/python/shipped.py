"""Data of packages that the operating system ships: what they keep below /usr/share, and how they find it elsewhere.

Such a package is changed by its distributor: its modules name the places of their data outright. Files below the
prefix of the system (``/usr``) have their place below the environment's folder; a module that names one is told of
that place when it is imported (`startup`).
"""

from __future__ import annotations

import os
import posixpath
import re
from collections.abc import Iterable, Iterator, Mapping

from lapidar.core import foreign
from lapidar.core.cache.store import Cache
from lapidar.core.cache.trees import LINK, Tree
from lapidar.core.environment import walk
from lapidar.core.system import owners

__all__ = ["PREFIX", "SETTINGS", "is_data", "named", "naming_modules", "needs"]

PREFIX = "/usr"
SETTINGS = "/etc/"  # goes where the prefix goes
_NAMED = re.compile(rb"""['"]((?:/usr/share|/etc)/[\w.+-]+(?:/[\w.+-]+)*)/?['"]""")
# Documentation and menus; time zones and fonts, which all programs share, come with the libraries.
_NO_DATA = re.compile(
    r"/etc/(passwd|group|hosts|resolv\.conf|localtime|timezone|ssl|os-release|lsb-release|mime\.types|default)(/|$)"
    r"|/usr/share/(doc|doc-base|man|info|lintian|bug|menu|applications|icons|pixmaps|locale|metainfo|bash-completion"
    r"|zoneinfo|fonts|fontconfig|zsh|fish|mime|perl5|python3?|python-wheels|dh-python)(/|$)"
)
_MOST_FILES = 20_000


def is_data(path: str) -> bool:
    """Whether a file is data that a program may read."""
    return path.startswith((f"{PREFIX}/share/", SETTINGS)) and not _NO_DATA.match(path)


def named(sources: Mapping[str, Iterable[str]]) -> dict[str, list[str]]:
    """The data that modules name, where a package of the operating system has it: of whichever package it is.

    Args:
        sources: the files of each distribution, by the path of its metadata.

    Returns:
        For each distribution that names such data, the files.
    """
    found = {one: sorted(set(_behind(_names_in(files)))) for one, files in sources.items()}
    owned = owners.here().of({path for paths in found.values() for path in paths})
    return {one: [path for path in paths if path in owned] for one, paths in found.items() if paths}


def _names_in(files: Iterable[str]) -> Iterator[str]:
    for path in files:
        if path.endswith(".py"):
            try:
                yield from (os.fsdecode(name) for name in _NAMED.findall(foreign.read(path)))
            except OSError:
                continue  # it is told of where the file itself is taken


def _behind(names: Iterable[str]) -> Iterator[str]:
    for name in set(names):
        if not is_data(name):
            continue
        if os.path.isdir(name) and not name.startswith(SETTINGS):
            below = [one.source for one in walk.walk(name)]
            yield from below if len(below) <= _MOST_FILES else ()
        elif os.path.isfile(name):
            yield name


def needs(metadata: Iterable[str], folders: Iterable[str]) -> dict[str, set[str]]:
    """Which distributions need which, as the operating system's packages depend on one another: the metadata that it
    ships mostly does not say so.

    Args:
        metadata: the paths of the distributions' metadata.
        folders: those of packages. What depends on a package with modules but without metadata needs what that needs.

    Returns:
        For the path of each metadata, those of what it needs.
    """
    own = {path: package.name for path, package in owners.here().of(metadata).items()}
    by_package: dict[str, list[str]] = {}
    for path, name in own.items():
        by_package.setdefault(name, []).append(path)
    return {path: _needed(name, by_package, tuple(f"{folder}/" for folder in folders)) for path, name in own.items()}


def _needed(package: str, by_package: Mapping[str, list[str]], folders: tuple[str, ...]) -> set[str]:
    found: set[str] = set()
    done = {package}
    waiting = owners.here().needed_by(package)
    while waiting:
        name = waiting.pop()
        if name in done:
            continue
        done.add(name)
        if name in by_package:
            found.update(by_package[name])
        elif any(path.startswith(folders) for path in owners.here().files_of(name)):
            waiting += owners.here().needed_by(name)
    return found


def naming_modules(tree: Tree, cache: Cache) -> Iterator[tuple[str, list[str]]]:
    """Of a package with data below the prefix, the modules that name it by the places of the system.

    Returns:
        The name of a module, and the paths in it.
    """
    places = ("prefix/share/", "prefix/etc/")
    data = {entry.path.removeprefix("prefix") for entry in tree if entry.path.startswith(places)}
    data = {path for path in data if not _NO_DATA.match(path if path.startswith(SETTINGS) else PREFIX + path)}
    folders = {folder for path in data for folder in _above(path)}
    for entry in tree if data else ():
        if entry.kind != LINK and entry.path.startswith("site/") and entry.path.endswith(".py"):
            names = {os.fsdecode(name) for name in _NAMED.findall(cache.read(entry))}
            led = sorted(name for name in names if name.removeprefix(PREFIX) in data | folders)
            if led:
                module = entry.path[len("site/") : -len(".py")].removesuffix("/__init__")
                yield module.replace("/", "."), led


def _above(path: str) -> Iterator[str]:
    while (path := posixpath.dirname(path)) not in ("/", "/share", "/etc"):
        yield path
