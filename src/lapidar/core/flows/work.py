"""Work: run a step as a task, on a machine that reaches the cache and has nothing else of the project."""

from __future__ import annotations

import os
import shutil
import tempfile
import time
from dataclasses import replace
from pathlib import Path

import msgspec

from lapidar.core.cache.history import History
from lapidar.core.cache.store import Cache
from lapidar.core.cache.trees import Tree
from lapidar.core.errors import CacheError
from lapidar.core.flows import record as recording
from lapidar.core.flows import run as running
from lapidar.core.flows.near import Near, near_folder
from lapidar.core.flows.record import RecordOptions, RunFailed
from lapidar.core.place import Place
from lapidar.core.progress import Silent
from lapidar.core.records.declaration import DeclaredAnalysis
from lapidar.core.results import scratch
from lapidar.core.steps.engines.tasks import Outcome, Task

__all__ = ["run_encoded", "run_task"]


def run_encoded(cache: str, task: bytes) -> bytes:
    """As `run_task`, for whoever hands over texts.

    Args:
        cache: its folder.
        task: as JSON.
    """
    outcome = run_task(Cache(Path(cache)), msgspec.json.decode(task, type=Task))
    return msgspec.json.encode(outcome)


def run_task(cache: Cache, task: Task) -> Outcome:
    """Run a step: its environment out of the cache, its files laid out in a folder for it alone, the run watched, and
    the run with its results kept in the cache.

    Returns:
        What came of it. What fails is told there, and not raised.
    """
    began = time.monotonic()
    node = os.environ.get("SLURMD_NODENAME") or os.uname().nodename
    folder = Path(tempfile.mkdtemp(prefix="lapidar-work-"))
    said: tuple[str, ...] = ()
    absent: tuple[str, ...] = ()
    error = ""
    try:
        _run(cache, task, folder)
    except recording.FAILURES as failure:
        error = recording.how_it_failed(failure)
        absent = failure.stood_on.absent if isinstance(failure, RunFailed) else ()
    finally:
        if error and (folder / "errors").is_file():
            said = running.last_lines(folder / "errors")
        shutil.rmtree(folder, ignore_errors=True)
    return Outcome(task.name, error, said, time.monotonic() - began, node, absent)


def _run(cache: Cache, task: Task, folder: Path) -> None:
    copy = folder / "project"
    copy.mkdir()
    _lay_out(cache, cache.tree(task.copy), task, copy)
    own = folder / "own"
    own.mkdir()
    snapshot = History(cache).find(task.snapshot)
    place = replace(
        Place.of_project(copy), own_folder=own, lockfile=own / "lapidar.lock", records=own / "lapidar.results"
    )
    environment = Near(near_folder(None)).restored(place, lambda: cache, snapshot, Silent())
    settings = DeclaredAnalysis(
        task.name, task.command, task.results, task.leave, values=task.values, part_of=task.name
    )
    options = RecordOptions(
        environment=environment, quiet=folder / "errors", folder=copy / task.folder, at_most=task.at_most
    )
    recording.noted(place, cache, settings, running.named_from(copy / task.folder, task.command), options)


def _lay_out(cache: Cache, tree: Tree, task: Task, into: Path) -> None:
    for entry in tree:
        if not scratch.laid_out(entry, cache, into / entry.path):
            raise CacheError(f"{entry.path} is damaged in the cache", remedy="lapidar cache audit, where the cache is.")
    for name in (*task.folders, task.folder):
        (into / name).mkdir(parents=True, exist_ok=True)
