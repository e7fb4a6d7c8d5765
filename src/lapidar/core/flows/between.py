"""The versions of a package between two: those that the cache has, and those that the configured indexes can give."""

from __future__ import annotations

import functools
from dataclasses import replace

from lapidar.core import languages
from lapidar.core.cache.history import History
from lapidar.core.cache.store import Cache
from lapidar.core.cache.trees import Tree
from lapidar.core.declaring import reading
from lapidar.core.errors import LapidarError
from lapidar.core.flows import pin
from lapidar.core.pinning.session import PinOptions
from lapidar.core.project import Project
from lapidar.core.records.declaration import Declaration
from lapidar.core.records.difference import Change
from lapidar.core.records.snapshot import Package, Snapshot

__all__ = ["Between"]


class Between:
    """The versions between the two of a change, in the order from the old one to the new one.

    Args:
        good: the snapshot with the old version: its runtime and other packages are what an index is asked for.
        change: of a package.

    Attributes:
        versions: their texts; without the two of the change.
        trouble: why the indexes could not be asked; "" where they were, or there are none.
    """

    def __init__(self, project: Project, cache: Cache, good: Snapshot, change: Change) -> None:
        self._project, self._cache, self._good, self._change = project, cache, good, change
        self._language = languages.of(change.owner.language)
        self.trouble = ""
        self._kept = self._in_cache()
        found = list(self._kept)
        try:
            found += [one for one in self._in_indexes() if not any(map(self._language.is_same_version, found, [one]))]
        except LapidarError as error:
            self.trouble = error.what
        forward = (self._language.standing(change.old, change.new) or -1) < 0
        self.versions = sorted(found, key=functools.cmp_to_key(self._order), reverse=not forward)

    def tree(self, version: str) -> Tree | None:
        """The files of a version, fetched where they must be; None where they cannot be had."""
        package = self._kept.get(version)
        try:
            package = package or self._fetched(version)
            return self._cache.tree(package.tree) if package else None
        except LapidarError:
            return None

    def _order(self, one: str, other: str) -> int:
        return self._language.standing(one, other) or 0

    def _in_cache(self) -> dict[str, Package]:
        """What the history knows and the cache has whole, by version."""
        found: dict[str, Package] = {}
        for _, snapshot in History(self._cache).copies():
            for package in snapshot.packages if isinstance(snapshot, Snapshot) else ():
                if package.owner.user == self._change.owner.user and self._is_within(package.version):
                    found.setdefault(package.version, package)
        return {version: package for version, package in found.items() if self._cache.is_whole(package.tree)}

    def _is_within(self, version: str) -> bool:
        standing, change = self._language.standing, self._change
        to_old, to_new = standing(version, change.old), standing(version, change.new)
        return to_old is not None and to_new is not None and to_old * to_new < 0

    def _in_indexes(self) -> list[str]:
        language = self._language.name
        with pin.opened(
            self._project, self._cache, self._declaration(), self._good, self._options(), only=language
        ) as session:
            asked = session.of(language)
            if not asked.market.has_indexes:
                return []
            releases = asked.releases(self._change.owner.name)
        fitting = [one for one in releases if one.reason is None and not one.is_prerelease and not one.is_withdrawn]
        return [str(one.version) for one in fitting if self._is_within(str(one.version))]

    def _fetched(self, version: str) -> Package | None:
        name, language = self._change.owner.name, self._language.name
        declared = self._declaration(f"{name} (== {version})")
        with pin.opened(self._project, self._cache, declared, self._good, self._options(), only=language) as session:
            asked = session.of(language)
            parts = asked.carry_out(asked.plan())
        return next((one for one in parts.packages if one.name == name), None)

    def _declaration(self, *needs: str) -> Declaration:
        """What the project says of its indexes and runtimes, and these needs alone."""
        wanted = tuple(self._language.parse_need(need, "versions between") for need in needs)
        return replace(reading.read(self._project), needs=wanted, limits=(), sha256={}, overrides={}, extras=())

    def _options(self) -> PinOptions:
        """Nothing is built of which neither version was: that would run code that nobody agreed to."""
        name = self._change.owner.name
        was_built = any(one.built_with for one in self._good.packages if one.name == name)
        return PinOptions(no_builds=not was_built)
