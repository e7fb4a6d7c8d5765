"""Runtimes: those of this machine and those in the cache, and which snapshots use them."""

from __future__ import annotations

from collections.abc import Collection
from pathlib import Path

from msgspec import Struct

from lapidar.core import languages
from lapidar.core.cache.history import History
from lapidar.core.cache.store import Cache
from lapidar.core.errors import EnvironmentUnusable, LapidarError
from lapidar.core.languages.protocol import Language
from lapidar.core.pinning.session import PinRequest
from lapidar.core.place import Place
from lapidar.core.records.snapshot import Runtime

__all__ = ["RuntimeAtHand", "languages_of", "runtimes"]


class RuntimeAtHand(Struct, frozen=True):
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
        found += [
            RuntimeAtHand(language.title, one.version, one.interpreter)
            for one in (language.runtimes.on_machine() if language.runtimes else ())
        ]
        for tree, (runtime, snapshots) in kept.items():
            if runtime.language == language.name:
                whole = cache is not None and cache.is_whole(tree)
                found.append(RuntimeAtHand(language.title, runtime.version, None, tuple(snapshots), whole))
    return found


def languages_of(request: PinRequest, among: Collection[str]) -> frozenset[str]:
    """Whose runtime a pin of a project of several languages asks for.

    Args:
        among: the names of the project's languages.

    Raises:
        LapidarError: it is nobody's.
    """
    named = request.options.runtime
    assert named is not None
    if request.options.version:
        there = runtimes(request.cache)
        fitting = {one.title for one in there if request.options.is_meant(one.version)}
        found = {name for name in among if languages.of(name).title in fitting}
        known = ", ".join(f"{one.title} {one.version}" for one in there) or "none"
        why = f"at hand are {known}"
    else:
        found = {name for name in among if _knows(languages.of(name), request.place, named)}
        why = "no language of the project knows it"
    if not found:
        raise LapidarError(
            f"There is no runtime {named}", why=why, remedy="`lapidar runtimes` shows all that are at hand."
        )
    return frozenset(found)


def _knows(language: Language, place: Place, named: Path) -> bool:
    """Whether an interpreter is one of a language: it says its version."""
    located = language.capturing.locate(place, named)
    try:
        return bool(located and language.runtimes and language.runtimes.version_of(located))
    except EnvironmentUnusable:
        return False


def _kept(cache: Cache) -> dict[str, tuple[Runtime, list[str]]]:
    """The runtimes of all snapshots, by their trees."""
    by_tree: dict[str, tuple[Runtime, list[str]]] = {}
    for digest, snapshot in History(cache).copies():
        if isinstance(snapshot, LapidarError):
            continue
        for runtime in snapshot.runtimes:
            by_tree.setdefault(runtime.tree, (runtime, []))[1].append(digest)
    return by_tree
