"""Where the program begins: ``lapidar``, and ``python -m lapidar``."""

from lapidar import _early
from lapidar.cli.main import program

__all__ = ["_early", "program"]

if __name__ == "__main__":
    program()
