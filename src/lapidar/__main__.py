"""``python -m lapidar`` is the same program as ``lapidar``."""

from lapidar.cli.main import program

if __name__ == "__main__":
    program()
