"""Whether a file system's locks hold: some, of networks, refuse them, and some give the same one to two processes. That
is tried with two processes where somebody relies on one: before what others left behind is removed, before anything
is done alone. See flock(2), nfs(5)."""

from __future__ import annotations

import enum
import errno
import fcntl
import functools
import os
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

__all__ = ["REFUSING", "Locks", "by_file", "of"]

REFUSING = (errno.EBADF, errno.ENOLCK, errno.ENOTSUP, errno.EINVAL, errno.ENOSYS)
"""What a file system without locks answers."""

_STALE_SECONDS = 120.0
_PAUSE_SECONDS = 0.05


class Locks(enum.StrEnum):
    """What the locks of a file system are worth; the words are for people."""

    HOLD = "they hold"
    REFUSED = "its file system has no locks"
    LIE = "its file system gives the same lock to two processes"


def of(folder: Path) -> Locks:
    """What the locks in a folder are worth.

    Raises:
        OSError: nothing can be written there.
    """
    return _tried(os.stat(folder).st_dev, str(folder))


@functools.cache
def _tried(device: int, folder: str) -> Locks:
    import tempfile  # whoever relies on no lock loads nothing for it

    with tempfile.TemporaryFile(dir=folder) as file:
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            return Locks.REFUSED
        return Locks.LIE if _is_given_to_another(file.fileno()) else Locks.HOLD


def _is_given_to_another(descriptor: int) -> bool:
    """Whether a process of its own gets a lock that this one holds, on a file that it opens anew. It calls the kernel
    and nothing else, so that it does not matter what other threads are about."""
    import warnings

    with warnings.catch_warnings():
        warnings.simplefilter("ignore", DeprecationWarning)
        child = os.fork()
    if child == 0:
        try:
            fcntl.flock(os.open(f"/proc/self/fd/{descriptor}", os.O_RDONLY), fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            os._exit(0)
        os._exit(1)
    return os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) == 1


@contextmanager
def by_file(folder: Path) -> Iterator[None]:
    """One at a time, where there are no locks: by a file that only one can make. One that its maker left behind counts
    for two minutes."""
    path = folder / ".lock"
    while True:
        try:
            os.close(os.open(path, os.O_CREAT | os.O_EXCL | os.O_WRONLY | os.O_CLOEXEC))
            break
        except FileExistsError:
            _drop_stale(path)
            time.sleep(_PAUSE_SECONDS)
    try:
        yield
    finally:
        path.unlink(missing_ok=True)


def _drop_stale(path: Path) -> None:
    try:
        if time.time() - path.stat().st_mtime > _STALE_SECONDS:
            path.unlink()
    except FileNotFoundError:
        pass
