"""What the commands that pin share: their options, how a plan is shown, the last lines."""

from __future__ import annotations

import argparse
import datetime
from collections import Counter
from collections.abc import Callable, Collection, Sequence
from typing import TYPE_CHECKING

from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session
from lapidar.cli.view import View, human_bytes, human_count, human_path, typed_path

if TYPE_CHECKING:
    from lapidar.core.changes.influence import Weight
    from lapidar.core.flows.declare import DeclareOptions
    from lapidar.core.flows.pin import Judgement, Pinned, PinPlan
    from lapidar.core.flows.rerun import Rerun
    from lapidar.core.flows.restore import Restored
    from lapidar.core.pinning.session import PinOptions
    from lapidar.core.records.declaration import Declaration
    from lapidar.core.records.difference import PackageChange
    from lapidar.core.records.owner import PackageName

_ROWS = 20  # of a table of changes
_SIGNS = {"added": "new", "removed": "gone", "newer": "newer", "older": "older", "replaced": "other file"}


def add_options(parser: argparse.ArgumentParser) -> None:
    """The options of every command that resolves."""
    parser.add_argument("--wheels-only", action="store_true", help="nothing that would have to be built from source")
    parser.add_argument(
        "--runtime",
        metavar="RUNTIME",
        help="pin for this runtime instead of the lockfile's: an interpreter, or a version (3.12) to be looked for",
    )
    parser.add_argument("-y", "--yes", action="store_true", help="do it without asking")
    parser.add_argument("--dry-run", action="store_true", help="show what would change, and change nothing")
    parser.add_argument(
        "--try",
        dest="tries",
        action="store_true",
        help="run the recorded analyses with it first, and say what would become of their results; then ask. With "
        "--yes it is done where all are good. Exit code 1: they are not",
    )


def day(text: str) -> datetime.date:
    """A date of the command line."""
    try:
        return datetime.date.fromisoformat(text)
    except ValueError as error:
        raise argparse.ArgumentTypeError(f"{text!r} is not a date; write it as 2026-01-31") from error


def options_of(
    session: Session,
    *,
    renew: Collection[PackageName] = (),
    renew_all: bool = False,
    as_of: datetime.date | None = None,
) -> PinOptions:
    """The options that all commands that pin have, as parsed, with those that this one has."""
    from lapidar.core.pinning.session import PinOptions

    runtime = session.path("runtime")
    return PinOptions(
        renew=renew, renew_all=renew_all, as_of=as_of, no_builds=session.options.wheels_only, runtime=runtime
    )


def declare_options_of(session: Session, group: str | None, index: str = "") -> DeclareOptions:
    """The options of a changed declaration, as parsed."""
    from lapidar.core.flows.declare import DeclareOptions

    options = session.options
    return DeclareOptions(
        group=group,
        index=index,
        restore=not options.no_restore,
        pinning=options_of(session),
        language=options.language or "",
        judgement=judging(session),
    )


def declaration_of(session: Session) -> Declaration:
    """What the project declares, with a word on overrides that are past their date."""
    from lapidar.core.declaring import reading

    declaration = reading.read(session.place)
    for override in declaration.overrides.values():
        if override.is_late:
            session.view.warn(
                f"the override of {override.name} was to hold until {override.until} ({override.because}); "
                "look whether it is still needed"
            )
    return declaration


def reviewing(session: Session) -> Callable[[PinPlan], bool]:
    """Shows a plan; with --dry-run it is not carried out."""

    def review(plan: PinPlan) -> bool:
        view = session.view
        if not view.json:
            _show_plan(plan, view)
        if not session.options.dry_run:
            return session.options.yes or _agreed(plan, session)
        files = f"{human_count(plan.fetch_files, 'file')}, {human_bytes(plan.fetch_bytes)}"
        view.note(f"Nothing was changed (--dry-run). To fetch: {files if plan.fetch_files else 'nothing'}.")
        return False

    return review


def _agreed(plan: PinPlan, session: Session) -> bool:
    """Whether whoever sits at the terminal wants it: what is to be built, and what a lockfile that is there becomes."""
    if plan.builds and not session.view.agrees("Build from source?"):
        return False
    is_change = session.place.lockfile.exists() and plan.is_change
    if session.options.tries:  # which asks afterwards
        return True
    return not is_change or session.view.agrees("Change the lockfile so?")


def judging(session: Session) -> Judgement | None:
    """With --try: shows what became of the recorded analyses, and asks. Nobody there to be asked is no agreement."""
    if not session.options.tries:
        return None
    from lapidar.core.flows.trial import recorded

    recorded(session.place)  # before anything is resolved

    def judge(trial: list[Rerun]) -> bool:
        from lapidar.cli import rerun

        view = session.view
        for one in trial:
            rerun.show(one, view)
        good = all(one.is_good for one in trial)
        return good if session.options.yes else view.asks("Change the lockfile so?")

    return judge


def ends_with(session: Session, pinned: Pinned) -> int:
    """The exit code of a command that pins: 1 where somebody said no, or a trial did."""
    said_no = pinned.snapshot is None and not session.options.dry_run
    return ExitCode.NO if said_no or not all(one.is_good for one in pinned.tried) else ExitCode.DONE


def _show_plan(plan: PinPlan, view: View) -> None:
    """The changes, line by line."""
    from lapidar.cli import changes
    from lapidar.core import languages
    from lapidar.core.records import words

    for note in (*plan.notes, *plan.builds):
        view.warn(note)
    names = words.package_names([one.key for one in plan.changes])
    rows = [
        [_SIGNS[one.kind], names[one.key], one.old or "-", one.new or "-", weight.reason]
        for one, weight in _weighed(plan)
    ]
    rows += [["condition", name, before, after, ""] for name, before, after in plan.conditions]
    titles = [languages.of(one.language).title for one in plan.runtimes]
    rows[:0] = [
        [_SIGNS[one.kind], f"the runtime {title}", one.old, one.new, "the runtime"]
        for one, title in zip(plan.runtimes, titles, strict=True)
    ]
    if rows and not view.quiet:
        left = [] if view.verbose else rows[_ROWS:]
        changes.show_rows(rows[: len(rows) - len(left)], view, "package")
        if left:
            counts = Counter(row[0] for row in rows)
            told = ", ".join(f"{count} {sign}" for sign, count in counts.items())
            view.note(f"and {len(left)} more (-v shows all); together {told}")
        view.note()
    for standing in plan.overrides:
        style = "warn" if standing.is_idle else ""
        view.line(f"Override of {standing.package.name}: {words.override_effect(standing)}", style)


def _weighed(plan: PinPlan) -> list[tuple[PackageChange, Weight]]:
    """The changes, what most likely alters results first; of packages that only come or go by their names."""
    from lapidar.core.changes.influence import weigh
    from lapidar.core.records.difference import Change
    from lapidar.core.records.owner import Layer, Owner

    weighed = []
    for one in plan.changes:
        owner = Owner(Layer.PACKAGES, one.language, one.name, one.new or one.old)
        weight = weigh(Change(owner, one.kind, one.old, one.new))
        is_change = bool(one.old and one.new)
        weighed.append((one, weight if is_change else weight._replace(rank=3, size=3, reason="")))
    return sorted(weighed, key=lambda pair: (pair[1].rank, pair[1].size, pair[0].name))


def conclude(session: Session, pinned: Pinned) -> None:
    """The last lines."""
    from lapidar.core.records import words

    view, plan, snapshot = session.view, pinned.plan, pinned.snapshot
    for note in pinned.notes:
        view.warn(note)
    if view.json:
        view.object(_object(pinned))
        return
    if snapshot is None:
        if not session.options.dry_run:
            view.line("Nothing was changed.")
        return
    digest = words.short(snapshot.snapshot)
    shown = human_path(session.place.lockfile)
    if not pinned.changed:
        view.note(f"Nothing has changed: {shown}, snapshot {digest}", "good")
        return
    size = human_bytes(sum(one.bytes for one in snapshot.packages if one.language in plan.by_language))
    targets = ", ".join(plan.targets)
    view.note(
        f"Pinned {human_count(plan.packages, 'package')} ({size}) for {targets}: {shown}, snapshot {digest}", "good"
    )


def _object(pinned: Pinned) -> dict[str, object]:
    from lapidar.cli import rerun
    from lapidar.core.records import words

    plan, snapshot = pinned.plan, pinned.snapshot
    return {
        "runtimes": [_change(one) for one in plan.runtimes],
        "changes": [_change(one) for one in plan.changes],
        "notes": [*plan.notes, *pinned.notes],
        "builds": plan.builds,
        "overrides": [{**one.package._asdict(), "effect": words.override_effect(one)} for one in plan.overrides],
        "packages": plan.packages,
        "fetched_bytes": plan.fetch_bytes if snapshot else 0,
        "snapshot": snapshot.snapshot if snapshot else None,
        "changed": pinned.changed,
        "tried": [rerun.as_values(one) for one in pinned.tried],
    }


def _change(change: PackageChange) -> dict[str, object]:
    of = {"package": change.name} if change.name else {}
    return {
        "language": change.language, **of, "kind": change.kind, "from": change.old or None, "to": change.new or None
    }  # fmt: skip


def conclude_change(session: Session, pinned: Pinned, restored: Restored | None) -> int:
    """The last lines of a changed declaration."""
    conclude(session, pinned)
    if restored is not None:
        where = human_path(restored.environment)
        if restored.already:
            session.view.note(f"{where} matches already.")
        else:
            done = "Replaced" if restored.replaced else "Restored"
            session.view.note(f"{done} {where}: {human_count(restored.files, 'file')}")
    return ends_with(session, pinned)


def show_changes(plan: PinPlan, view: View) -> None:
    """What a plan has that the project has not, on standard error."""
    for change in plan.changes[:_ROWS]:
        same = change.old == change.new
        told = f"{change.old}: other bytes" if same else f"{change.old or '-'} -> {change.new or '-'}"
        view.remark(f"{change.name} {told}")
    for one in plan.runtimes:
        view.remark(f"runtime {one.old} -> {one.new}")


def edit_script(session: Session, names: Sequence[str], *, drops: bool = False) -> int:
    """Change what a script states that it needs, and nothing else of it."""
    from lapidar.core import atomic
    from lapidar.core.flows import script

    options, view, file = session.options, session.view, session.script
    data = script.drop(file, names) if drops else script.need(file, names)
    if not options.dry_run:
        atomic.replace_file(file, data)
    if view.json:
        view.object({"script": str(file), "changed": not options.dry_run})
        return ExitCode.DONE
    told = "needs no longer" if drops else "needs"
    view.line(f"{human_path(file)} {told} {', '.join(names)}.", "good")
    view.note(f"Next: lapidar run {typed_path(file)}")
    return ExitCode.DONE
