"""A restored environment against the list of what was placed: what is missing, altered, extra."""

from __future__ import annotations

import os
import stat
from collections.abc import Callable, Collection, Mapping
from itertools import repeat
from pathlib import Path
from types import MappingProxyType
from typing import NamedTuple

from lapidar.core import progress
from lapidar.core.cache.digest import sha256_of
from lapidar.core.cache.files import FILE_TIME_SECONDS
from lapidar.core.environment import manifest, marker
from lapidar.core.environment.listing import EXECUTABLE_KINDS, LINK, PlacedRow
from lapidar.core.environment.manifest import Manifest
from lapidar.core.environment.status import Status

__all__ = ["COPIED_SHARE", "Compared", "Passing", "altered_of", "by_bytes", "by_status", "expected", "same_content"]

_OWN_FILES = frozenset({marker.FILE_NAME, manifest.FILE_NAME})
# Below this share of files that are no longer links to the cache, each is a replaced file; above it, the whole
# environment was copied, and that is no finding.
COPIED_SHARE = 0.5


# Whether a path that is on no list is no finding all the same.
Passing = Callable[[str], bool]


class Compared(NamedTuple):
    """What differs: rows of the list, and paths that are not on it."""

    missing: list[PlacedRow]
    altered: list[PlacedRow]
    extra: list[str]


def expected(listed: Manifest) -> dict[str, Status]:
    """The status that every placed file must show; what was copied has no inode to show, nor has a link its size."""
    time = float(FILE_TIME_SECONDS)
    executable = stat.S_IFREG | stat.S_IXUSR
    modes = [executable if kind in EXECUTABLE_KINDS else stat.S_IFREG for kind in listed.listing.kinds]
    inodes = listed.inodes or [0] * len(listed.listing)
    return dict(zip(listed.listing.paths, zip(listed.listing.sizes, repeat(time), modes, inodes), strict=False))


def by_status(
    target: Path, listed: Manifest, found: dict[str, Status], must: dict[str, Status], passing: Passing
) -> Compared:
    """Compare by inode, size, time and kind; no contents are read.

    Args:
        found: the status of everything in the environment.
        must: what it must be, in the order of the list, see `expected`.
        passing: what may be there beside.
    """
    # What is left to look at more closely is little unless all was copied.
    suspects = [at for at, (path, status) in enumerate(must.items()) if found.get(path) != status]
    missing, altered, unlinked = [], [], []
    for row in map(listed.listing.row, suspects):
        path = row[0]
        if path not in found:
            missing.append(row)
        elif not _same_but_inode(f"{target}/{path}", row, must[path], found[path]):
            altered.append(row)
        elif must[path][3]:
            unlinked.append(row)
    if len(unlinked) < COPIED_SHARE * len(listed.inodes):
        altered += unlinked
    extra: list[str] = []
    if len(found) - len(_OWN_FILES & found.keys()) > len(must) - len(
        missing
    ):  # there are others than those found of it
        extra = [path for path in found.keys() - must.keys() if path not in _OWN_FILES and not passing(path)]
    return Compared(missing, altered, extra)


def altered_of(target: Path, listed: Manifest, opened: Collection[str]) -> list[str]:
    """Of files that a run opened, those of an environment that are not as they were placed, by size, time and kind.

    Args:
        opened: absolute paths.
    """
    root = f"{os.path.realpath(target)}/"
    inside = [path[len(root) :] for path in opened if path.startswith(root)]
    must = expected(listed) if inside else {}
    found = []
    for path in inside:
        if path in must:
            status = os.lstat(root + path)
            now = (status.st_size, status.st_mtime, stat.S_IFMT(status.st_mode) | status.st_mode & stat.S_IXUSR)
            if stat.S_ISREG(status.st_mode) and must[path][:3] != now:
                found.append(path)
    return sorted(found)


def _same_but_inode(path: str, row: PlacedRow, must: Status, found: Status) -> bool:
    if row[2] == LINK:
        return stat.S_ISLNK(found[2]) and os.readlink(path) == row[3]
    return found[:3] == must[:3]


def by_bytes(
    target: Path,
    listed: Manifest,
    found: dict[str, Status],
    passing: Passing,
    reporter: progress.Progress,
    read: Mapping[tuple[str, str], int] = MappingProxyType({}),
) -> Compared:
    """Compare by reading every file; times do not matter here.

    Args:
        read: the inodes of cached files that were just read and found right, by digest and kind: what is linked to
            them is right too.
    """
    missing, _, extra = by_status(target, listed, found, expected(listed), passing)
    gone = {row[0] for row in missing}
    altered = []
    with progress.task(reporter, "Reading the environment", listed.listing.total_bytes, "bytes"):
        for row in listed.listing.rows():
            if row[0] not in gone:
                linked = found[row[0]][3] == read.get((row[3], row[2])) and _has_mode(found[row[0]], row)
                if not linked and not same_content(f"{target}/{row[0]}", row):
                    altered.append(row)
                reporter.advance(row[4])
    return Compared(missing, altered, extra)


def _has_mode(status: Status, row: PlacedRow) -> bool:
    """Whether what stands there is a regular file, executable or not as its row has it."""
    return stat.S_ISREG(status[2]) and (status[2] & stat.S_IXUSR != 0) == (row[2] in EXECUTABLE_KINDS)


def same_content(path: str, row: PlacedRow) -> bool:
    """Whether a file or link is what its row says, by reading it."""
    _, _, kind, content, _ = row
    mode = os.lstat(path).st_mode
    if kind == LINK or not stat.S_ISREG(mode):
        return kind == LINK and stat.S_ISLNK(mode) and os.readlink(path) == content
    right_kind = (mode & stat.S_IXUSR != 0) == (kind in EXECUTABLE_KINDS)
    return right_kind and (not content or sha256_of(path) == content)
