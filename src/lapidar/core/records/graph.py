"""The graph of needs of a snapshot: who needs whom, with the range at each step."""

from __future__ import annotations

from typing import NamedTuple

from msgspec import Struct, field

from lapidar.core.records.owner import PackageName
from lapidar.core.records.snapshot import Snapshot

__all__ = ["Edge", "Graph", "Idle"]

_MOST_CHAINS = 200


class Edge(NamedTuple):
    """Somebody's need. `source` is None for the project itself, and `where` then says in which file and group."""

    source: PackageName | None
    target: PackageName
    text: str
    where: str = ""


class Idle(NamedTuple):
    """A need that does not count here.

    Attributes:
        extra: the extra that it is for; "" where its marker does not hold.
    """

    source: PackageName
    text: str
    extra: str


class Graph(Struct):
    """Who needs whom.

    Attributes:
        edges: by their source; None: the project's own needs.
        idle: by the package that is not needed.
    """

    snapshot: Snapshot
    edges: dict[PackageName | None, list[Edge]] = field(default_factory=dict)
    idle: dict[PackageName, list[Idle]] = field(default_factory=dict)

    def add(self, edge: Edge) -> None:
        """Add a need, once."""
        several = self.edges.setdefault(edge.source, [])
        if edge not in several:
            several.append(edge)

    def add_idle(self, target: PackageName, idle: Idle) -> None:
        """Add a need that does not count here."""
        self.idle.setdefault(target, []).append(idle)

    def to(self, package: PackageName) -> list[Edge]:
        """Everyone's need of a package."""
        return [edge for several in self.edges.values() for edge in several if edge.target == package]

    def chains(self, package: PackageName) -> list[list[Edge]]:
        """Every way from a need of the project down to a package, the shortest first, and none through a cycle."""
        back: dict[PackageName, list[Edge]] = {}
        for several in self.edges.values():
            for edge in several:
                back.setdefault(edge.target, []).append(edge)
        found: list[list[Edge]] = []
        waiting: list[list[Edge]] = [[edge] for edge in back.get(package, ())]
        while waiting and len(found) < _MOST_CHAINS:
            chain = waiting.pop(0)
            first = chain[0].source
            if first is None:
                found.append(chain)
                continue
            met = {edge.target for edge in chain}
            waiting += [[edge, *chain] for edge in back.get(first, ()) if edge.source not in met]
        return found
