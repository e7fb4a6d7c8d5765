"""Ctrl-C before a command begins: the process ends at once, with one line.

Until a command begins to work there is nothing to clean up, and an interpreter that is interrupted while it imports
says so in many ways, none of them meant for a person (and a library interrupted while it is loaded may crash much
later). `lapidar.cli.main.main` takes Ctrl-C over.
"""

# The builtin modules: `signal` and `os` import others, and an interruption could meet those.
from _signal import SIGINT, default_int_handler, getsignal, signal  # type: ignore[import-not-found]
from posix import _exit, write

__all__ = ["ended_early"]


def ended_early(*_: object) -> None:
    """End the process: nothing was begun."""
    write(2, b"lapidar: interrupted before anything was begun\n")
    _exit(130)


if getsignal(SIGINT) is default_int_handler:
    signal(SIGINT, ended_early)
