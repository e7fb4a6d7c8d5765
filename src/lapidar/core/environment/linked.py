"""Lists of files that the cache was found to have whole: a short cut for the next quick check.

Which files the cache has changes with its folders alone, and each of those shows in its modification time that
something came, went or was replaced. So a list that was once found whole is whole as long as no folder's time changes.
What changed in the contents of a file is for its own size and time to show.
"""

from __future__ import annotations

import hashlib
import os
import time
from pathlib import Path

from lapidar.core import atomic
from lapidar.core.cache.seen import SETTLED_NS
from lapidar.core.cache.store import Cache
from lapidar.core.environment.folder import Environment
from lapidar.core.environment.listing import CACHED
from lapidar.core.records.snapshot import Snapshot

__all__ = ["is_linked_to"]

_LARGE = 6  # listing the whole cache pays up to so many times the environment's files


def is_linked_to(cache: Cache, snapshot: Snapshot, environment: Environment) -> bool:
    """Whether the cache still has the very files that an environment of a snapshot is linked to.

    That is told from the folders of the cache alone, which is several times as fast as asking for each file;
    where it does not hold (the environment was copied, the cache is large), the long way is to be taken.
    """
    mark, listed = environment.marker, environment.manifest
    if mark is None or mark.snapshot != snapshot.snapshot or listed is None or not listed.inodes:
        return False
    if not all(cache.has_tree(part.tree) for part in snapshot.parts()):
        return False
    known = _Whole(cache, environment.folder, mark.placed)
    if known.is_known:
        return True
    inodes = cache.inodes(most=_LARGE * len(listed.inodes))
    if inodes is None:
        return False
    elsewhere = set(listed.inodes) - inodes  # what was written for this environment, links, and what is lost
    rows = zip(listed.listing.kinds, listed.inodes, strict=True)
    if any(inode in elsewhere and inode and kind in CACHED for kind, inode in rows):
        return False
    known.keep()
    return True


class _Whole:
    """What is known of the list of an environment, as of now.

    Args:
        cache: may have its files.
        environment: the environment's folder; one list is kept of each.
        digest: what the list is known by.
    """

    def __init__(self, cache: Cache, environment: Path, digest: str) -> None:
        self._cache = cache
        self._file = cache.root / "seen" / f"whole-{hashlib.sha256(os.fsencode(environment)).hexdigest()[:26]}"
        state = _state(cache)
        self._state = f"{digest} {state}".encode("ascii") if state else None

    @property
    def is_known(self) -> bool:
        """Whether the list was found whole, and no folder has changed since."""
        if self._state is None:
            return False
        try:
            return self._file.read_bytes() == self._state
        except OSError:
            return False

    def keep(self) -> None:
        """The list was found whole since this was made."""
        state = self._state
        if state is not None and self._cache.writable:
            atomic.write_short_cut(self._file, lambda: state)


def _state(cache: Cache) -> str | None:
    """All folders of files with their times, digested; None where one has only just changed."""
    digest = hashlib.blake2b(digest_size=32)
    newest = 0
    try:
        for name in sorted(os.listdir(cache.files)):
            found = os.stat(f"{cache.files}/{name}")
            newest = max(newest, found.st_mtime_ns)
            digest.update(f"{name} {found.st_ino} {found.st_mtime_ns}\n".encode())
    except OSError:
        return None
    return digest.hexdigest() if newest < time.time_ns() - SETTLED_NS else None
