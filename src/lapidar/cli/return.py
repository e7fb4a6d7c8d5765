"""``lapidar return``"""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session
from lapidar.cli.view import human_path

if TYPE_CHECKING:
    from lapidar.core.flows.return_to import Returned

DESCRIPTION = """\
Have an earlier snapshot again: the lockfile as it was, and the environment. Without a name it is the one before the
present one. With --declaration the files that declare the needs come back too. It refuses where something would be lost
that no snapshot has. A return is in the history itself, and is undone by another."""

EXAMPLES = """\
examples:
  lapidar return                        the one before
  lapidar return 3fe0a1                 one of `lapidar history`
  lapidar return HEAD~3:                as git had the lockfile then
  lapidar return 3fe0a1 --declaration   with lapidar.toml as it was"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("snapshot", nargs="?", metavar="ID", help="a snapshot, or REVISION: of git")
    parser.add_argument("--declaration", action="store_true", help="bring the declaration back too")
    parser.add_argument("--no-restore", action="store_true", help="leave the environment as it is")
    parser.add_argument(
        "--fetch", action="store_true", help="fetch what the cache lacks, each from the origin that the lockfile names"
    )
    parser.add_argument("--dry-run", action="store_true", help="show what would change, and change nothing")
    parser.add_argument("-y", "--yes", action="store_true", help="also where something is lost that no snapshot has")


def _show_dry(session: Session, done: Returned) -> None:
    from lapidar.cli.changes import show_difference
    from lapidar.core.records import lockfile, words

    view = session.view
    show_difference(lockfile.read_if_there(session.place.lockfile), done.snapshot, view)
    for name in done.files:
        view.line(f"Would write {name} as it was.")
    view.line(f"Would return to snapshot {words.short(done.snapshot.snapshot)}. Nothing was changed (--dry-run).")


def run(session: Session) -> int:
    from lapidar.core.flows.return_to import ReturnOptions, return_to
    from lapidar.core.records import words

    options, view = session.options, session.view
    settings = ReturnOptions(
        declaration=options.declaration,
        restore=not options.no_restore,
        yes=options.yes,
        fetch=options.fetch,
        dry_run=options.dry_run,
    )
    done = return_to(session.place, session.cache(), options.snapshot, settings, view.reporter())
    if view.json:
        view.object(
            {
                "snapshot": done.snapshot.snapshot,
                "before": done.before or None,
                "environment": str(done.restored.environment) if done.restored else None,
                "files": done.files,
                "lost": done.lost,
            }
        )
        return ExitCode.DONE
    for sentence in done.lost:
        view.warn(f"gone: {sentence}")
    if options.dry_run:
        _show_dry(session, done)
        return ExitCode.DONE
    for warning in done.restored.warnings if done.restored else ():
        view.warn(warning)
    if done.files:
        view.line(f"Wrote {', '.join(done.files)} as they were.")
    if done.restored:
        view.line(f"Restored {human_path(done.restored.environment)}: {done.restored.files:,} files")
    shown = human_path(session.place.lockfile)
    view.line(f"Returned: {shown} holds snapshot {words.short(done.snapshot.snapshot)} again.", "good")
    if done.before:
        view.note(f"Undo it with: lapidar return {words.short(done.before)}")
    return ExitCode.DONE
