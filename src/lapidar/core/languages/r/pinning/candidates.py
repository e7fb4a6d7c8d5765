"""What there is to choose from, and why not the rest: the offers of the repositories, judged for a runtime."""

from __future__ import annotations

import datetime
import functools
from collections.abc import Callable, Collection, Mapping, Sequence

from msgspec import Struct, field
from msgspec.structs import replace

from lapidar.core import spelling
from lapidar.core.errors import IndexTrouble, PackageBroken
from lapidar.core.languages.r import description, versions
from lapidar.core.languages.r.description import Description
from lapidar.core.languages.r.index.repositories import Offer, Repositories, day_of
from lapidar.core.languages.r.requirements import BASE, RECOMMENDED, Requirement
from lapidar.core.languages.r.versions import Range
from lapidar.core.pinning.deciding import Universe
from lapidar.core.pinning.market import Against, Reason, Release
from lapidar.core.pinning.solver import Wish
from lapidar.core.records.snapshot import Origin

__all__ = ["CachedPackage", "Candidates", "Policy", "RVersion", "Shipped", "wish_of"]


@functools.total_ordering
class RVersion:
    """A version: in an order by its numbers, written as its package writes it."""

    __slots__ = ("key", "text")

    def __init__(self, text: str) -> None:
        self.text = text
        self.key = versions.key(text)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, RVersion) and self.key == other.key

    def __lt__(self, other: RVersion) -> bool:
        return self.key < other.key

    def __hash__(self) -> int:
        return hash(self.key)

    def __str__(self) -> str:
        return self.text

    def __repr__(self) -> str:
        return f"RVersion({self.text!r})"


def wish_of(requirement: Requirement, where: str = "", *, any_version: bool = False) -> Wish:
    """The wish of a requirement.

    Args:
        any_version: where something overrides what anyone's range says.
    """
    range_ = None if any_version or not requirement.range else requirement.range
    return Wish(requirement.name, (), range_, str(requirement), where)


class CachedPackage(Struct, frozen=True):
    """A package in the cache, and where it came from."""

    description: Description
    tree: str
    origin: Origin
    built_with: tuple[str, ...] = ()

    @property
    def version(self) -> RVersion:
        return RVersion(self.description.version)


class Shipped(Offer, frozen=True):
    """A recommended package as the runtime of this machine has it."""


class Policy(Struct, frozen=True):
    """What may be chosen.

    Attributes:
        as_of: nothing that came later than this day.
        no_builds: nothing that would have to be built.
        kept: what is pinned already and is to stay, where it can: versions by name.
        settled: what is settled from elsewhere than a repository.
        cached: of names, what the cache has: of kept and settled ones.
    """

    as_of: datetime.date | None = None
    no_builds: bool = False
    pinned: Mapping[str, RVersion] = field(default_factory=dict)
    settled: Mapping[str, RVersion] = field(default_factory=dict)
    forced: Collection[str] = ()
    cached: Mapping[str, CachedPackage] = field(default_factory=dict)


class Candidates(Universe):
    """See `lapidar.core.pinning.market.Market`.

    Args:
        runtime: the version of R that is pinned for.
        shipped: gives, by its name, a recommended package that comes with that runtime.
    """

    need = "{} ({} {})"

    def __init__(
        self,
        repositories: Repositories,
        runtime: str,
        policy: Policy,
        shipped: Callable[[str], Shipped | None] = lambda _: None,
    ) -> None:
        super().__init__({*policy.settled, *policy.pinned})
        self.repositories = repositories
        self._shipped = shipped
        self.runtime = runtime
        self.policy = policy
        self._offers: dict[tuple[str, RVersion], Offer] = {}

    # ---- of a universe

    def versions(self, name: str) -> Sequence[RVersion]:
        settled = self.policy.settled.get(name)
        if settled is not None:
            return [settled]
        kept = self.policy.pinned.get(name)
        if not self.has_indexes:
            return [kept] if kept is not None else []
        usable = [one.version for one in self.releases(name) if not one.reason]
        if kept is None:
            return usable
        return [kept, *(version for version in usable if version != kept)]

    def wishes(self, name: str, version: RVersion, extra: str) -> Sequence[Wish] | None:
        found = self.description(name, version)
        if found is None:
            return None
        return [
            wish_of(one, any_version=one.name in self.policy.forced)
            for one in found.needs(*description.BUILT)
            if one.name not in BASE
        ]

    def soon(self, wishes: Sequence[Wish]) -> None:
        """Lists hold all that is asked for next."""

    # ---- of a market

    @property
    def has_indexes(self) -> bool:
        return bool(self.repositories.indexes)

    @property
    def settled(self) -> Collection[str]:
        return self.policy.settled

    def fits(self, wish: Wish, version: RVersion) -> bool:
        return not isinstance(wish.range, Range) or wish.range.contains(version.text)

    def releases(self, name: str) -> list[Release]:
        """Every version of a name, the newest first, with the reason against it where there is one.

        Raises:
            IndexTrouble: a repository cannot be used, or tells too little for --as-of.
        """
        if name not in self._releases:
            by_version: dict[RVersion, Offer] = {}
            for offer in self.repositories.offers(name):
                by_version.setdefault(RVersion(offer.version), offer)
            found = []
            for version in sorted(by_version, reverse=True):
                offer = self._offers[(name, version)] = by_version[version]
                found.append(self._release(offer, version))
            if not found and name in RECOMMENDED and (own := self._shipped(name)):
                version = RVersion(own.version)
                self._offers[(name, version)] = own
                found.append(Release(version, None, uploaded=own.day, is_built=True))
            self._releases[name] = found
        return self._releases[name]

    def near(self, name: str) -> list[str]:
        return spelling.near(name, self.repositories.names()) if self.has_indexes else []

    def wish_for(self, name: str, version: RVersion) -> Wish:
        return wish_of(Requirement(name, Range((("==", version.text),))))

    # ---- single versions

    def offer(self, name: str, version: RVersion) -> Offer:
        """The offer of a version that is chosen.

        Raises:
            KeyError: there is none.
        """
        if (name, version) not in self._offers:
            self.releases(name)
        return self._offers[(name, version)]

    def cached(self, name: str, version: RVersion) -> CachedPackage | None:
        """A version that is in the cache already."""
        found = self.policy.cached.get(name)
        return found if found and found.version == version else None

    def description(self, name: str, version: RVersion) -> Description | None:
        """What a version says of itself; None where it cannot be used, with a note."""
        cached = self.cached(name, version)
        if cached:
            return cached.description
        try:
            found = self.repositories.description_of(self.offer(name, version))
        except PackageBroken as error:
            self._unusable(name, version, f"{error.what}: {error.why}" if error.why else error.what)
            return None
        except KeyError:
            self._unusable(name, version, "no repository has it any more")
            return None
        if reason := self._reason_of(found):
            self._unusable(name, version, str(reason), note=False)
            return None
        return found

    def _release(self, offer: Offer, version: RVersion) -> Release:
        reason = self._reason_of(offer.description) if offer.description else None
        day = self._day(offer) if self.policy.as_of else offer.day
        if self.policy.as_of and day > self.policy.as_of.isoformat():
            reason = Reason(Against.CAME_LATER, str(self.policy.as_of))
        if reason is None and self.policy.no_builds:
            reason = Reason(Against.ONLY_SOURCE, "built package")
        return Release(version, reason, uploaded=day, file=offer.file)

    def _day(self, offer: Offer) -> str:
        """When a version came. Where the list does not say, the package itself does.

        Raises:
            IndexTrouble: it does not either.
        """
        try:
            day = offer.day or self._day_within(offer)
        except PackageBroken:
            return "9999"
        if not day:
            raise IndexTrouble(
                f"--as-of cannot be used: nothing tells when {offer.name} {offer.version} came",
                why="neither the list of the repository nor the package itself has a date",
                remedy="Leave --as-of away, or override the package with one version.",
            )
        return day

    def _day_within(self, offer: Offer) -> str:
        return day_of(self.repositories.description_of(replace(offer, description=None)))

    def _reason_of(self, found: Description) -> Reason | None:
        """Why a version does not fit this runtime, or this machine."""
        if found.built is not None and found.fields.get("Priority") != "recommended":
            told = f"it was installed with R {found.built.runtime}"
            return Reason(Against.UNUSABLE, f"it is an installed package, and no source: {told}")
        if not found.runtime.contains(self.runtime):
            return Reason(Against.RUNTIME, f"R {found.runtime}")
        if (system := found.fields.get("OS_type", "unix")) != "unix":
            return Reason(Against.UNUSABLE, f"it is for {system}")
        for one in found.needs(*description.BUILT):
            # The packages that are R itself are of its version.
            if one.name in BASE and not one.range.contains(self.runtime):
                return Reason(Against.RUNTIME, f"{one}, which R {self.runtime} is not")
        return None
