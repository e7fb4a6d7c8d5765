"""``lapidar check``"""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session, add_snapshot_options
from lapidar.cli.view import View, human_count, human_path
from lapidar.core.errors import LapidarError

if TYPE_CHECKING:
    from lapidar.core.environment.status import Walking
    from lapidar.core.flows.check import Checked
    from lapidar.core.records.findings import Finding
    from lapidar.core.records.snapshot import Snapshot

DESCRIPTION = """\
Compare the lockfile, the restored environment and the cache. The quick check compares what is there by inode, size
and time and reads no contents; the deep one reads every byte. Exit code 0: all match; 1: there are findings."""

EXAMPLES = """\
examples:
  lapidar check
  lapidar check --deep
  lapidar check --live
  lapidar check --live -- python analysis.py    run the analysis, and see what of the host it uses
  lapidar check --env /tmp/again --json"""

_SHOWN = 3


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--deep", action="store_true", help="read every byte")
    parser.add_argument(
        "--live",
        action="store_true",
        help="run the restored interpreter, import everything it has, and read its memory map: a file mapped from "
        "outside the environment is a finding. With a COMMAND after --, run that instead, and see which files it and "
        "its children open: what is neither of the environment nor of the project is a finding",
    )
    parser.add_argument("--env", metavar="DIR", help="the restored environment (default: PROJECT/.lapidar/env)")
    add_snapshot_options(parser)


def run(session: Session) -> int:
    from lapidar.core.environment.status import Walking

    place = session.place
    walking = Walking(session.path("env") or place.environment)  # before the rest is even loaded
    try:
        return _check(session, walking)
    except BaseException:
        walking.drop()
        raise


def _check(session: Session, walking: Walking) -> int:
    from lapidar.core.flows.check import CheckOptions, check
    from lapidar.core.flows.choose import read_snapshot

    options, view = session.options, session.view
    place, cache = session.place, session.cache()
    snapshot = read_snapshot(place, cache, session.path("lock"), options.snapshot)
    wanted = CheckOptions(
        environment=session.path("env"),
        as_placed=not (options.lock or options.snapshot),
        deep=options.deep,
        live=options.live,
        command=_command(options),
        output=2 if session.view.json else 1,
    )
    checked = check(place, cache, snapshot, wanted, walking=walking, reporter=view.reporter())
    if view.json:
        view.object(_object(checked, snapshot, view))
    else:
        _show(checked, view)
    return ExitCode.DONE if checked.clean else ExitCode.NO


def _command(options: argparse.Namespace) -> tuple[str, ...]:
    """The command to run: what follows --."""
    words: list[str] = options.after
    if words and not options.live:
        raise LapidarError(
            f"There is nothing to do with the words {' '.join(words)}",
            remedy="Write --live before --, or leave them out.",
        )
    return tuple(words)


def _object(checked: Checked, snapshot: Snapshot, view: View) -> dict[str, object]:
    from lapidar.core.records import words

    return {
        "snapshot": snapshot.snapshot,
        "environment": str(checked.environment),
        "deep": checked.deep,
        "files": checked.files,
        "clean": checked.clean,
        "findings": [
            {
                "layer": _layer(finding),
                "language": _language(finding),
                "name": words.finding_name(finding),
                "problem": words.problem(finding),
                "paths": finding.paths,
                "remedy": view.told(words.remedy(finding, several=len(snapshot.languages) > 1)),
            }
            for finding in checked.findings
        ],
        "overrides": [words.override_sentence(one) for one in checked.overrides],
        "libraries": checked.libraries,
        "host": checked.drift,
        "live": checked.live,
        "watched": checked.watched,
        "remarks": checked.remarks,
    }


def _language(finding: Finding) -> str | None:
    return finding.language or (finding.owner.language if finding.owner else "") or None


def _layer(finding: Finding) -> str:
    """The heading of a finding: layers by their names, what is of no package by what it is."""
    from lapidar.core.records import words
    from lapidar.core.records.owner import Layer

    return words.layer_title(finding.layer) if finding.layer is Layer.REMAINDER else str(finding.layer)


def _show(checked: Checked, view: View) -> None:
    from lapidar.core.records import words

    for override in checked.overrides:
        view.line(words.override_sentence(override), "warn")
    _show_lower(checked, view)
    if checked.clean:
        how = "read" if checked.deep else "compared by inode, size and time"
        view.line(
            f"Lockfile, environment and cache match: snapshot {words.short(checked.snapshot.snapshot)}, "
            f"{human_count(checked.files, 'file')} {how}.",
            "good",
        )
        return
    heading = ""
    for finding in checked.findings:
        if _layer(finding) != heading:
            heading = _layer(finding)
            view.line(heading, "heading")
        view.line(f"  {_name(finding)}: {_told(finding, view)}")
    several = len(checked.snapshot.languages) > 1
    remedies = dict.fromkeys(words.remedy(finding, several=several) for finding in checked.findings)
    if {one.problem for one in checked.findings} & words.LACKING:  # what fetches also restores
        remedies.pop(words.RESTORE, None)
    view.line()
    view.line(f"{human_count(len(checked.findings), 'finding')}.", "bad")
    for remedy in remedies:
        view.line(f"  next: {remedy}")


def _show_lower(checked: Checked, view: View) -> None:
    """What the check saw of the host and of the running environment."""
    for remark in checked.remarks:
        view.warn(remark)
    if drift := checked.drift:
        total = drift.same + len(drift.different) + len(drift.missing)
        if drift.different or drift.missing:
            own = checked.libraries == "private"
            matters = "which does not matter: the environment runs with its own" if own else "and it runs with them"
            parts = [f"{len(drift.different)} differ"] if drift.different else []
            parts += [f"{len(drift.missing)} are missing"] if drift.missing else []
            view.line(
                f"Of {human_count(total, 'recorded library', 'recorded libraries')}, on this host "
                f"{' and '.join(parts)}, {matters}."
            )
            if view.verbose:
                for name in (*drift.different, *drift.missing):
                    view.line(f"  {name}")
        elif view.verbose:
            view.line(f"The host has all {total} recorded libraries, with the same bytes.")
    if watched := checked.watched:
        names = ", ".join(sorted({path.rpartition("/")[2] for path in watched.utilities}))
        beside = f", beside what every system has ({names})" if names else ""
        view.line(
            f"Ran it: {human_count(watched.files, 'file')} opened or mapped, {len(watched.outside)} of them of the "
            f"host; {human_count(len(watched.programs), 'program')} of the host started{beside}.",
            "good" if not watched.outside and not watched.programs else "bad",
        )
    if live := checked.live:
        view.line(
            f"Ran it: {human_count(live.modules, 'module')} imported, {human_count(live.mapped, 'file')} mapped, "
            f"{len(live.outside)} of them from outside the environment.",
            "good" if not live.outside else "bad",
        )
        if live.failed:
            shown = live.failed if view.verbose else live.failed[:_SHOWN]
            view.line(f"Could not be imported ({len(live.failed)}):", "heading")
            for module in shown:
                view.line(f"  {module.name}: {module.why}")
            if len(shown) < len(live.failed):
                view.line(f"  and {len(live.failed) - len(shown)} more (-v shows all)")


def _name(finding: Finding) -> str:
    from lapidar.core.records import words

    name = words.finding_name(finding)
    return human_path(name) if name.startswith("/") else name


def _told(finding: Finding, view: View) -> str:
    from lapidar.core.records import words

    problem = words.problem(finding)
    if not finding.paths:
        return problem
    count = human_count(len(finding.paths), "file")
    shown = finding.paths if view.verbose else finding.paths[:_SHOWN]
    more = len(finding.paths) - len(shown)
    return f"{count} {problem}: {', '.join(shown)}" + (f", and {more} more (-v shows all)" if more else "")
