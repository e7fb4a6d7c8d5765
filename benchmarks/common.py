"""What the benchmarks share: timing whole commands in turn, and saying a ratio against its bar."""

from __future__ import annotations

import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

PROGRAM = str(Path(sys.executable).with_name("lapidar"))
# A virtual environment of at least 20,000 files and 500 MB; `make benchmarks` makes this one.
ENVIRONMENT = Path(os.environ.get("LAPIDAR_BENCHMARK_ENVIRONMENT") or Path(sys.prefix).parent / ".venv-benchmarks")


@dataclass(frozen=True)
class Timed:
    """One way of doing a thing: a command, and what to do before each time."""

    command: Sequence[object]
    prepare: Callable[[], None] = lambda: None
    codes: tuple[int, ...] = (0,)


def seconds(timed: Timed, folder: Path | None = None) -> float:
    timed.prepare()
    began = time.perf_counter()
    done = subprocess.run(list(map(str, timed.command)), cwd=folder, check=False, stdout=subprocess.DEVNULL)
    took = time.perf_counter() - began
    if done.returncode not in timed.codes:
        raise SystemExit(f"{timed.command} ended with exit code {done.returncode}")
    return took


def ratio(name: str, ours: Timed, reference: Timed, bar: float, *, runs: int = 5, folder: Path | None = None) -> float:
    """Time two commands in turn after one warm-up each; print both medians, and the median of the ratios."""
    seconds(reference, folder)
    seconds(ours, folder)
    pairs = [(seconds(ours, folder), seconds(reference, folder)) for _ in range(runs)]
    found = statistics.median(own / other for own, other in pairs)
    own, other = (statistics.median(values) for values in zip(*pairs, strict=True))
    say(name, f"{own:7.3f} s against {other:7.3f} s", found, bar)
    return found


def say(name: str, figures: str, found: float, bar: float, unit: str = "x") -> None:
    verdict = "within" if found <= bar else "OVER"
    print(f"{name:<44} {figures:<32} {found:8.2f} {unit:<2}  bar {bar:g} {unit}  {verdict}", flush=True)


@contextmanager
def workshop() -> Iterator[Path]:
    """A folder with a project and a cache in it, on the disk that the benchmarks run on."""
    folder = Path(tempfile.mkdtemp(prefix="lapidar-benchmark-", dir=os.environ.get("LAPIDAR_BENCHMARK_FOLDER")))
    try:
        (folder / "project").mkdir()
        os.environ["LAPIDAR_CACHE"] = str(folder / "cache")
        yield folder
    finally:
        shutil.rmtree(folder, ignore_errors=True)


@contextmanager
def restored() -> Iterator[Path]:
    """A workshop whose project has the benchmark environment captured and restored."""
    with workshop() as folder:
        for words in (["capture", ENVIRONMENT], ["restore"]):
            subprocess.run(
                [PROGRAM, "-q", *map(str, words)], cwd=folder / "project", check=True, stdout=subprocess.DEVNULL
            )
        yield folder


def drop(*paths: Path) -> Callable[[], None]:
    def now() -> None:
        for path in paths:
            shutil.rmtree(path, ignore_errors=True)

    return now
