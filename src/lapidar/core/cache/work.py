"""Work that is under way elsewhere, or was broken off: what of the cache is needed for it."""

from __future__ import annotations

import json
import os
import time
from collections.abc import Iterator
from pathlib import Path

import msgspec

from lapidar.core import foreign
from lapidar.core.cache.store import Cache

__all__ = ["LEFT_SECONDS", "folder_of_attempts", "folder_of_work", "trees_of_work"]

LEFT_SECONDS = 14 * 86_400  # after which nobody comes for either


def folder_of_work(cache: Cache) -> Path:
    """Where each task that is done elsewhere has a folder."""
    return cache.root / "work"


def folder_of_attempts(cache: Cache) -> Path:
    """Where what attempts that were broken off left to the next is noted."""
    return folder_of_work(cache) / "kept"


class _Needs(msgspec.Struct):
    """Of a task, what lies in the cache for it; of what was left, the same."""

    copy: str = ""
    tree: str = ""


def trees_of_work(cache: Cache) -> Iterator[str]:
    """The trees that tasks run with, and those that attempts left, as far as somebody may come for them."""
    for path in (*folder_of_work(cache).glob("*/task.json"), *folder_of_attempts(cache).glob("*")):
        try:
            needs = msgspec.convert(json.loads(foreign.read(path)), _Needs)
            if time.time() - os.stat(path).st_mtime < LEFT_SECONDS:
                yield needs.copy or needs.tree
        except (OSError, ValueError):
            continue  # it is over meanwhile
