"""Capture on another operating system's root, restore here: python tests/acceptance/captured_elsewhere.py ROOT INTERPRETER

ROOT is a folder with an older system in it (Debian 11 with its python3 and python3-numpy ...), INTERPRETER a path in it.
Lapidar itself is restored into the root, with libraries of its own, and captures there. Lockfile and cache come here,
where the environment is restored; no file of its memory map may lie outside, the numbers must be those of there, and
captured again the lockfile must be the same. Needs root. The last line says N passed, N failed.
"""

from __future__ import annotations

import os
import shutil
import sys
import tempfile
from pathlib import Path

from another_system import NUMBERS, Trial

from roots import run_in


def captured_there(root: Path, interpreter: str, work: Path) -> tuple[Path, Path]:
    """The folders of the project and of the cache, as they were written in the root."""
    own, home = Trial(root, Path(sys.prefix), work), root / "home" / "elsewhere"
    shutil.rmtree(home, ignore_errors=True)
    (home / "project").mkdir(parents=True)
    own.lapidar("capture", sys.prefix, "--scope", "whole")
    own.lapidar("restore", "--into", home / "lapidar")
    there = "/" + str(home.relative_to(root))
    script = (
        f"cd {there}/project && {there}/lapidar/bin/lapidar --cache {there}/cache capture {interpreter} --scope whole"
    )
    print(run_in(root, "/bin/sh", "-c", script).strip().splitlines()[-1])
    return home / "project", home / "cache"


def wrong_here(root: Path, interpreter: str, work: Path) -> list[str]:
    """What went wrong, a sentence each."""
    (work / "own").mkdir()
    project, cache = captured_there(root, interpreter, work / "own")
    (work / "here").mkdir()
    here = Trial(root, work, work / "here")
    here.variables["LAPIDAR_CACHE"] = str(work / "brought")
    shutil.copytree(cache, work / "brought", symlinks=True)
    shutil.copy(project / "lapidar.lock", here.work)
    before = (here.work / "lapidar.lock").read_bytes()
    here.lapidar("restore", "--libraries", "private")
    environment = here.work / ".lapidar" / "env"
    wrong = []
    there = run_in(root, interpreter, "-c", NUMBERS)
    if there != here.lapidar("-q", "run", "python", "-c", NUMBERS):
        wrong.append("the numbers differ")
    live = here.json("check", "--deep", "--live")
    if not live["clean"] or live["live"]["outside"]:
        wrong.append(f"not clean: {live}")
    here.lapidar("capture", environment, "--scope", "whole")
    if (here.work / "lapidar.lock").read_bytes() != before:
        wrong.append("captured again here, the lockfile differs")
    return wrong


def main() -> int:
    root, interpreter = Path(sys.argv[1]).absolute(), sys.argv[2]
    with tempfile.TemporaryDirectory(prefix="lapidar-acceptance-", dir=os.environ.get("TMPDIR")) as work:
        wrong = wrong_here(root, interpreter, Path(work))
    print(f"{interpreter} of {root}, restored here: {'; '.join(wrong) or 'identical, and nothing from outside'}")
    print(f"{1 - bool(wrong)} passed, {int(bool(wrong))} failed")
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
