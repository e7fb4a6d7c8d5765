"""What is pinned, what could be, what there is, and who holds it back."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from lapidar.core.pinning.explain import sentences
from lapidar.core.pinning.market import Market
from lapidar.core.pinning.solver import Solver, Unsolvable, Version, Wish

__all__ = ["PackageOutlook", "outlook", "what_keeps_out"]


@dataclass(frozen=True, slots=True)
class PackageOutlook:
    """A package's outlook.

    Attributes:
        language: whose package it is.
        pinned: its version in the lockfile.
        allowed: the newest that the needs allow together; "" where they do not need it any more.
        newest: the newest that fits the runtime.
        held_by: who keeps it from the newest, a sentence each.
    """

    name: str
    pinned: str
    allowed: str
    newest: str
    held_by: tuple[str, ...]
    language: str = ""

    @property
    def is_newest(self) -> bool:
        return self.pinned == self.newest


def outlook(
    pinned: Mapping[str, str],
    answer: Mapping[str, Version],
    market: Market,
    roots: Sequence[Wish],
    limits: Sequence[Wish],
) -> list[PackageOutlook]:
    """The outlook of every pinned package.

    Args:
        pinned: the versions of the lockfile, by their names.
        answer: what would be chosen today.
        roots, limits: what was asked for.

    Raises:
        IndexTrouble: an index cannot be used.
    """
    found = []
    for name, version in pinned.items():
        newest = _newest(market, name)
        allowed = answer.get(name)
        held: tuple[str, ...] = ()
        if newest is not None and allowed is not None and allowed < newest:
            held = tuple(_holders(market, answer, name, newest, roots, limits))
        found.append(PackageOutlook(name, version, str(allowed or ""), str(newest or ""), held))
    return found


def _newest(market: Market, name: str) -> Version | None:
    if name in market.settled:
        return market.versions(name)[0]
    return next((release.version for release in market.releases(name) if not release.reason), None)


def _holders(
    market: Market,
    answer: Mapping[str, Version],
    name: str,
    newest: Version,
    roots: Sequence[Wish],
    limits: Sequence[Wish],
) -> list[str]:
    """Whose range excludes the newest; where nobody's does, why it does not go together with the rest."""

    def excludes(wish: Wish) -> bool:
        return wish.name == name and wish.range is not None and not market.fits(wish, newest)

    found = [f"you: {wish.text}" for wish in [*roots, *limits] if excludes(wish)]
    for key, version in answer.items():
        whose, _, extra = key.rstrip("]").partition("[")
        for wish in market.wishes(whose, version, extra) or ():
            if excludes(wish):
                found.append(f"{key} {version}: {wish.text}")
    return found or what_keeps_out(market, market.wish_for(name, newest), roots, limits)


def what_keeps_out(market: Market, wish: Wish, roots: Iterable[Wish], limits: Sequence[Wish]) -> list[str]:
    """Why something cannot be had together with what is declared, a sentence each; nothing where it can."""
    try:
        Solver(market, [*roots, wish], limits).solve()
    except Unsolvable as error:
        return sentences(error.facts, market, but_not=wish)
    return []
