"""What is pinned, what could be, what there is, and who holds it back."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from functools import cached_property

from msgspec import Struct

from lapidar.core.pinning.explain import sentences
from lapidar.core.pinning.market import Market
from lapidar.core.pinning.solver import Solver, Unsolvable, Version, Wish

__all__ = ["PackageOutlook", "outlook", "what_keeps_out"]


class PackageOutlook(Struct, frozen=True):
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
    asking = _Asking(market, answer, [*roots, *limits])
    for name, version in pinned.items():
        newest = _newest(market, name)
        allowed = answer.get(name)
        held: tuple[str, ...] = ()
        if newest is not None and allowed is not None and allowed < newest:
            held = tuple(asking.holders(name, newest)) or tuple(
                what_keeps_out(market, market.wish_for(name, newest), roots, limits)
            )
        found.append(PackageOutlook(name, version, str(allowed or ""), str(newest or ""), held))
    return found


def _newest(market: Market, name: str) -> Version | None:
    if name in market.settled:
        return market.versions(name)[0]
    return next((release.version for release in market.releases(name) if not release.reason), None)


class _Asking(Struct, dict=True):
    """Who asks for whom in an answer.

    Attributes:
        own: what the project asks for, and limits.
    """

    market: Market
    answer: Mapping[str, Version]
    own: Sequence[Wish]

    def holders(self, name: str, newest: Version) -> Iterator[str]:
        """Whose range excludes the newest."""
        wished = [("you", wish) for wish in self.own if wish.name == name]
        for who, wish in [*wished, *self._of_packages.get(name, ())]:
            if wish.range is not None and not self.market.fits(wish, newest):
                yield f"{who}: {wish.text}"

    @cached_property
    def _of_packages(self) -> dict[str, list[tuple[str, Wish]]]:
        """By whom they ask for, the packages of the answer that do; each is asked once."""
        found: dict[str, list[tuple[str, Wish]]] = {}
        for key, version in self.answer.items():
            whose, _, extra = key.rstrip("]").partition("[")
            for wish in self.market.wishes(whose, version, extra) or ():
                found.setdefault(wish.name, []).append((f"{key} {version}", wish))
        return found


def what_keeps_out(market: Market, wish: Wish, roots: Iterable[Wish], limits: Sequence[Wish]) -> list[str]:
    """Why something cannot be had together with what is declared, a sentence each; nothing where it can."""
    try:
        Solver(market, [*roots, wish], limits).solve()
    except Unsolvable as error:
        return sentences(error.facts, market, but_not=wish)
    return []
