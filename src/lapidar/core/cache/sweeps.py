"""The runs of sweeps: their records do not stand in ``lapidar.results``, but in the cache, a line of JSON each, in a
tree whose digest stands there."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from lapidar.core.cache.lists import as_lines, of_lines, read_texts, stow_texts
from lapidar.core.cache.store import Cache
from lapidar.core.errors import CacheError, LapidarError
from lapidar.core.records import results
from lapidar.core.records.results import Analysis, Results, Sweep

__all__ = ["packed", "run_named", "runs_of"]

_RUNS = "runs"  # the file in the tree


def packed(name: str, runs: Sequence[Analysis], cache: Cache) -> Sweep:
    """The record of a sweep: its runs, as they are written, go into the cache.

    Args:
        cache: in use by the caller.
    """
    ordered = sorted(runs, key=lambda one: one.name)
    listing = stow_texts(cache, {_RUNS: as_lines(ordered)})
    return results.sealed_sweep(Sweep(name=name, record="", runs=len(ordered), listing=listing))


def runs_of(sweep: Sweep, cache: Cache) -> list[Analysis]:
    """The runs of a sweep, as they are written.

    Raises:
        LapidarError: the cache has not got the list, or it is not what it must be.
    """
    try:
        found = of_lines(read_texts(cache, sweep.listing, [_RUNS])[_RUNS], Analysis)
    except (CacheError, msgspec.MsgspecError) as error:
        raise LapidarError(
            f"The list of the {sweep.runs:,} runs of {sweep.name} is not in this cache",
            why=str(error),
            remedy="Name the cache that they were recorded with (--cache), or run them again: lapidar refresh.",
        ) from error
    for one in found:
        results.require_fit(one)
    return list(found)


def run_named(recorded: Results, name: str, cache: Cache) -> Analysis | None:
    """A run of a sweep, by its name; None where there is none.

    Raises:
        LapidarError: the list is not in the cache, or the record is not sound.
    """
    sweep = next((one for one in recorded.sweep if name.startswith(f"{one.name}[")), None)
    found = next((one for one in runs_of(sweep, cache) if one.name == name), None) if sweep else None
    if found is not None:
        results.require_sound(found)
    return found
