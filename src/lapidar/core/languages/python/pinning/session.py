"""One session with Python's indexes, for a project: see `lapidar.core.pinning.session.LanguagePinning`."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from packaging.utils import canonicalize_name

from lapidar.core.cache.store import Cache
from lapidar.core.errors import Conflict
from lapidar.core.languages.python.index.indexes import Indexes
from lapidar.core.languages.python.pinning import base, record
from lapidar.core.languages.python.pinning.candidates import Candidates, wish_of
from lapidar.core.languages.python.pinning.decide import Choice, Decider
from lapidar.core.languages.python.pinning.held import Held
from lapidar.core.languages.python.pinning.supply import Supply
from lapidar.core.languages.python.pinning.target import Target
from lapidar.core.languages.python.requirements import requirement_of
from lapidar.core.languages.python.standards.metadata import Metadata
from lapidar.core.pinning import explain
from lapidar.core.pinning.market import Market, Release
from lapidar.core.pinning.outlook import PackageOutlook, outlook, what_keeps_out
from lapidar.core.pinning.session import LanguagePlan, PinOptions
from lapidar.core.place import Place
from lapidar.core.progress import Progress
from lapidar.core.records.declaration import Declaration, Need
from lapidar.core.records.snapshot import LanguageParts, Package, Platform, Snapshot

__all__ = ["PythonPinning", "opened"]


@dataclass(frozen=True)
class PythonPinning:
    """The session.

    Attributes:
        target: the runtime and platform that are pinned for.
        supply: brings packages into the cache.
        decider: resolves.
    """

    place: Place
    cache: Cache
    declaration: Declaration
    previous: Snapshot | None
    target: Target
    indexes: Indexes
    supply: Supply
    decider: Decider

    @property
    def platform(self) -> Platform:
        return self.target.platform

    @property
    def market(self) -> Candidates:
        return self.decider.candidates(self.decider.policy(keep=False))

    # ---- pinning

    def plan(self) -> LanguagePlan:
        return self.decider.plan()

    def plan_of_file(self, path: Path) -> LanguagePlan:
        from lapidar.core.languages.python.exchange import pylock

        return self.decider.plan_of(pylock.found_in(path, self.target, self.supply))

    def carry_out(self, plan: LanguagePlan) -> LanguageParts:
        choices = {name: choice for name, choice in plan.choices.items() if isinstance(choice, Choice)}
        files = {name: choice.file for name, choice in choices.items() if choice.file}
        brought = dict(zip(files, self.supply.many(list(files.values())), strict=True))
        chosen = {name: choice.held or brought[name] for name, choice in choices.items()}
        _require_as_guessed(choices, brought)
        asked = self.decider.applying(self.declaration.needs_of("python"))
        return LanguageParts(self.target.runtime, record.packages(self.cache, self.target, chosen, asked), ())

    # ---- asking

    def releases(self, name: str) -> Sequence[Release]:
        market = self.market
        found = market.releases(name)
        if not found:
            raise explain.unknown(name, market)
        return found

    def outlook(self) -> list[PackageOutlook]:
        market, decider = self.market, self.decider
        pinned = {package.name: package.version for package in self.pinned()}
        return outlook(pinned, decider.solve(market), market, decider.roots(), decider.limits())

    def what_keeps_out(self, need: Need) -> list[str]:
        market: Market = self.market
        wish = wish_of(requirement_of(need))
        return what_keeps_out(market, wish, self.decider.roots(), self.decider.limits())

    def pinned(self) -> Iterable[Package]:
        """The packages of the lockfile that there is."""
        return [one for one in (self.previous.packages if self.previous else ()) if one.language == "python"]


def _normalised(metadata: Metadata) -> set[str]:
    """Its needs, each in one spelling."""
    return {
        f"{canonicalize_name(one.name)} {sorted(one.extras)} {one.specifier} {one.url} {one.marker}"
        for one in metadata.requirements()
    }


def _require_as_guessed(choices: Mapping[str, Choice], brought: Mapping[str, Held]) -> None:
    """What was built must need what was taken for its needs before.

    Raises:
        Conflict: it does not.
    """
    for name, held in brought.items():
        if _normalised(held.metadata) != _normalised(choices[name].metadata):
            raise Conflict(
                f"{name} {held.metadata.version}, built from its source, needs other things than was expected",
                why="its needs were taken from a wheel of it for another platform, or from its source as it lies there",
                remedy="Say it again: what it needs is known now. Nothing was changed.",
            )


@contextmanager
def opened(
    place: Place,
    cache: Cache,
    declaration: Declaration,
    previous: Snapshot | None,
    options: PinOptions,
    reporter: Progress,
) -> Iterator[PythonPinning]:
    """Begin a session.

    Args:
        declaration: what is to be met; that of the project's files, or one that is about to be written.
        previous: the lockfile that there is.

    Raises:
        Conflict: the runtime is not one that the project declares.
        EnvironmentUnusable: there is none.
    """
    needs = declaration.needs_of("python")
    limits = declaration.limits_of("python")
    with Indexes(declaration.indexes, cache) as indexes, cache.in_use():
        target = base.find(place, cache, declaration, previous, options.runtime, reporter)
        supply = Supply(place, cache, indexes, target, reporter, no_builds=options.no_builds)
        decider = Decider(cache, target, supply, needs, limits, declaration, previous, options)
        yield PythonPinning(place, cache, declaration, previous, target, indexes, supply, decider)
