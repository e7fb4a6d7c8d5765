"""What the program's exit code means."""

from __future__ import annotations

import enum

__all__ = ["ExitCode"]


class ExitCode(enum.IntEnum):
    """Documented in the README and in ``lapidar --help``."""

    DONE = 0
    NO = 1
    USAGE = 2
    FAILED = 3
    INTERRUPTED = 130
