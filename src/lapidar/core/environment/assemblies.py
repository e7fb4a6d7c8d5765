"""Kept assemblies: what a restored environment of a snapshot consists of, derived once.

Deriving it reads a hundred listings and writes a hundred RECORDs, which takes longer than placing the links. Like
the table of files seen, it is only ever a short cut: `restore --verify` and `check --deep` derive it anew.
"""

from __future__ import annotations

import hashlib
import os
from functools import partial
from pathlib import Path

import msgspec

from lapidar._version import VERSION
from lapidar.core import atomic, decoding, parallel, sealed
from lapidar.core.cache.store import Cache
from lapidar.core.environment.listing import Assembled

__all__ = ["code_state", "keep", "kept"]


def _path(cache: Cache, snapshot_id: str, manner: str) -> Path:
    # Generated files follow from the snapshot, from what generates them, and from the manner.
    key = hashlib.sha256(f"{VERSION}\n{code_state()}\n{manner}".encode()).hexdigest()[:12]
    return cache.assemblies / f"{snapshot_id.removeprefix('sha256:')}-{key}"


def code_state() -> str:
    """The state of the modules that observe and generate: who works on them has one version for many states."""
    core = Path(__file__).parents[1]
    return str(max(os.stat(one).st_mtime_ns for one in core.rglob("*.py")))


def kept(cache: Cache, snapshot_id: str, manner: str) -> Assembled | None:
    """The assembly of a snapshot, where it was kept and is sound.

    Args:
        manner: what else the files follow from: whose libraries, and the relative path from the environment to the
            project where the snapshot has packages in it.
    """
    found = sealed.opened(_path(cache, snapshot_id, manner))
    if found is None:
        return None
    # Megabytes: to digest them takes as long as to decode them.
    assembled, whole = parallel.both(partial(_decoded, found.data), found.is_whole)
    return assembled if whole else None


def _decoded(data: bytes) -> Assembled | None:
    try:
        return decoding.from_json(data, Assembled)
    except msgspec.MsgspecError:
        return None


def keep(cache: Cache, snapshot_id: str, manner: str, assembled: Assembled) -> None:
    """Keep an assembly for the next time."""
    path = _path(cache, snapshot_id, manner)
    atomic.make_folder(path.parent)
    sealed.write(path, msgspec.json.encode(assembled))
