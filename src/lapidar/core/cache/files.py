"""A cached file: the time that it has, the name that it has, and what can be wrong with it; and where environments that
lie in a cache are. Nothing of the cache is loaded for that."""

from __future__ import annotations

import enum
import os
import sys
from pathlib import Path

__all__ = ["FILE_TIME_NS", "FILE_TIME_SECONDS", "FileFlaw", "digest_of_name", "environments_folder", "is_cached_file"]

# Every file of the cache has this modification time (2001-09-09T01:46:40Z). It is fixed so that byte-code
# compiled once stays valid wherever the source is placed, and so that an edit through a hard link shows.
FILE_TIME_SECONDS = 1_000_000_000
FILE_TIME_NS = FILE_TIME_SECONDS * 1_000_000_000


class FileFlaw(enum.StrEnum):
    """What is wrong with a cached file; the last two are only found by reading it."""

    MISSING = "missing"
    SIZE = "altered: it has another size"
    TIME = "altered: its modification time was changed"
    BYTES = "corrupt"
    UNREADABLE = "unreadable"


def is_cached_file(entry: os.DirEntry[str]) -> bool:
    """Whether what lies in the folders of files is a file with a name that this program gives."""
    digest, _ = digest_of_name(entry.path)
    return len(digest) == 64 and not set(digest) - set("0123456789abcdef") and entry.is_file(follow_symlinks=False)


def digest_of_name(path: str) -> tuple[str, bool]:
    """The digest (hex) that a cached file's name claims, and whether it is executable."""
    folder, _, name = path.rpartition("/")
    executable = name.endswith(".x")
    return sys.intern(folder[-2:]) + name.removesuffix(".x"), executable


def environments_folder(root: Path) -> Path:
    """Where a cache keeps the environments of scripts, of what is tried aside and of snapshots that are called."""
    return root / "scripts"
