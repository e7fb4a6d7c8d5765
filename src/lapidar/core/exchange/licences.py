"""Under what licence the parts of a snapshot are, as their own metadata says."""

from __future__ import annotations

import msgspec

from lapidar.core import languages
from lapidar.core.cache.store import Cache
from lapidar.core.errors import CacheError
from lapidar.core.records.snapshot import Package, Snapshot

__all__ = ["Licence", "licence_of", "licences"]


class Licence(msgspec.Struct, frozen=True):
    """What one part says.

    Attributes:
        what: what it is, for people.
        licence: as it writes it; "" for nothing.
    """

    name: str
    version: str
    what: str
    licence: str = ""


def licence_of(package: Package, cache: Cache) -> str:
    """What a package says of its licence; "" for nothing, and where the cache has it not."""
    try:
        return languages.of(package.language).capturing.licence_of(cache.tree(package.tree), cache)
    except (CacheError, OSError, ValueError):
        return ""


def licences(snapshot: Snapshot, cache: Cache) -> list[Licence]:
    """The parts of a snapshot, in its order: runtimes, packages, the system's packages that libraries and programs are
    of. Nothing that goes along says the licence of the last: they have it in files that are no part of a snapshot."""
    found = []
    for runtime in snapshot.runtimes:
        title = languages.of(runtime.language).title
        found.append(Licence(runtime.implementation, runtime.version, f"runtime ({title})"))
    for one in snapshot.packages:
        title = languages.of(one.language).title
        found.append(Licence(one.name, one.version, f"package ({title})", licence_of(one, cache)))
    owners = {(one.owner or "", one.owner_version or "") for one in snapshot.libraries}
    owners |= {(one.owner or "", one.owner_version or "") for one in snapshot.tools}
    found += [Licence(name, version, "package of the system") for name, version in sorted(owners) if name]
    return found
