"""The digest of a file, read piece by piece."""

from __future__ import annotations

import hashlib

__all__ = ["sha256_of"]

_PIECE_BYTES = 1 << 20


def sha256_of(path: str) -> str:
    """The sha256 of a file's bytes, in hex."""
    digest = hashlib.sha256()
    with open(path, "rb", buffering=0) as stream:
        while piece := stream.read(_PIECE_BYTES):
            digest.update(piece)
    return digest.hexdigest()
