"""``python -m lapidar`` is the same program as ``lapidar``."""

from lapidar.cli.main import main

if __name__ == "__main__":
    raise SystemExit(main())
