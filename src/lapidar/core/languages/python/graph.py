"""Who needs whom among Python's packages, with the ranges that their metadata give."""

from __future__ import annotations

from collections.abc import Collection

from packaging.requirements import Requirement
from packaging.utils import canonicalize_name

from lapidar.core.cache.store import Cache
from lapidar.core.errors import LapidarError
from lapidar.core.languages.python.pinning.cached import metadata_of_tree
from lapidar.core.languages.python.pinning.target import Target
from lapidar.core.languages.python.requirements import requirement_of, shown
from lapidar.core.languages.python.standards.metadata import Metadata, applies
from lapidar.core.records.declaration import Declaration
from lapidar.core.records.graph import Edge, Graph, Idle
from lapidar.core.records.owner import PackageName
from lapidar.core.records.snapshot import Package

__all__ = ["add_needs"]


def add_needs(
    graph: Graph, declaration: Declaration, cache: Cache | None, about: Collection[str] | None = None
) -> None:
    """Add the needs of Python's packages to a graph; see `lapidar.core.languages.protocol.Language.add_needs`."""
    runtime = graph.snapshot.runtime_of("python")
    assert runtime is not None
    packages = [package for package in graph.snapshot.packages if package.language == "python"]
    adding = _Adding(graph, packages, Target(runtime, graph.snapshot.platform).markers)
    adding.run(declaration, cache, None if about is None else _leading_to(about, packages))


def _leading_to(names: Collection[str], packages: list[Package]) -> set[str]:
    """These names, and those of all packages that need one of them, at once or through others."""
    needed_by: dict[str, list[str]] = {}
    for package in packages:
        for name in package.requires:
            needed_by.setdefault(name, []).append(package.name)
    found: set[str] = set()
    waiting = list(names)
    while waiting:
        name = waiting.pop()
        if name not in found:
            found.add(name)
            waiting += needed_by.get(name, ())
    return found


def _key(name: str) -> PackageName:
    return PackageName("python", name)


class _Adding:
    def __init__(self, graph: Graph, packages: list[Package], markers: dict[str, str]) -> None:
        self.graph = graph
        self.packages = packages
        self.markers = markers

    def run(self, declaration: Declaration, cache: Cache | None, among: set[str] | None) -> None:
        self._of_project(declaration)
        metadata = self._metadata(cache, among)
        active: set[tuple[str, str]] = set()
        waiting = [(package.name, "") for package in self.packages]
        waiting += [(package.name, extra) for package in self.packages for extra in package.extras]
        while waiting:
            name, extra = waiting.pop()
            if (name, extra) in active or name not in metadata:
                continue
            active.add((name, extra))
            for requirement in metadata[name].requirements(among):
                if applies(requirement, self.markers, extra):
                    target = canonicalize_name(requirement.name)
                    self.graph.add(Edge(_key(name), _key(target), shown(requirement)))
                    waiting += [(target, canonicalize_name(one)) for one in requirement.extras]
        if among is None:
            self._note_idle(metadata)
        self._without_metadata()

    def _of_project(self, declaration: Declaration) -> None:
        needs = declaration.needs_of("python")
        for need in needs:
            requirement = requirement_of(need)
            if applies(requirement, self.markers):
                self.graph.add(Edge(None, need.key, shown(requirement), need.where))
        if not needs:
            for package in self.packages:
                if package.asked_for:
                    self.graph.add(Edge(None, package.key, package.name, "lapidar.lock"))

    def _metadata(self, cache: Cache | None, among: set[str] | None) -> dict[str, Metadata]:
        found: dict[str, Metadata] = {}
        if cache is None:
            return found
        for package in self.packages:
            if among is not None and package.name not in among:
                continue
            try:
                found[package.name] = metadata_of_tree(cache, package.tree)
            except (LapidarError, OSError):
                continue  # then its needs are known without their ranges
        return found

    def _note_idle(self, metadata: dict[str, Metadata]) -> None:
        for name, one in metadata.items():
            for requirement in one.requirements():
                target = canonicalize_name(requirement.name)
                if any(edge.target == _key(target) for edge in self.graph.edges.get(_key(name), ())):
                    continue
                self.graph.add_idle(_key(target), self._idle(name, one, requirement))

    def _idle(self, name: str, metadata: Metadata, requirement: Requirement) -> Idle:
        extras = [extra for extra in metadata.extras if applies(requirement, self.markers, extra)]
        return Idle(_key(name), f"{shown(requirement)}; {requirement.marker}", extras[0] if extras else "")

    def _without_metadata(self) -> None:
        for package in self.packages:
            known = {edge.target.name for edge in self.graph.edges.get(package.key, ())}
            for name in package.requires:
                if name not in known:
                    self.graph.add(Edge(package.key, _key(name), name))
