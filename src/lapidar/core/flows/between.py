"""The versions between two: those that the cache has, and, of packages, those that the configured indexes can give."""

from __future__ import annotations

import functools
from abc import ABC, abstractmethod
from typing import Generic, NamedTuple, TypeVar

from msgspec.structs import replace

from lapidar.core import languages
from lapidar.core.cache.history import History
from lapidar.core.cache.store import Cache
from lapidar.core.cache.trees import Entry
from lapidar.core.changes.hybrid import record_of
from lapidar.core.declaring import reading
from lapidar.core.errors import LapidarError
from lapidar.core.flows import pin
from lapidar.core.flows.history import standing
from lapidar.core.pinning.session import PinOptions, PinRequest
from lapidar.core.place import Place
from lapidar.core.records.declaration import Declaration
from lapidar.core.records.difference import Change
from lapidar.core.records.owner import Layer, PackageName
from lapidar.core.records.snapshot import Library, Package, Runtime, Snapshot, Tool

__all__ = ["Between", "Found", "LibrariesBetween", "LibraryFile", "PartsBetween", "library_of"]


# A part that has versions: each has a tree.
Part = Runtime | Package | Tool
Found = TypeVar("Found")


class LibraryFile(NamedTuple):
    """A library of the system: its record, and its file."""

    record: Library
    entry: Entry


class Between(ABC, Generic[Found]):
    """The versions between the two of a change, in the order from the old one to the new one.

    Args:
        good: the snapshot with the old version: its runtime and other packages are what an index is asked for.
        change: of what has versions.

    Attributes:
        versions: their texts, once they were looked for; without the two of the change.
        trouble: why the indexes could not be asked; "" where they were, or there are none.
    """

    def __init__(self, place: Place, cache: Cache, good: Snapshot, change: Change) -> None:
        self._place, self._cache, self._good, self._change = place, cache, good, change
        self._known: dict[str, Found] = {}
        self.versions: list[str] = []
        self.trouble = ""

    def look(self) -> None:
        """Look for them: in the cache, then in the indexes."""
        self._known = self._in_cache()
        versions = list(self._known)
        try:
            versions += [one for one in self._in_indexes() if not any(self._is_same(known, one) for known in versions)]
        except LapidarError as error:
            self.trouble = error.what
        forward = (self._order(self._change.old, self._change.new) or -1) < 0
        self.versions = sorted(versions, key=functools.cmp_to_key(self._order), reverse=not forward)

    def record(self, version: str) -> Found | None:
        """What a snapshot has of a version, fetched where it must be. None: it cannot be had."""
        try:
            found = self._known.get(version) or self._fetched(version)
        except LapidarError:
            return None
        if found is not None:
            self._known[version] = found
        return found

    @abstractmethod
    def _of(self, snapshot: Snapshot) -> tuple[str, Found] | None:
        """The version that a snapshot has, and what it has of it."""

    @abstractmethod
    def _is_whole(self, found: Found) -> bool:
        """Whether the cache has all of it."""

    def _in_indexes(self) -> list[str]:
        return []

    def _fetched(self, version: str) -> Found | None:
        return None

    def _in_cache(self) -> dict[str, Found]:
        """What the history knows and the cache has whole, by version."""
        known: dict[str, Found] = {}
        for _, snapshot in History(self._cache).copies():
            had = self._of(snapshot) if isinstance(snapshot, Snapshot) else None
            if had and self._is_within(had[0]):
                known.setdefault(*had)
        return {version: found for version, found in known.items() if self._is_whole(found)}

    def _order(self, one: str, other: str) -> int:
        return standing(self._change.owner.language, one, other) or 0

    def _is_same(self, one: str, other: str) -> bool:
        return one == other or self._order(one, other) == 0

    def _is_within(self, version: str) -> bool:
        language, change = self._change.owner.language, self._change
        to_old, to_new = standing(language, version, change.old), standing(language, version, change.new)
        return to_old is not None and to_new is not None and to_old * to_new < 0


class PartsBetween(Between[Part]):
    """Those of a runtime, a package or an outside program. Of packages the indexes can give more."""

    def _of(self, snapshot: Snapshot) -> tuple[str, Part] | None:
        record = record_of(snapshot, self._change.owner.user)
        if isinstance(record, Runtime | Package):
            return record.version, record
        return (record.owner_version, record) if isinstance(record, Tool) and record.owner_version else None

    def _is_whole(self, found: Part) -> bool:
        return self._cache.is_whole(found.tree)

    def _in_indexes(self) -> list[str]:
        if self._change.owner.layer is not Layer.PACKAGES:
            return []
        language = self._change.owner.language
        with pin.opened(self._request(self._declaration()), only=language) as session:
            asked = session.of(language)
            if not asked.market.has_indexes:
                return []
            releases = asked.releases(self._change.owner.name)
        fitting = [one for one in releases if one.reason is None and not one.is_prerelease and not one.is_withdrawn]
        return [str(one.version) for one in fitting if self._is_within(str(one.version))]

    def _fetched(self, version: str) -> Package | None:
        name, language = self._change.owner.name, self._change.owner.language
        declared = self._declaration(f"{name} (== {version})")
        with pin.opened(self._request(declared), only=language) as session:
            asked = session.of(language)
            parts = asked.carry_out(asked.plan())
        return next((one for one in parts.packages if one.name == name), None)

    def _declaration(self, *needs: str) -> Declaration:
        """What the project says of its indexes and runtimes, and these needs alone."""
        language = languages.of(self._change.owner.language)
        wanted = tuple(language.versions.parse_need(need, "versions between") for need in needs)
        return replace(reading.read(self._place), needs=wanted, limits=(), sha256={}, overrides={}, extras=())

    def _request(self, declaration: Declaration) -> PinRequest:
        """Nothing is built of which neither version was: that would run code that nobody agreed to."""
        key = PackageName(self._change.owner.language, self._change.owner.name)
        was_built = any(one.built_with for one in self._good.packages if one.key == key)
        options = PinOptions(no_builds=not was_built)
        return PinRequest(self._place, self._cache, declaration, self._good, options)


class LibrariesBetween(Between[LibraryFile]):
    """Those of a library of the system."""

    def _of(self, snapshot: Snapshot) -> tuple[str, LibraryFile] | None:
        try:
            found = library_of(self._cache, snapshot, self._change.owner.name)
        except LapidarError:
            return None
        return (found.record.owner_version, found) if found and found.record.owner_version else None

    def _is_whole(self, found: LibraryFile) -> bool:
        return self._cache.flaw(found.entry) is None


def library_of(cache: Cache, snapshot: Snapshot, name: str) -> LibraryFile | None:
    """The record of a library of the system, and its file.

    Raises:
        CacheError: the listing of the libraries cannot be read.
    """
    record = next((one for one in snapshot.libraries if one.soname == name), None)
    if record is None or snapshot.library_layer is None:
        return None
    entry = next((one for one in cache.tree(snapshot.library_layer.tree) if one.path == name), None)
    return LibraryFile(record, entry) if entry else None
