"""Which change did it, in R: see `lapidar.core.languages.protocol.Searching`."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from lapidar.core.cache.store import Cache
from lapidar.core.cache.trees import Tree
from lapidar.core.records.snapshot import Package, Runtime

__all__ = ["needs_between", "works_with"]

_DATABASE, _ITS_INDEX = ".rdb", ".rdx"


def works_with(package: Package, runtime: Runtime, cache: Cache) -> bool:
    """No package is taken to work with another line of versions of R than it was installed with (R Installation and
    Administration, 6.2: they are to be installed again)."""
    return False


def needs_between(before: Tree, after: Tree, cache: Cache) -> tuple[Mapping[str, set[str]], Sequence[str]]:
    """A database of a package's code or data, and the index that has the places in it, are one (R Internals, 1.8)."""
    needs: dict[str, set[str]] = {}
    for path in {entry.path for tree in (before, after) for entry in tree}:
        if path.endswith(_DATABASE):
            index = path.removesuffix(_DATABASE) + _ITS_INDEX
            needs[path], needs[index] = {index}, {path}
    return needs, ()
