"""Why there is no answer, in sentences that a person can act on, and what would be one."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from packaging.version import Version

from lapidar.core.errors import Conflict
from lapidar.core.languages.python.index.indexes import Indexes
from lapidar.core.languages.python.pinning.candidates import Candidates
from lapidar.core.pinning.solver import Fact, Solver, Unsolvable, Wish

__all__ = ["conflict", "sentences", "unknown"]

_MOST_REASONS = 4


def conflict(facts: Sequence[Fact], candidates: Candidates, roots: Sequence[Wish], limits: Sequence[Wish]) -> Conflict:
    """The error that tells of a problem without an answer.

    Args:
        facts: what excludes one another, along the needs.
        roots, limits: what was asked for.
    """
    told = sentences(facts, candidates)
    for fact in facts:
        if fact.wish and not candidates.knows(fact.wish.name):
            return unknown(fact.wish.name, candidates.indexes, "; ".join(told))
    ways = list(_ways_out(facts, candidates, roots, limits))
    return Conflict(
        "The needs cannot be met together",
        why="\n  ".join(["", *told]),
        remedy="\n        ".join(ways) or "Widen one of these ranges (`lapidar versions NAME` shows what there is).",
    )


def unknown(name: str, indexes: Indexes, why: str = "") -> Conflict:
    """The error for a name that no index has; tells of near ones."""
    near = indexes.near(name)
    return Conflict(
        f"There is no package called {name}",
        why=why,
        remedy=f"Near to it: {', '.join(near)}." if near else "Look at its spelling, and at [index].",
    )


# ---- what is so


def sentences(facts: Sequence[Fact], candidates: Candidates) -> list[str]:
    """Facts in words, a sentence each."""
    return list(dict.fromkeys(_sentences(facts, candidates)))


def _sentences(facts: Sequence[Fact], candidates: Candidates) -> Iterable[str]:
    grouped: dict[tuple[str, str], list[Fact]] = {}
    for fact in facts:
        if not (fact.wish and fact.version and fact.wish.text == f"{fact.wish.name}=={fact.version}"):
            grouped.setdefault((fact.package, fact.wish.name if fact.wish else ""), []).append(fact)
    for (package, _), several in grouped.items():
        if not package:
            yield from (_asked(fact) for fact in several)
            continue
        by_text: dict[str, list[Version]] = {}
        for fact in several:
            by_text.setdefault(fact.wish.text if fact.wish else "", []).append(fact.version or Version("0"))
        for text, versions in by_text.items():
            yield _needs(package, versions, text, candidates)
    yield from _nothing_there(facts, candidates)


def _asked(fact: Fact) -> str:
    assert fact.wish is not None
    where = f" ({fact.wish.where})" if fact.wish.where else ""
    if fact.limit:
        return f"you limit {fact.wish.text}{where}"
    return f"you ask for {fact.wish.text}{where}"


def _needs(package: str, versions: list[Version], text: str, candidates: Candidates) -> str:
    name, bracket, extra = package.partition("[")
    which = f"{name}{bracket}{extra} {_span(versions, candidates.versions(name))}"
    several = len(set(versions)) > 1
    if not text:
        reasons = {one.version: one.reason for one in candidates.releases(name)} if candidates.indexes.indexes else {}
        why = next((reasons[version] for version in versions if reasons.get(version)), "what it needs is not known")
        return f"{which} cannot be used: {why}"
    return f"{which} {'need' if several else 'needs'} {text}"


def _span(versions: Iterable[Version], all_versions: Sequence[Version]) -> str:
    """Versions as a person names them: "2.1", "2.0 and 2.1", "1.2 to 2.1" where there is nothing else between."""
    ordered = sorted(set(versions))
    known = sorted(set(all_versions) | set(ordered))
    runs: list[list[Version]] = []
    for version in ordered:
        if runs and known.index(version) == known.index(runs[-1][-1]) + 1:
            runs[-1].append(version)
        else:
            runs.append([version])
    shown = [str(run[0]) if len(run) == 1 else f"{run[0]} to {run[-1]}" for run in runs]
    if len(shown) > _MOST_REASONS:
        return f"{shown[0]}, {shown[1]} ... {shown[-1]} ({len(ordered)} versions)"
    return ", ".join(shown[:-1]) + " and " + shown[-1] if len(shown) > 1 else shown[0]


def _unmet(facts: Sequence[Fact], candidates: Candidates) -> list[Wish]:
    """The needs that nothing there is to choose from meets."""
    wishes = {fact.wish.text: fact.wish for fact in facts if fact.wish}.values()
    return [wish for wish in wishes if not any(map(wish.allows, candidates.versions(wish.name)))]


def _nothing_there(facts: Sequence[Fact], candidates: Candidates) -> Iterable[str]:
    """For each need that nothing meets: what there is of that name, and why it is not chosen."""
    for wish in _unmet(facts, candidates):
        if wish.name in candidates.policy.settled:
            continue
        if not candidates.indexes.indexes:
            yield f"no package index is configured, and {wish.name} is not pinned in a version that fits {wish.text}"
            continue
        releases = candidates.releases(wish.name)
        if not releases:
            yield f"no index has a package called {wish.name}"
            continue
        told = {fact.version for fact in facts if fact.wish is None and fact.package == wish.name}
        if any(release.version in told for release in releases):
            continue
        by_reason: dict[str, list[Version]] = {}
        for one in releases:
            if one.reason and wish.allows(one.version):
                by_reason.setdefault(one.reason, []).append(one.version)
        every = [one.version for one in releases]
        for reason, versions in list(by_reason.items())[:_MOST_REASONS]:
            yield f"{wish.name} {_span(versions, every)} cannot be chosen: {reason}"
        if not by_reason:
            newest = next((one.version for one in releases if not one.reason), releases[0].version)
            yield f"no {wish.text} exists: there is {_span(every, every)}, and {newest} is the newest that fits here"


# ---- what would be an answer


def _ways_out(
    facts: Sequence[Fact], candidates: Candidates, roots: Sequence[Wish], limits: Sequence[Wish]
) -> Iterable[str]:
    """Each of the project's own ranges in the conflict taken away, tried: what would be chosen then."""
    own = {fact.wish for fact in facts if not fact.package and fact.wish and fact.wish.specifier is not None}
    for wish in sorted(own, key=lambda wish: wish.text):
        freed_roots = [one._replace(specifier=None) if one == wish else one for one in roots]
        freed_limits = [one for one in limits if one != wish]
        try:
            answer = Solver(candidates, freed_roots, freed_limits).solve()
        except Unsolvable:
            continue
        version = answer.get(wish.name)
        if version is not None:
            extras = f"[{','.join(wish.extras)}]" if wish.extras else ""
            bound = _bound(version, candidates.versions(wish.name), wish)
            yield f"{wish.name} {version} fits: lapidar need '{wish.name}{extras}{bound}'"
    yield from _permissions(facts, candidates)


def _permissions(facts: Sequence[Fact], candidates: Candidates) -> Iterable[str]:
    """Where only a pre-release or a withdrawn version would do: what to declare to have it all the same."""
    for wish in _unmet(facts, candidates):
        if wish.name in candidates.policy.settled or not candidates.indexes.indexes:
            continue
        for release in candidates.releases(wish.name):
            if not wish.allows(release.version):
                continue
            if release.reason == "a pre-release":
                yield f"to allow this pre-release: lapidar need '{wish.name}>={release.version}'"
                break
            if release.reason.startswith("withdrawn"):
                yield f"to use it although it was withdrawn: lapidar need '{wish.name}=={release.version}'"
                break


def _bound(version: Version, versions: Sequence[Version], wish: Wish) -> str:
    """The shortest range that leads to a version: below the next one, or from it on."""
    newer = sorted(one for one in versions if one > version)
    allowed = [one for one in versions if wish.allows(one)]
    if newer and (not allowed or version < max(allowed)):
        return f"<{newer[0]}"
    return f">={version}"
