"""One session with R's repositories, for a project: see `lapidar.core.pinning.session.LanguagePinning`."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path

from lapidar.core.errors import DeclarationError, IndexTrouble, MissingFromCache
from lapidar.core.languages.r import description
from lapidar.core.languages.r.building.archive import source_archive
from lapidar.core.languages.r.index.repositories import Offer, Repositories
from lapidar.core.languages.r.pinning import base
from lapidar.core.languages.r.pinning.candidates import CachedPackage, RVersion
from lapidar.core.languages.r.pinning.decide import Choice, Decider
from lapidar.core.languages.r.pinning.supply import Named, Supply, held_of, needed_of
from lapidar.core.pinning.deciding import OneSession
from lapidar.core.pinning.session import LanguagePlan, PinRequest
from lapidar.core.records.snapshot import LanguageParts, Package, Snapshot

__all__ = ["RPinning", "fetch_missing", "opened"]


class RPinning(OneSession):
    """The session."""

    def plan_of_file(self, path: Path) -> LanguagePlan:
        raise DeclarationError(
            f"{path} cannot be read for R",
            why="there is no standard lock file of R packages",
            remedy="Pin without --pins; the needs of R are resolved from [needs] r.",
        )

    def carry_out(self, plan: LanguagePlan) -> LanguageParts:
        choices = {name: one for name, one in plan.choices.items() if isinstance(one, Choice)}
        brought = self.supply.bring(
            {name: one.what for name, one in choices.items()},
            {name: one.description for name, one in choices.items()},
        )
        return LanguageParts(self.target.runtime, tuple(self._records(brought)), ())

    def archives(self, folder: Path, to: Path, held: Sequence[str]) -> tuple[list[Path], Snapshot | None]:
        return [source_archive(folder, to)], None

    def built_again(self, packages: Sequence[Package]) -> list[Package]:
        chosen: dict[str, CachedPackage | Offer | Named] = {}
        chosen |= {one.name: held for one in self.pinned() if (held := held_of(self.request.cache, one))}
        described = {name: one.description for name, one in chosen.items() if isinstance(one, CachedPackage)}
        for one in packages:
            named = self.supply.named(self.decider.overrides[one.name])
            if set(needed_of(named.description)) - described.keys():
                raise self.other_needs(one)
            chosen[one.name], described[one.name] = named, named.description
        brought = self.supply.bring(chosen, described)
        return [self.as_built(one, brought[one.name].description.version, brought[one.name]) for one in packages]

    def pinned(self) -> tuple[Package, ...]:
        """What the lockfile has of R."""
        previous = self.request.previous
        return tuple(one for one in previous.packages if one.language == "r") if previous else ()

    def _records(self, brought: Mapping[str, CachedPackage]) -> Iterator[Package]:
        needs = self.decider.needs
        for name, held in sorted(brought.items()):
            groups = {need.group for need in needs if need.name == name}
            tree = self.request.cache.tree(held.tree)
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


@contextmanager
def opened(request: PinRequest) -> Iterator[RPinning]:
    """Begin a session.

    Raises:
        Conflict: the runtime is not one that the project declares, or there is none.
    """
    with Repositories(request.declaration.indexes, request.cache) as repositories, request.cache.in_use():
        target = base.find(request)
        with Supply(request, repositories, target.runtime, target.platform) as supply:
            yield RPinning(request, target, supply, Decider(request, target, supply))


def fetch_missing(request: PinRequest, snapshot: Snapshot) -> list[str]:
    """Fetch, and build again, the packages of a snapshot that the cache lacks; their names.

    Raises:
        MissingFromCache: something has no origin to fetch it from, or what comes is not what the lockfile says.
        IndexTrouble: a repository cannot be used, or is not configured.
    """
    cache = request.cache
    own = [package for package in snapshot.packages if package.language == "r"]
    missing = {package.name: package for package in own if not cache.is_whole(package.tree)}
    if not missing:
        return []
    with opened(request) as pinning:
        chosen: dict[str, CachedPackage | Offer | Named] = {}
        described = {}
        for package in own:
            found = held_of(cache, package) or _offer(pinning, package)
            chosen[package.name] = found
            described[package.name] = (
                found.description
                if isinstance(found, CachedPackage)
                else pinning.supply.repositories.description_of(found)
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
    shipped: Offer | None = pinning.supply.shipped.get(package.name) if origin.kind == "environment" else None
    if shipped and shipped.version == package.version:
        return shipped
    if origin.kind in ("index", "archive") and origin.file:
        offers: Sequence[Offer] = pinning.supply.repositories.offers(package.name)
        for offer in offers:
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
