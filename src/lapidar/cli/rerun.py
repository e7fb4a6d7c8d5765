"""``lapidar rerun``"""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session
from lapidar.cli.run import members_up
from lapidar.cli.view import View, human_path, human_seconds
from lapidar.core.errors import LapidarError

if TYPE_CHECKING:
    from lapidar.core.flows.rerun import Rerun, RerunOptions

DESCRIPTION = """\
Run recorded analyses again: in the environment that they were recorded with (restored from the cache alone where it is
not there), in a scratch copy of the project with the recorded sources and inputs, under the recorded conditions; and
compare each result with the recorded one, as what it is. The project's own files are not touched. The run has no
network, and can write nowhere else, where the kernel allows to forbid that. A record that somebody else made is shown
first, and asked about."""

EXAMPLES = """\
examples:
  lapidar rerun                          all recorded analyses
  lapidar rerun kilns --times 3          does it vary by itself, and what of?
  lapidar rerun kilns --current-files    with the files as they are in the project now
  lapidar rerun kilns --here             after an update: does today's environment give the same?
  lapidar rerun report --from-raw        with all that it stands on, from the raw data: where does a difference begin?
  lapidar rerun kilns --picture kilns.png --report kilns.html

exit codes:
  0  all results are identical, the same content, or within tolerance
  1  something differs                   3  it could not be run"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    from lapidar.cli.verdicts import add_output_options

    parser.add_argument("names", nargs="*", metavar="NAME", help="the analyses (default: all recorded ones)")
    parser.add_argument(
        "--current-files", action="store_true", help="with sources and inputs as they are in the project now"
    )
    parser.add_argument(
        "--here", action="store_true", help="in the environment as it is now, with the files as they are in the project"
    )
    parser.add_argument(
        "--from-raw", action="store_true", help="with all that they stand on, from the recorded raw inputs alone"
    )
    parser.add_argument("--open", action="store_true", help="with this machine's network, and free to write anywhere")
    parser.add_argument("-y", "--yes", action="store_true", help="run a record of somebody else without asking")
    parser.add_argument("--times", type=int, default=1, metavar="N", help="run N times, and find what varies by itself")
    parser.add_argument("--keep-results", metavar="DIR", help="put the results of the rerun into this folder")
    parser.add_argument("--at-most", type=float, metavar="SECONDS", help="end a run after so long")
    add_output_options(parser)


def run(session: Session) -> int:
    from msgspec import structs

    from lapidar.core.flows.rerun import RecordUnknown, RerunOptions, rerun
    from lapidar.core.records import results

    options, view = session.options, session.view
    if options.times < 1:
        raise LapidarError("--times must be 1 or more")
    place, cache = session.place, session.cache()
    names = options.names or [one.name for one in results.read(place.records).analysis]
    if not names:
        raise LapidarError("Nothing is recorded here", remedy="For example: lapidar record -- python analysis.py")
    keep = session.path("keep_results")
    if options.from_raw and (keep or options.current_files or options.here or options.picture or options.report):
        raise LapidarError("--from-raw goes with none of --keep-results, --current-files, --here, --picture, --report")
    good, told = True, []
    if options.here:
        members_up(session, wholly=True)
    for name in names:
        how = RerunOptions(
            current_files=options.current_files or options.here,
            environment=place.environment if options.here else None,
            opened=options.open,
            trusted=options.yes,
            keep=keep / name if keep and len(names) > 1 else keep,
            times=options.times,
            at_most=options.at_most,
            draws=bool(options.picture or options.report),
        )
        if options.from_raw:
            several = _from_raw(session, name, how)
            told += [as_values(one) for one in several]
            good = good and all(one.is_good for one in several)
            continue
        try:
            done = rerun(place, cache, name, how, view.reporter())
        except RecordUnknown as unknown:
            if not view.asks(f"{unknown.what}: {unknown.why}. Run it?"):
                raise
            done = rerun(place, cache, name, structs.replace(how, trusted=True), view.reporter())
        show(done, view)
        draw(session, done, len(names) > 1)
        told.append(as_values(done))
        good = good and done.is_good
    if view.json:
        view.object({"reruns": told, "good": good})
    return ExitCode.DONE if good else ExitCode.NO


def _from_raw(session: Session, name: str, how: RerunOptions) -> list[Rerun]:
    """A whole chain again; say where a difference begins."""
    from lapidar.core.flows.from_raw import rerun_from_raw

    view = session.view
    done = rerun_from_raw(session.place, session.cache(), name, how, view.reporter(), lambda one: show(one, view))
    bad = [one.analysis.name for one in done if not one.is_good]
    chain = " -> ".join(one.analysis.name for one in done)
    view.line()
    if not bad:
        view.line(f"From the raw data on ({chain}) nothing differs.", "good")
    elif len(done) > 1:
        view.line(f"From the raw data on ({chain}) the first that differs is {bad[0]}.", "bad")
    return done


def draw(session: Session, done: Rerun, several: bool, more: Sequence[tuple[str, str]] = ()) -> None:
    """Write the figure and the page of a rerun, where they were asked for.

    Args:
        several: whether it is one of several, whose files need names of their own.
        more: what the page says beside the verdicts.
    """
    from lapidar.cli import verdicts

    def named(name: str) -> Any:
        path = session.path(name)
        return path.with_stem(f"{path.stem}-{done.analysis.name}") if path and several else path

    told = [*_told(done), *more]
    verdicts.draw(done.compared, done.files, named("picture"), named("report"), told, session.view)
    done.forget()


def _told(done: Rerun) -> list[tuple[str, str]]:
    """What a page says of a rerun beside its verdicts."""
    import shlex

    analysis = done.analysis
    variables = ", ".join(f"{name}={value}" for name, value in sorted(analysis.variables.items()))
    from lapidar.core.system import processor

    return [
        ("analysis", analysis.name),
        ("command", shlex.join(analysis.command)),
        ("snapshot", analysis.snapshot),
        ("numerics", analysis.numerics),
        ("variables", variables or "none"),
        ("processor", processor.name()),
        ("record", analysis.record),
        ("kept apart", _apart(done)),
        ("took", human_seconds(done.seconds)),
        *([("again", f"lapidar rerun {shlex.quote(analysis.name)}")] if analysis.record else []),
    ]


def _apart(done: Rerun) -> str:
    """What a run had of this machine."""
    alone = "no network but a loopback; nothing to write into but its scratch copy"
    return f"not, or not wholly: {'; '.join(done.not_apart)}" if done.not_apart else alone


def show(done: Rerun, view: View) -> None:
    """What came of a rerun."""
    from lapidar.cli import verdicts

    for note in done.notes:
        view.warn(note)
    for line in done.said if done.exit_code != done.analysis.exit_code else ():
        view.note(f"  {line}")
    where = f"restored into {human_path(done.environment)}" if done.restored else f"in {human_path(done.environment)}"
    if not done.environment.exists():
        where = "in an environment for this trial"
    view.note(f"{done.analysis.name}: ran again in {human_seconds(done.seconds)}, {where}.")
    if done.not_apart:
        view.note(f"It was not kept apart from this machine: {'; '.join(done.not_apart)}.")
    verdicts.show(done.compared, view)
    if done.varying:
        view.line()
        view.line("Results that vary by themselves, from run to run:", "warn")
        for path, cause in done.varying.items():
            view.line(f"  {path}: {cause}")
    view.line()
    if done.is_good:
        view.line(f"{done.analysis.name}: nothing differs ({done.verdict}).", "good")
    else:
        bad = sum(not one.verdict.is_good for one in done.compared)
        view.line(f"{done.analysis.name}: {bad} of {len(done.compared)} results are not what was recorded.", "bad")


def as_values(done: Rerun) -> dict[str, Any]:
    """A rerun, for machines."""
    from lapidar.cli.verdicts import as_json

    return {
        "analysis": done.analysis.name,
        "verdict": str(done.verdict),
        "good": done.is_good,
        "results": [as_json(one) for one in done.compared],
        "varying": done.varying,
        "environment": str(done.environment),
        "restored": done.restored,
        "not_apart": list(done.not_apart),
        "exit_code": done.exit_code,
        "seconds": done.seconds,
        "notes": done.notes,
    }
