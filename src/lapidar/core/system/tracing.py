"""Run a command and see what it and its children execute, open and map: ptrace(2), seccomp(2).

A filter in the kernel stops the processes at the few calls that name a file, and nowhere else, so that a run takes
hardly longer; the memory map of each process is read at its end, and before it becomes another program.
"""

from __future__ import annotations

import ctypes
import errno
import os
import re
import signal
import stat
import struct
import threading
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path

from lapidar.core.errors import LapidarError
from lapidar.core.system.observed import Image, ObservedRun
from lapidar.core.system.waking import interruptible
from lapidar.core.system.written import CALLS, Call, Writes

__all__ = ["observe"]

_TRACEME, _GETREGS, _CONT, _SETOPTIONS, _GETEVENTMSG = 0, 12, 7, 0x4200, 0x4201
_EVENT_FORK, _EVENT_VFORK, _EVENT_CLONE, _EVENT_EXEC, _EVENT_EXIT, _EVENT_SECCOMP = 1, 2, 3, 4, 6, 7
_EXIT_KILLS = 1 << 20
_OPTIONS = _EXIT_KILLS | sum(
    1 << event for event in (_EVENT_FORK, _EVENT_VFORK, _EVENT_CLONE, _EVENT_EXEC, _EVENT_EXIT, _EVENT_SECCOMP)
)
_SET_NO_NEW_PRIVILEGES, _SET_SECCOMP, _FILTER = 38, 22, 2
# Calls of x86-64 -> the register of the folder's descriptor (None: relative to the working folder), and of the path.
_OPEN, _OPENAT, _OPENAT2, _EXECVE, _EXECVEAT = 2, 257, 437, 59, 322
_CALLS = {
    _OPEN: (None, "rdi"),
    _OPENAT: ("rdi", "rsi"),
    _OPENAT2: ("rdi", "rsi"),
    _EXECVE: (None, "rdi"),
    _EXECVEAT: ("rdi", "rsi"),
}
_REGISTERS = (
    "r15 r14 r13 r12 rbp rbx r11 r10 r9 r8 rax rcx rdx rsi rdi orig_rax rip cs eflags rsp ss fs_base gs_base ds es fs "
    "gs"
).split()
_ARCHITECTURE = 0xC000003E  # AUDIT_ARCH_X86_64
_ALLOW, _TRACE = 0x7FFF0000, 0x7FF00000
_LONGEST_PATH = 4096
_GRACE_SECONDS = 3.0  # for what a command left behind when it ended
_WALL = 0x40000000
_MAPPED_CODE = re.compile(r"^\S+ ..x. .*? (/.*)$|^\S+ .*? (/.*\.so[.\d]*)$")


def _filter(calls: Sequence[int]) -> ctypes.Array[ctypes.c_char]:
    """The program of the filter: classic BPF over seccomp's data (call's number, architecture)."""
    load, equal, give = 0x20, 0x15, 0x06
    code = [(load, 0, 0, 4), (equal, 1, 0, _ARCHITECTURE), (give, 0, 0, _ALLOW), (load, 0, 0, 0)]
    for left, number in zip(range(len(calls), 0, -1), calls, strict=True):
        code.append((equal, left, 0, number))
    code += [(give, 0, 0, _ALLOW), (give, 0, 0, _TRACE)]
    return ctypes.create_string_buffer(b"".join(struct.pack("<HBBI", *one) for one in code))


class _Program(ctypes.Structure):
    _fields_ = [("length", ctypes.c_ushort), ("code", ctypes.c_void_p)]


def observe(
    command: Sequence[str],
    variables: Mapping[str, str],
    output: int = 1,
    *,
    folder: str | None = None,
    umask: int | None = None,
    writes: Writes | None = None,
    at_most: float | None = None,
) -> ObservedRun:
    """Run a command to its end, with this process's standard streams. What it leaves behind is ended a little later.

    Args:
        command: the program's path, and its words.
        variables: its environment variables.
        output: the descriptor that its standard output goes to.
        folder: the folder to run it in.
        umask: its file mode mask; this process's own unless given.
        writes: hears of every call that names a file.
        at_most: seconds, after which it is ended.

    Raises:
        LapidarError: this kernel does not allow it, or the program does not start.
    """
    if os.uname().machine != "x86_64":
        raise LapidarError("Runs can be observed on x86-64 only", remedy="Capture without --observe.")
    return _Observer(command, variables, output, folder, umask, writes, at_most).run()


class _Observer:
    def __init__(
        self,
        command: Sequence[str],
        variables: Mapping[str, str],
        output: int,
        folder: str | None,
        umask: int | None,
        writes: Writes | None,
        at_most: float | None,
    ) -> None:
        self.command = command
        self.folder = folder
        self.umask = umask
        self.writes = writes
        self.at_most = at_most
        self.calls = sorted({*_CALLS, *(CALLS if writes else ())})
        self.known: set[int] = set()
        self.is_late = False
        self.left_behind = 0
        self.output = output
        self.variables = dict(variables)
        self.library = ctypes.CDLL(None, use_errno=True)
        self.library.ptrace.argtypes = [ctypes.c_long, ctypes.c_long, ctypes.c_void_p, ctypes.c_void_p]
        self.library.ptrace.restype = ctypes.c_long
        self.registers = ctypes.create_string_buffer(8 * len(_REGISTERS))
        self.mapped: set[str] = set()
        self.executed: dict[str, None] = {}
        self.opened: set[str] = set()
        self.started: dict[int, str] = {}  # for a process, the file that it was last asked to become
        self.image: dict[int, Image] = {}  # for a process, what it is
        self.by: dict[Image, set[str]] = {}

    def run(self) -> ObservedRun:
        child = os.fork()
        if child == 0:
            self._become()
        try:
            self._begin(child)
            with self._ended_after(self.at_most), interruptible():
                code = self._follow(child)
        except BaseException:
            with suppress(OSError):
                self._kill_all()
                self._drain()
            raise
        files = _Places().files
        by = {image: files(paths) for image, paths in self.by.items()}
        return ObservedRun(
            code, files(self.mapped), tuple(self.executed), files(self.opened), by, self.is_late, self.left_behind
        )

    @contextmanager
    def _ended_after(self, seconds: float | None) -> Iterator[None]:
        timer = threading.Timer(seconds, self._end_late) if seconds else None
        if timer:
            timer.daemon = True
            timer.start()
        try:
            yield
        finally:
            if timer:
                timer.cancel()

    def _end_late(self) -> None:
        self.is_late = True
        self._kill_all()

    def _kill_all(self) -> None:
        for process in list(self.known):
            with suppress(OSError):
                os.kill(process, signal.SIGKILL)

    def _drain(self) -> None:
        """Let what was killed end: a traced process stops once more before it does."""
        while True:
            process, status = os.waitpid(-1, _WALL)
            if os.WIFSTOPPED(status):
                with suppress(OSError):
                    os.kill(process, signal.SIGKILL)
                self._ptrace(_CONT, process)

    def _end_rest(self) -> None:
        """End what the command left behind."""
        self.left_behind = len(self.known)
        self._kill_all()

    def _become(self) -> None:
        """In the child: wait to be traced, have the filter set, become the program."""
        try:
            if self.output != 1:
                os.dup2(self.output, 1)
            if self.folder is not None:
                os.chdir(self.folder)
            if self.umask is not None:
                os.umask(self.umask)
            code = _filter(self.calls)
            program = _Program(len(code.raw) // 8, ctypes.addressof(code))
            prctl = self.library.prctl
            if self.library.ptrace(_TRACEME, 0, None, None) != 0:
                os._exit(125)
            os.kill(os.getpid(), signal.SIGSTOP)
            prctl(_SET_NO_NEW_PRIVILEGES, 1, 0, 0, 0)
            if prctl(_SET_SECCOMP, _FILTER, ctypes.byref(program), 0, 0) != 0:
                os._exit(125)
            os.execve(self.command[0], list(self.command), self.variables)
        except OSError:
            os._exit(126)
        finally:
            os._exit(125)

    def _ptrace(self, request: int, process: int, data: int = 0) -> bool:
        return int(self.library.ptrace(request, process, None, ctypes.c_void_p(data))) == 0

    def _begin(self, child: int) -> None:
        _, status = os.waitpid(child, _WALL)
        if not os.WIFSTOPPED(status) or not self._ptrace(_SETOPTIONS, child, _OPTIONS):
            why = os.strerror(ctypes.get_errno() or errno.EPERM)
            raise LapidarError(
                "The run cannot be observed: this kernel lets no process trace another",
                why=why,
                remedy="Capture without --observe, or where tracing is allowed.",
            )
        self._ptrace(_CONT, child)

    def _follow(self, main: int) -> int:
        """Until the last of the processes has ended; the first one's exit code."""
        known = self.known
        known.add(main)
        code = 1
        rest = threading.Timer(_GRACE_SECONDS, self._end_rest)
        rest.daemon = True
        while True:
            try:
                process, status = os.waitpid(-1, _WALL)
            except ChildProcessError:
                rest.cancel()
                return code
            if not os.WIFSTOPPED(status):
                known.discard(process)
                if process == main:
                    rest.start()
                    code = os.waitstatus_to_exitcode(status)
                    if code == 125:
                        raise LapidarError(
                            "The run cannot be observed: this kernel lets no filter be set",
                            remedy="Capture without --observe.",
                        )
                continue
            self._ptrace(_CONT, process, self._stopped(process, status, known))

    def _stopped(self, process: int, status: int, known: set[int]) -> int:
        """Look at a stopped process; the signal to go on with."""
        what, event = os.WSTOPSIG(status), status >> 16
        if what == signal.SIGTRAP and event:
            if event == _EVENT_SECCOMP:
                self._called(process)
            elif event == _EVENT_EXIT:
                self._read_map(process)
            elif event == _EVENT_EXEC:
                self._became(process)
            elif event in (_EVENT_FORK, _EVENT_VFORK, _EVENT_CLONE):
                self._forked(process)
            return 0
        if process not in known and what == signal.SIGSTOP:  # how a new child begins
            known.add(process)
            return 0
        return 0 if what == signal.SIGTRAP else what

    def _became(self, process: int) -> None:
        with suppress(OSError):
            running = os.readlink(f"/proc/{process}/exe")
            self.image[process] = Image(self.started.get(process, running), running)

    def _forked(self, process: int) -> None:
        child = ctypes.c_ulong()
        if self.library.ptrace(_GETEVENTMSG, process, None, ctypes.byref(child)) == 0 and process in self.image:
            self.image[child.value] = self.image[process]

    def _note(self, process: int, paths: Iterable[str]) -> None:
        """Whose doing it is. A process that is not known yet (it was told of before its parent's fork) is passed over
        here, and noted with the rest of its run."""
        if process in self.image:
            self.by.setdefault(self.image[process], set()).update(paths)

    def _called(self, process: int) -> None:
        if self.library.ptrace(_GETREGS, process, None, ctypes.cast(self.registers, ctypes.c_void_p)) != 0:
            return
        values = dict(zip(_REGISTERS, struct.unpack(f"<{len(_REGISTERS)}Q", self.registers.raw), strict=True))
        number = values["orig_rax"]
        if number not in _CALLS:
            if self.writes and number in CALLS:
                call = CALLS[number]
                paths = [self._path(process, values[at] if at else None, values[name]) for at, name in call.paths]
                self._tell(process, call, paths, values)
            return
        folder, path = _CALLS[number]
        named = self._path(process, values[folder] if folder else None, values[path])
        if self.writes and number in CALLS:
            self._tell(process, CALLS[number], [named], values)
        if number in (_EXECVE, _EXECVEAT):
            self._read_map(process)
            if named:
                self.started[process] = named
            if named and os.path.isfile(named) and os.access(named, os.X_OK):
                self.executed[named] = None
        elif named:
            self.opened.add(named)
            self._note(process, [named])

    def _tell(self, process: int, call: Call, paths: list[str | None], values: Mapping[str, int]) -> None:
        """Say what a call is about to do to files."""
        assert self.writes is not None
        flags = values[call.flags] if call.flags else 0
        if call.what == "open2":
            flags = self._number(process, flags)
        self.writes.happens(call.what, paths, flags)

    def _number(self, process: int, address: int) -> int:
        """The first eight bytes at an address: the flags of openat2(2)."""
        try:
            with open(f"/proc/{process}/mem", "rb", buffering=0) as memory:
                memory.seek(address)
                return int.from_bytes(memory.read(8), "little")
        except (OSError, ValueError, OverflowError):
            return 0

    def _path(self, process: int, folder: int | None, address: int) -> str | None:
        try:
            with open(f"/proc/{process}/mem", "rb", buffering=0) as memory:
                memory.seek(address)
                # No further than the page's end: what follows it may not be there.
                data = memory.read(min(_LONGEST_PATH, 4096 - address % 4096))
                if b"\0" not in data:
                    data += memory.read(_LONGEST_PATH)
            path = os.fsdecode(data.partition(b"\0")[0])
            if not path.startswith("/"):
                descriptor = ctypes.c_int(folder & 0xFFFFFFFF).value if folder is not None else -100
                base = f"/proc/{process}/cwd" if descriptor == -100 else f"/proc/{process}/fd/{descriptor}"
                path = f"{os.readlink(base)}/{path}"
            return os.path.normpath(path)
        except (OSError, ValueError, OverflowError):
            return None

    def _read_map(self, process: int) -> None:
        try:
            lines = Path(f"/proc/{process}/maps").read_text("utf-8", "surrogateescape").splitlines()
        except OSError:
            return
        code = {(found[1] or found[2]).strip() for line in lines if (found := _MAPPED_CODE.match(line))}
        self.mapped |= code
        self._note(process, code)


class _Places:
    """Where paths lead, links followed; folders, which files share, are asked for once."""

    def __init__(self) -> None:
        self.folders: dict[str, str] = {}

    def files(self, paths: set[str]) -> tuple[str, ...]:
        """Those that are files."""
        return tuple(sorted({found for path in paths if (found := self._file(path))}))

    def _file(self, path: str) -> str:
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
