"""Find the R that is meant, and say why it is that one."""

from __future__ import annotations

import os
import shutil
from pathlib import Path

from lapidar.core import foreign
from lapidar.core.environment import marker
from lapidar.core.environment.folder import Environment
from lapidar.core.errors import EnvironmentUnusable
from lapidar.core.languages.protocol import Located
from lapidar.core.place import Place

__all__ = ["locate", "refuse"]

_FRONT_ENDS = ("bin/Rscript", "bin/R")
_NAMES = ("R", "Rscript")


def locate(place: Place, named: Path | None) -> Located | None:
    """The R that is meant.

    Args:
        named: a folder or a front end; without it: that of the active restored environment, else of the project's own,
            else the ``Rscript`` on PATH.
    """
    if named is not None:
        return _named(Path(os.path.abspath(foreign.expanded(named))))
    active = os.environ.get("VIRTUAL_ENV")
    for folder, why in (
        (Path(active) if active else None, "the active environment"),
        (place.environment, "the project's restored environment"),
    ):
        if folder is not None and marker.read(folder) and Environment(folder).executable("r"):
            found = _in_folder(folder)
            if found:
                return Located("r", found, why)
    on_path = shutil.which("Rscript") or shutil.which("R")
    if on_path is None:
        return None
    return Located("r", Path(on_path), f"the {os.path.basename(on_path)} on PATH", by_chance=True)


def _named(path: Path) -> Located | None:
    why = "named on the command line"
    if path.is_dir():
        found = _in_folder(path)
        return Located("r", found, why) if found else None
    if path.name in _NAMES and path.is_file() and os.access(path, os.X_OK):
        return Located("r", path, why)
    return None


def _in_folder(folder: Path) -> Path | None:
    return next((folder / name for name in _FRONT_ENDS if (folder / name).is_file()), None)


def refuse(place: Place, named: Path | None) -> EnvironmentUnusable:
    """The error for what `locate` finds nothing in."""
    where = f"{named} has" if named else "This machine has"
    return EnvironmentUnusable(
        f"{where} no R", why="there is no bin/Rscript and no bin/R", remedy="Name the folder of one, or its Rscript."
    )
