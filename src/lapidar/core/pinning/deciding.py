"""Which packages, as far as no language has ways of its own: what is asked for, what stays pinned, what overrides do,
and what changes."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Collection, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any, ClassVar, Protocol

from msgspec.structs import replace

from lapidar.core import languages
from lapidar.core.errors import Conflict, LapidarError
from lapidar.core.pinning import explain, overriding
from lapidar.core.pinning.market import Against, Market, Reason, Release
from lapidar.core.pinning.outlook import PackageOutlook, outlook, what_keeps_out
from lapidar.core.pinning.session import LanguagePlan, PinRequest, Target
from lapidar.core.pinning.solver import Solver, Version, Wish
from lapidar.core.records.declaration import Need, Override
from lapidar.core.records.declared import OverrideStanding
from lapidar.core.records.difference import PackageChange, kind_of
from lapidar.core.records.snapshot import Package, Platform, Snapshot

__all__ = ["Chosen", "Deciding", "OneSession", "Universe", "standing"]


class Chosen(Protocol):
    """A chosen version."""

    @property
    def version(self) -> str: ...

    def is_of(self, package: Package) -> bool:
        """Whether it is what is pinned, where the version is."""


class Universe:
    """What the markets of all languages have in common; see `lapidar.core.pinning.market.Market`.

    Attributes:
        need: how one writes a need: of a name, an operator and a version.
        notes: what was passed over and why, a sentence each.
    """

    need: ClassVar[str] = "{} {} {}"

    def __init__(self, fixed: Collection[str]) -> None:
        self.notes: dict[str, None] = {}
        self._fixed = fixed  # names that need not be in any index: settled, or kept
        self._releases: dict[str, list[Release]] = {}

    def knows(self: Any, name: str) -> bool:
        """Whether there is such a package at all."""
        return name in self._fixed or not self.has_indexes or bool(self.releases(name))

    def fitting(self: Any, wish: Wish, versions: Sequence[Version]) -> int:
        """Which of the versions are in a wish's range; see `lapidar.core.pinning.solver.Universe`."""
        return sum(2 << at for at, version in enumerate(versions) if self.fits(wish, version))

    def exactly(self, name: str, version: Version) -> str:
        """How one writes that exactly a version is asked for."""
        return self.need.format(name, "==", version)

    def at_least(self, name: str, version: Version) -> str:
        """How one writes that a version or a newer one is asked for."""
        return self.need.format(name, ">=", version)

    def below(self, name: str, version: Version) -> str:
        """How one writes that only what is older than a version is asked for."""
        return self.need.format(name, "<", version)

    def _unusable(self, name: str, version: Version, why: str, *, note: bool = True) -> None:
        """Note that a version cannot be chosen, and why."""
        releases = self._releases.get(name, [])
        for at, one in enumerate(releases):
            if one.version == version:
                releases[at] = replace(one, reason=Reason(Against.UNUSABLE, why))
        if note:
            self.notes[f"{name} {version} was passed over: {why}"] = None


class Deciding(ABC):
    """Resolves what a project declares of a language.

    Attributes:
        language: its name.
        source: what its packages come from, as people call it: "index".
        versions_command: how one asks which versions there are.
    """

    language: ClassVar[str]
    source: ClassVar[str] = "index"
    versions_command: ClassVar[str] = "lapidar versions"

    def __init__(self, request: PinRequest, target: Target) -> None:
        self.request = request
        self._runtime = target.runtime

    # ---- what is asked for

    @property
    def needs(self) -> Sequence[Need]:
        """What is needed here."""
        return self.request.declaration.needs_of(self.language)

    @property
    def declared_limits(self) -> Sequence[Need]:
        """What is limited here."""
        return self.request.declaration.limits_of(self.language)

    @property
    def overrides(self) -> dict[str, Override]:
        """Those of this language's packages."""
        return self.request.declaration.overrides_of(self.language)

    @abstractmethod
    def wish_of(self, need: Need, *, any_version: bool = False) -> Wish:
        """A need as a wish of the resolver.

        Args:
            any_version: where something overrides what anyone's range says.
        """

    @abstractmethod
    def candidates(self, *, without_override: str = "", keep: bool = True) -> Any:
        """The universe to choose from, by the declaration, the options and what is pinned."""

    def roots(self, *, without_override: str = "") -> list[Wish]:
        """What the project asks for."""
        forced = self.overrides.keys() - {without_override}
        return [self.wish_of(need, any_version=need.name in forced) for need in self.needs]

    def limits(self) -> list[Wish]:
        """What it only limits."""
        return [self.wish_of(need) for need in self.declared_limits if need.name not in self.overrides]

    # ---- what is pinned

    def pinned(self) -> dict[str, Package]:
        """The packages of the lockfile that there is."""
        packages = self.request.previous.packages if self.request.previous else ()
        return {package.name: package for package in packages if package.language == self.language}

    def staying(self, settled: Collection[str]) -> Iterator[Package]:
        """What is pinned and is not to be chosen anew; nothing where another line of the runtime is pinned for.

        Args:
            settled: names whose version is settled from elsewhere.
        """
        previous, options = self.request.previous, self.request.options
        before = previous.runtime_of(self.language) if previous else None
        if before is None or options.renew_all or options.as_of:
            return
        if self._runtime.version.split(".")[:2] != before.version.split(".")[:2]:
            return
        for package in self.pinned().values():
            if package.key not in options.renew and package.name not in settled:
                yield package

    # ---- what comes of it

    def require_versions_of_overrides(self, market: Market, asked: Mapping[str, Version]) -> None:
        """Raises: Conflict: a version that an override asks for cannot be had.

        Args:
            asked: the versions, by name.
        """
        for name, version in asked.items():
            release = next((one for one in market.releases(name) if one.version == version), None)
            if release is None or release.reason is not None:
                raise Conflict(
                    f"The override of {name} asks for {version}, which cannot be had",
                    why=str(release.reason) if release else f"no {self.source} has this version",
                    remedy=f"`{self.versions_command} {name}` shows what there is.",
                )

    def effects(self, answer: Mapping[str, Any]) -> tuple[OverrideStanding, ...]:
        """How each override acts."""
        return tuple(self._effect(name, answer) for name in self.overrides)

    def _effect(self, name: str, answer: Mapping[str, Any]) -> OverrideStanding:
        return overriding.standing(
            self.overrides[name],
            answer,
            lambda: self.candidates(without_override=name, keep=False),
            self.roots(without_override=name),
            self.limits(),
        )

    def changes(self, choices: Mapping[str, Chosen]) -> Iterator[PackageChange]:
        """What becomes another than it is pinned, by names."""
        old = self.pinned()
        for name in sorted({*old, *choices}):
            choice = choices.get(name)
            before = old[name].version if name in old else ""
            after = choice.version if choice else ""
            if before != after or (choice is not None and not choice.is_of(old[name])):
                kind = kind_of(self.language, before, after, standing)
                yield PackageChange(self.language, name, kind, before, after)

    def solve(self, market: Any) -> Mapping[str, Version]:
        """The answer to the project's needs.

        Raises:
            Conflict: there is none.
        """
        roots, limits = self.roots(), self.limits()
        return explain.solved(Solver(market, roots, limits), market, roots, limits, self.source)

    @abstractmethod
    def plan(self) -> LanguagePlan:
        """Resolve."""


def standing(language: str, one: str, other: str) -> int | None:
    """Which of two versions is newer, as their language has it."""
    return languages.of(language).versions.standing(one, other)


class OneSession:
    """What the sessions of all languages have in common; see `lapidar.core.pinning.session.LanguagePinning`."""

    def __init__(self, request: PinRequest, target: Any, supply: Any, decider: Any) -> None:
        self.request = request
        self.target = target
        self.supply = supply
        self.decider = decider

    @property
    def platform(self) -> Platform:
        """That is pinned for."""
        platform: Platform = self.target.platform
        return platform

    @property
    def market(self) -> Any:
        """What there is to choose from, whatever is pinned."""
        return self.decider.candidates(keep=False)

    def plan(self) -> LanguagePlan:
        """Resolve."""
        plan: LanguagePlan = self.decider.plan()
        return plan

    def archives(self, folder: Path, to: Path, held: Sequence[str]) -> tuple[list[Path], Snapshot | None]:
        """What is handed on of a package."""
        raise LapidarError("This lapidar builds no packages of that language")

    def built_again(self, packages: Sequence[Package]) -> list[Package]:
        """Packages of the project's own, built of their folders as they are; in a language that builds none, as they
        were."""
        return list(packages)

    def other_needs(self, package: Package) -> Conflict:
        """The error for one of these that cannot be built again alone."""
        return Conflict(
            f"{package.name} in {package.origin.path} needs other things than when it was pinned", remedy="lapidar pin"
        )

    def as_built(self, package: Package, version: str, held: Any) -> Package:
        """The record of a package of the project's own as it was built again.

        Args:
            held: its tree, its origin, and what it was built with.
        """
        tree = self.request.cache.tree(held.tree)
        return replace(
            package,
            version=version,
            tree=held.tree,
            files=len(tree),
            bytes=tree.total_bytes,
            origin=held.origin,
            built_with=held.built_with,
        )

    def releases(self, name: str) -> Sequence[Release]:
        """Every version of a name."""
        market = self.market
        found: Sequence[Release] = market.releases(name)
        if not found:
            raise explain.unknown(name, market)
        return found

    def outlook(self) -> list[PackageOutlook]:
        """The outlook of every pinned package."""
        market, decider = self.market, self.decider
        pinned = {name: package.version for name, package in decider.pinned().items()}
        return outlook(pinned, decider.solve(market), market, decider.roots(), decider.limits())

    def what_keeps_out(self, need: Need) -> list[str]:
        """Why something cannot be had together with what is declared."""
        decider = self.decider
        return what_keeps_out(self.market, decider.wish_of(need), decider.roots(), decider.limits())
