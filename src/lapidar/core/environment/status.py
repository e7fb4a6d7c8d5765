"""The status of every file below a folder: what a quick check goes by.

A module of its own, and a light one, so that the walk can be begun in a second process before the rest of the
program is even loaded.
"""

from __future__ import annotations

import os
from collections.abc import Callable
from functools import partial
from pathlib import Path
from zlib import crc32

from lapidar.core.parallel import Begun

__all__ = ["Status", "Walking"]

_TYPE_AND_EXECUTABLE = 0o170100  # the file's type, and whether its owner may execute it

_SHARED_DEPTH = 4  # the folders of the packages lie so deep: there are enough of them to share the work out
_MOST = 3  # processes beside the first
_OURS = 6  # of so many equal shares the first process, which has other things to do, takes one

# Size, modification time in seconds, type and executable bit, inode.
Status = tuple[int, float, int, int]


def _level(top: str, folders: list[str], found: dict[str, Status]) -> list[str]:
    """Add the status of what lies in some folders; gives the folders in them. Plain strings and tuples: there are
    tens of thousands. What is taken away meanwhile, as by another restore that puts its own in place, is not there."""
    below = []
    for prefix in folders:
        # Listed by a descriptor, names are looked up in their folder and not from the root down.
        try:
            folder = os.open(f"{top}/{prefix}", os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        except FileNotFoundError:
            continue
        try:
            with os.scandir(folder) as entries:
                for entry in entries:
                    if entry.is_dir(follow_symlinks=False):
                        below.append(f"{prefix}{entry.name}/")
                        continue
                    try:
                        status = entry.stat(follow_symlinks=False)
                    except FileNotFoundError:
                        continue
                    mode = status.st_mode & _TYPE_AND_EXECUTABLE
                    found[prefix + entry.name] = (status.st_size, status.st_mtime, mode, status.st_ino)
        finally:
            os.close(folder)
    return below


def _share(top: str, mine: Callable[[int], bool]) -> dict[str, Status]:
    """A share of a walk. Which folder belongs to which follows from its name alone, so that all agree whatever
    happens in the environment meanwhile; what lies above is in all of them.

    Args:
        mine: whether folders of this number belong to the share.
    """
    found: dict[str, Status] = {}
    folders = [""] if os.path.isdir(top) else []
    for _ in range(_SHARED_DEPTH):
        folders = _level(top, folders, found)
    folders = [folder for folder in folders if mine(crc32(os.fsencode(folder)))]
    while folders:
        folders = _level(top, folders, found)
    return found


class Walking:
    """The walk of an environment, most of it in other processes from now on.

    Args:
        environment: its folder.
    """

    def __init__(self, environment: Path) -> None:
        self._top = str(environment)
        others = max(1, min(_MOST, (os.cpu_count() or 1) - 1))

        def belongs(other: int, number: int) -> bool:
            return bool(number % _OURS) and number // _OURS % others == other

        self._begun = [Begun(partial(_share, self._top, partial(belongs, other))) for other in range(others)]

    def result(self) -> dict[str, Status]:
        """Walk the rest and wait for what was begun."""
        ours = _share(self._top, lambda number: not number % _OURS)
        found, *others = (begun.result() for begun in self._begun)
        for share in (*others, ours):
            found |= share
        return found

    def drop(self) -> None:
        """The result is not wanted any more."""
        for begun in self._begun:
            begun.drop()
