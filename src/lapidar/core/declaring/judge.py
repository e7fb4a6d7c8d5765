"""The declaration against the lockfile: what was declared and is not pinned, what is pinned and not declared."""

from __future__ import annotations

from collections.abc import Collection, Iterator

from lapidar.core import languages
from lapidar.core.cache.store import Cache
from lapidar.core.records.declaration import Declaration
from lapidar.core.records.declared import OverrideEffect, OverrideStanding
from lapidar.core.records.findings import Finding, Problem
from lapidar.core.records.graph import Edge, Graph
from lapidar.core.records.owner import Layer, PackageName
from lapidar.core.records.snapshot import LanguageParts, Snapshot

__all__ = ["conditions", "drift", "graph", "overrides"]

_UNSET = "not set"


def drift(declaration: Declaration, snapshot: Snapshot) -> Iterator[Finding]:
    """What they do not agree on; nothing where nothing is declared."""
    if declaration.needs:
        for parts in snapshot.of_languages():
            yield from _of_language(declaration, parts, snapshot)
    how = "lapidar pin" if declaration.needs else "lapidar capture"
    for name, locked, asked in conditions(declaration, snapshot):
        yield Finding(Layer.DECLARATION, Problem.OTHER_CONDITION, name=name, details=(asked, locked, how))


def conditions(declaration: Declaration, snapshot: Snapshot) -> Iterator[tuple[str, str, str]]:
    """The declared conditions that a snapshot does not have: what it is about, as it is locked, as it is declared.

    What a run reads of the declaration itself, the file of variables and the names of secrets, is none of them.
    """
    locked, declared = snapshot.conditions, declaration.conditions
    if locked is None:
        return
    if locked.numerics != declared.numerics:
        yield "numerics", locked.numerics, declared.numerics
    for name, value in declared.variables.items():
        if value is not None and locked.variables.get(name) != value:
            yield f"variable {name}", locked.variables.get(name, _UNSET), value


def _of_language(declaration: Declaration, parts: LanguageParts, snapshot: Snapshot) -> Iterator[Finding]:
    language = languages.of(parts.runtime.language)
    runtime = parts.runtime.version

    def found(problem: Problem, name: str, *details: str) -> Finding:
        return Finding(Layer.DECLARATION, problem, name=name, details=details, language=language.name)

    if not declaration.allows_runtime(language.name, runtime):
        details = (str(declaration.runtimes[language.name]), runtime)
        yield found(Problem.RUNTIME_NOT_ALLOWED, language.name, *details)
    locked = {package.name: package for package in parts.packages}
    asked, overridden = set(), declaration.overrides_of(language.name)
    for need in declaration.needs:
        if need.language != language.name:
            continue
        if language.declaring and not language.declaring.applies(need, parts.runtime, snapshot.platform):
            continue
        asked.add(need.name)
        if need.name not in locked:
            yield found(Problem.NOT_LOCKED, need.name, need.text)
        elif need.name not in overridden and not language.versions.allows(need.text, locked[need.name].version):
            yield found(Problem.OUT_OF_RANGE, need.name, need.text, locked[need.name].version)
    if parts.is_captured:
        return  # it was captured: that more is there than is declared is no drift
    for package in parts.packages:
        if package.asked_for and package.name not in asked:
            yield found(Problem.NOT_DECLARED, package.name)


def graph(
    snapshot: Snapshot, declaration: Declaration, cache: Cache | None, about: Collection[PackageName] | None = None
) -> Graph:
    """Who needs whom in a snapshot.

    Args:
        declaration: the project's own needs; where it has none, what the lockfile says was asked for.
        cache: has the packages' metadata, and with it the ranges.
        about: only what leads to these packages has to be there, which is quicker; None: all.
    """
    whole = Graph(snapshot)
    for name in snapshot.languages:
        names = None if about is None else {package.name for package in about if package.language == name}
        pinning = languages.of(name).pinning
        if pinning:
            pinning.add_needs(whole, declaration, cache, names)
        else:
            _add_recorded(whole, declaration, name)
    return whole


def _add_recorded(whole: Graph, declaration: Declaration, language: str) -> None:
    """What the records themselves say: the project's needs, and each package's, without ranges."""
    needs = declaration.needs_of(language)
    for need in needs:
        whole.add(Edge(None, need.key, need.text, need.where))
    for package in (one for one in whole.snapshot.packages if one.language == language):
        if package.wanted and not needs:
            whole.add(Edge(None, package.key, package.name))
        for name in package.requires:
            whole.add(Edge(package.key, PackageName(language, name), name))


def overrides(declaration: Declaration, needs: Graph) -> Iterator[OverrideStanding]:
    """How each override acts, as far as it can be told without asking an index."""
    locked = {package.key: package for package in needs.snapshot.packages}
    for override in declaration.overrides.values():
        until = str(override.until) if override.is_late else ""
        package = locked.get(override.key)
        if package is None:
            yield OverrideStanding(override.key, OverrideEffect.NOT_LOCKED, until=until)
            continue
        language = languages.of(package.language)
        if override.version and not language.versions.is_same(override.version, package.version):
            details = (override.version, package.version)
            yield OverrideStanding(override.key, OverrideEffect.ASKS_FOR_ANOTHER, details, until)
            continue
        against = [edge for edge in needs.to(override.key) if not language.versions.allows(edge.text, package.version)]
        if against:
            whom = ", ".join(f"{edge.source.name if edge.source else 'you'}: {edge.text}" for edge in against)
            yield OverrideStanding(override.key, OverrideEffect.AGAINST, (whom, override.because), until)
        else:
            details = (override.target, override.because)
            yield OverrideStanding(override.key, OverrideEffect.FORBIDDEN_BY_NOBODY, details, until)
