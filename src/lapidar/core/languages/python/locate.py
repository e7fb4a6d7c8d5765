"""Find the environment that is meant, and say why it is that one."""

from __future__ import annotations

import os
import shutil
from dataclasses import dataclass
from pathlib import Path

from lapidar.core.errors import EnvironmentUnusable
from lapidar.core.project import Project

__all__ = ["Located", "locate"]

_INTERPRETERS = ("bin/python3", "bin/python")


@dataclass(frozen=True, slots=True)
class Located:
    """An interpreter, and the reason why it was taken."""

    interpreter: Path
    why: str


def locate(project: Project, named: Path | None) -> Located:
    """The environment to capture.

    Args:
        project: where `.venv` and `venv` are looked for.
        named: a folder or an interpreter; without it: the active environment, else the project's own, else
            ``python3`` on PATH.

    Raises:
        EnvironmentUnusable: there is none, or what was named is no environment.
    """
    if named is not None:
        return Located(_interpreter_of(named), "named on the command line")
    active = os.environ.get("VIRTUAL_ENV")
    if active and Path(active).is_dir():
        return Located(_interpreter_of(Path(active)), "the active environment")
    for name in (".venv", "venv"):
        if (project.root / name).is_dir():
            return Located(_interpreter_of(project.root / name), f"the project's own {name}")
    found = shutil.which("python3")
    if found:
        return Located(Path(found), "the python3 on PATH; no environment is active and the project has none")
    raise EnvironmentUnusable(
        "There is no environment to capture",
        why="none is active, the project has no .venv or venv, and there is no python3 on PATH",
        remedy="Name one: lapidar capture FOLDER.",
    )


def _interpreter_of(named: Path) -> Path:
    path = Path(os.path.abspath(named.expanduser()))
    if path.is_dir():
        for name in _INTERPRETERS:
            if (path / name).exists():
                return path / name
        raise EnvironmentUnusable(
            f"{named} is not an environment",
            why="it has no bin/python3 and no bin/python",
            remedy="Name the folder of an environment, or its interpreter.",
        )
    if not path.exists():
        raise EnvironmentUnusable(f"There is no environment {named}", remedy="Look at the path's spelling.")
    if not os.access(path, os.X_OK):
        raise EnvironmentUnusable(
            f"{named} is not an environment",
            why="it is a file that cannot be executed",
            remedy="Name the folder of an environment, or its interpreter.",
        )
    return path
