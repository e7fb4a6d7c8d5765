"""Proving against running again; capturing where one file changed against where nothing did; the first restore after a
capture against compiling the same files (`python -m compileall`)."""

from __future__ import annotations

import shutil
import statistics
import subprocess
import sys

from common import ENVIRONMENT, PROGRAM, Timed, ratio, restored, say, seconds, workshop

COMPUTES = (
    "import json, random\nrandom.seed(2)\njson.dump([random.random() for _ in range(10**6)], open('made.json', 'w'))\n"
)


def proving() -> None:
    with restored() as folder:
        project = folder / "project"
        (project / "fit.py").write_text(COMPUTES)
        subprocess.run([PROGRAM, "-q", "record", "fit", "--", "python", "fit.py"], cwd=project, check=True)
        prove, rerun = (Timed([PROGRAM, "-q", word, "fit"]) for word in ("prove", "rerun"))
        seconds(prove, project)
        more = statistics.median(seconds(prove, project) - seconds(rerun, project) for _ in range(5))
        say("prove of an analysis over rerun of it", "", more, 0.5, "s")


def capturing() -> None:
    with workshop() as folder:
        project, made = folder / "project", folder / "environment"
        shutil.copytree(ENVIRONMENT, made, symlinks=True)
        edited = next(path for path in sorted((made / "lib").rglob("*.py")) if path.stat().st_size > 1000)
        words = [PROGRAM, "-q", "capture", made, "--scope", "whole", "--yes"]
        subprocess.run(list(map(str, words)), cwd=project, check=True)

        def edit() -> None:
            with edited.open("a") as stream:
                stream.write("# edited\n")

        ratio("capture, one file edited, against none", Timed(words, edit), Timed(words), 2.0, folder=project)


def restoring() -> None:
    with restored() as folder:
        project, copy = folder / "project", folder / "sources"
        version = f"python{sys.version_info[0]}.{sys.version_info[1]}"
        shutil.copytree(project / ".lapidar/env/lib" / version, copy, ignore=shutil.ignore_patterns("__pycache__"))

        def forget() -> None:
            for place in (folder / "cache/derived", folder / "cache/assembled", project / ".lapidar"):
                shutil.rmtree(place, ignore_errors=True)

        def clean() -> None:
            for made in [*copy.rglob("__pycache__")]:
                shutil.rmtree(made)

        compiled = Timed([sys.executable, "-m", "compileall", "-q", "-j", "0", copy], clean, (0, 1))
        ours = Timed([PROGRAM, "-q", "restore"], forget)
        ratio("first restore against compileall", ours, compiled, 1.15, runs=2, folder=project)


def main() -> None:
    proving()
    capturing()
    restoring()


if __name__ == "__main__":
    main()
