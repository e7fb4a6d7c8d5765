"""Work that is under way elsewhere, or was broken off: what of the cache is needed for it."""

from __future__ import annotations

import json
import os
import time
from collections.abc import Iterator

import msgspec

from lapidar.core import foreign
from lapidar.core.cache.store import Cache

__all__ = ["FOLDER", "KEPT", "LEFT_SECONDS", "trees_of_work"]

FOLDER = "work"  # in the cache: a folder for each task
KEPT = "kept"  # in it: what attempts that were broken off left to the next
LEFT_SECONDS = 14 * 86_400  # after which nobody comes for either


class _Needs(msgspec.Struct):
    """Of a task, what lies in the cache for it; of what was left, the same."""

    copy: str = ""
    tree: str = ""


def trees_of_work(cache: Cache) -> Iterator[str]:
    """The trees that tasks run with, and those that attempts left, as far as somebody may come for them."""
    for path in (*cache.root.glob(f"{FOLDER}/*/task.json"), *cache.root.glob(f"{FOLDER}/{KEPT}/*")):
        try:
            needs = msgspec.convert(json.loads(foreign.read(path)), _Needs)
            if time.time() - os.stat(path).st_mtime < LEFT_SECONDS:
                yield needs.copy or needs.tree
        except (OSError, ValueError):
            continue  # it is over meanwhile
