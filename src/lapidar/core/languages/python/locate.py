"""Find the Python environment that is meant, and say why it is that one."""

from __future__ import annotations

import os
import shutil
from pathlib import Path

from lapidar.core import foreign
from lapidar.core.environment import marker
from lapidar.core.errors import EnvironmentUnusable
from lapidar.core.languages.protocol import Located
from lapidar.core.place import Place

__all__ = ["locate", "refuse"]

_INTERPRETERS = ("bin/python3", "bin/python")


def locate(place: Place, named: Path | None) -> Located | None:
    """The interpreter that is meant.

    Args:
        place: where `.venv` and `venv` are looked for.
        named: a folder or an interpreter; without it: the active environment, else the project's own, else
            the restored one, else ``python3`` on PATH.

    Raises:
        EnvironmentUnusable: the active environment, or the project's own, has no interpreter.
    """
    if named is not None:
        return _named(Path(os.path.abspath(foreign.expanded(named))))
    active = os.environ.get("VIRTUAL_ENV")
    if active and Path(active).is_dir():
        return Located("python", _in_folder(Path(active)), "the active environment")
    for name in (".venv", "venv"):
        if (place.root / name).is_dir():
            return Located("python", _in_folder(place.root / name), f"the project's own {name}")
    restored = _interpreter(place.environment)
    if restored and marker.read(place.environment):
        return Located("python", restored, "the project's restored environment")
    on_path = shutil.which("python3")
    if on_path:
        why = "the python3 on PATH; no environment is active and the project has none"
        return Located("python", Path(on_path), why, by_chance=True)
    return None


def _named(path: Path) -> Located | None:
    why = "named on the command line"
    if path.is_dir():
        found = _interpreter(path)
        return Located("python", found, why) if found else None
    if not path.exists() or not os.access(path, os.X_OK):
        return None
    # Any program may be meant to be an interpreter of ours; only asking it tells.
    return Located("python", path, why, by_chance=not path.name.startswith("python"))


def _interpreter(folder: Path) -> Path | None:
    return next((folder / name for name in _INTERPRETERS if (folder / name).exists()), None)


def _in_folder(folder: Path) -> Path:
    found = _interpreter(folder)
    if found is None:
        raise _no_environment(folder, "it has no bin/python3 and no bin/python")
    return found


def refuse(place: Place, named: Path | None) -> EnvironmentUnusable:
    """The error for what `locate` finds nothing in."""
    if named is None:
        return EnvironmentUnusable(
            "There is no environment to capture",
            why="none is active, the project has no .venv or venv, and there is no python3 on PATH",
            remedy="Name one: lapidar capture FOLDER.",
        )
    path = Path(os.path.abspath(foreign.expanded(named)))
    if not path.exists():
        return EnvironmentUnusable(f"There is no environment {named}", remedy="Look at the path's spelling.")
    why = "it has no bin/python3 and no bin/python" if path.is_dir() else "it is a file that cannot be executed"
    return _no_environment(named, why)


def _no_environment(named: Path, why: str) -> EnvironmentUnusable:
    return EnvironmentUnusable(
        f"{named} is not an environment", why=why, remedy="Name the folder of an environment, or its interpreter."
    )
