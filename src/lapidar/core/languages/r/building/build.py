"""Build R packages from their source: ``R CMD INSTALL`` in an environment of its own, at places that are the same on
every machine, so that the same source with the same packages gives the same bytes.

What differs between two ordinary installations of one source is the time of it, the folder of the library and that of
the source (in lazy-load databases, in help, in debug information). All three are fixed here. The folders lie below
the system's folder for temporary files, under a name that follows from the runtime; where that cannot be had another is
taken, and what is built there may differ from what others build."""

from __future__ import annotations

import fcntl
import hashlib
import os
import shutil
import tempfile
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO

from msgspec import Struct

from lapidar.core import atomic, progress
from lapidar.core.cache.files import FILE_TIME_SECONDS
from lapidar.core.cache.store import Cache
from lapidar.core.cache.stowing import FileDraft, stow
from lapidar.core.cache.trees import Tree
from lapidar.core.environment import walk
from lapidar.core.errors import CannotRun, LapidarError, PackageBroken
from lapidar.core.languages import source_trees
from lapidar.core.languages.r import placing
from lapidar.core.languages.r.building import system_needs
from lapidar.core.languages.r.description import Description
from lapidar.core.place import Place
from lapidar.core.records.snapshot import Runtime
from lapidar.core.system import supervision, waking

__all__ = ["BuildFailed", "Builder", "Room", "key", "opened"]

_BUILT = "2001-09-09 01:46:40 UTC"  # the time that all files of the cache have
_LINES_SHOWN = 6
_SECONDS = 3600.0


class BuildFailed(LapidarError):
    """A package could not be built from its source."""


class Room(Struct, frozen=True):
    """Where packages are built: an environment with nothing but R, and folders at fixed places.

    Attributes:
        folder: of all of it.
    """

    folder: Path

    @property
    def environment(self) -> Path:
        return self.folder / "env"

    @property
    def library(self) -> Path:
        """The packages that the one which is built needs, and no others."""
        return self.folder / "library"

    @property
    def made(self) -> Path:
        """The library that it is installed into."""
        return self.folder / "made"

    def source(self, name: str) -> Path:
        """Where its source lies."""
        return self.folder / "source" / name


@contextmanager
def opened(runtime: Runtime) -> Iterator[Room]:
    """A room for one runtime, for this process alone."""
    name = f"lapidar-r-{runtime.tree.removeprefix('sha256:')[:20]}"
    folder = Path(tempfile.gettempdir()) / name
    with _owned(folder) as place:
        try:
            yield Room(place)
        finally:
            atomic.remove(place)


@contextmanager
def _owned(folder: Path) -> Iterator[Path]:
    """A folder of this user's alone, held by a lock beside it; another one where somebody else has that name."""
    held = _locked(folder)
    if held is None:
        with tempfile.TemporaryDirectory(prefix="lapidar-r-") as other:
            yield Path(other)
        return
    with held:
        yield folder


def _locked(folder: Path) -> BinaryIO | None:
    """Make the folder, empty; what is returned holds it. None where it is another user's, or cannot be had."""
    try:
        flags = os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC
        held = os.fdopen(os.open(folder.with_name(f"{folder.name}.lock"), flags, 0o600), "rb+")
    except OSError:
        return None
    try:
        if os.fstat(held.fileno()).st_uid == os.getuid():
            with waking.interruptible():
                fcntl.flock(held, fcntl.LOCK_EX)
            if os.path.lexists(folder):
                atomic.remove(folder)  # of a process that was killed
            folder.mkdir(mode=0o700)
            return held
    except OSError:
        pass
    held.close()
    return None


class Builder:
    """Builds source packages for one runtime.

    Args:
        place: whose own folder keeps the log of a build that failed.
        room: where; the runtime lies in it already.
    """

    def __init__(self, cache: Cache, runtime: Runtime, place: Place, room: Room) -> None:
        self._cache = cache
        self._runtime = runtime
        self._project = place
        self._room = room

    def build(self, source: Path, found: Description, needed: Mapping[str, str], reporter: progress.Progress) -> Tree:
        """Build a package.

        Args:
            source: the folder of its source; it is moved.
            needed: the trees of the packages that it needs, by their names, with what those need.

        Returns:
            The tree of what was installed, in the cache.

        Raises:
            BuildFailed: with the last lines of what the build said, and where the rest is.
        """
        room = self._room
        label = f"{found.name} {found.version}"
        with progress.task(reporter, f"Building {label} from its source", 0, ""):
            self._lay(needed)
            place = room.source(found.name)
            atomic.remove(place.parent)
            place.parent.mkdir()
            shutil.move(source, place)
            _same_times(place)
            log = room.folder / "log"
            self._install(place, log, found, label)
            return self._stowed(found.name, label)

    def _lay(self, needed: Mapping[str, str]) -> None:
        """Empty folders, and the packages that are needed as links to the cache's files, or copies."""
        for folder in (self._room.library, self._room.made, self._room.folder / "tmp"):
            atomic.remove(folder)
            folder.mkdir()
        for name, digest in needed.items():
            for entry in self._cache.tree(digest):
                path = self._room.library / name / entry.path
                path.parent.mkdir(parents=True, exist_ok=True)
                if entry.kind == "l":
                    path.symlink_to(entry.content)
                    continue
                held = self._cache.entry_path(entry)
                try:
                    os.link(held, path)
                except OSError:
                    shutil.copy2(held, path)

    def _install(self, place: Path, log: Path, found: Description, label: str) -> None:
        room = self._room
        words = [
            str(room.environment / "bin" / "R"), "CMD", "INSTALL", f"--built-timestamp={_BUILT}",
            f"--library={room.made}", "--no-lock", str(place),
        ]  # fmt: skip
        try:
            code = supervision.logged(words, self._variables(), log, folder=room.folder, at_most=_SECONDS)
        except CannotRun as error:
            raise self._failed(label, log, found, str(error)) from error
        if code != 0 or not (room.made / found.name / "DESCRIPTION").is_file():
            raise self._failed(label, log, found, f"exit code {code}")

    def _variables(self) -> dict[str, str]:
        room = self._room
        home = room.environment / placing.HOME
        kept = {name: value for name, value in os.environ.items() if not name.startswith(("R_", "LAPIDAR", "LC_"))}
        return {
            **kept,
            "PATH": f"{room.environment}/bin{os.pathsep}{os.environ.get('PATH', os.defpath)}",
            # A start from within: what is said here of libraries holds.
            "LAPIDAR_R": str(home),
            "R_LIBS": str(room.library),
            "R_LIBS_SITE": str(room.library),
            "R_LIBS_USER": str(room.folder / "none"),
            "R_ENVIRON": str(home / "etc" / "Renviron.site"),
            "R_PROFILE": str(home / "etc" / "Rprofile.site"),
            "R_ENVIRON_USER": "",
            "R_PROFILE_USER": "",
            "R_MAKEVARS_USER": os.devnull,
            "HOME": str(room.folder),
            "TMPDIR": str(room.folder / "tmp"),
            # What would make two builds of one source differ.
            "SOURCE_DATE_EPOCH": str(FILE_TIME_SECONDS),
            "TZ": "UTC",
            "LANG": "C.UTF-8",
            "LC_ALL": "C.UTF-8",
        }

    def _stowed(self, name: str, label: str) -> Tree:
        drafts = walk.drafts(walk.walk(str(self._room.made / name))).drafts
        if not any(isinstance(draft, FileDraft) and draft.path == "DESCRIPTION" for draft in drafts):
            raise PackageBroken(f"What was built of {label} has no DESCRIPTION")
        return stow(self._cache, {name: drafts}, None, progress.Silent())[name].tree

    def _failed(self, label: str, log: Path, found: Description, error: str) -> BuildFailed:
        text = log.read_text("utf-8", "replace") if log.exists() else ""
        self._project.make_own_folder()
        kept = self._project.own_folder / f"build-{label.replace(' ', '-')}.log"
        kept.write_text(text or error, "utf-8")
        last = source_trees.telling_lines(text, _LINES_SHOWN) or [error]
        needs = system_needs.told(found)
        return BuildFailed(
            f"{label} could not be built from its source",
            why="\n  ".join(["what it said:", *last, *([needs] if needs else [])]),
            remedy=f"All that it said is in {kept}.",
        )


def _same_times(place: Path) -> None:
    """What is put into a database at installation keeps the times of its files."""
    for folder, _, files in os.walk(place):
        for name in files:
            os.utime(os.path.join(folder, name), (FILE_TIME_SECONDS, FILE_TIME_SECONDS), follow_symlinks=False)


def key(source_sha256: str, runtime: Runtime, needed: Sequence[str]) -> str:
    """Under what the cache keeps what came of a source: with another runtime, or other packages, it is another.

    Args:
        needed: the trees of the packages that it was built with.
    """
    told = " ".join(["built-r", source_sha256, runtime.tree, *sorted(needed)])
    return hashlib.sha256(told.encode()).hexdigest()
