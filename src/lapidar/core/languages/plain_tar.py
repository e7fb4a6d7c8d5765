"""Source archives in one form: what has the same files has the same bytes, whoever packed it, and when. Standard: POSIX
pax, as the Source distribution format asks for, in gzip."""

from __future__ import annotations

import gzip
import io
import tarfile
from collections.abc import Iterable
from typing import IO

from lapidar.core.cache.files import FILE_TIME_SECONDS

__all__ = ["entry", "packed"]


def entry(name: str, size: int, *, executable: bool = False, link: str = "") -> tarfile.TarInfo:
    """A file of nobody, of the one time.

    Args:
        size: in bytes.
        link: what a symbolic link says; "" for a file.
    """
    made = tarfile.TarInfo(name)
    made.size, made.mtime, made.mode = size, FILE_TIME_SECONDS, 0o755 if executable else 0o644
    if link:
        made.type, made.linkname = tarfile.SYMTYPE, link
    return made


def packed(entries: Iterable[tuple[tarfile.TarInfo, IO[bytes] | None]]) -> bytes:
    """An archive of entries, each with its bytes."""
    data, out = io.BytesIO(), io.BytesIO()
    with tarfile.open(fileobj=data, mode="w", format=tarfile.PAX_FORMAT) as made:
        for one, stream in entries:
            made.addfile(one, stream)
    with gzip.GzipFile("", "wb", 9, out, 0) as squeezed:
        squeezed.write(data.getbuffer())
    return out.getvalue()
