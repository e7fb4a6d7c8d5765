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

__all__ = ["Whole"]


class Whole:
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
    def known(self) -> bool:
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
