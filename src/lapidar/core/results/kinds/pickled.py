"""Pickles, by the steps that they consist of (pickletools): they are code, and are never run."""

from __future__ import annotations

import pickletools
from collections.abc import Iterator
from itertools import zip_longest
from typing import Any

from lapidar.core import foreign
from lapidar.core.results.differences import Differences
from lapidar.core.results.tolerances import Rules
from lapidar.core.results.verdict import Found, Pair, Unreadable

__all__ = ["compare"]

# They say how it is packed, not what.
_PACKING = frozenset(("PROTO", "FRAME", "MEMOIZE", "PUT", "BINPUT", "LONG_BINPUT"))


def compare(pair: Pair, rules: Rules) -> Found:
    """Compare two pickles step by step; the first step of another kind ends it."""
    differences = Differences(rules)
    try:
        steps = zip_longest(_steps(foreign.read(pair.before)), _steps(foreign.read(pair.after)))
        for number, (one, other) in enumerate(steps, 1):
            if one is None or other is None or one[0] != other[0]:
                names = " -> ".join("nothing" if step is None else step[0] for step in (one, other))
                differences.say(f"step {number}: {names}")
                break
            if one[1] != other[1] or repr(one[1]) != repr(other[1]):
                _argument(f"step {number} ({one[0]})", one[1], other[1], differences)
    except (ValueError, OSError, EOFError, IndexError, AttributeError) as error:
        raise Unreadable(str(error)[:200]) from error
    return differences.found()


def _steps(data: bytes) -> Iterator[tuple[str, Any]]:
    for code, argument, _ in pickletools.genops(data):
        if code.name not in _PACKING:
            yield code.name, argument


def _argument(where: str, before: Any, after: Any, into: Differences) -> None:
    if isinstance(before, (int, float)) and isinstance(after, (int, float)) and not isinstance(before, bool):
        into.values(where, where, before, after)
    elif (
        isinstance(before, bytes)
        and isinstance(after, bytes)
        and len(before) == len(after) >= 8
        and len(before) % 8 == 0
    ):
        into.say(
            f"{where}: {sum(a != b for a, b in zip(before, after, strict=True)):,} of {len(before):,} bytes differ"
        )
    else:
        into.other(where, before, after)
