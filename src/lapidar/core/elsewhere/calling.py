"""The process on the other side of calls: started once, asked as often as one likes, ended with its caller."""

from __future__ import annotations

import fcntl
import os
import select
import signal
import subprocess
import threading
import time
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from typing import IO, Any

from lapidar.core.elsewhere import channel, wire
from lapidar.core.errors import LapidarError

__all__ = ["CalledFailed", "Other"]

_ENDS_SECONDS = 2.0
_LOOKS_SECONDS = 1.0
_PIPE_BYTES = 1 << 20
_LINES = 12  # of the other side's traceback


class CalledFailed(LapidarError):
    """What was called failed on the other side.

    Attributes:
        type: the name of its error there.
        said: its traceback there, as text.
    """

    def __init__(self, what: str, *, why: str = "", remedy: str = "", type: str = "", said: str = "") -> None:
        super().__init__(what, why=why, remedy=remedy)
        self.type = type
        self.said = said


class Other:
    """A process that answers calls.

    Args:
        command: the program and its words, to which the descriptors of both pipes are added.
        variables: all that it has.
        folder: where it runs.
        called: what it is, for people.
        output: the descriptor that its standard output goes to; this process's own unless given.
    """

    def __init__(
        self,
        command: Sequence[str],
        variables: Mapping[str, str],
        folder: Path,
        called: str,
        output: int | None = None,
    ) -> None:
        self.called = called
        self.is_closed = False
        self._alone = threading.Lock()  # one call at a time, from whichever thread
        asked_from, asks = os.pipe()
        answers, answers_to = os.pipe()
        try:
            self._process = subprocess.Popen(
                [*command, str(asked_from), str(answers_to)],
                env=dict(variables),
                cwd=folder,
                stdin=subprocess.DEVNULL,
                stdout=output,
                pass_fds=(asked_from, answers_to),
                start_new_session=True,
            )
        except OSError as error:
            for descriptor in (asks, answers):
                os.close(descriptor)
            raise LapidarError(f"{called} cannot be started", why=error.strerror or str(error)) from error
        finally:
            os.close(asked_from)
            os.close(answers_to)
        self._asks: IO[bytes] = os.fdopen(asks, "wb")
        self._answers: IO[bytes] = os.fdopen(answers, "rb", buffering=0)
        self._has: Sequence[str] | None = None
        for descriptor in (asks, answers):
            with suppress(OSError):  # a limit of the machine's; it is quicker with more, and works with less
                fcntl.fcntl(descriptor, fcntl.F_SETPIPE_SZ, _PIPE_BYTES)

    def call(self, name: str, args: Sequence[Any], named: Mapping[str, Any], timeout: float | None = None) -> Any:
        """Call a function there.

        Args:
            name: ``module:function``.
            timeout: seconds, after which the other side is ended.

        Raises:
            CalledFailed: it failed there, ended, or took too long.
            LapidarError: an argument cannot travel.
        """
        with self._alone:
            return self._called(name, args, named, timeout)

    def _called(self, name: str, args: Sequence[Any], named: Mapping[str, Any], timeout: float | None) -> Any:
        try:
            having = self._first_word()
            asked: dict[str, Any] = {"call": name, "args": list(args)}  # what is small is quick: nothing that is empty
            asked |= {"named": dict(named)} if named else {}
            asked |= {"has": wire.has()} if having else {}
            wire.send(self._asks, asked, having)
            self._await(timeout)
            answer = wire.receive(self._answers)
        except wire.NotSent as error:
            raise LapidarError(
                str(error).replace("the value['args']", "argument ").replace("the value['named']", "argument ")
            ) from error
        except (wire.Cut, BrokenPipeError) as error:
            raise self._ended(name) from error
        except KeyboardInterrupt:
            self.close(now=True)
            raise
        if "error" not in answer:
            return answer["value"]
        told = answer["error"]
        lines = [line for line in told["said"].strip().splitlines() if not line.startswith("Traceback (")][-_LINES:]
        type_of = "" if told["type"] == "error" else f"{told['type']}: "  # R's usual one has no name
        raise CalledFailed(
            f"{name} failed in {self.called}: {type_of}{told['message']}".rstrip(": "),
            why="\n  ".join(lines),
            remedy="Mend the call, or what it calls there.",
            type=told["type"],
            said=told["said"],
        )

    def relay(self, asked: Any, answers: IO[bytes]) -> None:
        """Hand a message on, as it is, and its answer back; what the other side cannot say is said for it.

        Args:
            asked: the stream of what is asked.
            answers: that of the answers.

        Raises:
            Cut: nobody asks any more.
        """
        head, told, parts = wire.receive_raw(asked)
        if "call" not in told["value"]:  # said at the end, for others may have the pipe open too
            raise wire.Cut("it is at its end")
        try:
            self._first_word()
            wire.send_raw(self._asks, head, parts)
            self._await(told["value"].get("timeout"), lambda: channel.is_cut(answers))
            head, _, parts = wire.receive_raw(self._answers)
        except (wire.Cut, BrokenPipeError):
            failed = self._ended(told["value"]["call"])
        except CalledFailed as error:
            failed = error
        else:
            wire.send_raw(answers, head, parts)
            return
        wire.send(answers, {"error": {"type": "CalledFailed", "message": failed.what, "said": failed.why or ""}})

    def _first_word(self) -> Sequence[str]:
        """What the other side has, which it says when it is there."""
        if self._has is None:
            self._await(None)
            self._has = wire.receive(self._answers)["has"]
        return self._has

    def _await(self, timeout: float | None, cut: Callable[[], bool] = lambda: False) -> None:
        """Until something is answered. What the other side started may hold its pipe: it is looked at itself, too.

        Args:
            cut: says whether nobody waits for the answer any more.
        """
        until = None if timeout is None else time.monotonic() + timeout
        while not self._answers_within(
            _LOOKS_SECONDS if until is None else min(_LOOKS_SECONDS, until - time.monotonic())
        ):
            if cut():
                self.close(now=True)
                raise wire.Cut("nobody waits")
            if self._process.poll() is not None and not self._answers_within(0):
                raise wire.Cut("it ended")
            if until is not None and time.monotonic() >= until:
                self.close(now=True)
                raise CalledFailed(
                    f"The call did not end within {timeout:g} s",
                    why=f"{self.called} was ended",
                    remedy="Give it longer: timeout=SECONDS, --at-most SECONDS.",
                )

    def _answers_within(self, seconds: float) -> bool:
        return bool(select.select([self._answers], [], [], max(0.0, seconds))[0])

    def _ended(self, name: str) -> CalledFailed:
        self.close()
        code = self._process.returncode
        how = f"signal {-code}" if code is not None and code < 0 else f"exit code {code}"
        return CalledFailed(f"{self.called} ended in the middle of {name} ({how})", remedy="Look at what it printed.")

    def close(self, *, now: bool = False) -> None:
        """End it: it may finish what it is at for two seconds, unless it is to end now."""
        self.is_closed = True
        for stream in (self._asks, self._answers):
            with suppress(OSError):
                stream.close()
        try:
            self._process.wait(0 if now else _ENDS_SECONDS)
        except subprocess.TimeoutExpired:
            with suppress(ProcessLookupError):
                os.killpg(self._process.pid, signal.SIGKILL)
            self._process.wait()
