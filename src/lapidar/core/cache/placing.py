"""Placement: how files get from the cache into an environment, cloned, hard-linked or copied."""

from __future__ import annotations

import enum
import errno
import fcntl
import os
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import NamedTuple

from lapidar.core import atomic, parallel, progress
from lapidar.core.cache.store import FILE_TIME_NS, Cache
from lapidar.core.errors import TargetRefused

__all__ = ["File", "Placement", "choose", "place"]

_FICLONE = 0x40049409  # linux/fs.h: share the blocks of one file with another, copy on write
_WORKERS = min(4, os.cpu_count() or 1)
_CHUNK_FILES = 256


class Placement(enum.StrEnum):
    """The kinds of placement; `AUTO` is the first of the others that works."""

    AUTO = "auto"
    CLONE = "clone"
    HARDLINK = "hardlink"
    COPY = "copy"


class File(NamedTuple):
    """A file to place: where it lies in the cache, its path below the environment, its inode in the cache."""

    source: str
    path: str
    inode: int
    executable: bool


def _open_new(target: str, executable: bool) -> int:
    mode = 0o777 if executable else 0o666
    return os.open(target, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, mode)


def _clone(source: str, target: str, executable: bool) -> None:
    reading = os.open(source, os.O_RDONLY | os.O_CLOEXEC)
    try:
        writing = _open_new(target, executable)
        try:
            fcntl.ioctl(writing, _FICLONE, reading)
            os.utime(writing, ns=(FILE_TIME_NS, FILE_TIME_NS))
        finally:
            os.close(writing)
    finally:
        os.close(reading)


def _hardlink(source: str, target: str, executable: bool) -> None:
    os.link(source, target)


def _copy(source: str, target: str, executable: bool) -> None:
    reading = os.open(source, os.O_RDONLY | os.O_CLOEXEC)
    try:
        writing = _open_new(target, executable)
        try:
            _copy_bytes(reading, writing)
            os.utime(writing, ns=(FILE_TIME_NS, FILE_TIME_NS))
        finally:
            os.close(writing)
    finally:
        os.close(reading)


def _copy_bytes(reading: int, writing: int) -> None:
    """Copy inside the kernel where it can, else through memory."""
    try:
        while os.copy_file_range(reading, writing, 1 << 30):
            pass
        return
    except OSError as error:
        if error.errno not in (errno.EXDEV, errno.ENOSYS, errno.EINVAL, errno.EOPNOTSUPP, errno.EBADF):
            raise
    while piece := os.read(reading, 1 << 20):
        view = memoryview(piece)
        while view:
            view = view[os.write(writing, view) :]


_WAYS: dict[Placement, Callable[[str, str, bool], None]] = {
    Placement.CLONE: _clone,
    Placement.HARDLINK: _hardlink,
    Placement.COPY: _copy,
}


def choose(cache: Cache, folder: Path, wanted: Placement, sample: File) -> Placement:
    """Find out, by trying it on one file, which placement works from the cache into a folder.

    Raises:
        TargetRefused: the one that was asked for does not work there.
    """
    candidates = [Placement.CLONE, Placement.HARDLINK, Placement.COPY] if wanted is Placement.AUTO else [wanted]
    trial = str(folder / f".trial-{atomic.random_name()}")
    for candidate in candidates:
        try:
            _WAYS[candidate](sample.source, trial, sample.executable)
            return candidate
        except OSError as error:
            refused = error
            if error.errno in (errno.ENOSPC, errno.EDQUOT):
                raise
        finally:
            Path(trial).unlink(missing_ok=True)
    raise TargetRefused(
        f"Files cannot be placed in {folder} by {wanted}",
        why=f"{refused.strerror}; the cache is at {cache.root}",
        remedy="Leave --placement out to take one that works, or use --placement copy.",
    ) from refused


def place(files: Sequence[File], root: Path, placement: Placement, reporter: progress.Progress) -> list[str]:
    """Place files below a folder whose sub-folders are all there.

    Returns:
        The paths of files that were copied although they were to be linked (a file has only so many links).

    Raises:
        OSError: a file could not be placed.
    """
    base = f"{root}/"
    with progress.task(reporter, "Placing files", len(files), "files"):
        if placement is Placement.HARDLINK:
            return _place_links(files, base, reporter)
        way = _WAYS[placement]

        def place_chunk(chunk: Sequence[File]) -> int:
            for source, path, _, executable in chunk:
                way(source, base + path, executable)
            return len(chunk)

        from concurrent.futures import ThreadPoolExecutor

        with ThreadPoolExecutor(_WORKERS) as pool:
            try:
                for placed in pool.map(place_chunk, _chunks(files)):
                    reporter.advance(placed)
            except BaseException:
                pool.shutdown(cancel_futures=True)
                raise
    return []


def _chunks(files: Sequence[File]) -> Iterator[Sequence[File]]:
    for start in range(0, len(files), _CHUNK_FILES):
        yield files[start : start + _CHUNK_FILES]


def _place_links(files: Sequence[File], base: str, reporter: progress.Progress) -> list[str]:
    """Links are nothing but system calls, which a second process halves."""
    middle = len(files) // 2
    mine, others = parallel.both(
        lambda: _link_each(files[:middle], base, reporter),
        lambda: _link_each(files[middle:], base, progress.Silent()),
    )
    return mine + others


def _link_each(files: Sequence[File], base: str, reporter: progress.Progress) -> list[str]:
    link = os.link
    copied = []
    for chunk in _chunks(files):
        for source, path, _, executable in chunk:
            try:
                link(source, base + path)
            except FileExistsError:
                continue  # linked by the second process before it failed
            except OSError as error:
                if error.errno != errno.EMLINK:
                    raise
                # A file system allows so many links to one file (65,000 on ext4): the empty file reaches that.
                _copy(source, base + path, executable)
                copied.append(path)
        reporter.advance(2 * len(chunk))
    return copied
