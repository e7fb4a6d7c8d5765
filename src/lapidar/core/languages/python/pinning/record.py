"""The records of packages that are in the cache, for a lockfile."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from packaging.utils import canonicalize_name

from lapidar.core.cache.store import Cache
from lapidar.core.languages.python.pinning.cached import CachedPackage
from lapidar.core.languages.python.pinning.target import Target
from lapidar.core.languages.python.requirements import requirement_of
from lapidar.core.languages.python.standards.metadata import needed
from lapidar.core.records.declaration import Need
from lapidar.core.records.snapshot import Package

__all__ = ["packages"]


def packages(
    cache: Cache, target: Target, chosen: Mapping[str, CachedPackage], asked: Sequence[Need]
) -> tuple[Package, ...]:
    """The records, sorted by name.

    Args:
        chosen: by their names.
        asked: the needs that asked for them; where there are none, what nothing else needs was asked for.
    """
    metadata = [one.metadata for one in chosen.values()]
    wanted = {need.name for need in asked if not need.group}
    groups = {need.name: {other.group for other in asked if other.name == need.name} - {""} for need in asked}
    extras: dict[str, set[str]] = {}
    for need in asked:
        extras.setdefault(need.name, set()).update(canonicalize_name(one) for one in requirement_of(need).extras)
    requested = [name for name in chosen if name in wanted or groups.get(name)]
    requires = needed(metadata, target.markers, requested, extras)
    if not asked:  # taken over from a list that does not tell
        needs = needed(metadata, target.markers)
        wanted = set(chosen) - {name for several in needs.values() for name in several}
    records = []
    for name, one in sorted(chosen.items()):
        tree = cache.tree(one.tree)
        records.append(
            Package(
                language="python",
                name=name,
                version=one.metadata.version,
                tree=one.tree,
                files=len(tree),
                bytes=tree.total_bytes,
                requires=requires[name],
                wanted=name in wanted,
                origin=one.origin,
                groups=tuple(sorted(groups.get(name, ()))),
                extras=tuple(sorted(extras.get(name, ()))),
                built_with=one.built_with,
            )
        )
    return tuple(records)
