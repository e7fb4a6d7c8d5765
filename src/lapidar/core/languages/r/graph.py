"""Who needs whom among R's packages, with the ranges that their DESCRIPTIONs give."""

from __future__ import annotations

from collections.abc import Collection

from lapidar.core.cache.store import Cache
from lapidar.core.errors import LapidarError
from lapidar.core.languages.r import description
from lapidar.core.languages.r.description import Description
from lapidar.core.languages.r.requirements import BASE
from lapidar.core.records.declaration import Declaration
from lapidar.core.records.graph import Edge, Graph
from lapidar.core.records.owner import PackageName

__all__ = ["add_needs", "description_of_tree"]


def description_of_tree(cache: Cache, tree: str) -> Description:
    """The DESCRIPTION of a package in the cache.

    Raises:
        LapidarError, OSError: the cache lacks it.
        ValueError: it is none.
    """
    entry = next((entry for entry in cache.tree(tree) if entry.path == description.FILE_NAME), None)
    if entry is None:
        raise ValueError("the package has no DESCRIPTION")
    return description.parse(cache.read(entry))


def add_needs(
    graph: Graph, declaration: Declaration, cache: Cache | None, about: Collection[str] | None = None
) -> None:
    """Add the needs of R's packages to a graph; see `lapidar.core.languages.protocol.Language.add_needs`."""
    packages = [package for package in graph.snapshot.packages if package.language == "r"]
    here = {package.name for package in packages}
    needs = declaration.needs_of("r")
    for need in needs:
        graph.add(Edge(None, need.key, need.text, need.where))
    for package in packages:
        if package.asked_for and not needs:
            graph.add(Edge(None, package.key, package.name, "lapidar.lock"))
        told = set()
        try:
            read = description_of_tree(cache, package.tree) if cache else None
        except (LapidarError, OSError, ValueError):
            read = None  # then its needs are known without their ranges
        for one in read.needs(*description.BUILT) if read else ():
            if one.name in here and one.name not in BASE:
                told.add(one.name)
                graph.add(Edge(package.key, PackageName("r", one.name), str(one)))
        for name in package.requires:
            if name not in told:
                graph.add(Edge(package.key, PackageName("r", name), name))
