"""Starting: the restored interpreter against the original, the program against a bare one, first imports against
second ones."""

from __future__ import annotations

import shutil
import statistics
import sys

from common import ENVIRONMENT, PROGRAM, Timed, ratio, restored, say, seconds

IMPORTS = "import numpy, pandas, scipy.stats, matplotlib.pyplot"


def main() -> None:
    ratio(
        "lapidar --version",
        Timed([PROGRAM, "--version"]),
        Timed([sys.executable, "-c", "import argparse"]),
        2.5,
        runs=21,
    )
    with restored() as folder:
        environment = folder / "project" / ".lapidar" / "env"
        for options in (["-S"], []):
            command = [*options, "-c", "pass"]
            pairs = [
                (
                    seconds(Timed([environment / "bin/python", *command])),
                    seconds(Timed([ENVIRONMENT / "bin/python", *command])),
                )
                for _ in range(41)
            ]
            extra = 1000 * statistics.median(own - other for own, other in pairs)
            own, other = (1000 * statistics.median(values) for values in zip(*pairs, strict=True))
            name = " ".join(["restored python", *command])
            say(name, f"{own:7.1f} ms against {other:7.1f} ms", extra, 5, "ms")
        _imports(environment)


def _imports(environment) -> None:  # type: ignore[no-untyped-def]
    """Each first import is of an environment placed anew; the font list that Matplotlib makes once a user is kept."""
    import subprocess

    run = Timed([environment / "bin/python", "-c", IMPORTS])
    seconds(run)
    firsts, seconds_times = [], []
    for _ in range(5):
        shutil.rmtree(environment)
        subprocess.run([PROGRAM, "-q", "restore"], cwd=environment.parents[1], check=True, stdout=subprocess.DEVNULL)
        firsts.append(seconds(run))
        seconds_times.append(seconds(run))
    first, second = statistics.median(firsts), statistics.median(seconds_times)
    say("first import against second", f"{first:7.3f} s against {second:7.3f} s", first / second, 1.3)


if __name__ == "__main__":
    main()
