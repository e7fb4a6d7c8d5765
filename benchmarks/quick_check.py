"""The quick check of a clean environment against `find` that prints inode, size and time of each file."""

from __future__ import annotations

from common import PROGRAM, Timed, ratio, restored


def main() -> None:
    with restored() as folder:
        project = folder / "project"
        ratio(
            "quick check, clean",
            Timed([PROGRAM, "check"]),
            Timed(["find", project / ".lapidar" / "env", "-printf", r"%i %s %T@\n"]),
            3.0,
            runs=9,
            folder=project,
        )


if __name__ == "__main__":
    main()
