"""Where the program begins: ``lapidar``, and ``python -m lapidar``.

Until a command begins to work there is nothing to clean up, and an interpreter that is interrupted while it imports
says so in many ways, none of them meant for a person (and a library interrupted while it is loaded may crash much
later). So Ctrl-C ends the process as it ends any other until `lapidar.cli.main.main` takes it over.
"""

# The builtin module: `signal` itself imports others, and an interruption could meet those.
from _signal import SIG_DFL, SIGINT, default_int_handler, getsignal, signal  # type: ignore[import-not-found]

if getsignal(SIGINT) is default_int_handler:
    signal(SIGINT, SIG_DFL)

from lapidar.cli.main import program

__all__ = ["program"]

if __name__ == "__main__":
    program()
