"""A channel for a client in another language, which can start a program, read what it writes, and write into a pipe
that has a name; see docs/elsewhere.md."""

from __future__ import annotations

import os
import select
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import IO

from lapidar.core.elsewhere import wire
from lapidar.core.errors import LapidarError

__all__ = ["is_cut", "opened", "refuse"]


@contextmanager
def opened(path: Path, answers: IO[bytes]) -> Iterator[IO[bytes] | None]:
    """Make the pipe that is asked by, say so, and wait until something is.

    Args:
        path: of the pipe; the client opens it when it reads that it is there.
        answers: the stream that the client reads.

    Yields:
        What is asked; None where the client ended before it asked.

    Raises:
        LapidarError: the pipe cannot be made.
    """
    try:
        os.mkfifo(path, 0o600)
    except OSError as error:
        raise LapidarError(f"{path} cannot be made", why=error.strerror or str(error)) from error
    try:
        # Not waiting, or it would wait for a client that may be gone; what is read, then is waited for.
        descriptor = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
        with os.fdopen(descriptor, "rb") as asked:
            wire.send(answers, {"ready": True})
            is_asked = _awaited(descriptor, answers.fileno())
            os.set_blocking(descriptor, True)
            yield asked if is_asked else None
    finally:
        with suppress(OSError):
            path.unlink()


def refuse(answers: IO[bytes], error: LapidarError) -> None:
    """Say instead that there is nothing to call, and why."""
    message = "\n".join(one for one in (error.what, error.why, error.remedy and f"next: {error.remedy}") if one)
    wire.send(answers, {"error": {"type": "LapidarError", "message": message, "said": ""}})


def is_cut(answers: IO[bytes]) -> bool:
    """Whether nobody reads the answers any more."""
    poll = select.poll()
    poll.register(answers.fileno(), 0)
    return bool(poll.poll(0))


def _awaited(asked: int, answers: int) -> bool:
    """Until something is asked; False where nobody reads the answers any more."""
    poll = select.poll()
    poll.register(asked, select.POLLIN)
    poll.register(answers, 0)  # only whether it is cut off
    events = dict(poll.poll())
    return asked in events
