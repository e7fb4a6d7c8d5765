"""The status of every file below a folder: what a quick check goes by.

A module of its own, and a light one, so that the walk can be begun in a second process before the rest of the
program is even loaded.
"""

from __future__ import annotations

import os
from functools import partial
from pathlib import Path

from lapidar.core.parallel import Begun

__all__ = ["Status", "Walking", "begin", "walk"]

_TYPE_AND_EXECUTABLE = 0o170100  # the file's type, and whether its owner may execute it

# Size, modification time in seconds, type and executable bit, inode.
Status = tuple[int, float, int, int]
Walking = Begun[dict[str, Status]]


def walk(top: str) -> dict[str, Status]:
    """The status of everything below a folder by relative path; nothing where there is no such folder. Plain strings
    and tuples: there are tens of thousands."""
    found: dict[str, Status] = {}
    if not os.path.isdir(top):
        return found
    folders = [""]
    while folders:
        prefix = folders.pop()
        with os.scandir(f"{top}/{prefix}") as entries:
            for entry in entries:
                if entry.is_dir(follow_symlinks=False):
                    folders.append(f"{prefix}{entry.name}/")
                else:
                    status = entry.stat(follow_symlinks=False)
                    mode = status.st_mode & _TYPE_AND_EXECUTABLE
                    found[prefix + entry.name] = (status.st_size, status.st_mtime, mode, status.st_ino)
    return found


def begin(environment: Path) -> Walking:
    """Begin the walk of an environment in a second process."""
    return Begun(partial(walk, str(environment)))
