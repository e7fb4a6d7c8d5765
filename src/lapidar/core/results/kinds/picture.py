"""Pictures, pixel by pixel: how many differ, by how much, and in which box. What is written beside the pixels (dates,
programs, the way they are packed) does not count."""

from __future__ import annotations

import warnings
from pathlib import Path
from typing import Any

from lapidar.core.results.differences import Differences
from lapidar.core.results.tolerances import Rules
from lapidar.core.results.verdict import Found, Pair, Unreadable

__all__ = ["MOST_PIXELS", "compare", "opened"]

MOST_PIXELS = 40_000_000
_MOST_FRAMES = 500


def compare(pair: Pair, rules: Rules) -> Found:
    """Compare two pictures, all frames of them."""
    differences = Differences(rules)
    with opened(pair.before) as before, opened(pair.after) as after:
        if before.size != after.size:
            differences.say(f"{before.width} x {before.height} pixels -> {after.width} x {after.height}")
            return differences.found()
        frames = getattr(before, "n_frames", 1), getattr(after, "n_frames", 1)
        if frames[0] != frames[1]:
            differences.say(f"{frames[0]} frames -> {frames[1]}")
        for frame in range(min(*frames, _MOST_FRAMES)):
            _frame(frame, frames[0] > 1, before, after, differences)
        if min(frames) > _MOST_FRAMES:
            raise Unreadable(f"it has more than {_MOST_FRAMES} frames")
    found = differences.found()
    # Of pixels it matters how many and where; what a unit in the last place is, nobody can see.
    found.numbers, found.worst = None, differences.first
    return found


def opened(path: Path) -> Any:
    """A picture, not decoded yet.

    Raises:
        Unreadable: it is none, or has too many pixels.
    """
    try:
        from PIL import Image
    except ImportError as error:
        raise Unreadable("install lapidar[compare] to read pictures") from error
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            picture = Image.open(path)
    except Exception as error:  # whatever a damaged file makes of the reader
        raise Unreadable(str(error)[:200] or type(error).__name__) from error
    if picture.width * picture.height > MOST_PIXELS:
        raise Unreadable(f"it has {picture.width * picture.height:,} pixels, and more than {MOST_PIXELS:,} are refused")
    return picture


def _frame(number: int, several: bool, before: Any, after: Any, into: Differences) -> None:
    import numpy

    try:
        if several:
            before.seek(number)
            after.seek(number)
        # Both in the form that keeps all of either.
        mode = before.mode if before.mode == after.mode and before.mode not in ("P", "PA") else "RGBA"
        one = numpy.asarray(before if before.mode == mode else before.convert(mode))
        other = numpy.asarray(after if after.mode == mode else after.convert(mode))
    except Exception as error:
        raise Unreadable(str(error)[:200] or type(error).__name__) from error
    if before.mode != after.mode and {before.mode, after.mode} & {"I", "F", "I;16"}:
        into.say(f"pixels of another type: {before.mode} -> {after.mode}")
        return
    _pixels(f"frame {number}: " if several else "", one, other, into)


def _pixels(where: str, one: Any, other: Any, into: Differences) -> None:
    import numpy

    different = one != other
    if different.ndim == 3:
        different = different.any(axis=2)
    if not different.any():
        into.numbers.compared += int(different.size)
        return
    into.numbers.arrays(one.astype(numpy.float64), other.astype(numpy.float64), "pixel", into.rules.of("pixel"))
    rows, columns = numpy.nonzero(different)
    step = max(1, len(rows) // 20_000)
    into.places += list(zip(rows[::step].tolist(), columns[::step].tolist(), strict=True))
    most = numpy.abs(one.astype(numpy.float64) - other.astype(numpy.float64)).max()
    box = f"({columns.min()}, {rows.min()}) to ({columns.max()}, {rows.max()})"
    line = (
        f"{where}{len(rows):,} of {different.size:,} pixels differ ({100 * len(rows) / different.size:.2g} %), "
        f"by at most {most:g}, in the box {box}"
    )
    into.first = into.first or line
    into.tell(line)
