"""The versions between two: those that the cache has, and, of packages, those that the configured indexes can give."""

from __future__ import annotations

import functools
from collections.abc import Iterator
from dataclasses import replace
from typing import Any

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

__all__ = ["Between", "library_of"]


class Between:
    """The versions between the two of a change, in the order from the old one to the new one.

    Args:
        good: the snapshot with the old version: its runtime and other packages are what an index is asked for.
        change: of what has versions.

    Attributes:
        versions: their texts; without the two of the change.
        trouble: why the indexes could not be asked; "" where they were, or there are none.
    """

    def __init__(self, place: Place, cache: Cache, good: Snapshot, change: Change) -> None:
        self._project, self._cache, self._good, self._change = place, cache, good, change
        self.trouble = ""
        self._kept = self._in_cache()
        found = list(self._kept)
        try:
            found += [one for one in self._in_indexes() if not any(self._is_same(known, one) for known in found)]
        except LapidarError as error:
            self.trouble = error.what
        forward = (self._order(change.old, change.new) or -1) < 0
        self.versions = sorted(found, key=functools.cmp_to_key(self._order), reverse=not forward)

    def record(self, version: str) -> Any:
        """The record of a version, fetched where it must be; of a library with its file. None: it cannot be had."""
        try:
            found = self._kept.get(version) or self._fetched(version)
        except LapidarError:
            return None
        if found is not None:
            self._kept[version] = found
        return found

    def _order(self, one: str, other: str) -> int:
        return standing(self._change.owner.language, one, other) or 0

    def _is_same(self, one: str, other: str) -> bool:
        return one == other or self._order(one, other) == 0

    def _in_cache(self) -> dict[str, Any]:
        """What the history knows and the cache has whole, by version."""
        of = _libraries if self._change.owner.layer is Layer.LIBRARIES else _records
        found: dict[str, Any] = {}
        for _, snapshot in History(self._cache).copies():
            for version, record in of(self._cache, snapshot, self._change) if isinstance(snapshot, Snapshot) else ():
                if self._is_within(version):
                    found.setdefault(version, record)
        return {version: record for version, record in found.items() if self._is_whole(record)}

    def _is_whole(self, record: Any) -> bool:
        if isinstance(record, tuple):
            return self._cache.flaw(record[1]) is None
        return self._cache.is_whole(record.tree)

    def _is_within(self, version: str) -> bool:
        language, change = self._change.owner.language, self._change
        to_old, to_new = standing(language, version, change.old), standing(language, version, change.new)
        return to_old is not None and to_new is not None and to_old * to_new < 0

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
        return replace(reading.read(self._project), needs=wanted, limits=(), sha256={}, overrides={}, extras=())

    def _request(self, declaration: Declaration) -> PinRequest:
        """Nothing is built of which neither version was: that would run code that nobody agreed to."""
        key = PackageName(self._change.owner.language, self._change.owner.name)
        was_built = any(one.built_with for one in self._good.packages if one.key == key)
        options = PinOptions(no_builds=not was_built)
        return PinRequest(self._project, self._cache, declaration, self._good, options)


def _records(cache: Cache, snapshot: Snapshot, change: Change) -> Iterator[tuple[str, Any]]:
    record = record_of(snapshot, change.owner.user)
    if isinstance(record, Runtime | Package):
        yield record.version, record
    elif isinstance(record, Tool) and record.owner_version:
        yield record.owner_version, record


def _libraries(cache: Cache, snapshot: Snapshot, change: Change) -> Iterator[tuple[str, Any]]:
    try:
        found = library_of(cache, snapshot, change.owner.name)
    except LapidarError:
        return
    if found is not None and found[0].owner_version:
        yield found[0].owner_version, found


def library_of(cache: Cache, snapshot: Snapshot, name: str) -> tuple[Library, Entry] | None:
    """The record of a library of the system, and its file.

    Raises:
        CacheError: the listing of the libraries cannot be read.
    """
    record = next((one for one in snapshot.libraries if one.soname == name), None)
    if record is None or snapshot.library_layer is None:
        return None
    entry = next((one for one in cache.tree(snapshot.library_layer.tree) if one.path == name), None)
    return (record, entry) if entry else None
