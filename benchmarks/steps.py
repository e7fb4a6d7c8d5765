"""Steps: the standing of 1,000 steps with 20,000 files against asking for the status of these files; a refresh with
nothing to do; what a step takes beyond recording it; 200 runs of half a second against a pool of processes."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from lapidar.core.cache.digest import sha256_of
from lapidar.core.cache.store import Cache
from lapidar.core.flows import steps as stepping
from lapidar.core.place import Place
from lapidar.core.records import results
from lapidar.core.records.results import Analysis, RecordedFile, Results

PROGRAM = str(Path(sys.executable).with_name("lapidar"))
STEPS, FILES = 1000, 20
RUNS = 200
NOWHERE = "sha256:" + 64 * "0"


def lapidar(project: Path, *words: str) -> None:
    subprocess.run([PROGRAM, "-q", *words], cwd=project, check=True, stdout=subprocess.DEVNULL)


def standing(folder: Path) -> None:
    """Of many steps, each with files of its own."""
    project = folder / "many"
    project.mkdir()
    analyses = []
    for at in range(STEPS):
        (project / f"d{at}").mkdir()
        files = []
        for number in range(FILES):
            path = f"d{at}/{number}.csv"
            (project / path).write_text(f"{at} {number}\n")
            files.append(RecordedFile(path, sha256_of(str(project / path)), (project / path).stat().st_size))
        one = Analysis(
            name=f"s{at}",
            record="",
            command=("python", "fit.py", str(at)),
            snapshot=NOWHERE,
            numerics="native",
            exit_code=0,
            printed=64 * "0",
            printed_bytes=0,
            given=NOWHERE,
            made=NOWHERE,
            input=tuple(files),
        )
        analyses.append(results.identified(one))
    results.write(Results(analysis=tuple(sorted(analyses, key=lambda one: one.name))), project / "lapidar.results")
    place, cache = Place.of_project(project), Cache(folder / "cache", create=True)
    time.sleep(3)  # what was written just now is not remembered
    stepping.judge(place, cache)
    paths = [f"{project}/d{at}/{number}.csv" for at in range(STEPS) for number in range(FILES)]
    began = time.perf_counter()
    for path in paths:
        os.stat(path)
    bare = time.perf_counter() - began
    began = time.perf_counter()
    judged = stepping.judge(place, cache)
    ours = time.perf_counter() - began
    assert all(step.is_good for step in judged.graph.steps.values())
    print(f"standing of {STEPS:,} steps with {STEPS * FILES:,} files: {ours:.2f} s, {ours / bare:.1f} x stat (3 asked)")


def ready(folder: Path) -> Path:
    """A project with an environment."""
    project = folder / "project"
    project.mkdir()
    subprocess.run([sys.executable, "-m", "venv", "--without-pip", folder / "venv"], check=True)
    lapidar(project, "capture", str(folder / "venv"))
    lapidar(project, "restore")
    return project


def one_step(project: Path) -> None:
    """A refresh with nothing to do; one step, against recording it."""
    (project / "fit.py").write_text('open("out.txt", "w").write(open("in.txt").read())\n')
    (project / "in.txt").write_text("0")
    times: list[float] = []
    for number in range(7):
        (project / "in.txt").write_text(f"record {number}")
        began = time.perf_counter()
        lapidar(project, "record", "fit", "--", "python", "fit.py")
        times.append(time.perf_counter() - began)
    recorded = sorted(times)[3]
    times.clear()
    for number in range(7):
        (project / "in.txt").write_text(f"refresh {number}")
        began = time.perf_counter()
        lapidar(project, "refresh")
        times.append(time.perf_counter() - began)
    refreshed = sorted(times)[3]
    times.clear()
    for _ in range(7):
        began = time.perf_counter()
        lapidar(project, "refresh")
        times.append(time.perf_counter() - began)
    print(f"nothing to do: {sorted(times)[3]:.2f} s (0.5 asked)")
    print(f"a step beyond recording it: {refreshed - recorded:+.2f} s (0.1 asked)")


def sweep(project: Path) -> None:
    """Many runs of half a second."""
    (project / "wait.py").write_text("import sys, time\ntime.sleep(0.5)\nopen(f'fits/{sys.argv[1]}', 'w').write('x')\n")
    (project / "fits").mkdir()
    (project / "lapidar.toml").write_text(
        f'[analysis.wait]\ncommand = "python wait.py {{at}}"\nfor = {{ at = "1..{RUNS}" }}\n'
    )
    python = project / ".lapidar/env/bin/python"

    def run(at: int) -> None:
        subprocess.run([python, "wait.py", str(at)], cwd=project, check=True)

    processors = len(os.sched_getaffinity(0))
    began = time.perf_counter()
    with ThreadPoolExecutor(processors) as pool:
        list(pool.map(run, range(1, RUNS + 1)))
    bare = time.perf_counter() - began
    began = time.perf_counter()
    lapidar(project, "refresh", "wait")
    ours = time.perf_counter() - began
    print(f"{RUNS} runs of 0.5 s on {processors} processors: {ours / bare:.2f} x a pool of processes (1.15 asked)")


def main() -> None:
    folder = Path(tempfile.mkdtemp(prefix="lapidar-steps-"))
    os.environ |= {"LAPIDAR_CACHE": str(folder / "cache"), "HOME": str(folder)}
    try:
        standing(folder)
        project = ready(folder)
        one_step(project)
        sweep(project)
    finally:
        shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    main()
