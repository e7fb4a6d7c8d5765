"""``lapidar runtimes``"""

from __future__ import annotations

import argparse

from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session
from lapidar.cli.view import human_count, human_path

DESCRIPTION = """\
Show the language runtimes that are at hand: on this machine, and in the cache, with the snapshots that use them."""

EXAMPLES = """\
examples:
  lapidar runtimes
  lapidar pin --runtime 3.12"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """None of its own."""


def run(session: Session) -> int:
    from lapidar.core.errors import CacheError
    from lapidar.core.flows.runtimes import runtimes

    try:
        cache = session.cache()
    except CacheError:
        cache = None  # then only those of the machine
    found = runtimes(cache)
    if session.view.json:
        session.view.object(found)
        return ExitCode.DONE
    rows = [
        [
            one.title,
            one.version,
            human_path(one.interpreter) if one.interpreter else "-",
            ("yes" if one.is_whole else "damaged") if one.snapshots else "-",
            human_count(len(one.snapshots), "snapshot") if one.snapshots else "-",
        ]
        for one in found
    ]
    if rows:
        session.view.table(["language", "version", "on this machine", "in the cache", "used by"], rows)
    else:
        session.view.line("There is none on this machine, and none in the cache.")
    return ExitCode.DONE
