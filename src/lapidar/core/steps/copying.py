"""A copy of a project to run a step in: what it is known to need, or everything that is not too large. Nothing is
linked to the project's own files, for a run may write into what it has."""

from __future__ import annotations

import fcntl
import os
import shutil
from collections.abc import Collection, Iterator
from dataclasses import dataclass
from pathlib import Path

from lapidar.core.languages.source_trees import is_environment
from lapidar.core.place import Place
from lapidar.core.records.results import Analysis
from lapidar.core.results.observing import ignored
from lapidar.core.steps.used import Used, listed_but, names_in

__all__ = ["Copy", "lacking", "lay_out"]

_FICLONE = 0x40049409  # linux/fs.h: share the blocks of one file with another, copy on write
MOST_BYTES = 64_000_000  # of a file that nobody asked for yet


@dataclass(frozen=True, slots=True)
class Copy:
    """What goes into a copy.

    Attributes:
        analysis, used: the step's record and what it stood on.
        is_whole: every file of the project that is not too large.
        besides: paths that are to be in it, however large.
        others: folders in the project that are none of its own: an environment, a cache.
        made: what steps make: of that it has what it reads, and no more.
    """

    place: Place
    analysis: Analysis
    used: Used
    is_whole: bool = False
    besides: Collection[str] = ()
    others: tuple[Path, ...] = ()
    made: Collection[str] = ()

    @property
    def needed(self) -> set[str]:
        """What the run is known to read, to ask about, and to look through."""
        read = {file.name for file in (*self.analysis.source, *self.analysis.input)}
        listed = {
            name if folder == "." else f"{folder}/{name}"
            for folder in self.used.listed
            for name in names_in(self.place, folder) or ()
            if not name.endswith("/")
        }
        own = {file.name for file in self.analysis.result}
        return {*read, *self.used.files, *self.used.present, *self.used.links, *(listed - own), *self.besides}

    def paths(self) -> Iterator[str]:
        """The files of the project that go into it, below its root."""
        needed, own = self.needed, {file.name for file in self.analysis.result}
        root = self.place.root
        for path in sorted(needed):
            if any(os.path.islink(root / one) for one in _above(path)):
                continue  # it is where a link leads, which is there itself
            if os.path.lexists(root / path) and (os.path.islink(root / path) or not os.path.isdir(root / path)):
                yield path
        for path in self._every() if self.is_whole else ():
            is_small = os.lstat(root / path).st_size <= MOST_BYTES
            if path not in needed and path not in own and path not in self.made and is_small:
                yield path

    def _every(self) -> Iterator[str]:
        root = os.path.realpath(self.place.root)
        is_ignored = ignored(self.place, list(self.others))
        for folder, folders, files in os.walk(root):
            folders[:] = self._own(folder, folders)
            links = [name for name in folders if os.path.islink(f"{folder}/{name}")]
            for name in (*files, *links):
                path = f"{folder}/{name}"
                if not is_ignored(path) and (os.path.isfile(path) or os.path.islink(path)):
                    yield path[len(root) + 1 :]

    def _own(self, folder: str, names: list[str]) -> list[str]:
        """The folders in one that are the project's own: no environment, no cache, nothing that nobody looks at."""
        others, is_ignored = {os.path.realpath(one) for one in self.others}, ignored(self.place, list(self.others))
        return [
            name
            for name in names
            if not is_ignored(path := f"{folder}/{name}") and path not in others and not is_environment(Path(path))
        ]

    def folders(self) -> Iterator[str]:
        """The folders that are there although nothing in them may be: what a program writes into."""
        for file in self.analysis.result:
            if (self.place.root / file.name).parent.is_dir():
                yield os.path.dirname(file.name)
        yield self.analysis.folder
        if self.is_whole:
            root = os.path.realpath(self.place.root)
            for folder, folders, _ in os.walk(root):
                folders[:] = self._own(folder, folders)
                yield from (f"{folder}/{name}"[len(root) + 1 :] for name in folders)


def _above(path: str) -> Iterator[str]:
    while path := os.path.dirname(path):
        yield path


def lay_out(what: Copy, into: Path) -> None:
    """Make a copy.

    Args:
        into: an empty folder.
    """
    for path in what.paths():
        target = into / path
        target.parent.mkdir(parents=True, exist_ok=True)
        _copy(what.place.root / path, target, os.path.realpath(what.place.root))
    for folder in what.folders():
        if not os.path.lexists(into / folder):
            (into / folder).mkdir(parents=True, exist_ok=True)


def _copy(source: Path, target: Path, root: str) -> None:
    if source.is_symlink():
        leads = os.path.realpath(source)
        # What leads out of the project leads there from anywhere.
        text = os.readlink(source) if leads.startswith(root + "/") else leads
        if not os.path.lexists(target):
            target.symlink_to(text)
        return
    with source.open("rb") as reading, target.open("wb") as writing:
        try:
            fcntl.ioctl(writing.fileno(), _FICLONE, reading.fileno())
        except OSError:
            shutil.copyfileobj(reading, writing, 1 << 20)
    shutil.copystat(source, target)


def lacking(what: Copy, used: Used) -> set[str]:
    """What a run in a copy looked for and the project has: it is to have it too.

    Args:
        used: what the run stood on.
    """
    own = {file.name for file in what.analysis.result}
    found = {path for path in used.absent if path not in own and os.path.lexists(what.place.root / path)}
    for folder, names in used.listed.items():
        now = names_in(what.place, folder) or ()
        more = listed_but(now, folder, own) - listed_but(names, folder, own)
        found |= {name.rstrip("/") if folder == "." else f"{folder}/{name.rstrip('/')}" for name in more}
    return found
