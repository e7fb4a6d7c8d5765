"""Which files a traced run reads and writes below a folder: told of each call that names a file before the kernel does
it, so that what is about to be overwritten can still be kept.

A file counts as written where it is another at the end than it was when the run first touched it: its inode, its size
or the time of its last change (ctime) says so, however it was written (a map of memory, a copy by the kernel, another
program). A file is an input where the run opened it and it was there before; its bytes are those that it had then.
"""

from __future__ import annotations

import os
import shutil
import stat
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import NamedTuple

__all__ = ["CALLS", "Call", "State", "Touched", "Writes", "state_of"]


class Call(NamedTuple):
    """A call of x86-64 that names files: what it does, and for each path the register of the folder's descriptor (None:
    relative to the working folder) and that of the path. `flags` is the register that says how a file is opened."""

    what: str
    paths: tuple[tuple[str | None, str], ...] = ()
    flags: str | None = None


CALLS: Mapping[int, Call] = {
    2: Call("open", ((None, "rdi"),), "rsi"),
    257: Call("open", (("rdi", "rsi"),), "rdx"),
    437: Call("open2", (("rdi", "rsi"),), "rdx"),
    85: Call("create", ((None, "rdi"),)),
    76: Call("truncate", ((None, "rdi"),)),
    82: Call("rename", ((None, "rdi"), (None, "rsi"))),
    264: Call("rename", (("rdi", "rsi"), ("rdx", "r10"))),
    316: Call("rename", (("rdi", "rsi"), ("rdx", "r10"))),
    87: Call("remove", ((None, "rdi"),)),
    263: Call("remove", (("rdi", "rsi"),)),
    86: Call("link", ((None, "rdi"), (None, "rsi"))),
    265: Call("link", (("rdi", "rsi"), ("rdx", "r10"))),
    88: Call("make", ((None, "rsi"),)),
    266: Call("make", (("rsi", "rdx"),)),
    133: Call("make", ((None, "rdi"),)),
    259: Call("make", (("rdi", "rsi"),)),
    304: Call("unseen: files by handles"),
    425: Call("unseen: io_uring"),
}

State = tuple[int, int, int]  # inode, size in bytes, ctime in ns


@dataclass(frozen=True, slots=True)
class Touched:
    """What a run did to files, as absolute paths with links followed, sorted.

    Attributes:
        read: those that were there before and were read, each with the file that has the bytes it had then.
        written: those that are there now and are new or changed.
        removed: those that were there before and are no longer.
        outside: those that were written outside of the folder.
        unseen: ways by which the run may have used files unseen.
    """

    read: Mapping[str, str] = field(default_factory=dict)
    written: tuple[str, ...] = ()
    removed: tuple[str, ...] = ()
    outside: tuple[str, ...] = ()
    unseen: tuple[str, ...] = ()


class Writes:
    """Watches what a run does to files.

    Args:
        root: the folder whose files are told one by one.
        ignore: says of a path below it that nobody wants to know of it.
        keep: an empty folder for the bytes of files that are about to be changed.
    """

    def __init__(self, root: str, ignore: Callable[[str], bool], keep: str) -> None:
        self._root = os.path.realpath(root) + "/"
        self._ignore = ignore
        self._keep = keep
        self._before: dict[str, State | None] = {}
        self._read: set[str] = set()
        self._written: set[str] = set()
        self._kept: dict[str, str] = {}
        self._outside: set[str] = set()
        self._unseen: set[str] = set()
        self._folders: dict[str, str] = {}

    def happens(self, what: str, paths: list[str | None], flags: int) -> None:
        """A call is about to be done.

        Args:
            what: as in `CALLS`.
            paths: absolute, or None for one that cannot be read.
            flags: of an open, those of open(2).
        """
        if what.startswith("unseen: "):
            self._unseen.add(what.removeprefix("unseen: "))
            return
        if None in paths:
            return
        places = [str(path) for path in paths]
        match what:
            case "open" | "open2":
                self._open(places[0], flags)
            case "create":
                self._open(places[0], os.O_WRONLY | os.O_CREAT | os.O_TRUNC)
            case "truncate":
                self._open(places[0], os.O_RDWR)
            case "rename":
                self._rename(self._named(places[0]), self._named(places[1]))
            case "remove":
                self._touch(self._named(places[0]))
            case "link" | "make":
                self._write(self._named(places[-1]))

    # ---- what happens

    def _open(self, path: str, flags: int) -> None:
        writes = bool(flags & (os.O_WRONLY | os.O_RDWR | os.O_TRUNC | os.O_CREAT))
        real = self._named(path)
        if os.path.islink(real):
            real = os.path.realpath(real)
        if not real.startswith(self._root):
            if writes and not real.startswith(("/dev/", "/proc/", "/sys/")):
                self._outside.add(real)
            return
        if self._ignore(real):
            return
        state = self._touch(real, change=False)
        if (
            state is not None
            and not flags & os.O_TRUNC
            and self._before[real] is not None
            and real not in self._written
        ):
            self._read.add(real)
        if flags & (os.O_WRONLY | os.O_RDWR | os.O_TRUNC) or (flags & os.O_CREAT and state is None):
            self._write(real)

    def _rename(self, old: str, new: str) -> None:
        if os.path.isdir(old) and not os.path.islink(old):
            below = [os.path.join(folder, name) for folder, _, names in os.walk(old) for name in names]
            pairs = [(path, new + path[len(old) :]) for path in below]
        else:
            pairs = [(old, new)]
        for one, other in pairs:
            self._touch(one)
            self._write(other)
        self._folders.clear()

    def _write(self, path: str) -> None:
        if not path.startswith(self._root):
            self._outside.add(path)
        elif not self._ignore(path):
            self._touch(path)
            self._written.add(path)

    def _touch(self, path: str, *, change: bool = True) -> State | None:
        """Note how a file is before the run does anything to it, and keep the bytes of one that it has read.

        Args:
            change: whether it may be another afterwards.
        """
        state = state_of(path)
        if path.startswith(self._root):
            self._before.setdefault(path, state)
            if change and path in self._read and path not in self._kept and path not in self._written:
                self._kept[path] = self._copy(path)
        return state

    def _copy(self, path: str) -> str:
        place = f"{self._keep}/{len(self._kept)}"
        try:
            shutil.copyfile(path, place)
        except OSError:
            return path
        return place

    def _named(self, path: str) -> str:
        """A path with the links of its folders followed, but not itself."""
        folder, name = os.path.split(path)
        real = self._folders.get(folder)
        if real is None:
            real = self._folders[folder] = os.path.realpath(folder)
        return f"{real}/{name}" if real != "/" else f"/{name}"

    # ---- what came of it

    def touched(self) -> Touched:
        """What the run did, now that it has ended."""
        now = {path: state_of(path) for path in self._before}
        changed = {path for path in self._written if now.get(path) is not None and now[path] != self._before.get(path)}
        read = {path for path in self._read if self._before[path] is not None}
        kept = {path: self._kept.get(path, path) for path in sorted(read)}
        return Touched(
            # Of one that is gone and was not kept, nothing can be said.
            read={path: place for path, place in kept.items() if os.path.isfile(place)},
            written=tuple(sorted(changed)),
            removed=tuple(sorted(path for path, state in self._before.items() if state and now[path] is None)),
            outside=tuple(sorted(path for path in self._outside if os.path.lexists(path))),
            unseen=tuple(sorted(self._unseen)),
        )


def state_of(path: str) -> State | None:
    """How a file is; None where there is none, or it is a folder."""
    try:
        status = os.lstat(path)
    except OSError:
        return None
    return None if stat.S_ISDIR(status.st_mode) else (status.st_ino, status.st_size, status.st_ctime_ns)
