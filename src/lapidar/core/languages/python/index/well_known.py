"""Names of distributions that people are likely to mean: those of the snapshots in the cache, and a dated list of
well-known ones, which ships with the program."""

from __future__ import annotations

from importlib import resources

from lapidar.core.cache.history import History
from lapidar.core.cache.store import Cache
from lapidar.core.errors import LapidarError
from lapidar.core.records import lockfile

__all__ = ["listed", "of_cache"]


def listed() -> list[str]:
    """The bundled names, the most used first."""
    text = resources.files(__package__).joinpath("well_known.txt").read_text("utf-8")
    return [line for line in text.splitlines() if not line.startswith("#")]


def of_cache(cache: Cache | None) -> list[str]:
    """The names that snapshots in the cache have."""
    if cache is None:
        return []
    history = History(cache)
    names: dict[str, None] = {}
    for digest in history.ids():
        try:
            names |= dict.fromkeys(one.name for one in lockfile.read(history.path(digest)).packages)
        except LapidarError:
            continue
    return list(names)
