"""The project: the folder that holds the analysis, and where Lapidar's things lie in it."""

from __future__ import annotations

import os
from pathlib import Path
from typing import NamedTuple

from lapidar.core.errors import LapidarError

__all__ = ["LOCKFILE_NAME", "Project"]

LOCKFILE_NAME = "lapidar.lock"
_DECLARATION_NAME = "lapidar.toml"
_OWN_FOLDER = ".lapidar"
# Out of version control, but for what makes clones of one project known as such.
_IGNORED = "*\n!.gitignore\n!project.toml\n"


class Project(NamedTuple):
    """A project's root folder.

    Attributes:
        root: absolute.
    """

    root: Path

    @classmethod
    def find(cls, start: Path | None = None) -> Project:
        """The project of a folder: the nearest one at or above the current folder that has a lockfile or a
        declaration, else the current folder. A folder that is named is taken as it is.

        Raises:
            LapidarError: the named folder does not exist.
        """
        if start is not None:
            if not start.is_dir():
                raise LapidarError(f"There is no project folder {start}", remedy="Name one with --project.")
            return cls(start.resolve())
        here = Path.cwd()
        for folder in (here, *here.parents):
            if _is_project(folder):
                return cls(folder)
        return cls(here)

    @property
    def lockfile(self) -> Path:
        return self.root / LOCKFILE_NAME

    @property
    def declaration(self) -> Path:
        """What the project needs, as far as no standard has a place for it."""
        return self.root / _DECLARATION_NAME

    @property
    def own_folder(self) -> Path:
        """Lapidar's folder in the project; not for version control."""
        return self.root / _OWN_FOLDER

    @property
    def environment(self) -> Path:
        """Where `restore` puts the environment unless told otherwise."""
        return self.own_folder / "env"

    def make_own_folder(self) -> None:
        """Make `.lapidar`, which keeps itself out of version control."""
        self.own_folder.mkdir(exist_ok=True)
        ignore = self.own_folder / ".gitignore"
        if not ignore.exists():
            ignore.write_text(_IGNORED, encoding="utf-8")

    def identity(self) -> str:
        """What the project is known by wherever it lies: moved or renamed it keeps it, and its clones have it too. It
        is made where there is none; "" where nothing can be written."""
        path = self.own_folder / "project.toml"
        try:
            return _known(path) or self._new_identity(path)
        except OSError:
            return ""

    def _new_identity(self, path: Path) -> str:
        from lapidar.core import atomic

        self.make_own_folder()
        comment = "# By this the history knows the project and its clones. Commit this file."
        text = f'{comment}\nid = "{os.urandom(16).hex()}"\n'
        atomic.write_file(path, text.encode("utf-8"))
        return _known(path)

    def relative(self, path: Path) -> str | None:
        """A path below the project, POSIX and relative to it ("." for the root); None for one outside."""
        try:
            return path.resolve().relative_to(self.root.resolve()).as_posix()
        except ValueError:
            return None


def _is_project(folder: Path) -> bool:
    """Whether a folder is a project's root. A restored environment has a `lapidar.toml` too, which says something else;
    it knows the list of what was placed."""
    if (folder / LOCKFILE_NAME).is_file():
        return True
    return (folder / _DECLARATION_NAME).is_file() and not (folder / "lib" / "lapidar" / "placed.json").exists()


def _known(path: Path) -> str:
    """The identity that a file holds; "" where it holds none."""
    import tomllib  # most commands ask for no identity

    from lapidar.core import foreign

    try:
        found = foreign.parsed(lambda: tomllib.loads(foreign.read_text(path))).get("id")
    except (FileNotFoundError, ValueError):
        return ""
    return found if isinstance(found, str) else ""
