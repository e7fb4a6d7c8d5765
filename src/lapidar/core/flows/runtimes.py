"""Runtimes: those of this machine and those in the cache, and which snapshots use them."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from lapidar.core import languages
from lapidar.core.cache.history import History
from lapidar.core.cache.store import Cache
from lapidar.core.errors import LapidarError
from lapidar.core.records.snapshot import Runtime

__all__ = ["RuntimeAtHand", "runtimes"]


@dataclass(frozen=True, slots=True)
class RuntimeAtHand:
    """A runtime.

    Attributes:
        title: its language's.
        interpreter: where it is on this machine; None where only the cache has it.
        snapshots: the identities of those that have it.
        is_whole: whether the cache has all of it.
    """

    title: str
    version: str
    interpreter: Path | None
    snapshots: tuple[str, ...] = ()
    is_whole: bool = False


def runtimes(cache: Cache | None) -> list[RuntimeAtHand]:
    """All of them, by language; those of this machine first, the newest first."""
    found: list[RuntimeAtHand] = []
    kept = _kept(cache) if cache else {}
    for language in languages.every():
        found += [RuntimeAtHand(language.title, one.version, one.interpreter) for one in language.runtimes()]
        for tree, (runtime, snapshots) in kept.items():
            if runtime.language == language.name:
                whole = cache is not None and cache.is_whole(tree)
                found.append(RuntimeAtHand(language.title, runtime.version, None, tuple(snapshots), whole))
    return found


def _kept(cache: Cache) -> dict[str, tuple[Runtime, list[str]]]:
    """The runtimes of all snapshots, by their trees."""
    by_tree: dict[str, tuple[Runtime, list[str]]] = {}
    for digest, snapshot in History(cache).copies():
        if isinstance(snapshot, LapidarError):
            continue
        for runtime in snapshot.runtimes:
            by_tree.setdefault(runtime.tree, (runtime, []))[1].append(digest)
    return by_tree
