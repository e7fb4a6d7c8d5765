"""The list of placed files of a restored environment: ``ENV/lib/lapidar/placed.json``.

It holds what a quick check compares with. Digests of files are not in it: a deep check trusts no list in the
environment, and derives its own. The list's own digest stands in ``ENV/lapidar.toml``; that one is a BLAKE2b, which is
several times as fast as a sha256 where the processor has no instructions for the latter, and nothing but this list
is known by it.
"""

from __future__ import annotations

import hashlib
from pathlib import Path

import msgspec

from lapidar.core import decoding, foreign
from lapidar.core.environment import marker
from lapidar.core.environment.listing import Listing

__all__ = ["FILE_NAME", "Manifest", "digest_of", "read", "render"]

FILE_NAME = f"{marker.PRIVATE}/placed.json"


class Manifest(msgspec.Struct, frozen=True):
    """What was placed: the listing, and for each row the inode of what was linked or written there (0 where it was
    copied or is a link; no inodes at all where nothing was hard-linked)."""

    listing: Listing
    inodes: list[int]


def digest_of(data: bytes) -> str:
    """The digest that a manifest, or a kept assembly, is known by."""
    return "blake2b:" + hashlib.blake2b(data, digest_size=32).hexdigest()


def render(manifest: Manifest) -> tuple[bytes, str]:
    """The file's bytes, and their digest."""
    data = msgspec.json.encode(manifest)
    return data, digest_of(data)


def read(environment: Path, mark: marker.Marker) -> Manifest | None:
    """The list of an environment; None where it is missing or was altered.

    Args:
        mark: what the environment says of itself: it knows the list's digest.
    """
    try:
        data = foreign.read(environment / FILE_NAME, 1_000_000_000)
        if digest_of(data) != mark.placed:
            return None
        return foreign.parsed(lambda: decoding.from_json(data, Manifest))
    except (OSError, ValueError):
        return None
