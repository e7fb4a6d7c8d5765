"""Comparing in a process of its own, with limits of time and memory: readers of files are large, the files may be
anybody's, and what goes wrong with one is no reason not to compare the others."""

from __future__ import annotations

import os
import pickle
import resource
import select
import shutil
import signal
import struct
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from typing import IO, Any

from lapidar.core.results.verdict import BeyondLimit

__all__ = ["Apart", "serve"]

_MOST_BYTES = 2_000_000_000  # of memory
_SECONDS, _BYTES_A_SECOND = 60, 1_000_000  # how long a file may take: so long, and a second more for so many bytes
_LOOKED_EACH = 0.5  # seconds
_HEAD = struct.Struct("<Q")


class _OutOfTime(BeyondLimit):
    """A file took too long: it would again."""


class Apart:
    """A process that compares, one pair after the other. It is begun with the first, and again after one that it did
    not survive.

    Args:
        module: what is run there; it calls `serve`.
    """

    def __init__(self, module: str = "lapidar.core.results.comparing") -> None:
        self._module = module
        self._process: subprocess.Popen[bytes] | None = None
        self._has_answered = False
        self._folder = ""  # what it unpacks lies there, and goes with it

    def __enter__(self) -> Apart:
        return self

    def __exit__(self, *_: object) -> None:
        self._end()

    def ask(self, question: Any, size: int) -> Any:
        """What `serve` answers to a question.

        Args:
            size: of the files, in bytes.

        Raises:
            BeyondLimit: it took too long or too much memory, or the reader of the file broke down.
        """
        # In one that has answered before, it may be for what earlier files left in its memory: then in a new one.
        for is_last in (False, True) if self._has_answered else (True,):
            try:
                return self._asked(question, size)
            except BeyondLimit as error:
                self._end()
                if is_last or isinstance(error, _OutOfTime):
                    raise
        raise AssertionError

    def _asked(self, question: Any, size: int) -> Any:
        process = self._process or self._begin()
        assert process.stdin is not None and process.stdout is not None
        try:
            _write(process.stdin, question)
            seconds = _SECONDS + size / _BYTES_A_SECOND
            if not select.select([process.stdout], [], [], seconds)[0]:
                raise _OutOfTime(f"comparing it took more than {seconds:,.0f} s")
            told = _read(process.stdout)
            if isinstance(told, BeyondLimit):
                raise told
            self._has_answered = True
            return told
        except (EOFError, OSError) as error:
            code = process.wait()
            self._end()
            how = f"signal {-code}" if code < 0 else f"exit code {code}"
            raise BeyondLimit(f"what reads it broke down ({how})") from error

    def _begin(self) -> subprocess.Popen[bytes]:
        words = [sys.executable, "-P", "-m", self._module]
        self._folder = tempfile.mkdtemp(prefix="lapidar-compare-")
        # Arrow's own allocator takes a gigabyte with the first table, whatever its size.
        variables = {**os.environ, "TMPDIR": self._folder, "ARROW_DEFAULT_MEMORY_POOL": "system"}
        self._process = subprocess.Popen(words, stdin=subprocess.PIPE, stdout=subprocess.PIPE, env=variables)
        return self._process

    def _end(self) -> None:
        process, self._process, self._has_answered = self._process, None, False
        if process is None:
            return
        process.kill()
        process.wait()
        for stream in (process.stdin, process.stdout):
            if stream is not None:
                with suppress(OSError):
                    stream.close()
        shutil.rmtree(self._folder, ignore_errors=True)


def serve(answer: Callable[[Any], Any]) -> None:
    """Answer the questions of the process that began this one, until it goes away."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # who began this one ends it
    threading.Thread(target=_end_with, args=(os.getppid(),), daemon=True).start()
    # Whatever a reader prints must not get among the answers.
    answers = os.fdopen(os.dup(1), "wb")
    os.dup2(2, 1)
    _, hard = resource.getrlimit(resource.RLIMIT_DATA)
    most = _MOST_BYTES if hard == resource.RLIM_INFINITY else min(hard, _MOST_BYTES)
    resource.setrlimit(resource.RLIMIT_DATA, (most, hard))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    while True:
        try:
            question = _read(sys.stdin.buffer)
        except EOFError:
            return
        try:
            told = answer(question)
        except BeyondLimit as error:
            told = error
        _write(answers, told)


def _end_with(parent: int) -> None:
    """End with the process that began this one, also where that is killed in the middle of a comparison."""
    while os.getppid() == parent:
        time.sleep(_LOOKED_EACH)
    os._exit(1)


def _write(stream: IO[bytes], value: Any) -> None:
    data = pickle.dumps(value)
    stream.write(_HEAD.pack(len(data)) + data)
    stream.flush()


def _read(stream: IO[bytes]) -> Any:
    head = stream.read(_HEAD.size)
    if len(head) < _HEAD.size:
        raise EOFError
    (size,) = _HEAD.unpack(head)
    data = stream.read(size)
    if len(data) < size:
        raise EOFError
    return pickle.loads(data)
