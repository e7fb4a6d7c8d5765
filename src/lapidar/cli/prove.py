"""``lapidar prove``"""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session
from lapidar.cli.view import View, human_seconds
from lapidar.core.errors import LapidarError

if TYPE_CHECKING:
    from lapidar.core.flows.complete import Addition
    from lapidar.core.flows.prove import Missing, Proved

DESCRIPTION = """\
Run recorded analyses in their restored environment where nothing of this machine is in sight: in a root of its own
with the kernel's file systems, the utilities of POSIX and a made-up /etc, as another user on another host, without a
network. Compare the results with the recorded ones, and say what was looked for and is not there though this machine
has it. What gives the same there is proven: it needs nothing but the snapshot. The proof is kept beside the record. A
command after two dashes is run here first, and compared with that."""

EXAMPLES = """\
examples:
  lapidar prove                          all recorded analyses
  lapidar prove kilns                    one of them
  lapidar prove -- python plot.py        a command that is not recorded

exit codes:
  0  proven: all results are identical, the same content, or within tolerance
  1  not proven                          3  it could not be run"""

_MOST_SHOWN = 12
_SHOWN = 3


def add_arguments(parser: argparse.ArgumentParser) -> None:
    from lapidar.cli.verdicts import add_output_options

    parser.add_argument("names", nargs="*", metavar="NAME", help="the analyses (default: all recorded ones)")
    parser.add_argument("-y", "--yes", action="store_true", help="run a record of somebody else without asking")
    parser.add_argument(
        "--again",
        action="store_true",
        help="besides with another time zone, another language, one processor, and an older one where an emulator is",
    )
    parser.add_argument("--keep-results", metavar="DIR", help="put the results of the run into this folder")
    parser.add_argument("--at-most", type=float, metavar="SECONDS", help="end a run after so long")
    add_output_options(parser)


def run(session: Session) -> int:
    from lapidar.core.flows.prove import ProveOptions, prove, prove_command
    from lapidar.core.flows.rerun import RerunOptions
    from lapidar.core.records import results

    options, view = session.options, session.view
    place, cache = session.place, session.cache()
    how = ProveOptions(
        rerun=RerunOptions(
            at_most=options.at_most,
            trusted=options.yes,
            draws=bool(options.picture or options.report),
            keep=session.path("keep_results"),
        ),
        output=2 if view.json else 1,
        again=options.again,
    )
    if options.after:
        proved = [prove_command(place, cache, tuple(options.after), how, view.reporter())]
        show(proved[0], view)
    else:
        names = options.names or [one.name for one in results.read(place.records).analysis]
        if not names:
            raise LapidarError("Nothing is recorded here", remedy="For example: lapidar record -- python analysis.py")
        proved = []
        for name in names:
            if proved:
                view.line()
            proved.append(prove(place, cache, name, how, view.reporter()))
            show(proved[-1], view)
    _offer(session, proved)
    for one in proved:
        _draw(session, one, len(proved) > 1)
    good = all(one.proof for one in proved)
    if view.json:
        view.object({"proofs": [as_values(one) for one in proved], "proven": good})
    return ExitCode.DONE if good else ExitCode.NO


def _offer(session: Session, proved: list[Proved]) -> None:
    """Where somebody is there to be asked: take along what was missing, as far as it can be declared."""
    from lapidar.core.flows import complete

    view = session.view
    missing = [one for done in proved if done.proof is None for one in done.missing]
    additions = list(dict.fromkeys(complete.of_proof(missing)))
    if view.json or not additions or not view.has_company:
        return
    view.line()
    show_additions(additions, view)
    if view.asks("Declare it in lapidar.toml ([needs])?"):
        complete.declare(session.place, additions)
        view.line("next: lapidar capture, or lapidar pin where the project pins; then lapidar restore, lapidar prove")


def show_additions(additions: Sequence[Addition], view: View) -> None:
    """What is to be declared, with whose it is and what of it is used."""
    from lapidar.core.records import words
    from lapidar.core.system.owners import in_words

    for (key, value), several in together(additions).items():
        some = words.some((one.path for one in several if one.path != value), _SHOWN)
        view.note(f"  {key} {value} ({in_words(several[0].owner)}{f': {some}' if some else ''})")


def together(additions: Sequence[Addition]) -> dict[tuple[str, str], list[Addition]]:
    """Additions by what is to be written where."""
    found: dict[tuple[str, str], list[Addition]] = {}
    for one in additions:
        found.setdefault((one.key, one.value), []).append(one)
    return found


def _draw(session: Session, proved: Proved, several: bool) -> None:
    from lapidar.cli.rerun import draw

    draw(session, proved.rerun, several, [("proven", "yes" if proved.proof else "no")])


def show(proved: Proved, view: View) -> None:
    """What came of it."""
    from lapidar.cli import verdicts

    done = proved.rerun
    name = done.analysis.name
    view.note(f"{name}: ran in {human_seconds(done.seconds)} where nothing of this machine is in sight.")
    for note in done.notes:
        view.warn(note)
    for line in done.said if done.exit_code != done.analysis.exit_code else ():
        view.note(f"  {line}")
    verdicts.show(done.compared, view)
    _missing(proved.missing, view)
    view.line()
    if proved.proof:
        needs = "its snapshot and its record" if done.analysis.record else "its snapshot and the project"
        view.line(f"{name}: proven ({done.verdict}): it needs nothing but {needs}.", "good")
    else:
        view.line(f"{name}: not proven: {proved.why_not}.", "bad")
    for remedy in proved.remedies:
        view.line(f"next: {remedy}")


def _missing(missing: tuple[Missing, ...], view: View) -> None:
    if not missing:
        return
    from lapidar.core.system.owners import in_words

    view.line()
    was_needless = all(one.was_used is None for one in missing)
    more = ", and not needed for these results" if was_needless else ""
    view.line(f"Looked for and not there, though this machine has it{more}:", "" if was_needless else "warn")
    shown = sorted(missing, key=lambda one: not one.was_used)
    by_owner: dict[tuple[str, str, bool | None], list[str]] = {}
    for one in shown:
        # Of very many, one of each package's is shown.
        path = "" if len(shown) > _MOST_SHOWN else one.path
        by_owner.setdefault((in_words(one.owner), path, one.was_used), []).append(one.path)
    used = {True: "opened", False: "asked for", None: ""}
    rows = [
        [paths[0] + (f" and {len(paths) - 1:,} more" if paths[1:] else ""), owner, used[was_used]]
        for (owner, _, was_used), paths in by_owner.items()
    ]
    cut = 2 if was_needless else 3
    titles = ["file", "package of the system", "with this machine in sight"]
    view.table(titles[:cut], [row[:cut] for row in rows[:_MOST_SHOWN]])
    if len(rows) > _MOST_SHOWN:
        view.line(f"and of {len(rows) - _MOST_SHOWN:,} more packages (--json has all)")


def as_values(proved: Proved) -> dict[str, Any]:
    """A proof, or why there is none, for machines."""
    from lapidar.cli import rerun

    return {
        **rerun.as_values(proved.rerun),
        "proven": proved.proof is not None,
        "varies_here": proved.varies,
        "by_variables": proved.by_variables,
        "talks_to": list(proved.rerun.partners),
        "borrowed": list(proved.borrowed),
        "others_with": proved.otherwise.called,
        "missing": [
            {
                "path": one.path,
                "kind": one.kind,
                "package": one.owner.name if one.owner else None,
                "version": one.owner.version if one.owner else None,
                "was_used": one.was_used,
            }
            for one in proved.missing
        ],
    }
