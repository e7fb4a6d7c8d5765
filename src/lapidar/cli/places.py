"""``lapidar places``"""

from __future__ import annotations

import argparse

from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session
from lapidar.cli.view import human_bytes

DESCRIPTION = """\
List the places that are known here: the project and the packages of its own, what stands on your shelf, scripts that
state their needs, what was tried aside, and snapshots that were called: each with its snapshot, how it stands, and how
large it is. Files that environments share with the cache are counted in each."""

EXAMPLES = """\
examples:
  lapidar places
  lapidar places --json"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """It takes none."""


def run(session: Session) -> int:
    from lapidar.core.flows.places import places
    from lapidar.core.records.words import short

    view = session.view
    found = places(session.place, session.cache_if_any(create=False))
    if view.json:
        view.object([one._asdict() for one in found])
        return ExitCode.DONE
    if not found:
        view.line("No places are known here.")
        view.note(
            "lapidar start makes a project; lapidar shelf put NAME, lapidar run FILE.py and lapidar aside others."
        )
        return ExitCode.DONE
    view.table(
        ["place", "name", "snapshot", "standing", "size"],
        [
            [one.kind, one.name, short(one.snapshot) or "-", one.standing, human_bytes(one.bytes) if one.bytes else "-"]
            for one in found
        ],
        right=(4,),
    )
    return ExitCode.DONE
