"""One page of HTML that tells how results compare: it needs no network and no script, can be printed, and is readable
in the dark."""

from __future__ import annotations

import base64
import html
import tempfile
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path

from lapidar.core import atomic
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
    atomic.write_file(into, _page(compared, files, facts).encode("utf-8", "backslashreplace"))


def fragment(title: str, compared: Sequence[Compared], files: Mapping[str, tuple[Path, Path]]) -> str:
    """The table and the details, to be shown inside of another page."""
    parts = [f"<h3>{_text(title)}</h3>", _table(compared), *_details(compared, files)]
    return f'<div class="lapidar-results">{"".join(parts)}</div>'


def _page(compared: Sequence[Compared], files: Mapping[str, tuple[Path, Path]], facts: Mapping[str, str]) -> str:
    verdict = worst(one.verdict for one in compared)
    bad = sum(not one.verdict.is_good for one in compared)
    title = facts.get("analysis") or f"{facts.get('before', '')} and {facts.get('after', '')}"
    lead = (
        f"{bad} of {len(compared)} results differ"
        if bad
        else f"Nothing differs: {len(compared)} results, at worst {verdict}"
    )
    parts = [
        "<!doctype html>",
        '<html lang="en"><head><meta charset="utf-8">',
        '<meta name="viewport" content="width=device-width, initial-scale=1">',
        f"<title>{_text(title)}: {_text(lead)}</title><style>{_style()}</style></head><body>",
        f"<h1>{_text(title)}</h1>",
        f'<p class="lead {"bad" if bad else "good"}">{_text(lead)}.</p>',
        _table(compared),
    ]
    parts += _details(compared, files)
    parts.append("<h2>How it was run</h2><dl>")
    parts += [f"<dt>{_text(name)}</dt><dd>{_text(value)}</dd>" for name, value in facts.items() if value]
    parts.append("</dl></body></html>\n")
    return "\n".join(parts)


def _style() -> str:
    return Path(__file__).with_name("page.css").read_text("utf-8")


def _text(text: str) -> str:
    return html.escape("".join(char if char.isprintable() or char == "\n" else "\ufffd" for char in text))


def _class(verdict: Verdict) -> str:
    return _CLASSES.get(verdict, "bad")


def _table(compared: Sequence[Compared]) -> str:
    rows = [
        f'<tr><td class="path">{_text(one.path)}</td><td>{_text(one.kind)}</td><td class="size">{_size(one)}</td>'
        f'<td class="verdict {_class(one.verdict)}">{_text(str(one.verdict))}</td><td>{_text(one.worst)}</td></tr>'
        for one in compared
    ]
    head = "<tr><th>result</th><th>kind</th><th>size</th><th>verdict</th><th>worst difference</th></tr>"
    return f'<div class="wide"><table>{head}{"".join(rows)}</table></div>'


def _size(one: Compared) -> str:
    sizes = [size for size in (one.bytes_before, one.bytes_after) if size is not None]
    return " &rarr; ".join(f"{size:,}&nbsp;B" for size in dict.fromkeys(sizes))


def _details(compared: Sequence[Compared], files: Mapping[str, tuple[Path, Path]]) -> Iterable[str]:
    figures = 0
    for one in compared:
        if one.verdict in (Verdict.IDENTICAL, Verdict.GONE, Verdict.NEW) or not (
            one.details or one.tolerance or one.set_aside
        ):
            continue
        yield f"<h2>{_text(one.path)}</h2>"
        told = f"{one.verdict}: {one.worst}" if one.worst else str(one.verdict)
        yield f'<p class="{_class(one.verdict)}">{_text(told)}</p>'
        if one.tolerance:
            yield f'<p class="aside">tolerated: {_text(one.tolerance)}</p>'
        if one.set_aside:
            yield f'<p class="aside">not compared: {_text(", ".join(one.set_aside))}</p>'
        if figures < _MOST_FIGURES and drawing.has_figure(one, files) and (picture := _figure(one, files)):
            figures += 1
            yield picture
        if one.details:
            lines = list(one.details[:_MOST_LINES])
            left = len(one.details) - len(lines) + one.more
            yield f"<pre>{_text(chr(10).join(lines))}{f'{chr(10)}and {left:,} more' if left else ''}</pre>"


def _figure(one: Compared, files: Mapping[str, tuple[Path, Path]]) -> str:
    with tempfile.TemporaryDirectory(prefix="lapidar-report-") as work:
        path = Path(work, "figure.png")
        try:
            drawing.draw_one(one, files, path)
        except LapidarError:
            return ""  # without Matplotlib the page tells the same in words
        data = base64.b64encode(path.read_bytes()).decode("ascii")
    return f'<img alt="{_text(one.path)}: {_text(one.worst)}" src="data:image/png;base64,{data}">'
