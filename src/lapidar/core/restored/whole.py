"""Whether a cache has all of a snapshot: what it lacks comes from this machine where that has it, or ends the work."""

from __future__ import annotations

from collections.abc import Collection, Iterable

from lapidar.core.cache.contents import Contents, Flaw
from lapidar.core.cache.store import Cache
from lapidar.core.errors import MissingFromCache
from lapidar.core.progress import Progress
from lapidar.core.records import words
from lapidar.core.records.snapshot import Snapshot
from lapidar.core.restored import assemble

__all__ = ["heal", "require_none", "require_something", "verified"]

_PARTS = 12  # that are named where many lack


def verified(cache: Cache, snapshot: Snapshot, reporter: Progress) -> tuple[Contents, list[str]]:
    """What the snapshot stands for, every byte of it read; what is derived from it and damaged is derived anew.

    Returns:
        That, and what was healed, a sentence each.
    """
    contents = Contents(cache, snapshot)
    require_something(contents)
    flaws = list(contents.flaws(deep=True, reporter=reporter))
    healed = heal(cache, flaws)
    if flaws:
        contents = Contents(cache, snapshot)
        require_none(cache, list(contents.flaws(deep=True, reporter=reporter)))
    assemble.forget_damaged(snapshot, contents, reporter)
    return contents, healed


def require_something(contents: Contents) -> None:
    """Raises: MissingFromCache: the cache has no part of the snapshot."""
    if contents.has_nothing:
        raise MissingFromCache(
            f"The cache at {contents.cache.root} has nothing of this snapshot: is it the right one?",
            remedy="Name another with --cache or LAPIDAR_CACHE; or `lapidar restore --fetch` brings packages from "
            "where they came from, and runtime and libraries of this machine, where they are the same.",
        )


def heal(cache: Cache, flaws: list[Flaw]) -> list[str]:
    """What was healed, a sentence each.

    Raises:
        MissingFromCache: not all could be.
    """
    if not flaws:
        return []
    from lapidar.core.restored import healing

    healed = healing.heal(cache, flaws)
    require_none(cache, healed.left, healed.notes)
    return healed.notes


def require_none(cache: Cache, flaws: Collection[Flaw], told_of: Iterable[str] = ()) -> None:
    """Raises: MissingFromCache: there are any; it names every part that is incomplete.

    Args:
        told_of: what is known of how that came, a sentence each.
    """
    by_owner: dict[str, list[str]] = {}
    for flaw in flaws:
        told = f"{flaw.path} ({flaw.kind})" if flaw.path else flaw.why
        by_owner.setdefault(words.owner(flaw.owner), []).append(told)
    if by_owner:
        lines = [f"{owner}: {_first(told)}" for owner, told in by_owner.items()]
        more = [f"and {len(lines) - _PARTS} more parts"] if len(lines) > _PARTS else []
        raise MissingFromCache(
            f"The cache at {cache.root} cannot restore this snapshot, and nothing was placed",
            why="\n  ".join(["", *lines[:_PARTS], *more, *told_of]),
            remedy="`lapidar restore --fetch` brings packages from where they came from, and what this machine has of "
            "the rest; or name a cache that is whole with --cache, or capture the original environment again.",
        )


def _first(told: Collection[str]) -> str:
    shown = list(told)[:3]
    more = f", and {len(told) - 3} more" if len(told) > 3 else ""
    return ", ".join(shown) + more
