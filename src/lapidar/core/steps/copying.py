"""A copy of a project to run a step in: what it is known to need, or everything that is not too large. Nothing is
linked to the project's own files, for a run may write into what it has."""

from __future__ import annotations

import os
import shutil
from collections.abc import Collection
from pathlib import Path

from msgspec import Struct

from lapidar.core.cache.placing import copy_or_share
from lapidar.core.languages.source_trees import is_environment
from lapidar.core.place import Place
from lapidar.core.records.results import Analysis
from lapidar.core.results.observing import ignored
from lapidar.core.steps.attempts import kept_of
from lapidar.core.steps.graph import Step
from lapidar.core.steps.standing import of_same_files
from lapidar.core.steps.used import Used, above, joined, listed_but, names_in

__all__ = ["Copy", "lacking", "lay_out", "of_step"]

MOST_BYTES = 64_000_000  # of a file that nobody asked for yet


class Copy(Struct, frozen=True):
    """What goes into a copy.

    Attributes:
        analysis, used: the step's record and what it stood on.
        is_whole: every file of the project that is not too large.
        besides: paths that are to be in it, however large.
        others: folders in the project that are none of its own: an environment, a cache.
        keep: patterns of files that are the step's own state: of those it has what it read.
        made: what steps make: of that it has what it reads, and no more.
    """

    place: Place
    analysis: Analysis
    used: Used
    is_whole: bool = False
    besides: Collection[str] = ()
    others: tuple[Path, ...] = ()
    made: frozenset[str] = frozenset()
    keep: tuple[str, ...] = ()

    @property
    def needed(self) -> set[str]:
        """What the run is known to read, to ask about, and to look through."""
        read = {file.name for file in (*self.analysis.source, *self.analysis.input)}
        listed = {
            joined(folder, name)
            for folder in self.used.listed
            for name in names_in(self.place, folder) or ()
            if not name.endswith("/")
        }
        own = {file.name for file in self.analysis.result} | kept_of(listed - read, self.keep)
        return {*read, *self.used.files, *self.used.present, *self.used.links, *(listed - own), *self.besides}

    def contents(self) -> tuple[list[str], list[str]]:
        """The files of the project that go into it, and the folders that are there although nothing in them may be:
        what a program writes into. Both below its root."""
        needed, root = self.needed, self.place.root
        # Where a link leads is there itself.
        plain = (path for path in sorted(needed) if not any(os.path.islink(root / one) for one in above(path)))
        files = [path for path in plain if os.path.islink(root / path) or os.path.isfile(root / path)]
        places = (os.path.dirname(file.name) for file in self.analysis.result)
        folders = [*(one for one in places if (root / one).is_dir()), self.analysis.folder]
        if self.is_whole:
            every, more = self._every()
            left = needed | self.made | {file.name for file in self.analysis.result}
            left |= kept_of(every, self.keep)
            files += [path for path in every if path not in left and os.lstat(root / path).st_size <= MOST_BYTES]
            folders += more
        return files, folders

    def _every(self) -> tuple[list[str], list[str]]:
        """All files and folders of the project, less environments and caches in it, and what nobody looks at."""
        root, others = os.path.realpath(self.place.root), {os.path.realpath(one) for one in self.others}
        is_ignored = ignored(self.place, list(self.others))
        files: list[str] = []
        found: list[str] = []
        for folder, folders, names in os.walk(root):
            paths = {name: f"{folder}/{name}" for name in (*folders, *names)}
            folders[:] = [
                name
                for name in folders
                if not (is_ignored(paths[name]) or paths[name] in others or is_environment(Path(paths[name])))
            ]
            links = (name for name in folders if os.path.islink(paths[name]))
            wanted = (paths[name] for name in (*names, *links) if not is_ignored(paths[name]))
            files += [path[len(root) + 1 :] for path in wanted if os.path.isfile(path) or os.path.islink(path)]
            found += [paths[name][len(root) + 1 :] for name in folders]
        return files, found


def of_step(place: Place, step: Step, analysis: Analysis, others: tuple[Path, ...], made: frozenset[str]) -> Copy:
    """The copy that a step is run in.

    Args:
        analysis: its record, or what stands for one where it never ran.
        others, made: see `Copy`.
    """
    is_whole = step.analysis is None or step.used.is_whole or not of_same_files(step.reasons)
    return Copy(
        place,
        analysis,
        step.used,
        is_whole,
        others=others,
        made=made if step.analysis else frozenset(),
        keep=step.declared.keep,
    )


def lay_out(what: Copy, into: Path) -> None:
    """Make a copy.

    Args:
        into: an empty folder.
    """
    files, folders = what.contents()
    for path in files:
        target = into / path
        target.parent.mkdir(parents=True, exist_ok=True)
        _copy(what.place.root / path, target, os.path.realpath(what.place.root))
    for folder in folders:
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
        copy_or_share(reading.fileno(), writing.fileno())
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
        found |= {joined(folder, name.rstrip("/")) for name in more}
    return found
