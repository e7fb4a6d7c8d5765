"""Ask R about itself: one small script, in the project's folder, with whatever a plain start there reads: the libraries
that the project sees are those."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Mapping, Sequence
from pathlib import Path
from urllib.parse import unquote

from msgspec import Struct

from lapidar.core.errors import EnvironmentUnusable
from lapidar.core.languages.r import versions

__all__ = ["OLDEST", "Answer", "ask"]

OLDEST = (3, 5)
_TIMEOUT_SECONDS = 60
_MARK = "lapidar-probe "
_OTHER = "Name another one: lapidar capture FOLDER, or lapidar capture FOLDER/bin/Rscript."


class Answer(Struct, frozen=True):
    """What R says of itself; paths are absolute, links followed.

    Attributes:
        front_end: what was asked.
        build: its revision, and whether that is a release.
        platform: as R calls it: x86_64-pc-linux-gnu.
        home: the folder of R itself.
        share, include, doc: those that a system may have elsewhere.
        own: the library of R's own packages.
        libraries: all that are looked through, in that order, without those that are not there.
        searched: where its launchers have system libraries looked for, before the system's own places.
        warning: what the user should know of the asking; "" where there is nothing.
    """

    front_end: Path
    version: str
    build: str
    platform: str
    home: str
    share: str
    include: str
    doc: str
    own: str
    libraries: tuple[str, ...]
    searched: tuple[str, ...] = ()
    warning: str = ""

    @property
    def short_version(self) -> str:
        """``4.2``"""
        return ".".join(self.version.split(".")[:2])

    @property
    def executable(self) -> str:
        """The compiled program."""
        return f"{self.home}/bin/exec/R"


def ask(front_end: Path, folder: Path | None = None) -> Answer:
    """Run the probe.

    Args:
        front_end: ``R`` or ``Rscript``.
        folder: the project's; its profile, and the user's, may name libraries. None: no profile is read.

    Raises:
        EnvironmentUnusable: it does not start, does not answer, is no R, or is too old.
    """
    warning = ""
    said = _run(front_end, folder)
    found = _lines(said.stdout)
    if "end" not in found and folder is not None:
        first = (said.stderr.strip().splitlines() or ["it said nothing"])[-1]
        warning = f"R does not start with the project's and the user's profile ({first}), and was asked without these"
        said = _run(front_end, None)
        found = _lines(said.stdout)
    if "end" not in found:
        last = (said.stderr.strip().splitlines() or [""])[-1]
        why = f"it ended with exit code {said.returncode}" + (f" and said: {last}" if last else "")
        raise EnvironmentUnusable(f"{front_end} is no R that works", why=why, remedy=_OTHER)
    version = found["version"][0]
    if versions.key(version)[:2] < OLDEST:
        raise EnvironmentUnusable(
            f"{front_end} is R {version}, which is too old",
            why=f"lapidar captures R {OLDEST[0]}.{OLDEST[1]} and newer",
            remedy=_OTHER,
        )
    _require_this_machine(front_end, found["arch"][0])
    real = {name: os.path.realpath(found[name][0]) for name in ("home", "share", "include", "doc", "own")}
    return Answer(
        front_end=front_end,
        version=version,
        build=found["build"][0],
        platform=found["platform"][0],
        libraries=tuple(dict.fromkeys(map(os.path.realpath, found["libraries"]))),
        searched=tuple(_searched(found.get("loader", ()), real["home"])),
        warning=warning,
        **real,
    )


def _require_this_machine(front_end: Path, machine: str) -> None:
    here = os.uname().machine
    if machine != here:
        raise EnvironmentUnusable(
            f"{front_end} is an R for {machine}, and this machine is {here}",
            why="its libraries could not be found here",
            remedy="Capture it on a machine of its own kind.",
        )


def _lines(text: str) -> dict[str, tuple[str, ...]]:
    found: dict[str, tuple[str, ...]] = {}
    for line in text.splitlines():
        if line.startswith(_MARK):
            name, *values = line[len(_MARK) :].rstrip().split(" ")
            found[name] = tuple(map(unquote, values))
    return found


def _searched(values: Sequence[str], home: str) -> list[str]:
    """Folders that the front end adds to the loader's search, and that this process has not."""
    mine = os.environ.get("LD_LIBRARY_PATH", "").split(":")
    folders = [folder for value in values for folder in value.split(":") if folder.startswith("/")]
    return [
        folder
        for folder in dict.fromkeys(folders)
        if folder not in mine and os.path.realpath(folder) != f"{home}/lib" and os.path.isdir(folder)
    ]


def _run(front_end: Path, folder: Path | None) -> subprocess.CompletedProcess[str]:
    script = str(Path(__file__).with_name("_asked.R"))
    profiles = [] if folder else ["--vanilla"]
    words = [str(front_end), *profiles, script]
    if front_end.name == "R":
        words = [str(front_end), "--no-echo", "--no-restore", "--no-save", *profiles, "-f", script]
    try:
        return subprocess.run(
            words,
            stdin=subprocess.DEVNULL,
            capture_output=True,
            text=True,
            errors="replace",
            timeout=_TIMEOUT_SECONDS,
            check=False,
            cwd=folder or "/",
            env=_variables(),
        )
    except subprocess.TimeoutExpired as error:
        raise EnvironmentUnusable(f"{front_end} did not answer within {_TIMEOUT_SECONDS} s", remedy=_OTHER) from error
    except OSError as error:
        raise EnvironmentUnusable(
            f"{front_end} does not start", why=error.strerror or str(error), remedy=_OTHER
        ) from error


def _variables() -> Mapping[str, str]:
    # A session of R inside of which this program may run is not to say which R answers.
    return {name: value for name, value in os.environ.items() if name not in ("R_HOME", "RHOME", "R_ARCH")}
