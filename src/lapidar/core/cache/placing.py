"""Placement: how files get from the cache into an environment, with shared blocks, hard-linked or copied."""

from __future__ import annotations

import enum
import errno
import fcntl
import os
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import NamedTuple

from lapidar.core import atomic
from lapidar.core.cache.files import FILE_TIME_NS
from lapidar.core.cache.store import Cache
from lapidar.core.errors import TargetRefused

__all__ = ["Between", "Placement", "Way", "between", "choose", "copy_or_share", "way"]

_FICLONE = 0x40049409  # linux/fs.h: share the blocks of one file with another, copy on write


class Placement(enum.StrEnum):
    """The kinds of placement; `AUTO` is the first of the others that works."""

    AUTO = "auto"
    SHARE = "share"
    LINK = "link"
    COPY = "copy"


class Between(NamedTuple):
    """The two folders that files are placed between, as open descriptors: paths below them are short for the kernel
    to walk, which is a quarter of what placing a link takes.

    Attributes:
        source: the files of the cache.
        target: the environment.
    """

    source: int
    target: int


@contextmanager
def between(cache: Cache, environment: Path) -> Iterator[Between]:
    """The cache's files and an environment, opened."""
    flags = os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC
    source = os.open(cache.files, flags)
    try:
        target = os.open(environment, flags)
        try:
            yield Between(source, target)
        finally:
            os.close(target)
    finally:
        os.close(source)


# The folders, the path of the bytes, the path of the new file, whether it is executable
# -> whether the new file is the cache's own (a hard link).
Way = Callable[[Between, str, str, bool], bool]


def _hardlink(between: Between, source: str, target: str, executable: bool) -> bool:
    os.link(source, target, src_dir_fd=between.source, dst_dir_fd=between.target)
    return True


def _hardlink_or_copy(between: Between, source: str, target: str, executable: bool) -> bool:
    """A file system allows so many links to one file (65,000 on ext4): the empty file reaches that."""
    try:
        return _hardlink(between, source, target, executable)
    except OSError as error:
        if error.errno != errno.EMLINK:
            raise
    return _copy(between, source, target, executable)


def _clone(between: Between, source: str, target: str, executable: bool) -> bool:
    return _anew(between, source, target, executable, lambda reading, writing: fcntl.ioctl(writing, _FICLONE, reading))


def _copy(between: Between, source: str, target: str, executable: bool) -> bool:
    return _anew(between, source, target, executable, _copy_bytes)


def _anew(between: Between, source: str, target: str, executable: bool, fill: Callable[[int, int], object]) -> bool:
    """A new file with the bytes of another, and the time that all of the cache's files have."""
    reading = os.open(source, os.O_RDONLY | os.O_CLOEXEC, dir_fd=between.source)
    try:
        flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC
        writing = os.open(target, flags, 0o777 if executable else 0o666, dir_fd=between.target)
        try:
            fill(reading, writing)
            os.utime(writing, ns=(FILE_TIME_NS, FILE_TIME_NS))
        finally:
            os.close(writing)
    finally:
        os.close(reading)
    return False


def copy_or_share(reading: int, writing: int) -> None:
    """Give a new file the bytes of another: its very blocks, copy on write, where the file system can."""
    try:
        fcntl.ioctl(writing, _FICLONE, reading)
    except OSError:
        _copy_bytes(reading, writing)


def _copy_bytes(reading: int, writing: int) -> None:
    """Copy inside the kernel where it can, else through memory. What is a hole stays one."""
    status = os.fstat(reading)
    if status.st_blocks * 512 < status.st_size and _copy_data(reading, writing, status.st_size):
        return
    try:
        while os.copy_file_range(reading, writing, 1 << 30):
            pass
        return
    except OSError as error:
        if error.errno not in (errno.EXDEV, errno.ENOSYS, errno.EINVAL, errno.EOPNOTSUPP, errno.EBADF):
            raise
    _copy_through_memory(reading, writing, os.fstat(reading).st_size)


def _copy_data(reading: int, writing: int, size: int) -> bool:
    """Copy the parts of a sparse file that hold data; false where the file system does not tell which."""
    at = 0
    try:
        while at < size:
            try:
                begins = os.lseek(reading, at, os.SEEK_DATA)
            except OSError as error:
                if error.errno == errno.ENXIO:
                    break  # nothing but a hole is left
                raise
            at = os.lseek(reading, begins, os.SEEK_HOLE)
            os.lseek(reading, begins, os.SEEK_SET)
            os.lseek(writing, begins, os.SEEK_SET)
            _copy_through_memory(reading, writing, at - begins)
        os.ftruncate(writing, size)
    except OSError as error:
        if error.errno not in (errno.EINVAL, errno.ENOTSUP):
            raise
        os.lseek(reading, 0, os.SEEK_SET)
        os.lseek(writing, 0, os.SEEK_SET)
        os.ftruncate(writing, 0)
        return False
    return True


def _copy_through_memory(reading: int, writing: int, most: int) -> None:
    while most and (piece := os.read(reading, min(most, 1 << 20))):
        most -= len(piece)
        view = memoryview(piece)
        while view:
            view = view[os.write(writing, view) :]


_TRIED: dict[Placement, Way] = {
    Placement.SHARE: _clone,
    Placement.LINK: _hardlink,
    Placement.COPY: _copy,
}


def way(placement: Placement) -> Way:
    """How one file is placed."""
    return _hardlink_or_copy if placement is Placement.LINK else _TRIED[placement]


def choose(cache: Cache, folder: Path, wanted: Placement, sample: str) -> Placement:
    """Find out, by trying it on one file, which placement works from the cache into a folder.

    Args:
        sample: a file of the cache, as its path below the cache's files.

    Raises:
        TargetRefused: the one that was asked for does not work there.
    """
    candidates = [Placement.SHARE, Placement.LINK, Placement.COPY] if wanted is Placement.AUTO else [wanted]
    trial = f".trial-{atomic.random_name()}"
    for candidate in candidates:
        try:
            with between(cache, folder) as folders:
                _TRIED[candidate](folders, sample, trial, False)
            return candidate
        except OSError as error:
            refused = error
            if error.errno in (errno.ENOSPC, errno.EDQUOT):
                raise
        finally:
            (folder / trial).unlink(missing_ok=True)
    raise TargetRefused(
        f"Files cannot be placed in {folder} by {wanted}",
        why=f"{refused.strerror}; the cache is at {cache.root}",
        remedy="Leave --placement out to take one that works, or use --placement copy.",
    ) from refused
