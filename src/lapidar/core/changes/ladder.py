"""The trials of a search as a page: the ladder that they make, and the verdict."""

from __future__ import annotations

import html
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from lapidar.core import atomic

__all__ = ["write"]

_PAGE = """\
<!doctype html>
<html lang="en"><meta charset="utf-8"><title>culprit</title>
<style>
body {{ font: 15px/1.5 system-ui, sans-serif; max-width: 62em; margin: 2em auto; padding: 0 1em; color: #1a1f24;
  background: #fff; }}
table {{ border-collapse: collapse; width: 100%; }}
td, th {{ text-align: left; padding: .25em .7em; border-bottom: 1px solid #d8dee4; vertical-align: top; }}
code, pre {{ font: 13px/1.4 ui-monospace, monospace; }}
pre {{ background: #f4f6f8; padding: .8em; overflow-x: auto; }}
img {{ max-width: 100%; background: #fff; }} .wide {{ overflow-x: auto; }}
.good {{ color: #0f6b3d; }} .bad {{ color: #a3281f; }} .unknown {{ color: #6b6f76; }}
@media (prefers-color-scheme: dark) {{
  body {{ background: #14181c; color: #dde3e8; }} td, th {{ border-color: #333a41; }} pre {{ background: #1d2329; }}
  .good {{ color: #57c78b; }} .bad {{ color: #f0857b; }} .unknown {{ color: #9aa2ab; }}
}}
</style>
<h1>{title}</h1>
<p>Judged by {judge}; {changes} changes, {count} trials.</p>
{guilty}
{rest}
{results}
<h2>The ladder of trials</h2>
{figure}
<table><tr><th>trial<th>outcome<th>of the bad side it had</tr>
{rows}
</table>
</html>
"""
_COLOURS = {"good": "#1b9e63", "bad": "#c9392c", "cannot tell": "#8b9199"}
_WIDTH, _STEP = 900, 22
_MOST_LINES = 60


def write(found: Mapping[str, Any], path: Path, results: str = "") -> None:
    """Write a page of what was found.

    Args:
        found: as `lapidar.core.flows.culprit.as_values` gives it.
        results: HTML that shows the result, good against bad.
    """
    trials: Sequence[Any] = found["trials"]
    sets = [found["guilty"], *found["also"]]
    title = "; ".join(" with ".join(map(_name, those)) for those in sets) or "not found"
    text = _PAGE.format(
        title=html.escape(title),
        judge=html.escape(str(found["judge"])),
        changes=found["changes"],
        count=len(trials),
        guilty="\n".join(_guilty(one) for those in sets for one in those),
        rest="\n".join(f"<p>{html.escape(sentence)}</p>" for sentence in _sentences(found)),
        results=results,
        figure=_figure(trials, int(found["changes"])),
        rows="\n".join(_row(number, trial) for number, trial in enumerate(trials, 1)),
    )
    atomic.write_file(path, text.encode("utf-8"))


def _name(one: Mapping[str, Any]) -> str:
    return f"{one['name']} {one['from'] or ''} → {one['to'] or ''}"


def _sentences(found: Mapping[str, Any]) -> list[str]:
    """What is to be known beside what was found."""
    told = {
        "good": "Without what was found, the bad side is good.",
        "bad": "Without all that was found the bad side is still bad: there are more.",
        "cannot tell": "Whether the bad side is good without it could not be told.",
    }
    rest = [told[found["without"]]] if found["without"] else []
    return [*rest, *found["notes"]]


def _guilty(one: Mapping[str, Any]) -> str:
    lines = [f"<li>the first bad version is <b>{html.escape(one['first_bad'])}</b></li>"] if one["first_bad"] else []
    places = [*one["files"], *one["entries"]]
    lines += [f"<li>the change lies in <code>{html.escape(place)}</code></li>" for place in places]
    lines += (
        [_folded(f"{len(one['goes_with'])} files go together with it", one["goes_with"])] if one["goes_with"] else []
    )
    shipped = one["ships_with"]
    lines += [_folded("it does it without what the system ships with it", shipped)] if shipped else []
    texts = [text for text in one["lines"].values() if text]
    shown = [f"<pre>{html.escape(chr(10).join(text[:_MOST_LINES]))}</pre>" for text in texts]
    return f"<h2>{html.escape(_name(one))}</h2><ul>{''.join(lines)}</ul>{''.join(shown)}"


def _folded(what: str, names: Sequence[str]) -> str:
    listed = "<br>".join(map(html.escape, names))
    return f"<li><details><summary>{html.escape(what)}</summary><code>{listed}</code></details></li>"


def _row(number: int, trial: Any) -> str:
    style = str(trial.outcome).replace("cannot tell", "unknown")
    taken = ", ".join(trial.taken[:6]) + (f" and {len(trial.taken) - 6} more" if len(trial.taken) > 6 else "")
    said = "".join(f"<br><small>{html.escape(line)}</small>" for line in trial.said)
    return (
        f'<tr><td>{number}<td class="{style}">{trial.outcome}<td>{html.escape(taken or "nothing")} '
        f"<small>({'known from before' if trial.remembered else f'{trial.seconds:.1f} s'})</small>{said}</tr>"
    )


def _figure(trials: Sequence[Any], changes: int) -> str:
    """A bar a trial: how much of the bad side it had, and what came of it."""
    widest = max([changes, *(len(trial.taken) for trial in trials)])
    bars = []
    for number, trial in enumerate(trials):
        width = max(4.0, (_WIDTH - 160) * len(trial.taken) / max(widest, 1))
        top = number * _STEP
        colour = _COLOURS[str(trial.outcome)]
        bars.append(
            f'<rect x="40" y="{top + 3}" width="{width:.1f}" height="{_STEP - 6}" rx="3" fill="{colour}"/>'
            f'<text x="30" y="{top + 16}" text-anchor="end" font-size="12" fill="currentColor">{number + 1}</text>'
            f'<text x="{48 + width:.1f}" y="{top + 16}" font-size="12" fill="currentColor">'
            f"{len(trial.taken)}, {trial.outcome}</text>"
        )
    height = len(trials) * _STEP + 4
    return (
        f'<svg viewBox="0 0 {_WIDTH} {height}" width="100%" role="img" '
        f'aria-label="how much of the bad side each trial had, and what came of it">{"".join(bars)}</svg>'
    )
