"""The graph of needs of a snapshot: who needs whom, with the range at each step."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import NamedTuple

from packaging.requirements import Requirement
from packaging.utils import canonicalize_name

from lapidar.core.cache.store import Cache
from lapidar.core.declaring.records import Declaration
from lapidar.core.errors import LapidarError
from lapidar.core.languages.python.pinning.held import metadata_of_tree
from lapidar.core.languages.python.pinning.target import Target
from lapidar.core.languages.python.standards.metadata import Metadata, applies
from lapidar.core.records.snapshot import Snapshot

__all__ = ["Edge", "Graph", "Idle"]

_MOST_CHAINS = 200


class Edge(NamedTuple):
    """Somebody's need. `source` is "" for the project itself, and `where` then says in which file and group."""

    source: str
    target: str
    text: str
    where: str = ""


class Idle(NamedTuple):
    """A need that does not count here.

    Attributes:
        extra: the extra that it is for; "" where its marker does not hold.
    """

    source: str
    text: str
    extra: str


@dataclass(slots=True)
class Graph:
    """Who needs whom.

    Attributes:
        edges: by their source.
        idle: by the name that is not needed.
    """

    snapshot: Snapshot
    edges: dict[str, list[Edge]] = field(default_factory=dict)
    idle: dict[str, list[Idle]] = field(default_factory=dict)

    @classmethod
    def of(cls, snapshot: Snapshot, declaration: Declaration, cache: Cache | None) -> Graph:
        """The graph of a snapshot.

        Args:
            declaration: the project's own needs; where it has none, what the lockfile says was asked for.
            cache: has the packages' metadata, and with it the ranges.
        """
        graph = cls(snapshot)
        markers = Target(snapshot.only_runtime, snapshot.platform).markers
        graph._of_project(declaration, markers)
        metadata = graph._metadata(cache)
        active: set[tuple[str, str]] = set()
        waiting = [(package.name, "") for package in snapshot.package]
        waiting += [(package.name, extra) for package in snapshot.package for extra in package.extras]
        while waiting:
            name, extra = waiting.pop()
            if (name, extra) in active or name not in metadata:
                continue
            active.add((name, extra))
            for requirement in metadata[name].requirements():
                if applies(requirement, markers, extra):
                    target = canonicalize_name(requirement.name)
                    graph._add(Edge(name, target, _text(requirement)))
                    waiting += [(target, canonicalize_name(one)) for one in requirement.extras]
        graph._note_idle(metadata, markers)
        graph._without_metadata()
        return graph

    def _of_project(self, declaration: Declaration, markers: dict[str, str]) -> None:
        for need in declaration.needs:
            if applies(need.requirement, markers):
                self._add(Edge("", need.name, _text(need.requirement), need.where))
        if not declaration.needs:
            for package in self.snapshot.package:
                if package.asked_for:
                    self._add(Edge("", package.name, package.name, "lapidar.lock"))

    def _add(self, edge: Edge) -> None:
        several = self.edges.setdefault(edge.source, [])
        if edge not in several:
            several.append(edge)

    def _metadata(self, cache: Cache | None) -> dict[str, Metadata]:
        found: dict[str, Metadata] = {}
        if cache is None:
            return found
        for package in self.snapshot.package:
            try:
                found[package.name] = metadata_of_tree(cache, package.tree)
            except (LapidarError, OSError):
                continue  # then its needs are known without their ranges
        return found

    def _note_idle(self, metadata: dict[str, Metadata], markers: dict[str, str]) -> None:
        for name, one in metadata.items():
            for requirement in one.requirements():
                target = canonicalize_name(requirement.name)
                if any(edge.target == target for edge in self.edges.get(name, ())):
                    continue
                extras = [extra for extra in one.extras if applies(requirement, markers, extra)]
                self.idle.setdefault(target, []).append(
                    Idle(name, f"{_text(requirement)}; {requirement.marker}", extras[0] if extras else "")
                )

    def _without_metadata(self) -> None:
        for package in self.snapshot.package:
            known = {edge.target for edge in self.edges.get(package.name, ())}
            for name in package.requires:
                if name not in known:
                    self._add(Edge(package.name, name, name))

    def to(self, name: str) -> list[Edge]:
        """Everyone's need of a package."""
        return [edge for several in self.edges.values() for edge in several if edge.target == name]

    def chains(self, name: str) -> list[list[Edge]]:
        """Every way from a need of the project down to a package, the shortest first, and none through a cycle."""
        back: dict[str, list[Edge]] = {}
        for several in self.edges.values():
            for edge in several:
                back.setdefault(edge.target, []).append(edge)
        found: list[list[Edge]] = []
        waiting: list[list[Edge]] = [[edge] for edge in back.get(name, ())]
        while waiting and len(found) < _MOST_CHAINS:
            chain = waiting.pop(0)
            if not chain[0].source:
                found.append(chain)
                continue
            met = {edge.target for edge in chain}
            waiting += [[edge, *chain] for edge in back.get(chain[0].source, ()) if edge.source not in met]
        return found


def _text(requirement: Requirement) -> str:
    from lapidar.core.languages.python.pinning.candidates import wish_of

    return wish_of(requirement).text
