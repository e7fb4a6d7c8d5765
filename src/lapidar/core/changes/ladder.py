"""The trials of a search as a page: the ladder that they make, and the verdict."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

from lapidar.core import atomic, pages

__all__ = ["write"]

_WIDTH, _STEP = 900, 22
_BARS = _WIDTH - 160  # what is left for them beside the words
_MOST_LINES, _MOST_NAMES = 60, 6
_WITHOUT = {
    "good": "Without what was found, the bad side is good.",
    "bad": "Without all that was found the bad side is still bad: there are more.",
    "cannot tell": "Whether the bad side is good without it could not be told.",
}


def write(found: Mapping[str, Any], path: Path, results: str = "") -> None:
    """Write a page of what was found.

    Args:
        found: as `lapidar.core.flows.culprit.as_values` gives it.
        results: markup that shows the result, good against bad.
    """
    from markupsafe import Markup

    sets = [found["guilty"], *found["also"]]
    text = pages.render(
        "culprit",
        title="; ".join(" with ".join(map(_name, those)) for those in sets) or "not found",
        judge=str(found["judge"]),
        changes=found["changes"],
        guilty=[_guilty(one) for those in sets for one in those],
        sentences=list(_sentences(found)),
        results=Markup(results),
        trials=list(_trials(found["trials"], int(found["changes"]))),
        width=_WIDTH,
        step=_STEP,
    )
    atomic.write_file(path, text.encode("utf-8", "backslashreplace"))


def _sentences(found: Mapping[str, Any]) -> Iterator[str]:
    for those, steps in zip([found["guilty"], *found["also"]], found["differing"], strict=False):
        if steps:
            yield f"With {' with '.join(map(_name, those))} the first step whose result differs is {steps[0]}."
    if found["without"]:
        yield _WITHOUT[found["without"]]
    yield from found["notes"]


def _name(one: Mapping[str, Any]) -> str:
    return f"{one['name']} {one['from'] or ''} → {one['to'] or ''}"


def _guilty(one: Mapping[str, Any]) -> Mapping[str, Any]:
    return {
        "title": _name(one),
        "first_bad": one["first_bad"],
        "places": [*one["files"], *one["entries"]],
        "goes_with": one["goes_with"],
        "ships_with": one["ships_with"],
        "texts": [text[:_MOST_LINES] for text in one["lines"].values() if text],
    }


def _trials(trials: Sequence[Any], changes: int) -> Iterator[Mapping[str, Any]]:
    """For each its row, and the bar that shows how much of the bad side it had."""
    widest = max([changes, 1, *(len(trial.taken) for trial in trials)])
    for trial in trials:
        taken, more = trial.taken[:_MOST_NAMES], len(trial.taken) - _MOST_NAMES
        yield {
            "outcome": str(trial.outcome),
            "manner": str(trial.outcome).replace("cannot tell", "unknown"),
            "count": len(trial.taken),
            "length": round(max(4.0, _BARS * len(trial.taken) / widest), 1),
            "taken": (", ".join(taken) or "nothing") + (f" and {more} more" if more > 0 else ""),
            "time": "known from before" if trial.remembered else f"{trial.seconds:.1f} s",
            "said": trial.said,
        }
