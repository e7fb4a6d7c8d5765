"""Forget: the bytes of a file that must not be kept go out of the cache for good, and stay out."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

from msgspec import Struct, field

from lapidar.core import atomic
from lapidar.core.cache.contents import trees_of
from lapidar.core.cache.digest import sha256_of
from lapidar.core.cache.history import History
from lapidar.core.cache.runs import Runs
from lapidar.core.cache.store import Cache
from lapidar.core.errors import CacheError
from lapidar.core.records.results import Analysis
from lapidar.core.records.snapshot import Snapshot

__all__ = ["Forgotten", "forget"]


class Forgotten(Struct):
    """What came of it.

    Attributes:
        sha256: of the bytes.
        was_there: whether the cache had them.
        analyses: the names of those whose records need them: without the file they cannot be run again.
    """

    sha256: str
    was_there: bool
    analyses: list[str] = field(default_factory=list)


def forget(cache: Cache, what: str) -> Forgotten:
    """Take the bytes of a file out.

    Args:
        what: the file, or the sha256 of its bytes in hex.

    Raises:
        CacheError: that is neither, or a snapshot needs the bytes: it would not be whole any more.
    """
    cache.require_writable()
    digest = what.lower() if re.fullmatch(r"[0-9a-fA-F]{64}", what) else _of_file(Path(what))
    with cache.alone(None):
        if owners := sorted(set(_snapshots(cache, digest))):
            raise CacheError(
                f"The bytes {digest[:12]} are part of an environment, and stay",
                why=f"snapshot {', '.join(owners)} would not be whole any more",
                remedy="Give the snapshot up first: lapidar cache prune --give-up SNAPSHOT.",
            )
        paths = [Path(cache.file_path(digest, executable)) for executable in (False, True)]
        there = [path for path in paths if path.exists()]
        if digest not in cache.forgotten():
            atomic.append_line(cache.forgotten_path, digest.encode("ascii"))
        for path in there:
            path.unlink()
        return Forgotten(digest, bool(there), sorted(set(_analyses(cache, digest))))


def _of_file(path: Path) -> str:
    try:
        return sha256_of(str(path))
    except OSError as error:
        raise CacheError(
            f"{path} is no file that can be read, and no digest",
            why=error.strerror or str(error),
            remedy="Name a file, or the sha256 of its bytes.",
        ) from error


def _snapshots(cache: Cache, digest: str) -> Iterator[str]:
    for snapshot_id, copy in History(cache).copies():
        if isinstance(copy, Snapshot) and any(_holds(cache, tree, digest) for tree in trees_of([copy])):
            yield snapshot_id[7:19]


def _analyses(cache: Cache, digest: str) -> Iterator[str]:
    for _, copy in Runs(cache).copies():
        if isinstance(copy, Analysis) and any(_holds(cache, tree, digest) for tree in (copy.given, copy.made)):
            yield copy.name


def _holds(cache: Cache, tree: str, digest: str) -> bool:
    try:
        return any(entry.content == digest for entry in cache.tree(tree))
    except CacheError:
        return False
