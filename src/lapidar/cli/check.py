"""``lapidar check``"""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session
from lapidar.cli.view import View, human_count, human_path

if TYPE_CHECKING:
    from lapidar.core.check import Checked, Finding
    from lapidar.core.environment.status import Walking

DESCRIPTION = """\
Compare the lockfile, the restored environment and the cache. The quick check compares what is there by inode, size
and time and reads no contents; the deep one reads every byte. Exit code 0: all match; 1: there are findings."""

EXAMPLES = """\
examples:
  lapidar check
  lapidar check --deep
  lapidar check --env /tmp/again --json"""

_SHOWN = 3


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--deep", action="store_true", help="read every byte")
    parser.add_argument("--env", metavar="DIR", help="the restored environment (default: PROJECT/.lapidar/env)")
    parser.add_argument("--lock", metavar="FILE", help="another lockfile than the project's")


def run(session: Session) -> int:
    from lapidar.core.environment.status import Walking

    project = session.project
    walking = Walking(session.path("env") or project.environment)  # before the rest is even loaded
    try:
        return _check(session, walking)
    except BaseException:
        walking.drop()
        raise


def _check(session: Session, walking: Walking) -> int:
    from lapidar.core.check import check
    from lapidar.core.choose import read_snapshot

    options, view = session.options, session.view
    project, cache = session.project, session.cache()
    snapshot = read_snapshot(project, cache, session.path("lock"), None)
    checked = check(
        project,
        cache,
        snapshot,
        environment=session.path("env"),
        deep=options.deep,
        walking=walking,
        reporter=view.reporter(),
    )
    if view.json:
        view.object(
            {
                "snapshot": snapshot.snapshot,
                "environment": str(checked.environment),
                "deep": checked.deep,
                "files": checked.files,
                "clean": checked.clean,
                "findings": checked.findings,
                "overrides": checked.overrides,
            }
        )
    else:
        _show(checked, view)
    return ExitCode.DONE if checked.clean else ExitCode.NO


def _show(checked: Checked, view: View) -> None:
    from lapidar.core.snapshot import short

    for override in checked.overrides:
        view.line(override, "warn")
    if checked.clean:
        how = "read" if checked.deep else "compared by inode, size and time"
        view.line(
            f"Lockfile, environment and cache match: snapshot {short(checked.snapshot.snapshot)}, "
            f"{human_count(checked.files, 'file')} {how}.",
            "good",
        )
        return
    layer = ""
    for finding in checked.findings:
        if finding.layer != layer:
            layer = finding.layer
            view.line(layer, "heading")
        view.line(f"  {_name(finding)}: {_told(finding, view)}")
    remedies = dict.fromkeys(finding.remedy for finding in checked.findings)
    view.line()
    view.line(f"{human_count(len(checked.findings), 'finding')}.", "bad")
    for remedy in remedies:
        view.line(f"  next: {remedy}")


def _name(finding: Finding) -> str:
    return human_path(finding.name) if finding.name.startswith("/") else finding.name


def _told(finding: Finding, view: View) -> str:
    if not finding.paths:
        return finding.problem
    count = human_count(len(finding.paths), "file")
    shown = finding.paths if view.verbose else finding.paths[:_SHOWN]
    more = len(finding.paths) - len(shown)
    return f"{count} {finding.problem}: {', '.join(shown)}" + (f", and {more} more (-v shows all)" if more else "")
