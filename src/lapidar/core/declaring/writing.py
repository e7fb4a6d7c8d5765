"""Write the files that declare things: as their owner keeps them, but for what was changed."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from lapidar.core import atomic

__all__ = ["write"]


def write(root: Path, texts: Mapping[str, str]) -> None:
    """Write texts into a project's files, each whole. Line ends stay those of the file as it is, so does its mode, and
    the link where it is one.

    Args:
        texts: by the names of files; their lines end with a line feed.

    Raises:
        OSError: one could not be written.
    """
    for name, text in texts.items():
        path = root / name
        atomic.replace_file(path, (text.replace("\n", "\r\n") if _has_crlf(path) else text).encode("utf-8"))


def _has_crlf(path: Path) -> bool:
    try:
        data = path.read_bytes()
    except OSError:
        return False
    return 0 < data.count(b"\n") == data.count(b"\r\n")
