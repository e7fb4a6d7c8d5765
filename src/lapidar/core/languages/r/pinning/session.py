"""One session with R's repositories, for a project: see `lapidar.core.pinning.session.LanguagePinning`."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from lapidar.core.cache.store import Cache
from lapidar.core.errors import DeclarationError, IndexTrouble, MissingFromCache
from lapidar.core.languages.r import description
from lapidar.core.languages.r.index.repositories import Offer, Repositories
from lapidar.core.languages.r.pinning import base
from lapidar.core.languages.r.pinning.base import Target
from lapidar.core.languages.r.pinning.candidates import Candidates, Held, RVersion, wish_of
from lapidar.core.languages.r.pinning.decide import Choice, Decider
from lapidar.core.languages.r.pinning.supply import Named, Supply, held_of
from lapidar.core.languages.r.requirements import of_need
from lapidar.core.pinning import explain
from lapidar.core.pinning.market import Release
from lapidar.core.pinning.outlook import PackageOutlook, outlook, what_keeps_out
from lapidar.core.pinning.session import LanguagePlan, PinOptions
from lapidar.core.place import Place
from lapidar.core.progress import Progress
from lapidar.core.records.declaration import Declaration, Need
from lapidar.core.records.snapshot import LanguageParts, Package, Platform, Snapshot

__all__ = ["RPinning", "fetch_missing", "opened"]


@dataclass(frozen=True)
class RPinning:
    """The session.

    Attributes:
        supply: brings packages into the cache.
        decider: resolves.
    """

    cache: Cache
    target: Target
    supply: Supply
    decider: Decider

    @property
    def platform(self) -> Platform:
        return self.target.platform

    @property
    def market(self) -> Candidates:
        return self.decider.candidates(keep=False)

    def plan(self) -> LanguagePlan:
        return self.decider.plan()

    def plan_of_file(self, path: Path) -> LanguagePlan:
        raise DeclarationError(
            f"{path} cannot be read for R",
            why="there is no standard lock file of R packages",
            remedy="Pin without --from; the needs of R are resolved from [needs] r.",
        )

    def carry_out(self, plan: LanguagePlan) -> LanguageParts:
        choices = {name: one for name, one in plan.choices.items() if isinstance(one, Choice)}
        brought = self.supply.bring(
            {name: one.what for name, one in choices.items()},
            {name: one.description for name, one in choices.items()},
        )
        return LanguageParts(self.target.runtime, tuple(self._records(brought)), ())

    def _records(self, brought: Mapping[str, Held]) -> Iterator[Package]:
        needs = self.decider.needs
        for name, held in sorted(brought.items()):
            groups = {need.group for need in needs if need.name == name}
            tree = self.cache.tree(held.tree)
            needed = {one.name for one in held.description.needs(*description.RUN_TIME)}
            yield Package(
                language="r",
                name=name,
                version=held.description.version,
                tree=held.tree,
                files=len(tree),
                bytes=tree.total_bytes,
                requires=tuple(sorted(needed & brought.keys())),
                wanted="" in groups,
                origin=held.origin,
                groups=tuple(sorted(groups - {""})),
                built_with=held.built_with,
            )

    # ---- asking

    def releases(self, name: str) -> Sequence[Release]:
        market = self.market
        found = market.releases(name)
        if not found:
            raise explain.unknown(name, market)
        return found

    def outlook(self) -> list[PackageOutlook]:
        market, decider = self.market, self.decider
        pinned = {name: package.version for name, package in decider.pinned().items()}
        return outlook(pinned, decider.solve(market), market, decider.roots(), decider.limits())

    def what_keeps_out(self, need: Need) -> list[str]:
        return what_keeps_out(self.market, wish_of(of_need(need)), self.decider.roots(), self.decider.limits())


@contextmanager
def opened(
    place: Place,
    cache: Cache,
    declaration: Declaration,
    previous: Snapshot | None,
    options: PinOptions,
    reporter: Progress,
) -> Iterator[RPinning]:
    """Begin a session.

    Args:
        declaration: what is to be met; that of the project's files, or one that is about to be written.
        previous: the lockfile that there is.

    Raises:
        Conflict: the runtime is not one that the project declares, or there is none.
    """
    sha256 = declaration.sha256_of("r")
    with Repositories(declaration.indexes, cache) as repositories, cache.in_use():
        target = base.find(place, cache, declaration, previous, options.runtime, reporter)
        with Supply(place, cache, repositories, target.runtime, target.platform, reporter, sha256, previous) as supply:
            yield RPinning(cache, target, supply, Decider(cache, target, supply, declaration, previous, options))


def fetch_missing(
    place: Place, cache: Cache, snapshot: Snapshot, declaration: Declaration, reporter: Progress
) -> list[str]:
    """Fetch, and build again, the packages of a snapshot that the cache lacks; their names.

    Raises:
        MissingFromCache: something has no origin to fetch it from, or what comes is not what the lockfile says.
        IndexTrouble: a repository cannot be used, or is not configured.
    """
    own = [package for package in snapshot.packages if package.language == "r"]
    missing = {package.name: package for package in own if not cache.is_whole(package.tree)}
    if not missing:
        return []
    with opened(place, cache, declaration, snapshot, PinOptions(), reporter) as pinning:
        chosen: dict[str, Held | Offer | Named] = {}
        described = {}
        for package in own:
            found = held_of(cache, package) or _offer(pinning, package)
            chosen[package.name] = found
            described[package.name] = (
                found.description if isinstance(found, Held) else pinning.supply.repositories.description_of(found)
            )
        brought = pinning.supply.bring(chosen, described)
    for name, package in missing.items():
        if brought[name].tree != package.tree:
            raise MissingFromCache(
                f"{name} {package.version} is not what the lockfile says",
                why=f"built again its tree is {brought[name].tree}, and not {package.tree}",
                remedy="Find the cache, or a copy of it, that has the tree. Nothing was placed.",
            )
    return sorted(missing)


def _offer(pinning: RPinning, package: Package) -> Offer:
    """What a package came of, in a repository that is configured here."""
    origin = package.origin
    if origin.kind in ("index", "archive") and origin.file:
        for offer in pinning.supply.repositories.offers(package.name):
            if offer.file == origin.file and RVersion(offer.version) == RVersion(package.version):
                return offer
        raise IndexTrouble(
            f"{origin.file} is in no repository that is configured here",
            remedy='Name the one that has it in [index], with language = "r".',
        )
    raise MissingFromCache(
        f"{package.name} {package.version} is not in the cache, and cannot be fetched",
        why="only the captured environment had it" if origin.kind == "environment" else f"its origin is {origin.kind}",
        remedy="Find the cache, or a copy of it, that has it.",
    )
