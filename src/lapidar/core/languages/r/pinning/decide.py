"""Which packages of R: the project's needs, what may be chosen, and the answer of the resolver."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct

from lapidar.core import progress
from lapidar.core.languages.r.building import system_needs
from lapidar.core.languages.r.description import Description
from lapidar.core.languages.r.index.repositories import Offer
from lapidar.core.languages.r.pinning.base import Target
from lapidar.core.languages.r.pinning.candidates import (
    CachedPackage,
    Candidates,
    Policy,
    RVersion,
    Shipped,
    wish_of,
)
from lapidar.core.languages.r.pinning.supply import Named, Supply, held_of
from lapidar.core.languages.r.requirements import BASE, of_need
from lapidar.core.pinning.deciding import Deciding
from lapidar.core.pinning.session import LanguagePlan, PinRequest
from lapidar.core.pinning.solver import Wish
from lapidar.core.records.declaration import Need, Override
from lapidar.core.records.snapshot import Package

__all__ = ["Choice", "Decider"]


class Choice(Struct, frozen=True):
    """A chosen version: what it says of itself, and what is to be brought."""

    description: Description
    what: CachedPackage | Offer | Named

    @property
    def version(self) -> str:
        return self.description.version

    def is_of(self, package: Package) -> bool:
        """Of what an override names nobody knows it before it is built."""
        return not isinstance(self.what, Named)


class Decider(Deciding):
    """Resolves what a project declares of R."""

    language = "r"
    source = "repository"
    versions_command = "lapidar versions --language r"

    def __init__(self, request: PinRequest, target: Target, supply: Supply) -> None:
        super().__init__(request, target)
        self.target = target
        self.supply = supply
        self._named: dict[str, Named] = {}

    # ---- what is asked for

    @property
    def needs(self) -> list[Need]:
        """What is needed of R that is no part of R itself."""
        return [need for need in super().needs if need.name not in BASE]

    def wish_of(self, need: Need, *, any_version: bool = False) -> Wish:
        return wish_of(of_need(need), need.where, any_version=any_version)

    def candidates(self, *, without_override: str = "", keep: bool = True) -> Candidates:
        settled: dict[str, RVersion] = {}
        cached: dict[str, CachedPackage] = {}
        for name, override in self.overrides.items():
            if name == without_override:
                continue
            if override.version:
                settled[name] = RVersion(override.version)
            else:
                named = self._brought(name, override)
                settled[name] = RVersion(named.description.version)
                cached[name] = CachedPackage(named.description, "", named.origin)
        kept = {}
        for package in self.staying(settled) if keep else ():
            if one := held_of(self.request.cache, package):
                kept[package.name], cached[package.name] = one.version, one
        policy = Policy(
            as_of=self.request.options.as_of or self.request.declaration.as_of,
            no_builds=self.request.options.no_builds,
            pinned=kept,
            settled=settled,
            forced=frozenset(settled),
            cached=cached,
        )
        return Candidates(self.supply.repositories, self.target.runtime.version, policy, self.supply.shipped.get)

    def _brought(self, name: str, override: Override) -> Named:
        if name not in self._named:
            self._named[name] = self.supply.named(override)
        return self._named[name]

    # ---- resolving

    def solve(self, market: Candidates) -> Mapping[str, RVersion]:
        if self.needs and not (market.has_indexes or market.policy.pinned or market.policy.settled):
            market.repositories.require_any()
        return super().solve(market)

    def plan(self) -> LanguagePlan:
        """Resolve; see `lapidar.core.pinning.session.LanguagePinning.plan`."""
        with progress.task(self.request.reporter, "Asking the repositories", 0, "answers"):
            candidates = self.candidates()
            asked = {name: RVersion(one.version) for name, one in self.overrides.items() if one.version}
            self.require_versions_of_overrides(candidates, asked)
            answer = self.solve(candidates)
        choices = {name: self._choice(name, version, candidates) for name, version in answer.items()}
        offers = [one.what for one in choices.values() if not isinstance(one.what, CachedPackage | Shipped)]
        told_of = [
            f"no repository has {name}: {one.version} is taken from R {self.target.runtime.version} of this machine"
            for name, one in choices.items()
            if isinstance(one.what, Shipped)
        ]
        told = [text for one in choices.values() if not isinstance(one.what, CachedPackage)
                if (text := system_needs.told(one.description))]  # fmt: skip
        return LanguagePlan(
            choices=choices,
            changes=tuple(self.changes(choices)),
            notes=(*candidates.notes, *told_of, *told),
            fetch_files=sum(isinstance(one, Offer) for one in offers),
            fetch_bytes=0,
            overrides=self.effects(answer),
        )

    def _choice(self, name: str, version: RVersion, candidates: Candidates) -> Choice:
        found = candidates.description(name, version)
        assert found is not None, "what is chosen says what it needs"
        if name in self._named and name in candidates.policy.settled:
            return Choice(found, self._named[name])
        return Choice(found, candidates.cached(name, version) or candidates.offer(name, version))
