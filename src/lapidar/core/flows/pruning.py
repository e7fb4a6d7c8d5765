"""Prune: what nothing needs goes from a cache, the environments that it keeps for scripts, asides and calls with it."""

from __future__ import annotations

from collections.abc import Callable, Collection
from pathlib import Path

from lapidar.core.cache import pruning
from lapidar.core.cache.pruning import Pruned
from lapidar.core.cache.store import Cache
from lapidar.core.flows import script
from lapidar.core.flows.near import in_cache

__all__ = ["prune"]


def prune(
    cache: Cache,
    *,
    history_days: float | None = None,
    give_up: Collection[str] = (),
    dry_run: bool = False,
    waiting: Callable[[], None] | None = None,
    announce: Callable[[Pruned], None] | None = None,
) -> Pruned:
    """Remove what nothing needs; see `lapidar.core.cache.pruning.prune`. A script that is gone is forgotten first, so
    that what only it needs goes too.

    Raises:
        CacheError: what the cache says of what is needed cannot be read; nothing was removed.
    """
    return pruning.prune(
        cache,
        history_days=history_days,
        give_up=give_up,
        dry_run=dry_run,
        waiting=waiting,
        announce=announce,
        environments=_Environments(cache),
    )


class _Environments:
    """See `lapidar.core.cache.pruning.Environments`."""

    def __init__(self, cache: Cache) -> None:
        self._root, self._near = cache.root, in_cache(cache.root)

    def unneeded(self, dropped: Collection[str], days: float | None) -> list[Path]:
        return self._near.unneeded(dropped, days)

    def remove(self, environment: Path) -> None:
        self._near.remove(environment)

    def scripts_gone(self, *, forget: bool) -> list[str]:
        gone = [(own, file) for own, file in script.known(self._root) if not file.is_file() and file.parent.is_dir()]
        # The folder stays: without it the history would take the lockfile in it to be on a disk that is not here.
        for path in (path for own, _ in gone if forget for path in own.iterdir() if not path.is_dir()):
            path.unlink(missing_ok=True)
        return [str(file) for _, file in gone]
