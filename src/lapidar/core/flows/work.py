"""Work: run a step as a task, on a machine that reaches the cache and has nothing else of the project."""

from __future__ import annotations

import os
import shutil
import tempfile
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

import msgspec
from msgspec.structs import replace

from lapidar.core.cache.digest import sha256_of
from lapidar.core.cache.history import History
from lapidar.core.cache.runs import Runs
from lapidar.core.cache.store import Cache
from lapidar.core.cache.trees import Tree
from lapidar.core.errors import CacheError
from lapidar.core.flows import recording
from lapidar.core.flows import run as running
from lapidar.core.flows.near import Near, near_folder
from lapidar.core.flows.record import noted
from lapidar.core.flows.recording import RecordOptions, RunFailed, RunLate, RunLost, RunStopped
from lapidar.core.place import Place
from lapidar.core.progress import Silent
from lapidar.core.records.declaration import DeclaredAnalysis
from lapidar.core.results import listing, scratch
from lapidar.core.steps import earlier as earlier_runs
from lapidar.core.steps.attempts import Attempt, Before
from lapidar.core.steps.engines.protocol import How
from lapidar.core.steps.engines.tasks import Outcome, Task
from lapidar.core.steps.used import EVERYTHING

__all__ = ["attempted", "run_encoded", "run_task"]


def run_encoded(cache: str, task: bytes, *earlier: bytes) -> bytes:
    """As `run_task`, for whoever hands over texts.

    Args:
        cache: its folder.
        task: as JSON; earlier: the outcomes of the tasks before it, the same.
    """
    outcomes = [msgspec.json.decode(one, type=Outcome) for one in earlier]
    outcome = run_task(Cache(Path(cache)), msgspec.json.decode(task, type=Task), outcomes)
    return msgspec.json.encode(outcome)


def run_task(cache: Cache, task: Task, earlier: Sequence[Outcome | None] = (), attempt: int = 1) -> Outcome:
    """Run a step: its environment out of the cache, its files laid out in a folder for it alone, with what earlier ones
    made; the run watched, and kept with its results in the cache.

    Args:
        earlier: what came of the tasks that it begins after; None where nothing did.
        attempt: which it is.

    Returns:
        What came of it. What fails is told there, and not raised.
    """
    began = time.monotonic()
    node = os.environ.get("SLURMD_NODENAME") or os.uname().nodename
    ended = [one for one in earlier if one is not None]
    failed = [one.name for one in ended if one.error]
    if failed or len(ended) < len(task.earlier):
        before = f"{failed[0]} failed" if failed else "nothing came of one before it"
        return Outcome(task.name, before, node=node, how=How.HELD_UP)
    folder = Path(tempfile.mkdtemp(prefix="lapidar-work-"))
    said: tuple[str, ...] = ()
    absent: tuple[str, ...] = ()
    error = record = ""
    try:
        record = _run(cache, task, [one.record for one in ended], folder)
    except recording.FAILURES as failure:
        error = recording.how_it_failed(failure)
        absent = failure.stood_on.absent if isinstance(failure, RunFailed) else ()
    finally:
        if error and (folder / "errors").is_file():
            said = running.last_lines(folder / "errors")
        shutil.rmtree(folder, ignore_errors=True)
    how = How.FAILED if error else How.STANDS if record == task.record else How.RAN
    return Outcome(task.name, error, said, time.monotonic() - began, node, absent, record, how, attempt)


def _run(cache: Cache, task: Task, earlier: Sequence[str], folder: Path) -> str:
    """Run it; the record of what it has then."""
    copy = folder / "project"
    copy.mkdir()
    _lay_out(cache, cache.tree(task.copy), task, copy)
    for record in earlier:
        _lay_out_results(cache, record, copy)
    if task.unless and all(_digest(copy / path) == digest for path, digest in task.unless.items()):
        return task.record
    own = folder / "own"
    own.mkdir()
    snapshot = History(cache).find(task.snapshot)
    place = replace(
        Place.of_project(copy), own_folder=own, lockfile=own / "lapidar.lock", records=own / "lapidar.results"
    )
    environment = Near(near_folder(None)).restored(place, lambda: cache, snapshot, Silent())
    settings = DeclaredAnalysis(
        task.name, task.command, task.results, task.leave, keep=task.keep, values=task.values, part_of=task.name
    )
    options = RecordOptions(
        environment=environment,
        quiet=folder / "errors",
        folder=copy / task.folder,
        at_most=task.at_most,
        memory=task.memory,
    )
    command = running.named_from(copy / task.folder, task.command)
    with attempted(cache, copy, settings, task.snapshot, task.command, anew=task.anew) as before:
        analysis, _ = noted(place, cache, settings, command, replace(options, before=before))
    return analysis.record


@contextmanager
def attempted(
    cache: Cache,
    copy: Path,
    settings: DeclaredAnalysis,
    snapshot: str,
    command: Sequence[str],
    *,
    anew: bool = False,
) -> Iterator[Before | None]:
    """An attempt at a step in a copy: given what the one before kept, and leaving its own where it is broken off.

    Args:
        anew: it is given nothing.
    """
    if not settings.keep:
        yield None
        return
    told = {"snapshot": snapshot, **{f"value {name}": value for name, value in settings.values.items()}}
    attempt = Attempt.at(cache, copy, settings.keep, command, told)
    if not anew:
        attempt.give()
    try:
        yield attempt.before
    except (RunLost, RunStopped) as lost:
        if attempt.broke_off(lost.seen, lost.stood_on) and isinstance(lost, RunLate):
            lost.what += "; what it kept is there for the next attempt"
        raise
    except BaseException:  # whoever ran it was ended
        attempt.broke_off(None, EVERYTHING)
        raise
    attempt.ended()


def _lay_out(cache: Cache, tree: Tree, task: Task, into: Path) -> None:
    for entry in tree:
        if not scratch.laid_out(entry, cache, into / entry.path):
            raise CacheError(f"{entry.path} is damaged in the cache", remedy="lapidar cache audit, where the cache is.")
    for name in (*task.folders, task.folder):
        (into / name).mkdir(parents=True, exist_ok=True)


def _lay_out_results(cache: Cache, record: str, into: Path) -> None:
    """Raises: CacheError: the run of an earlier step, or something that it made, is not in the cache."""
    analysis = Runs(cache).copy_of(record)
    whole = listing.whole(analysis, cache) if analysis else None
    for file in whole.result if whole else ():
        (into / file.name).unlink(missing_ok=True)
    if whole is None or not earlier_runs.laid_out(whole, cache, into):
        raise CacheError("What an earlier step made is not whole in the cache", remedy="Run it again: --really.")


def _digest(path: Path) -> str:
    try:
        return sha256_of(str(path))
    except OSError:
        return ""
