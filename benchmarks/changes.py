"""History, changes, a return and the trials of a culprit, with 300 packages of which 100 change."""

from __future__ import annotations

import json
import os
import shutil
import statistics
import subprocess
from pathlib import Path

from common import PROGRAM, Timed, drop, ratio, say, seconds, workshop
from lapidar.standin.packages import write_wheel

PACKAGES, CHANGED, SNAPSHOTS = 300, 100, 50


def main() -> None:
    with workshop() as folder:
        project, wheels = folder / "project", folder / "wheels"
        wheels.mkdir()
        os.environ["LAPIDAR_INDEX"] = str(wheels)
        first, last = history(project, wheels)
        for name, bar, words in (
            ("history, 50 snapshots of 300 packages", 0.3, ["history"]),
            ("changes, 100 of 300 packages", 0.3, ["changes", first, last]),
            ("changes --files of one of them", 1.0, ["changes", first, last, "--files", "slip000"]),
        ):
            took = statistics.median(seconds(Timed([PROGRAM, *words]), project) for _ in range(7))
            say(name, f"{took:7.3f} s", took, bar, "s")
        copy = folder / "copy"
        lapidar(project, "return", first)
        ratio(
            "return, against rm -r and cp -al",
            Timed([PROGRAM, "return", "--yes"]),  # the one before, each time
            Timed(["sh", "-c", f"rm -rf {copy}; cp -al {project}/.lapidar/env {copy}"]),
            1.5,
            folder=project,
        )
        trials(project, first, last)


def history(project: Path, wheels: Path) -> tuple[str, str]:
    """Pin it again and again, a package more or less each time; the first and the last snapshot."""
    names = [f"slip{number:03}" for number in range(PACKAGES)]
    for name in names:
        write_wheel(wheels, name, "1.0", {f"{name}.py": "X = 1\n"})
    needs = ", ".join(f'"{name}"' for name in names)
    (project / "lapidar.toml").write_text(f"[needs]\npackages = [{needs}]\n")
    lapidar(project, "pin")
    first = snapshots(project)[0]
    for name in names[:CHANGED]:
        write_wheel(wheels, name, "2.0", {f"{name}.py": "X = 2\n"})
    each = CHANGED // SNAPSHOTS
    for at in range(0, CHANGED, each):
        lapidar(project, "pin", "--renew", *names[at : at + each])
    lapidar(project, "restore")
    return first, snapshots(project)[0]


def trials(project: Path, first: str, last: str) -> None:
    """A trial of the search, against a restore by hard links and the command itself."""
    judge = project / "judge.py"
    judge.write_text("import sys, slip037\nsys.exit(slip037.X == 2)\n")
    words = [PROGRAM, "culprit", "--json", "--good", first, "--bad", last, "--", "python", "judge.py"]
    found = json.loads(subprocess.run(words, cwd=project, check=True, capture_output=True).stdout)
    took = statistics.median(trial["seconds"] for trial in found["trials"])
    into = project / "again"
    restoring = [PROGRAM, "-q", "restore", "--placement", "link", "--into", into]
    alone = statistics.median(seconds(Timed(restoring, drop(into)), project) for _ in range(5))
    command = Timed([into / "bin" / "python", "judge.py"], codes=(0, 1))
    both = alone + statistics.median(seconds(command, project) for _ in range(5))
    shutil.rmtree(into)
    say("a trial of culprit", f"{took:7.3f} s against {both:7.3f} s", took / both, 1.3)


def snapshots(project: Path) -> list[str]:
    """Of the history, the newest first."""
    done = subprocess.run([PROGRAM, "history", "--json"], cwd=project, check=True, capture_output=True)
    return [one["snapshot"][7:19] for one in json.loads(done.stdout)]


def lapidar(project: Path, *words: str) -> None:
    subprocess.run([PROGRAM, "-q", *words], cwd=project, check=True, stdout=subprocess.DEVNULL)


if __name__ == "__main__":
    main()
