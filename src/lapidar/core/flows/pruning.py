"""What a prune asks of the environments that a cache keeps for scripts, asides and calls."""

from __future__ import annotations

from collections.abc import Collection
from pathlib import Path

from lapidar.core.cache.store import Cache
from lapidar.core.flows import script
from lapidar.core.flows.near import in_cache

__all__ = ["Environments"]


class Environments:
    """See `lapidar.core.cache.pruning.Environments`. A script that is gone is forgotten before it is asked what is
    needed, so that what only it needs goes too.

    Args:
        cache: whose they are.
    """

    def __init__(self, cache: Cache) -> None:
        self._root, self._near = cache.root, in_cache(cache.root)

    def unneeded(self, dropped: Collection[str], days: float | None) -> list[Path]:
        return self._near.unneeded(dropped, days)

    def remove(self, folder: Path) -> None:
        self._near.remove(folder)

    def scripts_gone(self, *, forget: bool) -> list[str]:
        gone = [(own, file) for own, file in script.known(self._root) if not file.is_file() and file.parent.is_dir()]
        # The folder stays: without it the history would take the lockfile in it to be on a disk that is not here.
        for path in (path for own, _ in gone if forget for path in own.iterdir() if not path.is_dir()):
            path.unlink(missing_ok=True)
        return [str(file) for _, file in gone]
