"""Why there is no answer, in sentences that a person can act on, and what would be one."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from lapidar.core import spelling
from lapidar.core.errors import Conflict
from lapidar.core.pinning.market import Against, Market, Reason
from lapidar.core.pinning.solver import SAME, Fact, Solver, Unsolvable, Version, Wish

__all__ = ["conflict", "note_lacking", "sentences", "solved", "unknown"]

_MOST_REASONS = 4


def solved(
    solver: Solver, market: Any, roots: Sequence[Wish], limits: Sequence[Wish], source: str = "index"
) -> dict[str, Version]:
    """The answer of a solver; the market notes which newer versions were passed over because nobody has what they need.

    Args:
        source: what packages come from, as people call it.

    Raises:
        Conflict: there is no answer; it says why.
    """
    try:
        answer = solver.solve()
    except Unsolvable as error:
        raise conflict(error.facts, market, roots, limits) from error
    note_lacking(solver, answer, market, source)
    return answer


def note_lacking(solver: Solver, answer: Mapping[str, Version], market: Any, source: str = "index") -> None:
    """Have the market note which newer versions were passed over because nobody has what they need."""
    for name, version, wish in solver.lacking:
        if name in answer and not market.knows(wish.name):
            why = f"it needs {wish.text}, and no {source} has a package called {wish.name}"
            market.notes[f"{name} {version} was passed over: {why}"] = None


def conflict(facts: Sequence[Fact], market: Market, roots: Sequence[Wish], limits: Sequence[Wish]) -> Conflict:
    """The error that tells of a problem without an answer.

    Args:
        facts: what excludes one another, along the needs.
        roots, limits: what was asked for.
    """
    told = sentences(facts, market)
    for fact in facts:
        if fact.wish and not market.knows(fact.wish.name):
            others = [one.name for one in roots if one.name != fact.wish.name and not market.knows(one.name)]
            return unknown(fact.wish.name, market, "; ".join(told), others)
    ways = list(_ways_out(facts, market, roots, limits))
    return Conflict(
        "The needs cannot be met together",
        why="\n  ".join(["", *told]),
        remedy="\n        ".join(ways) or "Widen one of these ranges (`lapidar versions NAME` shows what there is).",
    )


def unknown(name: str, market: Market, why: str = "", others: Iterable[str] = ()) -> Conflict:
    """The error for a name that no index has; tells of near ones.

    Args:
        others: other names that the project asks for and no index has.
    """
    names = list(dict.fromkeys([name, *others]))
    near = {one: found for one in names if (found := market.near(one))}
    hints = [spelling.hint(found) if len(names) == 1 else f"Near to {one}: {', '.join(found)}."
             for one, found in near.items()]  # fmt: skip
    return Conflict(
        f"There is no package called {' or '.join(names)}",
        why=why,
        remedy=" ".join(hints) or "Name the index that has it in [index] of lapidar.toml, or do without it.",
    )


# ---- what is so


def sentences(facts: Sequence[Fact], market: Market, but_not: Wish | None = None) -> list[str]:
    """Facts in words, a sentence each.

    Args:
        but_not: a wish of the project that need not be told.
    """
    told = [fact for fact in facts if but_not is None or fact.package or fact.wish != but_not]
    return list(dict.fromkeys(_sentences(told, facts, market)))


def _sentences(told: Sequence[Fact], facts: Sequence[Fact], market: Market) -> Iterable[str]:
    grouped: dict[tuple[str, str], list[Fact]] = {}
    for fact in told:
        if not (fact.wish and fact.wish.text == SAME):
            grouped.setdefault((fact.package, fact.wish.name if fact.wish else ""), []).append(fact)
    for (package, _), several in grouped.items():
        if not package:
            yield from (_asked(fact) for fact in several)
            continue
        by_text: dict[str, list[Version]] = {}
        for fact in several:
            by_text.setdefault(fact.wish.text if fact.wish else "", []).append(fact.version)
        for text, versions in by_text.items():
            yield _needs(package, versions, text, market)
    yield from _nothing_there(facts, market)


def _asked(fact: Fact) -> str:
    assert fact.wish is not None
    where = f" ({fact.wish.where})" if fact.wish.where else ""
    if fact.limit:
        return f"you limit {fact.wish.text}{where}"
    return f"you ask for {fact.wish.text}{where}"


def _needs(package: str, versions: list[Version], text: str, market: Market) -> str:
    name, bracket, extra = package.partition("[")
    which = f"{name}{bracket}{extra} {_span(versions, market.versions(name))}"
    several = len(set(versions)) > 1
    if not text:
        reasons = {one.version: one.reason for one in market.releases(name)} if market.has_indexes else {}
        why = next((str(reasons[version]) for version in versions if reasons.get(version)), None)
        why = why or "what it needs is not known"
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


def _unmet(facts: Sequence[Fact], market: Market) -> list[Wish]:
    """The needs that nothing there is to choose from meets."""
    wishes = {fact.wish.text: fact.wish for fact in facts if fact.wish and fact.wish.text != SAME}.values()
    return [wish for wish in wishes if not any(_fits(wish, one, market) for one in market.versions(wish.name))]


def _nothing_there(facts: Sequence[Fact], market: Market) -> Iterable[str]:
    """For each need that nothing meets: what there is of that name, and why it is not chosen."""
    for wish in _unmet(facts, market):
        if wish.name in market.settled:
            continue
        if not market.has_indexes:
            yield f"no package index is configured, and {wish.name} is not pinned in a version that fits {wish.text}"
            continue
        releases = market.releases(wish.name)
        if not releases:
            yield f"no index has a package called {wish.name}"
            continue
        told = {fact.version for fact in facts if fact.wish is None and fact.package == wish.name}
        if any(release.version in told for release in releases):
            continue
        by_reason: dict[Reason, list[Version]] = {}
        for one in releases:
            if one.reason and _fits(wish, one.version, market):
                by_reason.setdefault(one.reason, []).append(one.version)
        every = [one.version for one in releases]
        for reason, versions in list(by_reason.items())[:_MOST_REASONS]:
            yield f"{wish.name} {_span(versions, every)} cannot be chosen: {reason}"
        if not by_reason:
            newest = next((one.version for one in releases if not one.reason), releases[0].version)
            yield f"no {wish.text} exists: there is {_span(every, every)}, and {newest} is the newest that fits here"


# ---- what would be an answer


def _ways_out(facts: Sequence[Fact], market: Market, roots: Sequence[Wish], limits: Sequence[Wish]) -> Iterable[str]:
    """Each of the project's own ranges in the conflict taken away, tried: what would be chosen then."""
    own = {fact.wish for fact in facts if not fact.package and fact.wish and fact.wish.range is not None}
    for wish in sorted(own, key=lambda wish: wish.text):
        freed_roots = [one._replace(range=None) if one == wish else one for one in roots]
        freed_limits = [one for one in limits if one != wish]
        try:
            answer = Solver(market, freed_roots, freed_limits).solve()
        except Unsolvable:
            continue
        version = answer.get(wish.name)
        if version is not None:
            extras = f"[{','.join(wish.extras)}]" if wish.extras else ""
            need = _need_of(f"{wish.name}{extras}", version, wish, market)
            yield f"{wish.name} {version} fits: lapidar need '{need}'"
    yield from _permissions(facts, market)


def _permissions(facts: Sequence[Fact], market: Market) -> Iterable[str]:
    """Where only a pre-release or a withdrawn version would do: what to declare to have it all the same."""
    for wish in _unmet(facts, market):
        if wish.name in market.settled or not market.has_indexes:
            continue
        for release in market.releases(wish.name):
            if not _fits(wish, release.version, market) or release.reason is None:
                continue
            if release.reason.against is Against.PRE_RELEASE:
                yield f"to allow this pre-release: lapidar need '{market.at_least(wish.name, release.version)}'"
                break
            if release.reason.against is Against.WITHDRAWN:
                need = market.exactly(wish.name, release.version)
                yield f"to use it although it was withdrawn: lapidar need '{need}'"
                break


def _fits(wish: Wish, version: Version, market: Market) -> bool:
    return wish.range is None or market.fits(wish, version)


def _need_of(name: str, version: Version, wish: Wish, market: Market) -> str:
    """The shortest need that leads to a version: what is below the next one, or from it on.

    Args:
        name: with its extras.
    """
    versions = market.versions(wish.name)
    newer = sorted(one for one in versions if one > version)
    allowed = [one for one in versions if _fits(wish, one, market)]
    if newer and (not allowed or version < max(allowed)):
        return market.below(name, newer[0])
    return market.at_least(name, version)
