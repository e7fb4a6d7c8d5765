"""Bytes of a kind that nobody knows: sizes, where they first differ, and how many of them do."""

from __future__ import annotations

from lapidar.core.results.tolerances import Rules
from lapidar.core.results.verdict import Found, Pair, Verdict

__all__ = ["compare", "first_difference", "same_bytes"]

_PIECE = 1 << 20


def same_bytes(pair: Pair) -> bool:
    """Whether two files have the same bytes; one file under two names at once."""
    one, other = pair.before.stat(), pair.after.stat()
    if (one.st_dev, one.st_ino) == (other.st_dev, other.st_ino):
        return True
    if one.st_size != other.st_size:
        return False
    with pair.before.open("rb", buffering=0) as before, pair.after.open("rb", buffering=0) as after:
        while piece := before.read(_PIECE):
            if piece != after.read(len(piece)):
                return False
    return True


def compare(pair: Pair, rules: Rules) -> Found:
    """Compare two files of bytes, of any size."""
    sizes = pair.before.stat().st_size, pair.after.stat().st_size
    first, differing, at = None, 0, 0
    with pair.before.open("rb") as one, pair.after.open("rb") as other:
        while True:
            before, after = one.read(_PIECE), other.read(_PIECE)
            if not before or not after:
                break
            if before != after:
                changed, start = _differing(before, after)
                differing += changed
                if first is None and start is not None:
                    first = at + start
            at += min(len(before), len(after))
    shared = min(sizes)
    details = [] if sizes[0] == sizes[1] else [f"{sizes[0]:,} bytes -> {sizes[1]:,}"]
    if first is None:
        return Found(Verdict.DIFFERENT, details[0] if details else "", details)
    share = 100 * differing / shared
    line = f"{differing:,} of {shared:,} bytes differ ({share:.2g} %), the first at {first:,}"
    return Found(Verdict.DIFFERENT, line, [*details, line])


def first_difference(before: bytes, after: bytes) -> int:
    """Where two texts of bytes first differ; where one goes on, its place after the other's end."""
    shared = min(len(before), len(after))
    low, high = 0, shared  # alike before `low`; by halves, for comparing many bytes at once is quick
    while low < high:
        middle = (low + high + 1) // 2
        low, high = (middle, high) if before[low:middle] == after[low:middle] else (low, middle - 1)
    return low


def _differing(before: bytes, after: bytes) -> tuple[int, int | None]:
    shared = min(len(before), len(after))
    mixed = int.from_bytes(before[:shared], "little") ^ int.from_bytes(after[:shared], "little")
    if not mixed:
        return 0, None
    return shared - mixed.to_bytes(shared, "little").count(0), first_difference(before, after)
