"""``lapidar run``"""

from __future__ import annotations

import argparse
import functools
from pathlib import Path
from typing import TYPE_CHECKING

from lapidar.cli.main import Session
from lapidar.cli.view import View

if TYPE_CHECKING:
    from lapidar.core.flows.run import Run

DESCRIPTION = """\
Run a command in the restored environment: its bin folder comes first on PATH, the variables and the umask are those of
the snapshot's conditions, no shell is added, and the command takes the place of lapidar, so signals and its exit code
are its own. A line on standard error says what acts on numbers, where that is not what acted when it was captured."""

EXAMPLES = """\
examples:
  lapidar run python analysis.py
  lapidar run -- python -c 'import numpy; print(numpy.__version__)'
  lapidar run --from /shared/kilns.parcel.tar -- python analysis.py    on many nodes: each reads one file, once"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--env", metavar="DIR", help="the restored environment (default: PROJECT/.lapidar/env)")
    parser.add_argument(
        "--from",
        dest="source",
        metavar="FILE|ADDRESS",
        help="in the environment of a parcel: it is placed in a folder of this node, once for all processes of a user",
    )
    parser.add_argument(
        "--near",
        action="store_true",
        help="in an environment of the project's lockfile in a folder of this node, placed likewise from the cache",
    )
    parser.add_argument("words", nargs=argparse.REMAINDER, metavar="COMMAND ...", help="what to run")


def run(session: Session) -> int:
    from lapidar.core.errors import LapidarError
    from lapidar.core.flows.run import prepare

    words = session.options.words[1:] if session.options.words[:1] == ["--"] else session.options.words
    if not words:
        raise LapidarError("There is no command to run", remedy="For example: lapidar run python analysis.py")
    there = functools.partial(session.cache_if_any, create=False)
    elsewhere = _near(session) or session.path("env")
    if elsewhere is None:
        members_up(session)
    ready = prepare(session.place, words, elsewhere, cache=there)
    _tell(ready, session.view)
    return ready.become()


def members_up(session: Session, *, wholly: bool = False) -> None:
    """Bring the environment up to the project's own packages, where it has any that changed; see `flows.members`."""
    if not session.place.members.is_file():
        return
    from lapidar.cli.view import human_seconds
    from lapidar.core.flows.members import brought_up

    for one in brought_up(session.place, session.cache, session.view.reporter(), wholly=wholly):
        session.view.remark(f"{one.name} was built again, for {one.why} changed ({human_seconds(one.seconds)})")


def _near(session: Session) -> Path | None:
    """An environment in a folder of this node, where one is meant."""
    from lapidar.core.errors import LapidarError

    options = session.options
    if not options.source and not options.near:
        return None
    if options.env or (options.source and options.near):
        raise LapidarError("Two environments are named", remedy="Name one: with --env, with --from, or with --near.")
    from lapidar.core.flows.near import Near, near_folder, placed

    return placed(Near(near_folder(None)), session.place, options.source, session.cache, session.view.reporter())


def _tell(ready: Run, view: View) -> None:
    """What the run is held to, and what may surprise."""
    from lapidar.core.records.words import short

    if ready.locked and ready.chosen:
        view.remark(f"the environment is of snapshot {short(ready.snapshot)}, as restored with {ready.chosen}")
    elif ready.locked:
        view.warn(
            f"the environment is of snapshot {short(ready.snapshot)}, the lockfile of {short(ready.locked)}; "
            "`lapidar restore` brings it up to date"
        )
    prepared = ready.prepared
    if prepared.hidden:
        view.warn(f"{', '.join(prepared.hidden)} is set here and was left out of the run")
    held_to = prepared.held_to
    if held_to is None:
        return
    if held_to.lacking:
        view.warn(f"declared as secret, and not set here: {', '.join(held_to.lacking)}")
    if held_to.warning:
        view.warn(held_to.warning)
    held = f"held to the snapshot's: {', '.join(held_to.changed)}" if held_to.changed else ""
    if told := "; ".join(filter(None, [held_to.profile, held])):
        view.remark(told)
