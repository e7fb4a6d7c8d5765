"""Under what licence the parts of a snapshot are, as their own metadata says."""

from __future__ import annotations

import re
import struct
from collections.abc import Iterator

import msgspec

from lapidar.core import languages
from lapidar.core.cache.store import Cache
from lapidar.core.cache.trees import LINK, Tree
from lapidar.core.errors import CacheError
from lapidar.core.records import words
from lapidar.core.records.snapshot import Package, Runtime, Snapshot
from lapidar.core.system.owners import SystemPackage
from lapidar.core.system.owners import here as owners_here

__all__ = ["Licence", "licence_of", "licences", "not_to_be_passed_on"]

# What those write who do not let others pass it on.
_KEEPS = re.compile(
    r"(?i)(?<!non-)(?<!non)propriet|\beula\b|end[- ]user licen|all rights reserved|commercial licen|confidential|"
    r"internal use|unlicensed\b|(?:do not|no|not be|without) (?:re)?distribut|do not upload"
)
# Free ones, whose texts people paste, say some of that too.
_FREE = re.compile(r"\b(?:BSD|MIT|ISC|Apache|L?GPL|MPL|PSF)\b")
_FONT = re.compile(r"\.(ttf|otf)$", re.IGNORECASE)
_RESTRICTED = 2  # of fsType in the table OS/2: OpenType 1.9, "Restricted License embedding"
_TABLES, _AT_KIND = 12, 8


class Licence(msgspec.Struct, frozen=True):
    """What one part says.

    Attributes:
        what: what it is, for people.
        licence: as it writes it; "" for nothing.
        here: whether that is what this machine says of the same package, for it has none in what was captured.
    """

    name: str
    version: str
    what: str
    licence: str = ""
    here: bool = False


def licence_of(package: Package | Runtime, cache: Cache) -> str:
    """What a package or a runtime says of its licence; "" for nothing, and where the cache has it not."""
    try:
        return languages.of(package.language).capturing.licence_of(cache.tree(package.tree), cache)
    except (CacheError, OSError, ValueError):
        return ""


def licences(snapshot: Snapshot, cache: Cache) -> list[Licence]:
    """The parts of a snapshot, in its order: runtimes, packages, the system's packages that libraries and programs are
    of. Nothing that goes along says the licence of the last, in files that are no part of a snapshot; where the same
    version is installed here, this machine does."""
    found = []
    for runtime in snapshot.runtimes:
        title = languages.of(runtime.language).title
        found.append(Licence(runtime.implementation, runtime.version, f"runtime ({title})", licence_of(runtime, cache)))
    for one in snapshot.packages:
        title = languages.of(one.language).title
        found.append(Licence(one.name, one.version, f"package ({title})", licence_of(one, cache)))
    owners = {(one.owner, one.owner_version or "") for one in snapshot.libraries if one.owner}
    owners |= {(one.owner, one.owner_version or "") for one in snapshot.tools if one.owner}
    for name, version in sorted(owners):
        told = owners_here().licence_of(SystemPackage(name, version))
        found.append(Licence(name, version, "package of the system", told, here=bool(told)))
    return found


def not_to_be_passed_on(snapshot: Snapshot, cache: Cache) -> list[str]:
    """What of a snapshot says by its licence, or of a font by its own bits, that it is not for everybody, a sentence
    each. What says nothing is not among them."""
    found = [
        f"{one.name} {one.version} says of its licence: {one.licence[:80]}"
        for one in licences(snapshot, cache)
        if _KEEPS.search(one.licence) and not _FREE.search(one.licence)
    ]
    for part in snapshot.parts():
        for path in _restricted_fonts(cache.tree(part.tree), cache) if cache.is_whole(part.tree) else ():
            found.append(f"the font {path} of {words.owner(part.owner)} says that its licence is restricted")
    return found


def _restricted_fonts(tree: Tree, cache: Cache) -> Iterator[str]:
    for entry in tree:
        if entry.kind != LINK and _FONT.search(entry.path) and _is_restricted(cache.entry_path(entry)):
            yield entry.path


def _is_restricted(file: str) -> bool:
    """Whether a font says that it may not be embedded; a file that is none does not."""
    try:
        with open(file, "rb") as stream:
            head = stream.read(_TABLES)
            (tables,) = struct.unpack_from(">H", head, 4)
            for tag, _, at, size in struct.iter_unpack(">4sIII", stream.read(16 * tables)):
                if tag == b"OS/2" and size > _AT_KIND + 1:
                    stream.seek(at + _AT_KIND)
                    return bool(struct.unpack(">H", stream.read(2))[0] & 0xF == _RESTRICTED)
    except (OSError, struct.error):
        pass
    return False
