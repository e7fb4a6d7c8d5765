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
_STRIP = 256  # rows


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
    """Compare pixels, in strips of rows: a large picture as numbers of eight bytes would not fit."""
    import numpy

    tolerance = into.rules.of("pixel")
    total, beyond, most = 0, 0, 0.0
    box = [one.shape[0], one.shape[1], -1, -1]  # first row and column, last row and column
    for top in range(0, one.shape[0], _STRIP):
        before, after = one[top : top + _STRIP], other[top : top + _STRIP]
        different = before != after
        if different.ndim == 3:
            different = different.any(axis=2)
        if not different.any():
            continue
        apart = numpy.abs(before[different].astype(numpy.float64) - after[different].astype(numpy.float64))
        apart = apart.max(axis=1) if apart.ndim == 2 else apart
        rows, columns = numpy.nonzero(different)
        total += len(rows)
        beyond += int((apart > tolerance.absolute).sum())
        most = max(most, float(apart.max()))
        box = [
            *map(min, box[:2], (int(rows.min()) + top, int(columns.min()))),
            *map(max, box[2:], (int(rows.max()) + top, int(columns.max()))),
        ]
    pixels = one.shape[0] * one.shape[1]
    into.numbers.compared += pixels
    if not total:
        return
    line = (
        f"{where}{total:,} of {pixels:,} pixels differ ({100 * total / pixels:.2g} %), by at most {most:g}, "
        f"in the box ({box[1]}, {box[0]}) to ({box[3]}, {box[2]})"
    )
    into.first = into.first or line
    into.numbers.differing += total
    into.numbers.beyond += beyond
    into.tell(line)
