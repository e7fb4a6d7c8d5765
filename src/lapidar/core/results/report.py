"""One page that tells how results compare."""

from __future__ import annotations

import base64
import tempfile
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

from lapidar.core import atomic, pages
from lapidar.core.errors import LapidarError
from lapidar.core.results import drawing
from lapidar.core.results.verdict import Compared, Verdict, worst

__all__ = ["fragment", "write"]

_MOST_FIGURES = 20
_MOST_LINES = 20

_CLASSES = {Verdict.IDENTICAL: "good", Verdict.SAME: "good", Verdict.WITHIN: "good", Verdict.NEW: "warn"}


def write(
    compared: Sequence[Compared],
    files: Mapping[str, tuple[Path, Path]],
    into: Path,
    told: Iterable[tuple[str, str]],
) -> None:
    """Write the page.

    Args:
        files: the two files of each result, where they are at hand.
        told: what is said of the run, as pairs of words.

    Raises:
        LapidarError: the name is no page's.
    """
    if into.suffix.lower() not in (".html", ".htm"):
        raise LapidarError(f"{into} is no name of a page", remedy="Give it the suffix .html.")
    facts = dict(told)
    bad = sum(not one.verdict.is_good for one in compared)
    page = pages.render(
        "results",
        title=facts.get("analysis") or f"{facts.get('before', '')} and {facts.get('after', '')}",
        lead=f"{bad} of {len(compared)} results differ"
        if bad
        else f"Nothing differs: {len(compared)} results, at worst {worst(one.verdict for one in compared)}",
        manner="bad" if bad else "good",
        rows=[_row(one) for one in compared],
        details=list(_details(compared, files)),
        facts=[(name, value) for name, value in facts.items() if value],
    )
    atomic.write_file(into, page.encode("utf-8", "backslashreplace"))


def fragment(title: str, compared: Sequence[Compared], files: Mapping[str, tuple[Path, Path]]) -> str:
    """The table and the details, to be shown inside of another page."""
    rows = [_row(one) for one in compared]
    return pages.render("results_part", title=title, rows=rows, details=list(_details(compared, files)))


def _row(one: Compared) -> Mapping[str, Any]:
    sizes = [size for size in (one.bytes_before, one.bytes_after) if size is not None]
    return {
        "path": one.path,
        "kind": one.kind,
        "sizes": [f"{size:,}" for size in dict.fromkeys(sizes)],
        "verdict": str(one.verdict),
        "manner": _CLASSES.get(one.verdict, "bad"),
        "worst": one.worst,
    }


def _details(compared: Sequence[Compared], files: Mapping[str, tuple[Path, Path]]) -> Iterator[Mapping[str, Any]]:
    """What differs in each result of which there is something to tell."""
    figures = 0
    for one in compared:
        if one.verdict in (Verdict.IDENTICAL, Verdict.GONE, Verdict.NEW) or not (
            one.details or one.tolerance or one.set_aside or one.taken
        ):
            continue
        drawable = figures < _MOST_FIGURES and drawing.has_figure(one, files)
        figure = _figure(one, files) if drawable else ""
        figures += bool(figure)
        lines = list(one.details[:_MOST_LINES])
        yield {
            "row": _row(one),
            "tolerance": one.tolerance,
            "set_aside": one.set_aside,
            "taken": one.taken,
            "figure": figure,
            "lines": lines,
            "left": len(one.details) - len(lines) + one.more,
        }


def _figure(one: Compared, files: Mapping[str, tuple[Path, Path]]) -> str:
    """A figure of a result, as base64; "" where it cannot be drawn: without Matplotlib the page tells it in words."""
    with tempfile.TemporaryDirectory(prefix="lapidar-report-") as work:
        path = Path(work, "figure.png")
        try:
            drawing.draw_one(one, files, path)
        except LapidarError:
            return ""
        return base64.b64encode(path.read_bytes()).decode("ascii")
