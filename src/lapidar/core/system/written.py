"""Which files a run read and wrote below a folder, by what the supervisor told of each.

A file counts as written where it is another at the end than it was when the run first touched it: its inode, its size
or the time of its last change (ctime) says so, however it was written (a map of memory, a copy by the kernel, another
program). A file is an input where the run opened it and it was there before; its bytes are those that it had then.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import NamedTuple

from msgspec import Struct, field

from lapidar.core.system.observed import Image

__all__ = ["Files", "State", "Told", "Touched", "state_of", "touched"]

State = tuple[int, int, int]  # inode, size in bytes, ctime in ns


class Files(Struct, frozen=True):
    """The folder whose files are told one by one.

    Attributes:
        root: it.
        copies: an empty folder for the bytes of files that are about to be changed.
        ignored: folders, absolute and with links followed, of which nothing is told.
        ignores: says of other paths that nobody wants to know of them.
    """

    root: str
    copies: str
    ignored: tuple[str, ...] = ()
    ignores: Callable[[str], bool] = lambda path: False


class Told(NamedTuple):
    """What the supervisor told of a file.

    Attributes:
        is_read: it was there before, and was opened to be read.
        is_written: something was done by which it may be another.
        copy: the name of the copy of its bytes; "" where there is none.
        before: how it was; None where it was not there.
    """

    path: str
    is_read: bool
    is_written: bool
    copy: str
    before: State | None

    @classmethod
    def of(cls, words: Sequence[str]) -> Told:
        """From the fields of a record: path, letters, copy, state."""
        path, letters, kept, state = words
        before = None
        if state:
            inode, size, seconds, nanoseconds = map(int, state.split())
            before = inode, size, seconds * 1_000_000_000 + nanoseconds
        return cls(path, letters[0] == "r", letters[1] == "w", kept if kept != "0" else "", before)


class Touched(Struct, frozen=True):
    """What a run did to files, as absolute paths with links followed, sorted.

    Attributes:
        read: those that were there before and were read, each with the file that has the bytes it had then.
        written: those that are there now and are new or changed.
        removed: those that were there before and are no longer.
        outside: those that were written outside of the folder.
        listed: folders that it looked through, each with what did so.
        asked_for: paths that are there and that it asked about; it may have read them too.
        partners: whom it talked to: hosts with ports, sockets.
        unseen: ways by which the run may have used files unseen.
    """

    read: Mapping[str, str] = field(default_factory=dict)
    written: tuple[str, ...] = ()
    removed: tuple[str, ...] = ()
    outside: tuple[str, ...] = ()
    listed: Mapping[str, frozenset[Image]] = field(default_factory=dict)
    asked_for: tuple[str, ...] = ()
    partners: tuple[str, ...] = ()
    unseen: tuple[str, ...] = ()


def touched(told: Iterable[Told], outside: Iterable[str], unseen: Iterable[str], files: Files | None) -> Touched:
    """What a run did, now that it has ended."""
    if files is None:
        return Touched(unseen=tuple(sorted(set(unseen))))
    known = sorted(one for one in told if not files.ignores(one.path))
    now = {one.path: state_of(one.path) for one in known}
    read = (one for one in known if one.is_read and one.before)
    return Touched(
        # Of one that is gone and was not kept, nothing can be said.
        read={
            one.path: f"{files.copies}/{one.copy}" if one.copy else one.path
            for one in read
            if one.copy or (now[one.path] and os.path.isfile(one.path))
        },
        written=tuple(one.path for one in known if one.is_written and now[one.path] not in (None, one.before)),
        removed=tuple(one.path for one in known if one.before and now[one.path] is None),
        outside=tuple(sorted({path for path in outside if os.path.lexists(path)})),
        unseen=tuple(sorted(set(unseen))),
    )


def state_of(path: str) -> State | None:
    """How a file is; None where there is none, or it is a folder."""
    try:
        status = os.lstat(path)
    except OSError:
        return None
    return None if stat.S_ISDIR(status.st_mode) else (status.st_ino, status.st_size, status.st_ctime_ns)
