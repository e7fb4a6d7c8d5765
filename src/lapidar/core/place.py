"""A place: needs, the snapshot that answers them, the environment, the records, and the way to the project's files.

The root of a project is one, a single script another. Nothing else knows where a place has its things: whoever wants
one asks the place.
"""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path

from msgspec import Struct

from lapidar.core.errors import LapidarError

__all__ = ["DECLARATION_NAME", "LOCKFILE_NAME", "OWN_FOLDER", "RECORDS_NAME", "Place", "lock_of", "plain_command"]

LOCKFILE_NAME = "lapidar.lock"
RECORDS_NAME = "lapidar.results"
OWN_FOLDER = ".lapidar"
DECLARATION_NAME = "lapidar.toml"
_ENVIRONMENT = "env"
# Out of version control, but for what makes clones of one project known as such.
_IGNORED = "*\n!.gitignore\n!project.toml\n!builds/\n!builds/*.lock\n"
_IGNORED_BEFORE = "*\n!.gitignore\n!project.toml\n"


class Place(Struct, frozen=True):
    """Where the things of a place lie.

    Attributes:
        root: the project's folder, absolute: sources and inputs lie below it, and paths are told relative to it.
        declaration: what is needed, as far as no standard has a file for it.
        lockfile: the snapshot.
        records: what was recorded of its analyses.
        environment: where `restore` puts the environment unless told otherwise.
        own_folder: for Lapidar's own files; not for version control.
        name: what it is called among those of the project; "" for the project's root.
    """

    root: Path
    declaration: Path
    lockfile: Path
    records: Path
    environment: Path
    own_folder: Path
    name: str = ""

    @classmethod
    def of_project(cls, root: Path) -> Place:
        """The root of a project.

        Args:
            root: its folder.
        """
        own = root / OWN_FOLDER
        return cls(root, root / DECLARATION_NAME, root / LOCKFILE_NAME, root / RECORDS_NAME, own / _ENVIRONMENT, own)

    @classmethod
    def find(cls, start: Path | None = None) -> Place:
        """The project of a folder: the nearest one at or above the current folder that has a lockfile or a
        declaration, else the current folder. A folder that is named is taken as it is.

        Raises:
            LapidarError: the named folder does not exist.
        """
        if start is not None:
            if not start.is_dir():
                raise LapidarError(f"There is no project folder {start}", remedy="Name one with --project.")
            return cls.of_project(start.resolve())
        here = Path.cwd()
        for folder in (here, *here.parents):
            if _is_project(folder):
                return cls.of_project(folder)
        return cls.of_project(here)

    @classmethod
    def of_lockfile(cls, lockfile: Path) -> Place:
        """The place whose lockfile lies somewhere, as the history knows it: that of its members as edited, too."""
        folder = lockfile.parent
        return cls.of_project(folder.parent if folder.name == OWN_FOLDER else folder)

    @classmethod
    def of_environment(cls, environment: Path) -> Place | None:
        """The place whose environment lies somewhere; None for a folder that is no place's."""
        inside = environment.parent
        if environment.name == _ENVIRONMENT and inside.name == OWN_FOLDER:
            return cls.of_project(inside.parent.resolve())
        return None

    @property
    def members(self) -> Path:
        """Where it is noted how the folders of its members were (packages of its own)."""
        return self.own_folder / "members.json"

    @property
    def members_snapshot(self) -> Path:
        """The snapshot of an environment whose members are not as the lockfile has them."""
        return self.own_folder / "members.lock"

    @property
    def builds(self) -> Path:
        """The folder of the lockfiles of what its packages are built with; version control has them."""
        return self.own_folder / "builds"

    def make_own_folder(self) -> None:
        """Make Lapidar's folder, which keeps itself out of version control."""
        self.own_folder.mkdir(exist_ok=True)
        ignore = self.own_folder / ".gitignore"
        if not ignore.exists() or ignore.read_text("utf-8", "replace") == _IGNORED_BEFORE:
            ignore.write_text(_IGNORED, encoding="utf-8")

    def require_writable(self) -> None:
        """Say that the project cannot be changed before anything is begun.

        Raises:
            LapidarError: its folder cannot be written.
        """
        import errno

        from lapidar.core.errors import from_os_error

        if not os.access(self.root, os.W_OK):
            read_only = os.statvfs(self.root).f_flag & os.ST_RDONLY
            error = OSError(errno.EROFS if read_only else errno.EACCES, "", str(self.root))
            raise from_os_error(error, "change the project")

    @property
    def has_identity(self) -> bool:
        """Whether it has one already."""
        return self._identity_file.is_file()

    def identity(self) -> str:
        """What the project is known by wherever it lies: moved or renamed it keeps it, and its clones have it too. It
        is made where there is none; "" where nothing can be written."""
        try:
            return _known(self._identity_file) or self._new_identity()
        except OSError:
            return ""

    @property
    def _identity_file(self) -> Path:
        return self.own_folder / "project.toml"

    def _new_identity(self) -> str:
        from lapidar.core import atomic

        self.make_own_folder()
        comment = "# By this the history knows the project and its clones. Commit this file."
        text = f'{comment}\nid = "{os.urandom(16).hex()}"\n'
        atomic.write_file(self._identity_file, text.encode("utf-8"))
        return _known(self._identity_file)

    def relative(self, path: Path) -> str | None:
        """A path below the project, POSIX and relative to it ("." for the root); None for one outside."""
        try:
            return path.resolve().relative_to(self.root.resolve()).as_posix()
        except ValueError:
            return None


def plain_command(command: Sequence[str], root: Path, folder: Path) -> tuple[str, ...]:
    """A command without a project's own place in it: paths below it are as seen from the folder that it runs in."""
    start = f"{root}/"
    return tuple(os.path.relpath(word, folder) if word.startswith(start) else word for word in command)


def lock_of(script: Path) -> Path:
    """The lockfile beside a script that states its needs."""
    return script.with_name(f"{script.name}.lapidar.lock")


def _is_project(folder: Path) -> bool:
    """Whether a folder is a project's root. A restored environment has a `lapidar.toml` too, which says something else;
    it knows the list of what was placed."""
    if (folder / LOCKFILE_NAME).is_file():
        return True
    return (folder / DECLARATION_NAME).is_file() and not (folder / "lib" / "lapidar" / "placed.json").exists()


def _known(path: Path) -> str:
    """The identity that a file holds; "" where it holds none."""
    import tomllib  # most commands ask for no identity

    from lapidar.core import foreign

    try:
        found = foreign.parsed(lambda: tomllib.loads(foreign.read_text(path))).get("id")
    except (FileNotFoundError, ValueError):
        return ""
    return found if isinstance(found, str) else ""
