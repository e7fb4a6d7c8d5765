"""The list of placed files of a restored environment: ``ENV/lib/lapidar/placed.json``.

It holds what a quick check compares with: for each file its path, kind, digest, size, and the inode it was
linked to. Its own digest stands in ``ENV/lapidar.toml``.
"""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from pathlib import Path
from typing import NamedTuple

import msgspec

from lapidar.core.environment import marker

__all__ = ["FILE_NAME", "GENERATED", "Manifest", "Placed", "Restored", "read", "render"]

FILE_NAME = f"{marker.PRIVATE}/placed.json"
GENERATED = 0  # instead of an inode: not linked to the cache


class Placed(NamedTuple):
    """One file or link.

    Attributes:
        owner: an index into the manifest's owners.
        kind, content: as in a tree's entry.
        inode: of the cached file it was linked to; `GENERATED` where it was copied or written here.
        cached: whether the cache has it (it came from a tree, or is byte-code).
    """

    path: str
    owner: int
    kind: str
    content: str
    bytes: int
    inode: int
    cached: bool


class Manifest(msgspec.Struct, frozen=True):
    """All placed files, and whom they belong to.

    Attributes:
        owners: labels: the runtime's, a package's name and version, ``lapidar``.
        wanted: the names of the packages that were asked for. Old kinds of package metadata have no place to
            note that, nor which files they own; capturing a restored environment reads both from here.
    """

    owners: list[str]
    files: list[Placed]
    wanted: list[str]

    def paths_of(self, owner: str) -> list[str]:
        """The paths that belong to an owner, relative to the environment."""
        if owner not in self.owners:
            return []
        index = self.owners.index(owner)
        return [row.path for row in self.files if row.owner == index]


_DECODER = msgspec.json.Decoder(Manifest)


def render(manifest: Manifest) -> tuple[bytes, str]:
    """The file's bytes, and their digest."""
    data = msgspec.json.encode(manifest)
    return data, "sha256:" + hashlib.sha256(data).hexdigest()


@dataclass(frozen=True, slots=True)
class Restored:
    """A restored environment: its marker and its manifest."""

    marker: marker.Marker
    manifest: Manifest


def read(environment: Path) -> Restored | None:
    """What a restored environment says of itself; None where Lapidar did not make it, or the list was altered."""
    mark = marker.read(environment)
    if mark is None:
        return None
    try:
        data = (environment / FILE_NAME).read_bytes()
        if "sha256:" + hashlib.sha256(data).hexdigest() != mark.placed:
            return None
        return Restored(mark, _DECODER.decode(data))
    except (OSError, msgspec.MsgspecError):
        return None
