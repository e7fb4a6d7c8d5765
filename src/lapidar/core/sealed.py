"""Files with a seal: a digest of their own name and contents in their first line.

What only saves work later must never give another answer than the work would. A letter that flipped on the disk, half
a file, or one that lies under another's name shows in the seal, and then the file counts as not there.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

from lapidar.core import atomic

__all__ = ["Sealed", "keep", "opened", "read", "write"]


def _seal(name: str, data: bytes) -> bytes:
    return hashlib.blake2b(name.encode("utf-8", "surrogateescape") + b"\0" + data, digest_size=16).hexdigest().encode()


class Sealed(NamedTuple):
    """A sealed file that was read, and whose seal was not looked at yet: that takes a while for a large one."""

    name: str
    seal: bytes
    data: bytes

    def is_whole(self) -> bool:
        """Whether it is as it was written."""
        return self.seal == _seal(self.name, self.data)


def opened(path: Path) -> Sealed | None:
    """Read a sealed file; None where there is none."""
    try:
        with open(path, "rb") as stream:
            return Sealed(path.name, stream.readline().rstrip(b"\n"), stream.read())
    except OSError:
        return None


def read(path: Path) -> bytes | None:
    """The contents of a sealed file; None where there is none, or its seal is broken."""
    found = opened(path)
    return found.data if found and found.is_whole() else None


def write(path: Path, data: bytes, *, flush: bool = True) -> None:
    """Write a sealed file whole.

    Args:
        flush: wait for the disk. Without, a power cut may leave half, which the seal then tells.

    Raises:
        OSError: it could not be written; what stood there before stands there still.
    """
    atomic.write_file(path, _seal(path.name, data) + b"\n" + data, flush=flush)


def keep(path: Path, encode: Callable[[], bytes], *, flush: bool = True) -> None:
    """Write a sealed file that only saves work later: where that cannot be, nothing is lost.

    Args:
        encode: gives its contents; a name in it that is no UTF-8 is such a case too.
    """
    try:
        atomic.make_folder(path.parent)
        write(path, encode(), flush=flush)
    except (OSError, UnicodeEncodeError):
        pass
