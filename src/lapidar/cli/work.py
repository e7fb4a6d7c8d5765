"""``lapidar work``: what a node of a cluster is told to run; nobody types it."""

from __future__ import annotations

import argparse
import os
from pathlib import Path

from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session
from lapidar.core.errors import LapidarError

DESCRIPTION = "Run a step that was handed to this machine: one of a list of keys of tasks, which lie in the cache."
EXAMPLES = """\
examples:
  lapidar work keys --at 3      the fourth of a list that `lapidar refresh --on` wrote

exit codes:
  0  it ran; 1  it failed: either way what came of it is in the cache
  3  there is no such task"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("keys", metavar="FILE", help="a list of keys")
    parser.add_argument("--at", type=int, metavar="N", help="which one (default: SLURM_ARRAY_TASK_ID, else the first)")


def run(session: Session) -> int:
    from lapidar.core.flows.work import run_task
    from lapidar.core.steps.engines.tasks import Tasks

    cache = session.cache()
    at = session.options.at if session.options.at is not None else int(os.environ.get("SLURM_ARRAY_TASK_ID", "0"))
    try:
        keys = Path(session.options.keys).read_text("ascii").split()
    except (OSError, ValueError):
        keys = []  # told as one that has no such task
    tasks = Tasks(cache)
    task = tasks.task(keys[at]) if at < len(keys) else None
    if task is None:
        raise LapidarError("There is no such task in the cache", remedy="Say lapidar refresh --on again.")
    _end_in_order()
    earlier = [tasks.outcome(key) for key in task.earlier]
    outcome = run_task(cache, task, earlier, tasks.attempt(keys[at]))
    tasks.end(keys[at], outcome)
    session.view.line(f"{task.name}: {outcome.error or 'ran'}")
    # What waits for it is ended by the batch system where it failed.
    return ExitCode.NO if outcome.error else ExitCode.DONE


def _end_in_order() -> None:
    """A batch system that takes the node away says so first: what the step keeps is to be left to the next attempt."""
    import signal

    from lapidar.core.system.supervision import Stopped

    def end(number: int, frame: object) -> None:
        raise Stopped(128 + number)

    signal.signal(signal.SIGTERM, end)
