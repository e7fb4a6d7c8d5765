"""Restoring by hard links against `cp -al` of the result, and by copying against `cp -r` of it."""

from __future__ import annotations

from common import PROGRAM, Timed, drop, ratio, restored


def main() -> None:
    with restored() as folder:
        project = folder / "project"
        again, result = folder / "again", project / ".lapidar" / "env"
        for placement, copy, bar in (("link", "-al", 1.5), ("copy", "-r", 1.3)):
            ratio(
                f"restore, {placement}, against cp {copy}",
                Timed([PROGRAM, "-q", "restore", "--into", again, "--placement", placement], drop(again)),
                Timed(["cp", copy, result, folder / "copy"], drop(folder / "copy")),
                bar,
                folder=project,
            )


if __name__ == "__main__":
    main()
