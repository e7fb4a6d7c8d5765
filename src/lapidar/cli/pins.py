"""What the commands that pin share: their options, how a plan is shown, the order of what they write."""

from __future__ import annotations

import argparse
import datetime
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session
from lapidar.cli.view import View, human_bytes, human_count, human_path

if TYPE_CHECKING:
    from lapidar.core.declaring.records import Declaration
    from lapidar.core.languages.python.pinning.session import Options, Pinned, Pinning, Plan
    from lapidar.core.records.snapshot import Snapshot

_SIGNS = {"added": "new", "removed": "gone", "newer": "newer", "older": "older", "replaced": "other file"}


def add_options(parser: argparse.ArgumentParser) -> None:
    """The options of every command that resolves."""
    parser.add_argument("--wheels-only", action="store_true", help="nothing that would have to be built from source")
    parser.add_argument("--runtime", metavar="INTERPRETER", help="pin for this runtime instead of the lockfile's")
    parser.add_argument("--dry-run", action="store_true", help="show what would change, and change nothing")


def day(text: str) -> datetime.date:
    """A date of the command line."""
    try:
        return datetime.date.fromisoformat(text)
    except ValueError as error:
        raise argparse.ArgumentTypeError(f"{text!r} is not a date; write it as 2026-01-31") from error


def options_of(session: Session, **more: Any) -> Options:
    """The options as parsed."""
    from lapidar.core.languages.python.pinning.session import Options

    return Options(wheels_only=session.options.wheels_only, runtime=session.path("runtime"), **more)


def previous_lock(session: Session) -> Snapshot | None:
    """The project's lockfile, if there is one."""
    from lapidar.core.records import lockfile

    return lockfile.read_if_there(session.project.lockfile)


def show_plan(plan: Plan, view: View) -> None:
    """The changes, line by line."""
    if view.json:
        return
    for note in plan.notes:
        view.warn(note)
    rows = []
    for change in plan.changes:
        rows.append([_SIGNS[change.kind], change.name, change.old or "-", change.new or "-"])
    if rows:
        view.table(["change", "package", "from", "to"], rows)
        view.note()
    show_overrides(plan.overrides, view)


def show_overrides(overrides: Mapping[str, str], view: View) -> None:
    """How the project's overrides act."""
    for name, effect in overrides.items():
        view.line(f"Override of {name}: {effect}", "warn" if "nothing" in effect else "")


def warn_of_overrides(declaration: Declaration, view: View) -> None:
    """Overrides that are past their date."""
    for override in declaration.overrides.values():
        if override.is_late:
            view.warn(
                f"the override of {override.name} was to hold until {override.until} ({override.because}); "
                "look whether it is still needed"
            )


def carry_out(
    session: Session,
    pinning: Pinning,
    plan: Plan,
    texts: Mapping[str, str] | None = None,
) -> Pinned | None:
    """Do what a plan says, or, with --dry-run, say that nothing was done."""
    from lapidar.core import atomic

    view, project = session.view, session.project
    if session.options.dry_run:
        files = f"{human_count(plan.fetch_files, 'file')}, {human_bytes(plan.fetch_bytes)}"
        view.note(f"Nothing was changed (--dry-run). To fetch: {files if plan.fetch_files else 'nothing'}.")
        return None
    pinned = pinning.carry_out(plan)
    for name, text in (texts or {}).items():
        atomic.write_file(project.root / name, text.encode("utf-8"))
    pinning.write(pinned, project.lockfile)
    for note in pinned.notes:
        view.warn(note)
    return pinned


def conclude(session: Session, plan: Plan, pinned: Pinned | None) -> None:
    """The last lines."""
    from lapidar.core.records.snapshot import short

    view = session.view
    if view.json:
        view.object(
            {
                "changes": [
                    {"package": change.name, "kind": change.kind, "from": change.old or None, "to": change.new or None}
                    for change in plan.changes
                ],
                "notes": [*plan.notes, *(pinned.notes if pinned else ())],
                "overrides": plan.overrides,
                "packages": len(plan.choices),
                "fetched_bytes": plan.fetch_bytes if pinned else 0,
                "snapshot": pinned.snapshot.snapshot if pinned else None,
                "changed": bool(pinned and pinned.changed),
            }
        )
        return
    if pinned is None:
        return
    digest = short(pinned.snapshot.snapshot)
    shown = human_path(session.project.lockfile)
    if not pinned.changed:
        view.line(f"Nothing has changed: {shown}, snapshot {digest}", "good")
        return
    size = human_bytes(sum(package.bytes for package in pinned.snapshot.package))
    view.line(
        f"Pinned {human_count(len(plan.choices), 'package')} ({size}) for {plan.target}: {shown}, snapshot {digest}",
        "good",
    )


def restore_environment(session: Session, pinned: Pinned) -> None:
    """Bring the project's environment up to what was pinned."""
    from lapidar.core.flows.restore import restore

    view = session.view
    restored = restore(session.project, session.cache(), pinned.snapshot, reporter=view.reporter())
    if restored.already:
        view.note(f"{human_path(restored.environment)} matches already.")
        return
    done = "Replaced" if restored.replaced else "Restored"
    view.note(f"{done} {human_path(restored.environment)}: {human_count(restored.files, 'file')}")


def change(session: Session, texts: Mapping[str, str]) -> int:
    """Resolve a changed declaration, and only then write it, the lockfile and the environment."""
    from lapidar.core.declaring import reading
    from lapidar.core.errors import DeclarationError
    from lapidar.core.languages.python.pinning.session import Pinning

    project = session.project
    previous = previous_lock(session)
    if previous and any(package.asked_for for package in previous.package) and not reading.read(project).needs:
        raise DeclarationError(
            "The lockfile was captured, and the project declares nothing",
            why="what is not declared would be dropped from it",
            remedy="`lapidar start` declares what is captured there; then say this again.",
        )
    declaration = reading.read(project, texts)
    warn_of_overrides(declaration, session.view)
    cache = session.cache(create=True)
    cache.require_writable()
    settings = options_of(session)
    with Pinning(project, cache, declaration, previous, settings, session.view.reporter()) as pinning:
        plan = pinning.plan()
        show_plan(plan, session.view)
        pinned = carry_out(session, pinning, plan, texts)
    conclude(session, plan, pinned)
    if pinned and not session.options.no_restore:
        restore_environment(session, pinned)
    return ExitCode.DONE
