"""A script that was run before: its environment is found, and nothing is loaded that makes one."""

from __future__ import annotations

import hashlib
import os
from pathlib import Path

from lapidar.core.flows.near import in_cache
from lapidar.core.place import DECLARATION_NAME, Place, lock_of

__all__ = ["held", "own_folder"]


def own_folder(file: Path, cache: Path) -> Path:
    """What the cache keeps of one script."""
    return in_cache(cache).folder / "of" / hashlib.sha256(os.fsencode(file.absolute())).hexdigest()[:24]


def held(file: Path, cache: Path) -> tuple[Place, Path] | None:
    """The place and the environment of a script that is as it was when that was made; held from now on by this process,
    and what it becomes."""
    near, lock = in_cache(cache), lock_of(file)
    if not (lock.is_file() and (known := near.known(file, lock)) and (found := near.held(known))):
        return None
    own = own_folder(file, cache)
    return Place(own, own / DECLARATION_NAME, lock, own / "lapidar.results", found, own / ".lapidar", file.name), found
