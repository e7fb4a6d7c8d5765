"""Environments to build in: what a build needs, pinned, supplied and restored like any other environment."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Protocol

from msgspec import Struct, field
from packaging.requirements import Requirement
from packaging.utils import canonicalize_name

from lapidar.core.cache.store import Cache
from lapidar.core.errors import LapidarError
from lapidar.core.languages.python import requirements
from lapidar.core.languages.python.index.indexes import Indexes
from lapidar.core.languages.python.index.page import File
from lapidar.core.languages.python.pinning import record
from lapidar.core.languages.python.pinning.cached import CachedPackage, metadata_of_tree
from lapidar.core.languages.python.pinning.candidates import Candidates, Policy, Sources, wish_of
from lapidar.core.languages.python.pinning.resolving import exact, solve
from lapidar.core.languages.python.pinning.target import Target
from lapidar.core.languages.python.standards.metadata import applies
from lapidar.core.place import Place
from lapidar.core.records import lockfile
from lapidar.core.records.declaration import Need
from lapidar.core.records.snapshot import Origin, Snapshot

__all__ = ["Workplace"]


class Supplying(Sources, Protocol):
    """What brings files of indexes into the cache."""

    cache: Cache
    indexes: Indexes

    def many(self, files: Sequence[File]) -> list[CachedPackage]:
        """Bring several."""


class Workplace(Struct):
    """Makes environments to build in.

    Attributes:
        supply: brings what they consist of into the cache.
        held: what was built with before, "name version tree" each: where that is all that is needed, and in the cache,
            no index is asked.
    """

    supply: Supplying
    target: Target
    held: tuple[str, ...] = ()
    _building: list[str] = field(default_factory=list)

    def restored(self, needed: Sequence[Requirement], folder: Path) -> Snapshot:
        """Pin what a build needs, and restore it into a folder.

        Raises:
            LapidarError: packages need one another to be built, or what is needed cannot be had.
        """
        from lapidar.core.flows.restore import RestoreOptions, restore

        needs = [requirements.need(requirement, where="to be built with") for requirement in needed]
        with self._once(", ".join(sorted(need.text for need in needs)) or "nothing"):
            applying = [need for need in needs if applies(requirements.requirement_of(need), self.target.markers)]
            chosen = self._as_before(applying) or self._chosen(needs, applying)
            packages = record.packages(self.supply.cache, self.target, chosen, applying)
            snapshot = lockfile.identified(self.target.platform, [self.target.runtime], packages)
            restore(Place.of_project(folder.parent), self.supply.cache, snapshot, RestoreOptions(into=folder))
        return snapshot

    def _chosen(self, needs: Sequence[Need], applying: Sequence[Need]) -> dict[str, CachedPackage]:
        candidates = Candidates(self.supply.indexes, self.target, Policy(exact=exact(needs)), self.supply)
        wishes = [wish_of(requirements.requirement_of(need), need.where) for need in applying]
        answer = solve(candidates, wishes, [])
        names = [name for name in answer if "[" not in name]
        brought = self.supply.many([candidates.file(name, answer[name]) for name in names])
        return dict(zip(names, brought, strict=True))

    def _as_before(self, applying: Sequence[Need]) -> dict[str, CachedPackage]:
        """What was built with before; nothing where that does not do."""
        cache, found = self.supply.cache, {}
        for text in self.held:
            name, _, tree = text.split(" ")
            if not cache.is_whole(tree):
                return {}
            found[name] = CachedPackage(metadata_of_tree(cache, tree), tree, Origin(kind="environment"))
        wanted = map(requirements.requirement_of, applying)
        does = all(
            (one := found.get(canonicalize_name(wish.name))) and wish.specifier.contains(one.version, prereleases=True)
            for wish in wanted
        )
        return found if does else {}

    @contextmanager
    def _once(self, label: str) -> Iterator[None]:
        """Refuse what is under way already: it would have no end."""
        if label in self._building:
            raise LapidarError(
                "Packages need one another to be built",
                why=" needs ".join([*self._building, label]),
                remedy="Use a version that has a wheel (--wheels-only).",
            )
        self._building.append(label)
        try:
            yield
        finally:
            self._building.pop()
