"""``lapidar history``"""

from __future__ import annotations

import argparse
import time
from typing import TYPE_CHECKING

from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session
from lapidar.cli.view import View, human_path

if TYPE_CHECKING:
    from lapidar.core.flows.history import Entry, ResultsThen

DESCRIPTION = """\
Show every snapshot that the project had, the newest first: when, why, what it changed against the one before, and
whether the recorded results stayed the same. A project is known wherever it lies: a clone's snapshots are its own too.
`lapidar history note ID TEXT` says what a snapshot is; such a one, and one that results were recorded with, is pruned
only where it is named."""

EXAMPLES = """\
examples:
  lapidar history
  lapidar history -v                          every change
  lapidar history note 3fe0a1 "the paper's figures"
  lapidar history note 3fe0a1 ""              take the note back"""

_MOST = 20


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("action", nargs="?", choices=["note"], help="say what a snapshot is")
    parser.add_argument("snapshot", nargs="?", metavar="ID", help="note: the first digits of its identity")
    parser.add_argument("text", nargs="?", metavar="TEXT", help="note: one line")
    parser.add_argument("--all", action="store_true", help=f"all of it, and not only the last {_MOST}")


def run(session: Session) -> int:
    from lapidar.core.errors import LapidarError
    from lapidar.core.flows.history import history, note
    from lapidar.core.records import words

    options, view = session.options, session.view
    if options.action == "note":
        if options.snapshot is None or options.text is None:
            raise LapidarError("A note needs a snapshot and a text", remedy="lapidar history note ID TEXT")
        found = note(session.place, session.cache(), options.snapshot, options.text)
        view.line(f"Snapshot {words.short(found.snapshot)}: {options.text or 'no note any more'}", "good")
        return ExitCode.DONE
    entries = history(session.place, session.cache(), None if options.all or view.json else _MOST + 1)
    if view.json:
        view.object(entries)
        return ExitCode.DONE
    if not entries:
        view.line("The history has nothing of this project: capture or pin it first.")
        return ExitCode.DONE
    _show(entries if options.all else entries[:_MOST], view)
    if not options.all and len(entries) > _MOST:
        view.note("older ones with --all")
    return ExitCode.DONE


def _show(entries: list[Entry], view: View) -> None:
    from lapidar.core.records import words

    rows = []
    several = len({one.who for one in entries}) > 1
    for one in entries:
        lines = _changed(one, view)
        if one.note:
            lines.append(f'"{one.note}"')
        if one.lockfile and view.verbose:
            lines.append(f"in {human_path(one.lockfile)}")
        rows.append(
            [
                time.strftime("%Y-%m-%d %H:%M", time.localtime(one.time)),
                ("* " if one.current else "  ") + words.short(one.snapshot),
                *([one.who or "-"] if several else []),
                f"{one.cause} {one.about}".strip(),
                lines[0],
                ", ".join(map(_results, one.results)) or "-",
            ]
        )
        rows += [[*[""] * (4 if several else 3), more, ""] for more in lines[1:]]
    view.table(["when", "  snapshot", *(["who"] if several else []), "cause", "what changed", "results"], rows)


def _changed(one: Entry, view: View) -> list[str]:
    """What it changed, a line; with -v a line each."""
    from lapidar.core.flows.history import in_short

    if not one.changed:
        return ["-" if one.changed is None else "nothing"]
    return list(one.changed) if view.verbose else [in_short(one.changed)]


def _results(one: ResultsThen) -> str:
    told = "recorded" if one.same is None else "same" if one.same else "different"
    return f"{one.analysis}: {told}{', proven' if one.proved else ''}"
