"""The packages that a run of R looks for; see `lapidar.core.languages.protocol.Using`."""

from __future__ import annotations

from collections.abc import Collection, Iterator

from lapidar.core.cache.trees import Tree
from lapidar.core.languages.r.placing import LIBRARY

__all__ = ["given", "imports_from", "sought"]


def imports_from(folder: str, started_in: str) -> bool:
    """Never: nothing is looked through but for a program that asks for that."""
    return False


def sought(told: Collection[str], listed: Collection[str], folder: str) -> Iterator[str]:
    """R asks for the folder of a package before it loads it, and lists the library only for who wants all of it."""
    if folder in listed:
        yield "*"
    for one in told:
        if f"/{LIBRARY}/" in one:
            yield one.partition(f"/{LIBRARY}/")[2].partition("/")[0]


def given(name: str, tree: Tree) -> Iterator[str]:
    """Its name."""
    yield name
