"""The process on the other side of calls: started once, asked as often as one likes, ended with its caller."""

from __future__ import annotations

import os
import select
import signal
import subprocess
from collections.abc import Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from typing import IO, Any

from lapidar.core.elsewhere import wire
from lapidar.core.errors import LapidarError

__all__ = ["CalledFailed", "Other"]

_ENDS_SECONDS = 2.0
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

    def call(self, name: str, args: Sequence[Any], named: Mapping[str, Any], timeout: float | None = None) -> Any:
        """Call a function there.

        Args:
            name: ``module:function``.
            timeout: seconds, after which the other side is ended.

        Raises:
            CalledFailed: it failed there, ended, or took too long.
            LapidarError: an argument cannot travel.
        """
        try:
            wire.send(self._asks, {"call": name, "args": list(args), "named": dict(named)})
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
        raise CalledFailed(
            f"{name} failed in {self.called}: {told['type']}: {told['message']}".rstrip(": "),
            why="\n  ".join(lines),
            remedy="Mend the call, or what it calls there.",
            type=told["type"],
            said=told["said"],
        )

    def _await(self, timeout: float | None) -> None:
        if timeout is None:
            return
        if not select.select([self._answers], [], [], timeout)[0]:
            self.close(now=True)
            raise CalledFailed(
                f"The call did not end within {timeout:g} s",
                why=f"{self.called} was ended",
                remedy="Give it longer: timeout=SECONDS, --at-most SECONDS.",
            )

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
