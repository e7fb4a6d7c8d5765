"""Record: run an analysis in the restored environment, see what it reads and writes, and keep that."""

from __future__ import annotations

import os
import shlex
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from msgspec.structs import replace

from lapidar.core import atomic
from lapidar.core.cache.store import Cache
from lapidar.core.declaring import reading
from lapidar.core.environment.folder import Environment
from lapidar.core.errors import LapidarError
from lapidar.core.flows import run as running
from lapidar.core.flows.recording import UNNAMED, Recorded, Recording, RecordOptions
from lapidar.core.place import Place
from lapidar.core.progress import Progress, Silent
from lapidar.core.records import called, results
from lapidar.core.records.declaration import DeclaredAnalysis
from lapidar.core.records.results import Analysis
from lapidar.core.system.observed import ObservedRun

__all__ = ["REFRESH", "RERUN", "declared", "in_copy", "noted", "record", "sweep", "unrecorded"]

RECORDING, RERUN, REFRESH = "recording-", "rerun-", "refresh-"  # folders for unfinished work in the project's own


def declared(place: Place, name: str) -> DeclaredAnalysis:
    """What the project declares of an analysis; nothing where it does not."""
    return reading.read(place).analyses.get(name, DeclaredAnalysis(name))


def record(
    place: Place,
    cache: Cache,
    name: str,
    command: Sequence[str],
    options: RecordOptions | None = None,
    reporter: Progress | None = None,
) -> Recorded:
    """Run an analysis and record it.

    Args:
        cache: keeps inputs and results.
        name: of the analysis.
        command: the program and its words; what is declared unless given.

    Raises:
        LapidarError: there is nothing to run, it cannot be observed, or it failed; nothing was recorded.
    """
    options, reporter = options or RecordOptions(), reporter or Silent()
    called.checked(name, "an analysis")
    cache.require_writable()
    results.read(place.records)  # what cannot be added to shows before anything runs
    settings = declared(place, name)
    if settings.sweep and not command:
        raise LapidarError(
            f"{name} is run for many values (`for`), each a run of its own",
            remedy=f"lapidar refresh {shlex.quote(name)} runs, and records, those that are out of date.",
        )
    command = tuple(command) or settings.command
    if not command:
        raise LapidarError(
            f"There is no command for the analysis {name}",
            remedy=f"lapidar record {shlex.quote(name)} -- COMMAND, or declare it in lapidar.toml: [analysis].",
        )
    with _recording(place, cache, (settings, command), _ready(place, cache, command, options), options) as recording:
        return recording.kept(recording.run(reporter))


def _ready(
    place: Place, cache: Cache, command: tuple[str, ...], options: RecordOptions
) -> tuple[running.Run, Environment]:
    """A command made ready, and the environment that it runs in."""
    ready = running.prepare(place, command, options.environment, cache=lambda: cache)
    return ready, Environment(Path(os.path.abspath(options.environment or place.environment)))


def noted(
    place: Place, cache: Cache, settings: DeclaredAnalysis, command: tuple[str, ...], options: RecordOptions
) -> tuple[Analysis, Recording]:
    """Run an analysis as `record` does, and keep the run in the cache alone: its record is not written.

    Args:
        settings: what is declared of it, with its values where it is a run of a sweep.

    Raises:
        LapidarError: it cannot be run or observed, or it failed.
    """
    cache.require_writable()
    with _recording(place, cache, (settings, command), _ready(place, cache, command, options), options) as recording:
        return recording.noted(recording.run(Silent())), recording


def unrecorded(
    place: Place,
    cache: Cache,
    command: tuple[str, ...],
    at: tuple[running.Run, Environment],
    options: RecordOptions,
    reporter: Progress,
) -> tuple[Analysis, ObservedRun]:
    """Run a command as `record` does, and write nothing of it: what it read and wrote is in the cache.

    Args:
        at: the command made ready, and the environment that it runs in; restored or not.

    Returns:
        The record that it would have, without an identity (`record` is ""); and what it used.

    Raises:
        LapidarError: it cannot be run or observed, or it failed.
    """
    cache.require_writable()
    with _recording(place, cache, (DeclaredAnalysis(UNNAMED), command), at, options) as recording:
        return recording.run(reporter), recording.used


@contextmanager
def in_copy(
    place: Place, copy: Path, cache: Cache, what: tuple[DeclaredAnalysis, Analysis | None], options: RecordOptions
) -> Iterator[Recording]:
    """A run in a copy of the project, which is recorded as the project's own: `run` it, then write it as `kept`.

    Args:
        copy: has all that it needs; it is written into.
        what: what is declared of the analysis, and what it was recorded as, which says in which folder it ran.
    """
    settings, before = what
    there = replace(place, root=copy)
    folder = copy / (before.folder if before else ".")
    command = running.named_from(folder, settings.command or (before.command if before else ()))
    at, options = _ready(there, cache, command, options), replace(options, folder=folder)
    with _recording(there, cache, (settings, command), at, options, place) as recording:
        recording.is_copy = True
        yield recording


@contextmanager
def _recording(
    place: Place,
    cache: Cache,
    what: tuple[DeclaredAnalysis, tuple[str, ...]],
    at: tuple[running.Run, Environment],
    options: RecordOptions,
    declares: Place | None = None,
) -> Iterator[Recording]:
    """Args: declares: the place that says what holds for all analyses, where it is another (a copy of it runs)."""
    place.make_own_folder()
    sweep(place)
    with cache.in_use(), atomic.WorkFolder(place.own_folder, RECORDING) as work:
        recording = Recording(place, cache, options, *what, *at, Path(work.path))
        recording.declares(declares or place)
        yield recording


def sweep(place: Place) -> None:
    """Remove what recordings and reruns left behind that were killed."""
    for prefix in (RECORDING, RERUN, REFRESH):
        atomic.sweep(place.own_folder, prefix)
