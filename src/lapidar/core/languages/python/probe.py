"""Ask an interpreter about itself: one small script, run isolated, standard library only."""

from __future__ import annotations

import json
import subprocess
from pathlib import Path
from typing import Annotated, Any

import msgspec

from lapidar.core import decoding
from lapidar.core.errors import EnvironmentUnusable

__all__ = ["OLDEST", "Answer", "ask"]

OLDEST = (3, 9)
_TIMEOUT_SECONDS = 60
_MARK = "lapidar-probe "


class Answer(msgspec.Struct, frozen=True):
    """What an interpreter says of itself; paths are absolute and as it gives them.

    Attributes:
        executable, base_executable: `sys.executable`, and that of the runtime below a virtual environment.
        process: the file that the kernel executes.
        path: `sys.path`.
        stdlib: the folders of the standard library (often the same twice).
        libpython: the shared libraries of the runtime itself that are mapped.
        site_folders: where this runtime looks for packages, with "@" for its prefix.
        user_folder: the user's folder of packages, where a plain start of this interpreter uses it.
        markers: the environment markers (Dependency specifiers specification).
    """

    python: Annotated[list[int], msgspec.Meta(min_length=3, max_length=3)]
    implementation: str
    version: str
    build: str
    executable: str
    base_executable: str
    process: str
    prefix: str
    base_prefix: str
    path: list[str]
    stdlib: list[str]
    headers: str
    multiarch: str
    libpython: list[str]
    site_folders: list[str]
    user_folder: str | None
    libc: str
    markers: dict[str, str]

    @property
    def short_version(self) -> str:
        """``3.11``"""
        return f"{self.python[0]}.{self.python[1]}"


def ask(interpreter: Path) -> Answer:
    """Run the probe.

    Args:
        interpreter: the interpreter to ask.

    Raises:
        EnvironmentUnusable: it does not start, does not answer, is no Python, or is too old.
    """
    said = _run(interpreter)
    lines = [line for line in said.stdout.splitlines() if line.startswith(_MARK)]
    if not lines:
        last = (said.stderr.strip().splitlines() or [""])[-1]
        why = f"it ended with exit code {said.returncode}" + (f" and said: {last}" if last else "")
        raise EnvironmentUnusable(f"{interpreter} is not a Python interpreter that works", why=why, remedy=_OTHER)
    answer: dict[str, Any] = json.loads(lines[-1][len(_MARK) :])
    version = tuple(answer["python"])
    if version[:2] < OLDEST:
        raise EnvironmentUnusable(
            f"{interpreter} is Python {'.'.join(map(str, version))}, which is too old",
            why=f"lapidar captures Python {OLDEST[0]}.{OLDEST[1]} and newer",
            remedy=_OTHER,
        )
    found = decoding.convert(answer, Answer)
    if found.implementation != "cpython":
        raise EnvironmentUnusable(
            f"{interpreter} is {found.implementation}", why="lapidar captures CPython", remedy=_OTHER
        )
    return found


_OTHER = "Name another environment: lapidar capture FOLDER, or lapidar capture FOLDER/bin/python."


def _run(interpreter: Path) -> subprocess.CompletedProcess[str]:
    script = Path(__file__).with_name("_asked.py").read_text("utf-8")
    try:
        return subprocess.run(
            # -I: no variable and no folder of the user leaks in; -B: nothing is written there.
            [str(interpreter), "-I", "-B", "-c", script],
            stdin=subprocess.DEVNULL,
            capture_output=True,
            text=True,
            errors="replace",
            timeout=_TIMEOUT_SECONDS,
            check=False,
        )
    except subprocess.TimeoutExpired as error:
        raise EnvironmentUnusable(f"{interpreter} did not answer within {_TIMEOUT_SECONDS} s", remedy=_OTHER) from error
    except OSError as error:
        raise EnvironmentUnusable(
            f"{interpreter} does not start", why=error.strerror or str(error), remedy=_OTHER
        ) from error
