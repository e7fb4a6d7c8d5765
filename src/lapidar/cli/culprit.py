"""``lapidar culprit``"""

from __future__ import annotations

import argparse
from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING

from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session
from lapidar.cli.view import View, human_count, human_path, human_seconds

if TYPE_CHECKING:
    from pathlib import Path

    from lapidar.core.flows.culprit import Culprit, Guilty, Trial
    from lapidar.core.records.owner import PackageName

DESCRIPTION = """\
Find which change between a good snapshot and a bad one altered a result: environments with some of the changes are
built and tried, until a minimal set is left; then, within a package, the version (of those between that the cache
has, or a configured index can give) and the files that did it. The recorded results of an analysis judge (what
`lapidar compare` calls good, within the declared tolerances, is good), where need be run with all that it stands on,
from the raw data on; or a COMMAND whose exit code says it: 0 good, 125 cannot tell, any other below 126 bad. What was
tried is remembered: after Ctrl-C the same command goes on from there. Exit code 0: found; 1: not with certainty."""

_MOST_COMPANIONS = 6
_MOST_LINES, _LEAST_LINES = 30, 8  # of what differs that are shown, shared among files

EXAMPLES = """\
examples:
  lapidar culprit                                   from the recorded snapshot to the present one
  lapidar culprit kilns --good 3fe0a1 --bad 77bc02
  lapidar culprit report --from-raw                 what it stands on is run again in each trial
  lapidar culprit --good 3fe0a1 -- python check.py  a command that judges
  lapidar culprit --times 3 --at-most 60 --jobs 2 --report culprit.html"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("analysis", nargs="?", metavar="NAME", default="", help="the recorded analysis that judges")
    parser.add_argument("--good", metavar="ID", help="a good snapshot (default: that of the record)")
    parser.add_argument("--bad", metavar="ID", help="a bad snapshot (default: the project's own)")
    parser.add_argument(
        "--from-raw",
        action="store_true",
        help="in each trial run all that the analysis stands on too, from the recorded raw inputs on (else only where "
        "by itself it gives the recorded results on both sides)",
    )
    parser.add_argument("--times", type=int, metavar="N", default=1, help="run each trial so often: they must agree")
    parser.add_argument("--at-most", type=float, metavar="SECONDS", help="end a run after so long: it cannot be told")
    parser.add_argument("--jobs", type=int, metavar="N", default=1, help="make so many trials at once")
    parser.add_argument(
        "--fetch", action="store_true", help="fetch what the cache lacks, each from the origin that the lockfile names"
    )
    parser.add_argument(
        "--crash-is-bad",
        action="store_true",
        help="a run that a signal ends, or that takes longer than --at-most, is bad",
    )
    parser.add_argument(
        "--budget",
        type=float,
        metavar="SECONDS",
        default=180.0,
        help="how long versions, files and lines are looked for, once the change is known (default: 180)",
    )
    parser.add_argument("--packages-only", action="store_true", help="do not go on to versions and files")
    parser.add_argument("--report", metavar="FILE", help="write what was tried and found as a page, with a figure")


def run(session: Session) -> int:
    from lapidar.core.errors import LapidarError
    from lapidar.core.flows.culprit import CulpritOptions, as_values, culprit

    options, view = session.options, session.view
    if options.times < 1 or options.jobs < 1:
        raise LapidarError("--times and --jobs are at least 1", remedy="Leave them out, or name a larger number.")
    settings = CulpritOptions(
        good=options.good,
        bad=options.bad,
        analysis=options.analysis,
        command=tuple(options.after),
        times=options.times,
        at_most=options.at_most,
        jobs=options.jobs,
        fetch=options.fetch,
        deeper=not options.packages_only,
        draws=bool(options.report),
        crash_is_bad=options.crash_is_bad,
        budget=options.budget,
        from_raw=options.from_raw,
    )
    shown: list[Culprit] = []
    known = _showing(view, shown)
    found = culprit(session.place, session.cache(), settings, view.reporter(), _telling(view), known)
    if report := session.path("report"):
        _write(found, report)
    if view.json:
        view.object(as_values(found))
    else:
        _show(found, view, bool(shown))
        if report:
            view.line(f"Wrote {human_path(report)}.")
    return ExitCode.DONE if found.guilty and found.certain else ExitCode.NO


def _write(found: Culprit, path: Path) -> None:
    """The page, with the result good against bad where a recorded analysis judges."""
    from lapidar.core.changes import ladder
    from lapidar.core.flows.culprit import as_values
    from lapidar.core.results import report

    last = found.last
    shown = report.fragment("The result, as recorded and of the bad side", last.compared, last.files) if last else ""
    ladder.write(as_values(found), path, shown)
    if last:
        last.forget()


def _telling(view: View) -> Callable[[Trial, int], None]:
    """A line for each trial, as it ends."""
    took: list[float] = []
    before = 0

    def told(trial: Trial, left: int) -> None:
        nonlocal before
        more, before = before and left >= before, left
        if trial.remembered:
            return
        took.append(trial.seconds)
        count = len(trial.taken)
        named = trial.taken[0] if count == 1 else human_count(count, "change") if count else "the good side"
        rest = f"; at most {left} more, about {human_seconds(left * sum(took) / len(took))}" if left else ""
        rest += ", as it shows now" if more and left else ""
        view.note(f"  {trial.outcome:12} {named} ({human_seconds(trial.seconds)}{rest})")
        for line in trial.said:
            view.note(f"               {line}")

    return told


def _showing(view: View, shown: list[Culprit]) -> Callable[[Culprit], None]:
    """Shows what is guilty as soon as it is known: who stops the search then has that."""

    def known(found: Culprit) -> None:
        from lapidar.core.records import words

        if not view.json:
            shown.append(found)
            for those in (found.guilty, *found.also):
                _show_set(those, words.names_in(found.good, found.bad), view, also=those is not found.guilty)
            view.note("Looking for the version and the files (Ctrl-C ends it):")

    return known


def _show(found: Culprit, view: View, told: bool) -> None:
    """What was found.

    Args:
        told: which changes these are was said before.
    """
    from lapidar.core.records import words

    view.note()
    remembered = sum(trial.remembered for trial in found.trials)
    known = f", {remembered} of them known from before" if remembered else ""
    view.note(f"{human_count(len(found.trials), 'trial')} of {human_count(found.changes, 'change')}{known}.")
    for sentence in found.notes:
        view.warn(sentence)
    if not found.guilty:
        view.line("The change could not be found.", "bad")
        return
    for number, those in enumerate((found.guilty, *found.also)):
        if not told:
            _show_set(those, words.names_in(found.good, found.bad), view, also=bool(number))
        if differing := found.differing[number] if number < len(found.differing) else ():
            also = f", and then {', '.join(differing[1:])}" if differing[1:] else ""
            view.line(f"The first step whose result differs with it is {differing[0]}{also}.")
        for one in those:
            _show_deeper(one, view)
    _show_rest(found, view)
    if not found.certain:
        view.warn("not of each it could be told whether it is needed: without it the run tells nothing")
    view.note()
    view.note(f"Go back with: lapidar return {found.names[0]}")


def _show_set(guilty: Sequence[Guilty], names: Mapping[PackageName, str], view: View, *, also: bool) -> None:
    from lapidar.core.records import words

    too = ", by itself too," if also else ""
    companions = [change for one in guilty for change in one.companions]
    if len(guilty) == 1:
        view.line(f"It{too} is {words.change_in_short(guilty[0].change, names)}.", "bad")
    else:
        view.line(f"Only together{too} they do it, {len(guilty)} changes:", "bad")
        for one in guilty:
            view.line(f"  {words.change_in_short(one.change, names)}")
    if companions:
        moved = words.some((words.change_in_short(change, names) for change in companions), _MOST_COMPANIONS)
        view.line(f"{human_count(len(companions), 'package')} moved with it: {moved}.")


def _show_rest(found: Culprit, view: View) -> None:
    from lapidar.core.changes.narrowing import Outcome

    if found.without is Outcome.GOOD:
        view.line(f"With only the other {human_count(found.others, 'change')} the result is good.", "good")
    elif found.without is Outcome.BAD:
        view.warn("without all of these it is still bad: there are more")
    elif found.without is Outcome.UNKNOWN:
        view.warn("without it the bad side tells nothing: whether other changes do it too is not known")


def _show_deeper(one: Guilty, view: View) -> None:
    from lapidar.core.records import words

    name = one.change.owner.name
    if (one.last_good, one.first_bad) != (one.change.old, one.change.new) and one.first_bad:
        view.line(f"{name} {one.last_good} is good, {one.first_bad} is the first that is bad.")
    for number, place in enumerate((*(file.path for file in one.files), *one.entries)):
        view.line(f"  and in {place}" if number else f"The change lies in {place}")
    if one.goes_with:
        view.line(f"  with {human_count(len(one.goes_with), 'file')} that go together with it (-v names them)")
        for place in one.goes_with if view.verbose else ():
            view.line(f"    {place}")
    if one.ships_with:
        view.line(f"It does it without what the system ships with it: {words.some(one.ships_with, 6)}.")
    texts = [lines for lines in one.lines.values() if lines]
    for lines in texts:
        most = len(lines) if view.verbose else max(_MOST_LINES // len(texts), _LEAST_LINES)
        for line in lines[:most]:
            style = {"+": "good", "-": "bad"}.get(line[:1], "")
            view.line(f"  {line}", "faint" if line.startswith(("+++", "---", "@@")) else style)
        if len(lines) > most:
            view.note(f"  and {human_count(len(lines) - most, 'more line')} (-v shows all)")
