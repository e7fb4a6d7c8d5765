"""How verdicts are shown: the table, and the details of what differs."""

from __future__ import annotations

import math
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from lapidar.cli.view import View, human_bytes, human_count
from lapidar.core.results.numbers import Numbers
from lapidar.core.results.verdict import Compared, Verdict

__all__ = ["add_output_options", "as_json", "draw", "show"]

_STYLES = {
    Verdict.IDENTICAL: "good",
    Verdict.SAME: "good",
    Verdict.WITHIN: "good",
    Verdict.DIFFERENT: "bad",
    Verdict.GONE: "bad",
    Verdict.NEW: "warn",
    Verdict.UNREADABLE: "bad",
}
_FEW = 8


def add_output_options(parser: Any) -> None:
    """The options by which a comparison is drawn."""
    parser.add_argument("--picture", metavar="FILE", help="draw what differs: a .png or .svg for the lab book")
    parser.add_argument("--report", metavar="FILE", help="write one page (.html) with verdicts, figures and conditions")


def show(compared: Sequence[Compared], view: View) -> None:
    """A table of all verdicts, and what differs of those that do."""
    rows = [[one.path, one.kind, _size(one), str(one.verdict), one.worst] for one in compared]
    view.table(["result", "kind", "size", "verdict", "worst difference"], rows, right=(2,))
    for one in compared:
        _details(one, view)


def _size(one: Compared) -> str:
    sizes = [size for size in (one.bytes_before, one.bytes_after) if size is not None]
    return " -> ".join(dict.fromkeys(map(human_bytes, sizes)))


def _details(one: Compared, view: View) -> None:
    # What was not compared, and what was taken for equal, is said beside a good verdict too.
    aside = (*one.set_aside, *one.taken)
    quiet = one.verdict in (Verdict.IDENTICAL, Verdict.SAME, Verdict.GONE, Verdict.NEW)
    if quiet and not view.verbose and not aside:
        return
    lines = list(one.details[: None if view.verbose else _FEW])
    if not lines and not one.numbers and not one.note and not aside:
        return
    view.line()
    view.line(f"{one.path}: {one.verdict}", _STYLES[one.verdict])
    if one.numbers and one.numbers.differing:
        things = "cells" if one.kind == "table" else "numbers"
        view.line(f"  {_numbers(one.numbers, things)}")
    for line in lines:
        view.line(f"  {line}")
    left = len(one.details) - len(lines) + one.more
    if left > 0:
        view.line(f"  and {human_count(left, 'difference')} more" + ("" if view.verbose else " (-v shows more)"))
    if one.tolerance:
        view.line(f"  tolerated: {one.tolerance}", "faint")
    if one.set_aside:
        view.line(f"  not compared: {', '.join(one.set_aside)}", "faint")
    for line in one.taken:
        view.line(f"  {line}", "faint")
    if one.note:
        view.line(f"  {one.note}", "warn")


def _numbers(numbers: Numbers, things: str) -> str:
    beyond = f"{numbers.beyond:,} of them beyond what is tolerated" if numbers.beyond != numbers.differing else ""
    parts = [f"{numbers.differing:,} of {numbers.compared:,} {things} differ", beyond]
    if math.isfinite(numbers.ulps):
        ulps = f"{numbers.ulps:,.0f}" if numbers.ulps < 1e6 else f"{numbers.ulps:.2g}"
        parts.append(f"at most {numbers.absolute:.3g} absolute, {numbers.relative:.2g} relative, {ulps} ulps")
    if numbers.nans:
        parts.append(f"{human_count(numbers.nans, 'NaN')} on both sides")
    return "; ".join(part for part in parts if part)


def as_json(one: Compared) -> dict[str, Any]:
    """A verdict for machines."""
    numbers = one.numbers
    return {
        "path": one.path,
        "verdict": str(one.verdict),
        "kind": one.kind,
        "bytes_before": one.bytes_before,
        "bytes_after": one.bytes_after,
        "worst": one.worst,
        "details": list(one.details),
        "more": one.more,
        "tolerance": one.tolerance,
        "set_aside": list(one.set_aside),
        "taken": list(one.taken),
        "note": one.note,
        "numbers": None
        if numbers is None
        else {
            "compared": numbers.compared,
            "differing": numbers.differing,
            "beyond": numbers.beyond,
            "nans": numbers.nans,
            "absolute": _finite(numbers.absolute),
            "relative": _finite(numbers.relative),
            "ulps": _finite(numbers.ulps),
            "at": numbers.at_absolute,
            "by_power_of_two_of_ulps": {str(key): count for key, count in sorted(numbers.distribution.items())},
        },
    }


def _finite(value: float) -> float | None:
    return value if math.isfinite(value) else None


def draw(
    compared: Sequence[Compared], files: Any, picture: Path | None, report: Path | None, told: Any, view: View
) -> None:
    """The figure and the page, where they are asked for.

    Args:
        files: the two files of a result, by its path, where they are at hand.
        told: what the page says of the run, as pairs of words.
    """
    if picture:
        from lapidar.core.results import drawing

        drawing.draw(compared, files, picture)
        view.note(f"Drew {picture}.")
    if report:
        from lapidar.core.results import report as page

        page.write(compared, files, report, told)
        view.note(f"Wrote {report}.")
