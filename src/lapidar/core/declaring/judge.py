"""The declaration against the lockfile: what was declared and is not pinned, what is pinned and not declared."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from packaging.requirements import Requirement
from packaging.specifiers import SpecifierSet
from packaging.version import InvalidVersion, Version

from lapidar.core.declaring.records import Declaration
from lapidar.core.languages.python.graph import Graph
from lapidar.core.languages.python.pinning.target import Target
from lapidar.core.languages.python.standards.metadata import applies
from lapidar.core.records.snapshot import Snapshot

__all__ = ["Drift", "drift", "overrides"]


class Drift(NamedTuple):
    """Something that declaration and lockfile do not agree on."""

    name: str
    problem: str
    remedy: str


def drift(declaration: Declaration, snapshot: Snapshot) -> Iterator[Drift]:
    """What they do not agree on; nothing where nothing is declared."""
    if not declaration.needs:
        return
    runtime = snapshot.only_runtime.version
    if not declaration.python.contains(runtime, prereleases=True):
        yield Drift("python", f"{declaration.python} is declared, and {runtime} is locked", "lapidar pin")
    markers = Target(snapshot.only_runtime, snapshot.platform).markers
    locked = {package.name: package for package in snapshot.package}
    asked = set()
    for need in declaration.needs:
        if not applies(need.requirement, markers):
            continue
        asked.add(need.name)
        if need.name not in locked:
            yield Drift(need.name, f"{need.text} is declared, and not locked", "lapidar pin")
        elif need.name not in declaration.overrides and not _fits(
            need.requirement.specifier, locked[need.name].version
        ):
            problem = f"{need.text} is declared, and {locked[need.name].version} is locked"
            yield Drift(need.name, problem, "lapidar pin")
    if any(package.origin.kind == "environment" for package in snapshot.package):
        return  # it was captured: that more is there than is declared is no drift
    for package in snapshot.package:
        if package.asked_for and package.name not in asked:
            yield Drift(
                package.name, "locked as asked for, and not declared", f"lapidar pin, or lapidar need {package.name}"
            )


def _fits(specifier: SpecifierSet, version: str) -> bool:
    return specifier.contains(version, prereleases=True)


def overrides(declaration: Declaration, graph: Graph) -> Iterator[str]:
    """How each override acts, as far as it can be told without asking an index: a sentence each."""
    locked = {package.name: package for package in graph.snapshot.package}
    for override in declaration.overrides.values():
        late = f" It was to hold until {override.until}: look whether it is still needed." if override.is_late else ""
        package = locked.get(override.name)
        if package is None:
            yield f"The override of {override.name} changes nothing: the package is not in the lockfile.{late}"
        elif override.version and not _same(override.version, package.version):
            yield f"The override of {override.name} asks for {override.version}, and {package.version} is locked.{late}"
        else:
            against = [edge for edge in graph.to(override.name) if not _allows(edge.text, package.version)]
            whom = ", ".join(f"{edge.source or 'you'}: {edge.text}" for edge in against)
            effect = f"acts against {whom}" if against else f"holds it at {override.target}; no range forbids that"
            yield f"The override of {override.name} {effect} ({override.because}).{late}"


def _same(one: str, other: str) -> bool:
    try:
        return Version(one) == Version(other)
    except InvalidVersion:
        return one == other


def _allows(text: str, version: str) -> bool:
    return _fits(Requirement(text).specifier, version)  # that of an address is empty, and allows all
