"""Where the files of R's trees go in a restored environment. The paths in a runtime's tree are those below R's home,
wherever a system has the parts of it; those in a package's tree are below the package's folder."""

from __future__ import annotations

from collections.abc import Iterator

from lapidar.core.cache.trees import Entry, Tree
from lapidar.core.environment import launchers, marker
from lapidar.core.records.snapshot import Package

__all__ = [
    "ASIDE",
    "EXECUTABLE",
    "HOME",
    "LIBRARY",
    "PLACES",
    "REPLACED",
    "of_package",
    "of_runtime",
    "package_entries",
    "runtime_entries",
    "within_runtime",
]

EXECUTABLE = "bin/exec/R"  # in the runtime's tree
HOME = "lib/R"
LIBRARY = f"{HOME}/site-library"
# By the names that other layers know: where packages lie, and where the runtime's own shared libraries do.
PLACES = {"home": HOME, "packages": LIBRARY, launchers.LIBRARIES_PLACE: f"{HOME}/lib"}
ASIDE = f"{marker.PRIVATE}/r"
# What is written anew for each environment; the captured files lie aside.
REPLACED = ("bin/R", "bin/Rscript", "etc/ldpaths", "etc/Renviron.site", "library/base/R/Rprofile")


def of_runtime(path: str) -> str:
    """Where the file at a path of a runtime's tree goes."""
    if path == EXECUTABLE:
        return f"{marker.PRIVATE}/R"
    return f"{ASIDE}/{path}" if path in REPLACED else f"{HOME}/{path}"


def within_runtime(path: str) -> str | None:
    """The path in a runtime's tree of a file of a restored environment; None for one that is written for it.

    Args:
        path: below the environment.
    """
    if path == f"{marker.PRIVATE}/R":
        return EXECUTABLE
    if path.startswith(f"{ASIDE}/"):
        return path[len(ASIDE) + 1 :]
    below = path.removeprefix(f"{HOME}/")
    return None if below in (*REPLACED, EXECUTABLE) else below


def of_package(name: str, path: str) -> str:
    """Where the file at a path of a package's tree goes."""
    return f"{LIBRARY}/{name}/{path}"


def runtime_entries(tree: Tree) -> Iterator[tuple[Entry, str]]:
    """Where each entry of a runtime's tree goes."""
    for entry in tree:
        yield entry, of_runtime(entry.path)


def package_entries(package: Package, tree: Tree) -> Iterator[tuple[Entry, str]]:
    """Where each entry of a package's tree goes."""
    for entry in tree:
        yield entry, of_package(package.name, entry.path)
