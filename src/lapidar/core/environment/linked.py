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

from lapidar.core import sealed
from lapidar.core.cache.seen import SETTLED_NS
from lapidar.core.cache.store import Cache
from lapidar.core.environment.folder import Environment
from lapidar.core.environment.listing import CACHED
from lapidar.core.records.snapshot import Snapshot

__all__ = ["unlinked"]


def unlinked(cache: Cache, snapshot: Snapshot, environment: Environment) -> list[str] | None:
    """The files of an environment that were linked from the cache, and that it does not have any more: lost, or set
    aside because they were found bad, and perhaps stowed anew. The environment's own may be bad then too.

    That is told from the folders of the cache alone, which is several times as fast as asking for each file.

    Returns:
        Their paths; None where nothing can be told: the environment is not linked to the cache, or not of the
        snapshot.
    """
    mark, listed = environment.marker, environment.manifest
    if mark is None or mark.snapshot != snapshot.snapshot or listed is None or not listed.inodes:
        return None
    known = _Whole(cache, environment.folder, mark.placed)
    if known.is_known:
        return []
    try:
        elsewhere = set(listed.inodes) - cache.inodes()  # written for this environment, links, and what is lost
    except OSError:
        return None
    rows = zip(listed.listing.paths, listed.listing.kinds, listed.inodes, strict=True)
    lost = [path for path, kind, inode in rows if inode in elsewhere and inode and kind in CACHED]
    if not lost:
        known.keep()
    return lost


class _Whole:
    """What is known of the list of an environment, as of now.

    Args:
        cache: may have its files.
        environment: the environment's folder; one list is kept of each.
        digest: what the list is known by.
    """

    def __init__(self, cache: Cache, environment: Path, digest: str) -> None:
        self._cache = cache
        self._file = cache.short_cuts / f"whole-{hashlib.sha256(os.fsencode(environment)).hexdigest()[:26]}"
        state = _state(cache)
        self._state = f"{digest} {state}".encode("ascii") if state else None

    @property
    def is_known(self) -> bool:
        """Whether the list was found whole, and no folder has changed since."""
        if self._state is None:
            return False
        return sealed.read(self._file) == self._state

    def keep(self) -> None:
        """The list was found whole since this was made."""
        state = self._state
        if state is not None and self._cache.writable:
            sealed.keep(self._file, lambda: state)


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
