"""``lapidar refresh``"""

from __future__ import annotations

import argparse
import datetime
from collections import defaultdict
from typing import TYPE_CHECKING, Any

from msgspec import structs

from lapidar.cli import standings
from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session
from lapidar.cli.run import members_up
from lapidar.cli.view import human_count, human_seconds
from lapidar.core.errors import LapidarError

if TYPE_CHECKING:
    from lapidar.core.flows.team import TeamRuns
    from lapidar.core.steps.engines.protocol import Done
    from lapidar.core.steps.graph import Step

DESCRIPTION = """\
Run the analyses that are out of date, in order, as many at a time as there are processors, and record each. One that
gives the same bytes again leaves what comes after it up to date. What ran already with the same of everything is taken
from the cache. Results come into the project when a step has ended well, and not before. One that fails stops what
depends on it, and nothing else."""

EXAMPLES = """\
examples:
  lapidar refresh                 everything that is out of date
  lapidar refresh report          what the report needs, and the report
  lapidar refresh report --only   the report alone
  lapidar refresh --dry-run       what would run, why, and about how long
  lapidar refresh --really        run also what ran before
  lapidar refresh --fetch         take also what colleagues whom you trust ran, from the team's store
  lapidar refresh --on cluster    on a batch system: [engine.cluster] kind = "slurm", in your configuration
  lapidar refresh --on cluster --hand-over   the same, and log out; later say it without --hand-over

exit codes:
  0  all is up to date now (with --dry-run: nothing would run)
  1  a step failed, or is still out of date (with --dry-run: something would run)
  3  nothing could be run"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("names", nargs="*", metavar="NAME", help="these, with all that they come after")
    parser.add_argument("--only", action="store_true", help="the named ones alone")
    parser.add_argument("--dry-run", action="store_true", help="say what would run, and run nothing")
    parser.add_argument("--jobs", type=int, default=0, metavar="N", help="so many at a time (default: the processors)")
    parser.add_argument("--stop", action="store_true", help="start nothing more once one has failed")
    parser.add_argument("--really", action="store_true", help="run, also what ran before with the same of everything")
    parser.add_argument("-y", "--yes", action="store_true", help="run records of somebody else without asking")
    parser.add_argument("--on", metavar="ENGINE", help="a batch system of your configuration, or tcp://HOST:PORT")
    parser.add_argument(
        "--fetch", action="store_true", help="take also what somebody whom you trust ran and sent to the team's store"
    )
    parser.add_argument("--hand-over", action="store_true", help="with --on: hand all over, and wait for nothing")
    parser.add_argument("--whole-snapshot", action="store_true", help="count all of the environment, used or not")


def run(session: Session) -> int:
    options, view = session.options, session.view
    if options.jobs < 0:
        raise LapidarError("--jobs must be 1 or more")
    if options.only and not options.names:
        raise LapidarError("--only needs a name", remedy="lapidar refresh NAME --only")
    if options.hand_over and (not options.on or options.stop):
        raise LapidarError("--hand-over goes with --on, and not with --stop", remedy="lapidar refresh --on ENGINE")
    if options.dry_run:
        return _dry(session)
    members_up(session, wholly=True)
    steps, planned = _planned(session)
    if not planned:
        return _nothing(session, is_empty=not steps)
    from lapidar.core.flows.refresh import RefreshOptions, refresh
    from lapidar.core.flows.rerun import RecordUnknown

    cache, place = session.cache(create=True), session.place
    how = RefreshOptions(
        only=options.only,
        jobs=options.jobs,
        stops=options.stop,
        really=options.really,
        is_whole=options.whole_snapshot,
        on=options.on or "",
        leaves=options.hand_over,
        trusted=options.yes,
    )
    if options.fetch:
        how = structs.replace(how, others=(team := _team(session)))
    told: list[dict[str, Any]] = []
    swept: dict[str, list[Done]] = defaultdict(list)

    def tell(done: Done, step: Step) -> None:
        told.append(_json(done))
        if step.declared.part_of and done.how in ("ran", "taken"):
            swept[step.declared.part_of].append(done)  # told together at the end
        else:
            _show(session, done, step)

    try:
        refreshed = refresh(place, cache, options.names, how, tell, view.reporter())
    except RecordUnknown as unknown:
        if not view.asks(f"{unknown.what}: {unknown.why}. Run it, and the others of this project?"):
            raise
        trusting = structs.replace(how, trusted=True)
        refreshed = refresh(place, cache, options.names, trusting, tell, view.reporter())
    for name, several in swept.items():
        ran = sum(done.how == "ran" for done in several)
        parts = [f"{human_count(ran, 'run')} made"] if ran else []
        parts += [f"{len(several) - ran} taken from earlier runs"] if ran < len(several) else []
        changed = sum(bool(done.changed) for done in several)
        view.line(f"{name}: {', '.join(parts)}; the results of {changed} changed")
        for note in sorted({note for done in several for note in done.notes}):
            view.warn(f"{name}: {note}")
    for note in (*refreshed.notes, *(team.notes if options.fetch else ())):
        view.warn(note)
    if view.json:
        also = {"handed_over": list(refreshed.handed_over)} if options.hand_over else {}
        view.object({"done": told, "good": refreshed.is_good, "left": list(refreshed.left), **also})
    else:
        ran = sum(1 for one in refreshed.done if one.how == "ran")
        taken = sum(1 for one in refreshed.done if one.how == "taken")
        bad = len(refreshed.done) - ran - taken
        over = len(refreshed.handed_over)
        parts = [f"{human_count(ran, 'step')} ran"] if ran or not (taken or over) else []
        parts += [f"{taken} taken from earlier runs"] if taken else []
        parts += [f"{bad} did not get there"] if bad else []
        parts += [f"{human_count(over, 'step')} handed over to {options.on}"] if over else []
        view.note()
        view.line(f"{', '.join(parts)}.", "bad" if bad else "good")
        if over:
            view.note(f"`lapidar refresh --on {options.on}` waits for them, and takes what came of them.")
    return ExitCode.DONE if refreshed.is_good else ExitCode.NO


def _team(session: Session) -> TeamRuns:
    """What others ran, in the stores that the user and the project name."""
    from lapidar.cli.stores import agreed_stores
    from lapidar.core.flows.team import TeamRuns

    return TeamRuns(session.cache(), agreed_stores(session, ""))


def _planned(session: Session) -> tuple[int, list[Step]]:
    """How many steps there are, and those that a refresh looks at."""
    from lapidar.core.flows.steps import judge, plan

    options = session.options
    judged = judge(session.place, session.cache(create=True), is_whole=options.whole_snapshot)
    return len(judged.graph.steps), plan(judged, options.names, only=options.only)


def _nothing(session: Session, *, is_empty: bool) -> int:
    """Nothing is to run.

    Args:
        is_empty: there is no step at all.
    """
    if session.view.json:
        session.view.object({"done": [], "good": True, "left": []})
    elif is_empty:
        session.view.line(standings.NOTHING)
    else:
        what = " and ".join(session.options.names) if session.options.names else "everything"
        session.view.line(f"Nothing ran: {what} is up to date.", "good")
    return ExitCode.DONE


def _dry(session: Session) -> int:
    view = session.view
    every, steps = _planned(session)
    known = sum(step.seconds or 0.0 for step in steps)
    if view.json:
        view.object({"would_run": [standings.as_json(one) for one in steps], "seconds": known})
    elif not steps:
        view.line("Everything is up to date: nothing would run." if every else standings.NOTHING)
    else:
        view.table(["step", "standing", "why", "took"], standings.rows(steps, human_seconds), right=(3,))
        new = sum(1 for step in steps if step.seconds is None)
        view.note()
        about = f"At most {human_count(len(steps), 'step')} would run, about {human_seconds(known)} of work"
        view.line(about + (f" and {new} of which nobody knows how long" if new else "") + ".")
        view.note("Those that wait run only where what they read comes out other than it is.")
    return ExitCode.NO if steps else ExitCode.DONE


def _show(session: Session, done: Done, step: Step) -> None:
    view = session.view
    why = standings.reason_text(done.reasons[0], step) if done.reasons else "it never ran"
    match done.how:
        case "ran":
            some = ", ".join(done.changed[:4]) + (f" and {len(done.changed) - 4} more" if len(done.changed) > 4 else "")
            came = "made" if not done.reasons else "changed"
            told = f"{came}: {some}" if done.changed else "nothing of it changed"
            view.line(f"{done.name}: ran in {human_seconds(done.seconds)} ({why}); {told}")
        case "taken" if done.taken_by:
            view.line(f"{done.name}: taken from the run that {done.taken_by} signed ({why})")
        case "taken":
            day = datetime.datetime.fromtimestamp(done.taken_from)
            view.line(f"{done.name}: taken from the run of {day.day} {day:%B %Y, %H:%M} ({why})")
        case "failed":
            view.line(f"{done.name}: failed after {human_seconds(done.seconds)}: {done.error}", "bad")
            for line in done.said:
                view.line(f"  {line}")
        case _:
            view.line(f"{done.name}: held up: {done.error}", "warn")
    for note in done.notes:
        view.warn(f"{done.name}: {note}")


def _json(done: Done) -> dict[str, Any]:
    told = structs.asdict(done)
    del told["written"], told["absent"]
    told["reasons"] = [one._asdict() for one in done.reasons]
    return {**told, "how": str(done.how)}
