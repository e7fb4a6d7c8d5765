"""The demo's steps: lay out the sample project, capture, restore, analyse twice, compare byte for byte.

Each step is the program itself, run as the user would type it.
"""

from __future__ import annotations

import hashlib
import importlib.util
import os
import shlex
import subprocess
import sys
from collections.abc import Callable
from dataclasses import dataclass
from importlib import resources
from pathlib import Path

from lapidar.core.errors import LapidarError, TargetRefused

__all__ = ["Compared", "Story", "Teller"]

_NEEDS = ("numpy", "scipy", "pandas", "matplotlib")
_FILES = ("sherds.csv", "analysis.py", "README.md")
RESULTS = ("scores.csv", "summary.json", "sherds.png")

Teller = Callable[[str, str], None]  # kind ("say", "type"), text


@dataclass(frozen=True, slots=True)
class Compared:
    """One result file of both runs. Digests are sha256 in hex; sizes in bytes."""

    name: str
    bytes: int
    before: str
    after: str

    @property
    def identical(self) -> bool:
        return self.before == self.after


class Story:
    """The demo in a folder of its own, with a cache of its own.

    Args:
        folder: made if it is missing.
        tell: called with what to say, and with each command as the user would type it.
        quiet: keep the output of the commands back.
    """

    def __init__(self, folder: Path, tell: Teller, *, quiet: bool) -> None:
        self.folder = folder
        self.project = folder / "sherds"
        self.tell = tell
        self.quiet = quiet

    def run(self) -> list[Compared]:
        """Tell it.

        Raises:
            LapidarError: a step failed, or the packages of the analysis are not there.
        """
        self._require_packages()
        self.tell(
            "say",
            "A project: the glaze chemistry of 204 sherds from unknown kilns, and its analysis, as it runs today.",
        )
        self._lay_out()
        here = os.path.relpath(self.project)
        self.tell("type", f"cd {shlex.quote(here)}; export LAPIDAR_CACHE=../cache")
        self._run([sys.executable, "analysis.py", "results-today"], shown="python analysis.py results-today")
        self.tell(
            "say", "Capture the environment it ran in (lapidar's own): its runtime and its packages, byte for byte."
        )
        self._lapidar("capture", os.path.relpath(sys.prefix, self.project))
        self.tell("say", "Years later, on another machine: build it again, from the lockfile and the cache alone.")
        self._lapidar("restore", "--into", "../restored")
        self.tell("say", "Is everything what the lockfile stands for? This reads every byte.")
        self._lapidar("check", "--env", "../restored", "--deep")
        self.tell("say", "The analysis again, in the restored environment:")
        self._lapidar("run", "--env", "../restored", "python", "analysis.py", "results-later")
        self.tell("say", "And the results, byte for byte:")
        return [self._compare(name) for name in RESULTS]

    def _require_packages(self) -> None:
        missing = [name for name in _NEEDS if importlib.util.find_spec(name) is None]
        if missing:
            raise LapidarError(
                f"The sample analysis needs {', '.join(missing)}, which lapidar's own environment does not have",
                remedy="Install lapidar with its demo extra (lapidar[demo]), or run `make demo` in its source folder.",
            )

    def _lay_out(self) -> None:
        if self.folder.exists() and any(self.folder.iterdir()) and not (self.project / "analysis.py").is_file():
            raise TargetRefused(
                f"{self.folder} is not empty, and not from an earlier demo", remedy="Name another folder with --into."
            )
        self.project.mkdir(parents=True, exist_ok=True)
        sources = resources.files("lapidar.demo").joinpath("sherds")
        for name in _FILES:
            (self.project / name).write_bytes(sources.joinpath(name).read_bytes())

    def _lapidar(self, *words: str) -> None:
        self._run([sys.executable, "-m", "lapidar", *words], shown=shlex.join(["lapidar", *words]))

    def _run(self, command: list[str], shown: str = "") -> None:
        if shown:
            self.tell("type", shown)
        sys.stdout.flush()
        variables = {**os.environ, "LAPIDAR_CACHE": "../cache"}
        done = subprocess.run(
            command,
            cwd=self.project,
            env=variables,
            check=False,
            stdout=subprocess.DEVNULL if self.quiet else None,
        )
        if done.returncode != 0:
            raise LapidarError(
                f"A step of the demo failed with exit code {done.returncode}",
                why=shlex.join(command),
                remedy=f"Look at {self.folder}, or run the step by hand.",
            )

    def _compare(self, name: str) -> Compared:
        before = (self.project / "results-today" / name).read_bytes()
        after = (self.project / "results-later" / name).read_bytes()
        return Compared(name, len(before), hashlib.sha256(before).hexdigest(), hashlib.sha256(after).hexdigest())
