"""What one compressed file holds: gzip, bzip2 and xz, known by how they begin."""

from __future__ import annotations

import bz2
import gzip
import lzma
from pathlib import Path
from typing import Any

__all__ = ["BROKEN", "HEADS", "unpacked"]

_OPEN: dict[bytes, Any] = {b"\x1f\x8b": gzip.open, b"BZh": bz2.open, b"\xfd7zXZ": lzma.open}
HEADS = tuple(_OPEN)
BROKEN = (OSError, EOFError, ValueError, lzma.LZMAError)  # what reading one that is damaged raises


def unpacked(path: Path) -> Any:
    """What a compressed file holds, as a stream of bytes; a file that is not compressed as it is."""
    with path.open("rb") as stream:
        head = stream.read(6)
    return next((opened for magic, opened in _OPEN.items() if head.startswith(magic)), open)(path, "rb")
