"""Which packages of R: the project's needs, what may be chosen, and the answer of the resolver."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass, field

from lapidar.core import progress
from lapidar.core.cache.store import Cache
from lapidar.core.errors import Conflict
from lapidar.core.languages.r import versions
from lapidar.core.languages.r.building import system_needs
from lapidar.core.languages.r.description import Description
from lapidar.core.languages.r.index.repositories import Offer
from lapidar.core.languages.r.pinning.base import Target
from lapidar.core.languages.r.pinning.candidates import Candidates, Held, Policy, RVersion, wish_of
from lapidar.core.languages.r.pinning.supply import Named, Supply, held_of
from lapidar.core.languages.r.requirements import BASE, of_need
from lapidar.core.pinning import explain, overriding
from lapidar.core.pinning.session import LanguagePlan, PinOptions
from lapidar.core.pinning.solver import Solver, Unsolvable, Wish
from lapidar.core.records.declaration import Declaration, Need, Override
from lapidar.core.records.declared import OverrideStanding
from lapidar.core.records.difference import PackageChange, kind_of
from lapidar.core.records.snapshot import Package, Snapshot

__all__ = ["Choice", "Decider"]


@dataclass(frozen=True, slots=True)
class Choice:
    """A chosen version: what it says of itself, and what is to be brought."""

    description: Description
    what: Held | Offer | Named


@dataclass
class Decider:
    """Resolves what a project declares of R."""

    cache: Cache
    target: Target
    supply: Supply
    declaration: Declaration
    previous: Snapshot | None
    options: PinOptions
    _named: dict[str, Named] = field(default_factory=dict)

    # ---- what is asked for

    @property
    def needs(self) -> list[Need]:
        """What is needed of R that is no part of R itself."""
        return [need for need in self.declaration.needs_of("r") if need.name not in BASE]

    @property
    def overrides(self) -> dict[str, Override]:
        return self.declaration.overrides_of("r")

    def roots(self, *, without_override: str = "") -> list[Wish]:
        """What the project asks for."""
        forced = self.overrides.keys() - {without_override}
        return [wish_of(of_need(need), need.where, any_version=need.name in forced) for need in self.needs]

    def limits(self) -> list[Wish]:
        """What it only limits."""
        limits = self.declaration.limits_of("r")
        return [wish_of(of_need(need), need.where) for need in limits if need.name not in self.overrides]

    def pinned(self) -> dict[str, Package]:
        """The packages of the lockfile that there is."""
        return {one.name: one for one in (self.previous.packages if self.previous else ()) if one.language == "r"}

    def candidates(self, *, without_override: str = "", keep: bool = True) -> Candidates:
        """The universe to choose from, by the declaration, the options and what is pinned."""
        settled: dict[str, RVersion] = {}
        held: dict[str, Held] = {}
        for name, override in self.overrides.items():
            if name == without_override:
                continue
            if override.version:
                settled[name] = RVersion(override.version)
            else:
                named = self._brought(name, override)
                settled[name] = RVersion(named.description.version)
                held[name] = Held(named.description, "", named.origin)
        kept = {}
        for name, one in (self._kept(settled) if keep else {}).items():
            kept[name], held[name] = one.version, one
        policy = Policy(
            as_of=self.options.as_of or self.declaration.as_of,
            no_builds=self.options.no_builds,
            kept=kept,
            settled=settled,
            forced=frozenset(settled),
            held=held,
        )
        return Candidates(self.supply.repositories, self.target.runtime.version, policy)

    def _brought(self, name: str, override: Override) -> Named:
        if name not in self._named:
            self._named[name] = self.supply.named(override)
        return self._named[name]

    def _kept(self, settled: Collection[str]) -> dict[str, Held]:
        """What is pinned already and in the cache, where it is not to be chosen anew."""
        before = self.previous.runtime_of("r") if self.previous else None
        if before is None or self.options.renew_all or self.options.as_of:
            return {}
        if self.target.runtime.version.split(".")[:2] != before.version.split(".")[:2]:
            return {}
        asked = {
            name: one
            for name, one in self.pinned().items()
            if one.key not in self.options.renew and name not in settled
        }
        return {name: held for name, one in asked.items() if (held := held_of(self.cache, one))}

    # ---- resolving

    def solve(self, candidates: Candidates) -> dict[str, RVersion]:
        """The answer to the project's needs.

        Raises:
            Conflict: there is none.
        """
        roots, limits = self.roots(), self.limits()
        if roots and not (candidates.has_indexes or candidates.policy.kept or candidates.policy.settled):
            candidates.repositories.require_any()
        try:
            return Solver(candidates, roots, limits).solve()
        except Unsolvable as error:
            raise explain.conflict(error.facts, candidates, roots, limits) from error

    def plan(self) -> LanguagePlan:
        """Resolve; see `lapidar.core.pinning.session.LanguagePinning.plan`."""
        with progress.task(self.supply.reporter, "Asking the repositories", 0, "answers"):
            candidates = self.candidates()
            self._require_versions_of_overrides(candidates)
            answer = self.solve(candidates)
        choices = {name: self._choice(name, version, candidates) for name, version in answer.items()}
        offers = [one.what for one in choices.values() if not isinstance(one.what, Held)]
        told = [text for one in choices.values() if not isinstance(one.what, Held)
                if (text := system_needs.told(one.description))]  # fmt: skip
        return LanguagePlan(
            choices=choices,
            changes=tuple(self._changes(choices)),
            notes=(*candidates.notes, *told),
            fetch_files=sum(isinstance(one, Offer) for one in offers),
            fetch_bytes=0,
            overrides=tuple(self._effect(name, answer) for name in self.overrides),
        )

    def _choice(self, name: str, version: RVersion, candidates: Candidates) -> Choice:
        found = candidates.description(name, version)
        assert found is not None, "what is chosen says what it needs"
        if name in self._named and name in candidates.policy.settled:
            return Choice(found, self._named[name])
        return Choice(found, candidates.held(name, version) or candidates.offer(name, version))

    def _require_versions_of_overrides(self, candidates: Candidates) -> None:
        for name, override in self.overrides.items():
            if not override.version:
                continue
            asked = RVersion(override.version)
            release = next((one for one in candidates.releases(name) if one.version == asked), None)
            if release is None or release.reason is not None:
                raise Conflict(
                    f"The override of {name} asks for {asked}, which cannot be had",
                    why=str(release.reason) if release else "no repository has this version",
                    remedy=f"`lapidar versions --language r {name}` shows what there is.",
                )

    def _effect(self, name: str, answer: Mapping[str, RVersion]) -> OverrideStanding:
        roots = self.roots(without_override=name)
        return overriding.standing(
            self.overrides[name],
            answer,
            lambda: self.candidates(without_override=name, keep=False),
            roots,
            self.limits(),
        )

    def _changes(self, choices: Mapping[str, Choice]) -> Iterator[PackageChange]:
        old = self.pinned()
        for name in sorted({*old, *choices}):
            choice = choices.get(name)
            before = old[name].version if name in old else ""
            after = choice.description.version if choice else ""
            if before != after or (choice and isinstance(choice.what, Named)):
                yield PackageChange("r", name, kind_of("r", before, after, _standing), before, after)


def _standing(language: str, one: str, other: str) -> int | None:
    return versions.standing(one, other)
