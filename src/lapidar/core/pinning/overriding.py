"""What an override changes: found by resolving without it."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

from lapidar.core.errors import LapidarError
from lapidar.core.pinning.market import Market
from lapidar.core.pinning.solver import Solver, Unsolvable, Wish
from lapidar.core.records.declaration import Override
from lapidar.core.records.declared import OverrideEffect, OverrideStanding

__all__ = ["standing"]


def standing(
    override: Override,
    answer: Mapping[str, Any],
    candidates: Callable[[], Market],
    roots: Sequence[Wish],
    limits: Sequence[Wish],
) -> OverrideStanding:
    """How an override acts.

    Args:
        answer: the versions that were found with it.
        candidates: makes the universe without it, which costs more than to look at the answer.
        roots: what is asked for, without it.
    """
    name = override.name
    if name not in answer:
        return OverrideStanding(override.key, OverrideEffect.NOT_NEEDED)
    if not override.version:
        return OverrideStanding(override.key, OverrideEffect.USED, (override.target,))
    try:
        without = Solver(candidates(), roots, limits).solve().get(name)
    except Unsolvable:
        return OverrideStanding(override.key, OverrideEffect.NEEDED_TO_SOLVE)
    except LapidarError as error:
        return OverrideStanding(override.key, OverrideEffect.CANNOT_TELL, (error.what,))
    if without == answer[name]:
        return OverrideStanding(override.key, OverrideEffect.SAME_WITHOUT)
    return OverrideStanding(override.key, OverrideEffect.OTHER_WITHOUT, (str(without),))
