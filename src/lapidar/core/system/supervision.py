"""Run a command under the supervisor: watched, limited, isolated, and ended with all that it leaves behind.

The supervisor is a small program of our own (`native/supervise.c`), a process beside the caller: it, and not the
caller, is whom orphans come to, so that nobody else's children are ever touched, and as many runs as one likes go on at
once, in threads too. It writes a log, which is read here when the run has ended. Where the caller goes away, everything
is ended.
"""

from __future__ import annotations

import errno
import os
import stat
import subprocess
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path

from msgspec import Struct, field
from msgspec.structs import replace

from lapidar.core.errors import CannotRun, LapidarError
from lapidar.core.system.addresses import partner
from lapidar.core.system.observed import Image, ObservedRun
from lapidar.core.system.waking import interruptible
from lapidar.core.system.written import Files, Told, Touched, touched

__all__ = ["Ended", "NoRoot", "Root", "RunOptions", "Stopped", "logged", "run"]

_GRACE_SECONDS = 3.0  # for what a command left behind when it ended
_FIELDS = {"I": 3, "O": 2, "M": 2, "E": 1, "W": 1, "C": 1, "U": 1, "T": 4, "X": 1, "R": 1, "L": 1, "D": 1, "F": 1,
           "N": 1, "P": 1, "B": 1, "Z": 0, "A": 2, "G": 1, "K": 1, "S": 2}  # fmt: skip


class Root(Struct, frozen=True):
    """A root of a run's own, instead of the host's.

    Attributes:
        folder: what lies in it is all that is to be seen, and
        shown: these files and folders of the host, at the same places; for each, something of its kind lies there.
        instead: besides files of the host, each at the place of one of those.
    """

    folder: str
    shown: tuple[str, ...]
    instead: tuple[tuple[str, str], ...] = ()

    def lines(self) -> str:
        """As the supervisor is told: a line each, with the place behind a byte of 1 where it is another."""
        return "\n".join([*self.shown, *(f"{file}\1{place}" for file, place in self.instead)])


class RunOptions(Struct, frozen=True, kw_only=True):
    """How to run.

    Attributes:
        input, output, errors: the descriptors of its standard streams; this process's own unless given.
        folder: where it runs; the current folder unless given.
        umask: its file mode mask; this process's own unless given.
        session: whether it begins a session of its own, so that a terminal's Ctrl-C is not sent to it.
        at_most: seconds, after which it is ended.
        grace: seconds that what it leaves behind may go on.
        memory: bytes that each of its processes may have of its own.
        watches: whether what it executes, opens and maps is told.
        files: the folder whose files are told one by one; with `watches`.
        network: whether it has this machine's network, or one of its own with nothing but a loopback.
        writable: folders below which alone it may write; empty: anywhere.
        by_mounts: limit writing by mounts of its own where that can be, also where this kernel has a simpler way
            (Landlock), under which no program can make a root of its own.
        apart: rather than with more of the host than it is to have it is not run at all.
        one_processor: whether it has one processor alone.
        root: it sees that, instead of the host's files.
        absent: whether what it looks for and what is not there is told, and what it only asks about; with `watches`.
    """

    input: int | None = None
    output: int | None = None
    errors: int | None = None
    folder: str | None = None
    umask: int | None = None
    session: bool = False
    at_most: float | None = None
    grace: float = _GRACE_SECONDS
    memory: int = 0
    watches: bool = False
    files: Files | None = None
    network: bool = True
    writable: tuple[str, ...] = ()
    by_mounts: bool = False
    apart: bool = False
    one_processor: bool = False
    root: Root | None = None
    absent: bool = False


class NoRoot(LapidarError):
    """This kernel lets a plain user make no root of his own."""

    def __init__(self, number: int) -> None:
        super().__init__(
            "This kernel lets no root of one's own be made",
            why=os.strerror(number),
            remedy="Allow user namespaces (sysctl user.max_user_namespaces, kernel.unprivileged_userns_clone), or do "
            "it on another machine.",
        )


class Ended(Struct, frozen=True):
    """How a run ended.

    Attributes:
        code: its exit code; negative where a signal ended it.
        seconds: how long it took.
        memory: the most that one of its processes had, in bytes.
        is_late: whether it was ended because it took too long.
        left_behind: how many processes it left behind, which were ended.
        observed: what it used, where it was watched.
        touched: what it did to files, where these were told one by one.
        absent: what each image looked for and is not there, by paths as the run had them.
        not_isolated: of what was to keep it apart, what this kernel refuses, a sentence each.
    """

    code: int
    seconds: float
    memory: int = 0
    is_late: bool = False
    left_behind: int = 0
    observed: ObservedRun = field(default_factory=lambda: ObservedRun(0, (), (), ()))
    touched: Touched = field(default_factory=Touched)
    absent: Mapping[Image, tuple[str, ...]] = field(default_factory=dict)
    not_isolated: tuple[str, ...] = ()


def run(program: str, words: Sequence[str], variables: Mapping[str, str], options: RunOptions | None = None) -> Ended:
    """Run a command to its end, and that of all that it starts.

    Args:
        program: the file to be executed.
        words: what it is called with, its name first.
        variables: its environment variables.

    Raises:
        CannotRun: it cannot be executed.
        LapidarError: this kernel does not let it be watched, or the supervisor was ended by somebody.
    """
    options = options or RunOptions()
    helper = _helper()
    log = os.memfd_create("lapidar-log", os.MFD_CLOEXEC)
    life, held = os.pipe()
    began = time.monotonic()
    try:
        process = _started(helper, (log, life), program, words, variables, options)
        os.close(life)
        life = -1
        try:
            with _ended_with_us(process, held), interruptible():
                process.wait()
        except Stopped as stopped:
            stopped.ended = _read(_whole(log), program, options, time.monotonic() - began)
            raise
        data = _whole(log)
    finally:
        for descriptor in (log, life, *helper.descriptors):
            if descriptor >= 0:
                os.close(descriptor)
    return _read(data, program, options, time.monotonic() - began)


class Stopped(SystemExit):
    """Raised by whoever is told to end (a signal's handler) while a run goes on: that is ended too.

    Attributes:
        ended: what the run did until then.
    """

    ended: Ended | None = None


def logged(words: Sequence[str], variables: Mapping[str, str], log: Path, *, folder: Path, at_most: float) -> int:
    """Run a build: its output is added to a file, it reads nothing, and what it leaves behind is ended at once.

    Args:
        words: the program's path, and what follows.
        at_most: seconds, after which it is ended.

    Returns:
        Its exit code.

    Raises:
        CannotRun: it cannot be executed, or took too long.
    """
    with open(log, "ab") as stream, open(os.devnull, "rb") as nothing:
        output = stream.fileno()
        options = RunOptions(
            input=nothing.fileno(), output=output, errors=output, folder=str(folder), umask=0o022, session=True,
            at_most=at_most, grace=0,
        )  # fmt: skip
        ended = run(words[0], words, variables, options)
    if ended.is_late:
        raise CannotRun(f"It was ended after {at_most:g} s")
    return ended.code


class _Helper(Struct, frozen=True):
    path: str
    descriptors: tuple[int, ...] = ()


def _helper() -> _Helper:
    """The supervisor's file; where it lies on a file system that executes nothing, a copy in memory."""
    machine = os.uname().machine
    path = Path(__file__).parent / "native" / f"supervise.{machine}"
    if not path.is_file():
        raise LapidarError(f"Runs can be supervised on x86-64 only, and this machine is {machine}")
    if os.access(path, os.X_OK) and not os.statvfs(path).f_flag & os.ST_NOEXEC:
        return _Helper(str(path))
    descriptor = os.memfd_create("lapidar-supervise", os.MFD_CLOEXEC)
    os.write(descriptor, path.read_bytes())
    return _Helper(f"/proc/self/fd/{descriptor}", (descriptor,))


def _started(
    helper: _Helper,
    pipes: tuple[int, int],
    program: str,
    words: Sequence[str],
    variables: Mapping[str, str],
    options: RunOptions,
) -> subprocess.Popen[bytes]:
    """The supervisor at work; what it writes its log to, and what tells it that we live, are the `pipes`."""
    files = options.files if options.watches else None
    asked = {
        "w": options.watches,
        "s": options.session,
        "n": not options.network,
        "m": options.by_mounts,
        "r": options.apart,
        "c": options.one_processor,
        "a": options.absent,
    }
    flags = "".join(letter for letter, is_asked in asked.items() if is_asked)
    numbers = [*pipes, round((options.at_most or 0) * 1000), round(options.grace * 1000), options.memory]
    texts = [
        flags,
        "\n".join(options.writable),
        os.path.realpath(files.root) if files else "",
        files.copies if files else "",
        "\n".join(files.ignored) if files else "",
        options.root.folder if options.root else "",
        options.root.lines() if options.root else "",
    ]
    try:
        return subprocess.Popen(
            ["lapidar-supervise", *map(str, numbers), *texts, program, *words],
            executable=helper.path,
            env=dict(variables),
            cwd=options.folder,
            stdin=options.input,
            stdout=options.output,
            stderr=options.errors,
            umask=-1 if options.umask is None else options.umask,
            pass_fds=(*pipes, *helper.descriptors),
        )
    except OSError as error:
        raise CannotRun(f"{program} cannot be run", why=error.strerror or str(error)) from error


@contextmanager
def _ended_with_us(process: subprocess.Popen[bytes], held: int) -> Iterator[None]:
    """Where waiting is interrupted, everything is ended first."""
    try:
        yield
    finally:
        os.close(held)
        with suppress(OSError):
            process.wait()


def _whole(descriptor: int) -> bytes:
    size = os.fstat(descriptor).st_size
    pieces, at = [], 0
    while at < size:
        pieces.append(os.pread(descriptor, size - at, at))
        at += len(pieces[-1])
    return b"".join(pieces)


# ---- the log


def _read(data: bytes, program: str, options: RunOptions, seconds: float) -> Ended:
    records = _Records(options)
    records.add(data)
    if records.no_root is not None:
        raise NoRoot(records.no_root)
    if records.not_executed is not None:
        why = os.strerror(records.not_executed)
        mounted = "Is the file system mounted noexec? Then restore elsewhere with --into."
        raise CannotRun(f"{program} cannot be run", why=why, remedy=mounted if "ermission" in why else "")
    if records.not_watched == errno.EBUSY:
        raise LapidarError(
            "The run cannot be observed: it is part of one that is observed already",
            why="the kernel lets one program watch the calls of another, and no third",
            remedy="Run the command by itself, not from inside of what `record` or `capture --observe` runs.",
        )
    if records.not_watched is not None:
        raise LapidarError(
            "The run cannot be observed: this kernel lets no filter be set",
            why=os.strerror(records.not_watched),
            remedy="Do it where filters of calls may be set: some containers refuse them. `capture` needs none without "
            "--observe.",
        )
    if not records.is_whole:
        raise LapidarError(
            "The run was ended together with what supervised it",
            why="its log has no end; somebody killed it, or memory was short",
            remedy="Run it again.",
        )
    return records.ended(seconds)


class _Records:
    """What the log says, put together."""

    def __init__(self, options: RunOptions) -> None:
        self._options = options
        self.status = 0
        self.memory = 0
        self.left_behind = 0
        self.is_late = self.is_whole = False
        self.not_executed: int | None = None
        self.not_watched: int | None = None
        self.no_root: int | None = None
        self.not_isolated: list[str] = []
        self._absent: list[tuple[str, str]] = []  # which image looked, and for what path
        self._asked_for: list[str] = []
        self._images: dict[str, Image] = {}
        self._executed: list[str] = []
        self._used: list[tuple[str, str, str]] = []  # opened or mapped, by which image, the path
        self._looked_through: list[tuple[str, str]] = []  # by which image, the folder
        self._told: list[Told] = []
        self._outside: list[str] = []
        self._partners: list[str] = []
        self._unseen: list[str] = []

    def add(self, data: bytes) -> None:
        fields = iter(os.fsdecode(data).split("\0"))
        for kind in fields:
            if kind not in _FIELDS:
                break
            self._one(kind, [next(fields, "") for _ in range(_FIELDS[kind])])

    def _one(self, kind: str, words: list[str]) -> None:
        match kind:
            case "O" | "M":
                self._used.append((kind, *words))  # type: ignore[arg-type]
            case "S":
                self._looked_through.append((words[0], words[1]))
            case "T":
                self._told.append(Told.of(words))
            case "I":
                self._images[words[0]] = Image(os.path.normpath(words[1]), words[2])
            case "E":
                self._executed.append(os.path.normpath(words[0]))
            case "C":
                self._partners.append(partner(bytes.fromhex(words[0])))
            case "W":
                self._outside.append(words[0])
            case "U":
                self._unseen.append(words[0])
            case "X":
                self.status = int(words[0])
            case "R":
                self.memory = int(words[0]) * 1024
            case "L":
                self.left_behind = int(words[0])
            case "D":
                self.is_late = True
            case "F":
                self.not_executed = int(words[0])
            case "N":
                self.not_watched = int(words[0])
            case "P":
                self.not_isolated.append(f"no network of its own could be made: {os.strerror(int(words[0]))}")
            case "B":
                self.not_isolated.append(f"writing could not be limited: {os.strerror(int(words[0]))}")
            case "A":
                self._absent.append((words[0], os.path.normpath(words[1])))
            case "K":
                self._asked_for.append(os.path.normpath(words[0]))
            case "G":
                self.no_root = int(words[0])
            case "Z":
                self.is_whole = True

    def _listed(self) -> dict[str, frozenset[Image]]:
        """The folders that were looked through and are there still, each with what did so."""
        found: dict[str, set[Image]] = {}
        for image, path in self._looked_through:
            if not self._ignores(path) and os.path.isdir(path):
                found.setdefault(path, set()).update(filter(None, [self._images.get(image)]))
        return {path: frozenset(found[path]) for path in sorted(found)}

    def _ignores(self, path: str) -> bool:
        return self._options.files is None or self._options.files.ignores(path)

    def ended(self, seconds: float) -> Ended:
        code = os.waitstatus_to_exitcode(self.status)
        places = _Places()
        by: dict[Image, set[str]] = {}
        mapped: set[str] = set()
        opened: set[str] = set()
        for kind, image, path in self._used:
            plain = _plain(path)
            (mapped if kind == "M" else opened).add(plain)
            if image in self._images:
                by.setdefault(self._images[image], set()).add(plain)
        absent: dict[Image, dict[str, None]] = {}
        for image, path in self._absent:
            if image in self._images:
                absent.setdefault(self._images[image], {})[path] = None
        observed = ObservedRun(
            code,
            places.files(mapped),
            tuple(dict.fromkeys(self._executed)),
            places.files(opened),
            {image: places.files(paths) for image, paths in by.items()},
        )
        changed = touched(self._told, self._outside, self._unseen, self._options.files)
        partners = tuple(sorted({one for one in self._partners if one}))
        asked_for = tuple(sorted(path for path in set(self._asked_for) if not self._ignores(path)))
        changed = replace(changed, listed=self._listed(), partners=partners, asked_for=asked_for)
        return Ended(
            code,
            seconds,
            self.memory,
            self.is_late,
            self.left_behind,
            observed,
            changed,
            {image: tuple(paths) for image, paths in absent.items()},
            tuple(self.not_isolated),
        )


def _plain(path: str) -> str:
    """A path without dots in it. What comes before ``..`` may be a link: then it is asked."""
    if "/.." in path:
        folder, name = os.path.split(path.rstrip("/"))
        return os.path.join(os.path.realpath(folder), name) if name not in (".", "..") else os.path.realpath(path)
    return os.path.normpath(path) if "/." in path or "//" in path or path.endswith("/") else path


class _Places:
    """Where paths lead, links followed; folders, which files share, are asked for once."""

    def __init__(self) -> None:
        self.folders: dict[str, str] = {}
        self.known: dict[str, str] = {}

    def files(self, paths: set[str]) -> tuple[str, ...]:
        """Those that are files."""
        return tuple(sorted({found for path in paths if (found := self._file(path))}))

    def _file(self, path: str) -> str:
        if path not in self.known:
            self.known[path] = self._looked_at(path)
        return self.known[path]

    def _looked_at(self, path: str) -> str:
        folder, name = os.path.split(path)
        if name in ("", ".", ".."):
            return ""
        if folder not in self.folders:
            self.folders[folder] = os.path.realpath(folder)
        place = f"{self.folders[folder].rstrip('/')}/{name}"
        try:
            mode = os.lstat(place).st_mode
        except OSError:
            return ""
        if stat.S_ISLNK(mode):
            return os.path.realpath(place) if os.path.isfile(place) else ""
        return place if stat.S_ISREG(mode) else ""
