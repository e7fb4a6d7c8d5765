"""Where the files of Python's trees go in a restored environment."""

from __future__ import annotations

import posixpath
from collections.abc import Iterator, Mapping

from lapidar.core.cache.trees import Entry, Tree
from lapidar.core.environment import marker, reserved
from lapidar.core.records.snapshot import Runtime

__all__ = [
    "HEADERS",
    "SCRIPTS",
    "SITE",
    "facts_of",
    "of_package",
    "of_runtime",
    "package_entries",
    "runtime_entries",
]

SITE, HEADERS = "site", "headers"  # the places of a runtime: where it looks for packages, and its C headers
SCRIPTS = f"{marker.PRIVATE}/scripts"  # scripts of packages, byte for byte; bin/ has a starter for each


def of_runtime(executable: str, path: str) -> str:
    """Where the file at a path of a runtime's tree goes.

    Args:
        executable: the interpreter's path in the tree.
    """
    return f"{marker.PRIVATE}/{posixpath.basename(path)}" if path == executable else path


def of_package(places: Mapping[str, str], path: str) -> str:
    """Where the file at a path of a package's tree goes.

    Scripts for the interpreter are told by their neutral first line only when their bytes are read, and then go to
    `SCRIPTS`.

    Args:
        places: those of the runtime.
    """
    root, _, below = path.partition("/")
    if root == "site":
        return f"{places[SITE]}/{below}"
    if below.startswith("include/python/"):
        return f"{places[HEADERS]}/{below[len('include/python/') :]}"
    return below


def runtime_entries(runtime: Runtime, tree: Tree) -> Iterator[tuple[Entry, str]]:
    """Where each entry of a runtime's tree goes."""
    for entry in tree:
        yield entry, of_runtime(runtime.executable, entry.path)


def facts_of(name: str) -> str:
    """Where the facts of a package lie whose metadata is a single file."""
    return f"{marker.PRIVATE}/facts/{name}.json"


def package_entries(runtime: Runtime, tree: Tree) -> Iterator[tuple[Entry, str]]:
    """Where each entry of a package's tree goes."""
    for entry in tree:
        path = of_package(runtime.places, entry.path)
        reserved.refuse("A package of the snapshot", path)
        yield entry, path
