"""Calls into another snapshot: how long the other side takes to be there, what a small call takes, and a frame of a
gigabyte against writing and reading it as Arrow's stream; of Python, and of R where that is here."""

from __future__ import annotations

import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pandas as pd
import pyarrow

import lapidar

PROGRAM = str(Path(sys.executable).with_name("lapidar"))
TIMES = 9
CALLS = 1000
ROWS = 10_000_000
FIT = "import pandas\ndef rows(frame):\n    return len(frame)\ndef echo(value):\n    return value\n"


def seconds(work: Callable[[], object], times: int = TIMES) -> float:
    """The middle of several runs."""
    found = []
    for _ in range(times):
        began = time.perf_counter()
        work()
        found.append(time.perf_counter() - began)
    return statistics.median(found)


def of_python(folder: Path) -> None:
    """Against this environment, captured."""
    project = folder / "project"
    project.mkdir()
    (project / "fit.py").write_text(FIT)
    os.environ |= {"LAPIDAR_CACHE": str(folder / "cache"), "HOME": str(folder)}
    subprocess.run([PROGRAM, "-q", "capture", sys.prefix, "--scope", "whole"], cwd=project, check=True, stdout=-3)
    lock, cache = project / "lapidar.lock", folder / "cache"
    with lapidar.elsewhere(lock, project=project, cache=cache) as old:
        old.call("fit:rows", [])
    (python,) = (cache / "scripts").glob("*/env/bin/python")
    code = "import fit, sys; sys.stdout.write(str(fit.rows([])))"
    bare = seconds(lambda: subprocess.run([python, "-c", code], cwd=project, check=True, stdout=-3))

    def started() -> None:
        with lapidar.elsewhere(lock, project=project, cache=cache) as old:
            old.call("fit:rows", [])

    ours = seconds(started)
    print(f"start and a first call: {ours:.2f} s, {ours / bare:.2f} x its interpreter with the import (1.1 asked)")
    with lapidar.elsewhere(lock, project=project, cache=cache) as old:
        small = seconds(lambda: [old.call("fit:echo", number) for number in range(CALLS)], 3) / CALLS
        print(f"a small call: {1000 * small:.2f} ms (1 asked)")
        for what, frame in frames():
            size = int(frame.memory_usage(deep=True).sum())
            plain = seconds(lambda frame=frame: stream(frame, folder / "frame"), 3)  # type: ignore[misc]
            there = seconds(lambda frame=frame: old.call("fit:rows", frame), 3)  # type: ignore[misc]
            print(
                f"a frame of {size / 1e9:.1f} GB ({what}): {there:.1f} s, {there / plain:.2f} x writing and reading "
                f"Arrow's stream in {plain:.1f} s (1.5 asked)"
            )


def frames() -> list[tuple[str, pd.DataFrame]]:
    """Of numbers alone, and of several kinds."""
    random = np.random.default_rng(7)
    numbers = pd.DataFrame({f"oxide{at}": random.random(ROWS) for at in range(12)})
    several = pd.DataFrame({f"oxide{at}": random.random(ROWS) for at in range(9)})
    several["count"] = np.arange(ROWS)
    several["kiln"] = pd.Categorical.from_codes(np.arange(ROWS) % 3, ["upper", "river", "old"])
    several["text"] = np.array(["upper", "river", "old kiln"], object)[np.arange(ROWS) % 3]
    return [("numbers", numbers), ("with texts", several)]


def stream(frame: pd.DataFrame, path: Path) -> None:
    """What it is held against."""
    table = pyarrow.Table.from_pandas(frame)
    with pyarrow.OSFile(str(path), "wb") as sink, pyarrow.ipc.new_stream(sink, table.schema) as writer:
        writer.write_table(table)
    with pyarrow.OSFile(str(path), "rb") as source:
        pyarrow.ipc.open_stream(source).read_all().to_pandas()


def of_r(folder: Path) -> None:
    """Against this machine's R, captured."""
    project = folder / "r"
    project.mkdir()
    (project / "fit.R").write_text("echo <- function(value) value\n")
    subprocess.run([PROGRAM, "-q", "capture", "--language", "r"], cwd=project, check=True, stdout=-3)
    with lapidar.elsewhere(project / "lapidar.lock", project=project, cache=folder / "cache") as old:
        old.call("fit.R:echo", 1)
        small = seconds(lambda: [old.call("fit.R:echo", number) for number in range(CALLS)], 3) / CALLS
        print(f"a small call of R: {1000 * small:.2f} ms (1 asked)")
        frame = frames()[1][1]
        there = seconds(lambda: old.call("base:nrow", frame), 1)
        print(f"the frame of several kinds to R: {there:.1f} s")


def main() -> None:
    """Print the figures, and what was asked."""
    with tempfile.TemporaryDirectory(prefix="lapidar-elsewhere-") as name:
        of_python(Path(name))
        if shutil.which("Rscript"):
            of_r(Path(name))


if __name__ == "__main__":
    main()
