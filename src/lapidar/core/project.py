"""The project: the folder that holds the analysis, and where Lapidar's things lie in it."""

from __future__ import annotations

from pathlib import Path
from typing import NamedTuple

from lapidar.core.errors import LapidarError

__all__ = ["LOCKFILE_NAME", "Project"]

LOCKFILE_NAME = "lapidar.lock"
_MARKS = (LOCKFILE_NAME, "lapidar.toml")


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
            if any((folder / mark).is_file() for mark in _MARKS):
                return cls(folder)
        return cls(here)

    @property
    def lockfile(self) -> Path:
        return self.root / LOCKFILE_NAME

    @property
    def declaration(self) -> Path:
        """What the project needs, as far as no standard has a place for it."""
        return self.root / "lapidar.toml"

    @property
    def own_folder(self) -> Path:
        """Lapidar's folder in the project; not for version control."""
        return self.root / ".lapidar"

    @property
    def environment(self) -> Path:
        """Where `restore` puts the environment unless told otherwise."""
        return self.own_folder / "env"

    def make_own_folder(self) -> None:
        """Make `.lapidar`, which keeps itself out of version control."""
        self.own_folder.mkdir(exist_ok=True)
        ignore = self.own_folder / ".gitignore"
        if not ignore.exists():
            ignore.write_text("*\n", encoding="utf-8")

    def relative(self, path: Path) -> str | None:
        """A path below the project, POSIX and relative to it ("." for the root); None for one outside."""
        try:
            return path.resolve().relative_to(self.root.resolve()).as_posix()
        except ValueError:
            return None
