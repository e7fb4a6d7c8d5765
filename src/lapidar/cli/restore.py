"""``lapidar restore``"""

from __future__ import annotations

import argparse

from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session
from lapidar.cli.view import human_bytes, human_count, human_path, human_seconds

DESCRIPTION = """\
Build the environment of a lockfile from the cache alone; no network is used. It is built beside its place and
put there in one step, so an older environment stays whole until the new one is. The folder can be moved."""

EXAMPLES = """\
examples:
  lapidar restore
  lapidar restore --into /tmp/again --placement copy
  lapidar restore --snapshot 5f1c2a        from the history, by the beginning of its identity"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--into", metavar="DIR", help="the folder to make (default: PROJECT/.lapidar/env)")
    parser.add_argument(
        "--placement",
        choices=["auto", "clone", "hardlink", "copy"],
        default="auto",
        help="how files get there; auto: cloned where the file system can, else hard-linked, else copied",
    )
    which = parser.add_mutually_exclusive_group()
    which.add_argument("--lock", metavar="FILE", help="another lockfile than the project's")
    which.add_argument("--snapshot", metavar="ID", help="a snapshot of the history, by the beginning of its identity")
    parser.add_argument("--verify", action="store_true", help="read every byte in the cache before anything is placed")


def run(session: Session) -> int:
    from lapidar.core.cache.placing import Placement
    from lapidar.core.choose import read_snapshot
    from lapidar.core.restore import restore

    options, view = session.options, session.view
    project, cache = session.project, session.cache()
    snapshot = read_snapshot(project, cache, session.path("lock"), options.snapshot)
    restored = restore(
        project,
        cache,
        snapshot,
        into=session.path("into"),
        placement=Placement(options.placement),
        verify=options.verify,
        reporter=view.reporter(),
    )
    if view.json:
        view.object(
            {
                "environment": str(restored.environment),
                "snapshot": snapshot.snapshot,
                "placement": restored.placement,
                "files": restored.files,
                "bytes": restored.bytes,
                "already": restored.already,
                "replaced": restored.replaced,
                "warnings": restored.warnings,
                "seconds": round(restored.seconds, 3),
            }
        )
        return ExitCode.DONE
    shown = human_path(restored.environment)
    if restored.already:
        view.line(f"{shown} already matches the snapshot; nothing was done.", "good")
        return ExitCode.DONE
    for warning in restored.warnings:
        view.warn(warning)
    if restored.compiled:
        view.note(f"Compiled the byte-code of {human_count(restored.compiled, 'tree')}; the cache keeps it.")
    way = {"hardlink": "hard-linked", "clone": "cloned", "copy": "copied"}[restored.placement]
    view.line(
        f"{'Replaced' if restored.replaced else 'Restored'} {shown}: {human_count(restored.files, 'file')}, "
        f"{human_bytes(restored.bytes)}, {way}, in {human_seconds(restored.seconds)}",
        "good",
    )
    if not options.into:
        view.note("Use it with: lapidar run COMMAND")
    return ExitCode.DONE
