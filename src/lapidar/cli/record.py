"""``lapidar record``"""

from __future__ import annotations

import argparse
import shlex
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session
from lapidar.cli.run import members_up
from lapidar.cli.view import View, human_bytes, human_count, human_seconds
from lapidar.core.errors import LapidarError

if TYPE_CHECKING:
    from lapidar.core.cache.store import Cache
    from lapidar.core.flows.recording import Recorded
    from lapidar.core.flows.rerun import Rerun
    from lapidar.core.place import Place

DESCRIPTION = """\
Run an analysis in the restored environment, see by itself what it reads and writes, and record that: the command, the
snapshot, sources, inputs and results with their digests go into PROJECT/lapidar.results, a small file to commit; the
bytes go into the cache. Nothing has to be declared; [analysis.NAME] in lapidar.toml may hold the command, patterns of
results, and tolerances. Without a NAME the declared analyses are recorded in turn; with a command alone its name is
that of the script it runs."""

EXAMPLES = """\
examples:
  lapidar record -- python analysis.py          recorded as "analysis"
  lapidar record kilns -- python fit.py --fast  under a name of its own
  lapidar record kilns                          as declared in lapidar.toml
  lapidar record --verify -- python fit.py      and see at once whether the record is enough
  lapidar record                                all declared ones

exit codes:
  0  recorded (with --verify: and run again, nothing differs)
  1  recorded, and run again it does not give the same
  3  nothing was recorded"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("name", nargs="?", metavar="NAME", help="of the analysis; the COMMAND follows after --")
    parser.add_argument("--even-failed", action="store_true", help="record a run that fails too")
    parser.add_argument(
        "--at-most", type=float, metavar="SECONDS", help="end the run after so long; nothing is recorded"
    )
    parser.add_argument(
        "--largest", metavar="SIZE", default="1GB", help="larger files are recorded by digest alone (default: 1GB)"
    )
    parser.add_argument("--verify", action="store_true", help="run it again at once from the record alone, and compare")
    parser.add_argument("--env", metavar="DIR", help="the restored environment (default: PROJECT/.lapidar/env)")


def _of_script(session: Session, cache: Cache, command: Sequence[str]) -> Sequence[str]:
    """Have the environment of a script; its command, where none is named."""
    from lapidar.cli.run import placed_script

    file = session.script
    language = placed_script(session, file, cache)
    session.options.name = session.options.name or file.stem
    return command or [language.interpreters[0], str(file)]


def run(session: Session) -> int:
    from lapidar.core.flows.record import record
    from lapidar.core.flows.recording import RecordOptions
    from lapidar.core.sizes import parse_bytes

    if session.options.verify:
        from lapidar.cli.rerun import as_values
        from lapidar.core.flows.verify import verify

    options = session.options
    cache = session.cache(create=True)
    command: Sequence[str] = options.after
    if options.script:
        command = _of_script(session, cache, command)
    place = session.place
    names = [options.name] if options.name else [_name_of(command)] if command else _declared(place)
    if not names:
        raise LapidarError("There is no analysis to record", remedy="For example: lapidar record -- python analysis.py")
    how = RecordOptions(
        environment=session.path("env"),
        even_failed=options.even_failed,
        most_bytes=parse_bytes(options.largest),
        at_most=options.at_most,
        output=2 if session.view.json else 1,
        keeps_input=True,
    )
    good, told = True, []
    for name in names:
        if how.environment is None:
            members_up(session, wholly=True)
        recorded = record(place, cache, name, command, how)
        _show(recorded, session.view)
        told.append(_json(recorded))
        if options.verify:
            done = verify(
                place, cache, recorded.analysis, how.environment or place.environment, session.view.reporter()
            )
            good = good and _verified(done, session.view)
            told[-1]["verified"] = as_values(done)
    if session.view.json:
        session.view.object({"recorded": told})
    return ExitCode.DONE if good else ExitCode.NO


def _declared(place: Place) -> list[str]:
    """The declared analyses, less those that are run for many values, which a refresh runs."""
    from lapidar.core.declaring import reading

    return sorted(name for name, one in reading.read(place).analyses.items() if not one.sweep)


def _verified(done: Rerun, view: View) -> bool:
    """Say what came of running a record again; whether it gives the same, by itself."""
    from lapidar.cli import verdicts

    for note in done.notes:
        view.warn(note)
    if done.is_good:
        view.line(f"Verified: run again from the record alone, nothing differs ({done.verdict}).", "good")
    else:
        verdicts.show([one for one in done.compared if not one.verdict.is_good], view)
        view.line("Run again from the record alone, it does not give the same.", "bad")
    return done.is_good and not done.notes


def _name_of(command: Sequence[str]) -> str:
    """The name of an analysis that nobody named: that of the first file among its words, less its suffix."""
    import os
    import re

    for word in command[1:] if len(command) > 1 else command:
        if not word.startswith("-") and os.path.isfile(word):
            name = re.sub(r"[^A-Za-z0-9._-]", "-", os.path.splitext(os.path.basename(word))[0]).lstrip("-._")
            if name:
                return name[:80]
    return "analysis"


def _show(recorded: Recorded, view: View) -> None:
    analysis = recorded.analysis
    for note in recorded.notes:
        view.warn(note)
    rows = [
        [one.path, "link" if one.link else one.kind, human_bytes(one.bytes), one.sha256[:12]] for one in analysis.result
    ]
    if rows:
        view.table(["result", "kind", "size", "sha256"], rows, right=(2,))
        view.line()
    ran = f"{human_seconds(recorded.seconds)}, at most {human_bytes(recorded.memory)} of memory"
    view.note(f"Ran it in {ran}.")
    read = [
        human_count(analysis.amount("source").files, "source"),
        human_count(analysis.amount("input").files, "input"),
        human_count(analysis.amount("result").files, "result"),
    ]
    printed = f"what it printed ({human_bytes(analysis.printed_bytes)})"
    view.line(f"Recorded {analysis.name}: {', '.join(read)} and {printed}.")
    if recorded.differing:
        view.line(f"Not as recorded before: {', '.join(recorded.differing[:5])}.", "warn")
    elif not recorded.changed:
        view.line("The same as recorded before: lapidar.results did not change.", "good")
    if recorded.changed:
        view.note(f"Wrote {recorded.file.name}. Commit it; `lapidar rerun {shlex.quote(analysis.name)}` compares.")


def _json(recorded: Recorded) -> dict[str, Any]:
    import msgspec

    return {
        **msgspec.to_builtins(recorded.analysis),
        "changed": recorded.changed,
        "differing": list(recorded.differing),
        "notes": list(recorded.notes),
        "seconds": recorded.seconds,
        "memory": recorded.memory,
    }
