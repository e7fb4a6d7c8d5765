"""``lapidar steps``"""

from __future__ import annotations

import argparse
import time
from typing import TYPE_CHECKING

from lapidar.cli import standings
from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session
from lapidar.cli.view import View, human_count, human_seconds

if TYPE_CHECKING:
    from lapidar.core.flows.steps import Judged
    from lapidar.core.steps.graph import Step

DESCRIPTION = """\
Show every analysis of the project in order, and whether it is up to date: what it read, what it looked for and what it
used of the environment are held against what is there now. Nothing has to be declared: an analysis comes after those
whose results it read. docs/steps.md says exactly what counts."""

EXAMPLES = """\
examples:
  lapidar steps
  lapidar steps report                  why, in full
  lapidar steps --picture steps.svg     files and analyses, drawn; .png and .html too
  lapidar steps --whole-snapshot        a change of any package counts, used or not
  lapidar steps --watch                 and again whenever something changes

exit codes:
  0  all are up to date                 1  something is out of date, failed, never ran"""

_PAUSE_SECONDS = 1.0
_MOST = 20  # runs of a sweep that are told one by one


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("names", nargs="*", metavar="NAME", help="these alone, with every reason")
    parser.add_argument("--whole-snapshot", action="store_true", help="count all of the environment, used or not")
    parser.add_argument("--picture", metavar="FILE", help="draw them into a .svg, .png or .html")
    parser.add_argument("--watch", action="store_true", help="show them again whenever something changes")


def run(session: Session) -> int:
    from lapidar.core.flows.steps import judge, named

    options, view = session.options, session.view
    place, cache = session.place, session.cache(create=True)
    shown: object = None
    while True:
        judged = judge(place, cache, is_whole=options.whole_snapshot)
        steps = list(judged.graph.steps.values())
        names = named(judged.graph, options.names)
        chosen = [step for step in steps if step.name in names] if names else steps
        told = [standings.as_json(step) for step in chosen]
        if told != shown:
            _show(session, chosen)
            warn(judged, view)
            shown = told
        if not options.watch:
            break
        time.sleep(_PAUSE_SECONDS)
    if options.picture:
        from lapidar.core.foreign import expanded
        from lapidar.core.steps.picture import draw

        draw(judged.graph, expanded(options.picture), {step.name: standings.why(step) for step in steps})
        view.note(f"Drew them into {options.picture}.")
    good = all(step.is_good for step in chosen)
    if view.json:
        view.object(
            {
                "steps": told,
                "good": good,
                "unfit": list(judged.unfit),
                "empty": list(judged.empty),
                "handed_over": judged.handed_over,
                "unsaid": [one._asdict() for one in judged.graph.unsaid],
            }
        )
    return ExitCode.DONE if good else ExitCode.NO


def warn(judged: Judged, view: View) -> None:
    """Say what of the declaration leads nowhere or is not as it was seen, and what runs elsewhere."""
    for name in judged.unfit:
        view.warn(f"lapidar.toml has an analysis come after {name}, and there is none of that name")
    for name in judged.empty:
        view.warn(f"{name} has no run: what it is for (`for` in lapidar.toml) matches no file")
    for name, other, file in judged.graph.unsaid:
        view.warn(f"{name} reads what {other} makes ({file}), and its `after` in lapidar.toml does not say so")
    if judged.handed_over:
        ended = sum(judged.handed_over.values())
        several = human_count(len(judged.handed_over), "step")
        view.note(
            f"{several} handed over to run elsewhere, {ended} ended; `lapidar refresh --on ...` takes what came of it."
        )


def _show(session: Session, chosen: list[Step]) -> None:
    view = session.view
    if not chosen:
        view.line(standings.NOTHING)
        return
    if session.options.names:
        bad = [step for step in chosen if not step.is_good]
        shown = chosen if len(chosen) <= _MOST else bad[:_MOST]
        for step in shown:
            view.line(f"{step.name}: {step.standing}", "good" if step.is_good else "warn")
            for text in standings.why(step):
                view.line(f"  {text}")
            for name, files in step.after.items():
                view.note(f"  comes after {name}" + (f", whose {', '.join(files[:3])} it reads" if files else ""))
        if len(shown) < len(chosen):
            view.note(f"and {len(chosen) - len(shown)} more, {len(chosen) - len(bad)} of all up to date")
    else:
        view.table(["step", "standing", "why", "took"], standings.rows(chosen, human_seconds), right=(3,))
    talking = [step.name for step in chosen if step.used.partners]
    if talking:
        view.warn(f"what {', '.join(talking)} got from elsewhere (connections) is not looked at again")
    out = [step for step in chosen if not step.is_good]
    if out:
        view.note()
        many = f"{len(out)} of {human_count(len(chosen), 'step')}"
        view.note(f"{many} not up to date. `lapidar refresh` runs what is to run.")
    else:
        view.note(f"All up to date ({human_count(len(chosen), 'step')}).", "good")
