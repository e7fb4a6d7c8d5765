"""The most memory that capturing and restoring take (maximum resident set size, as the kernel counts it)."""

from __future__ import annotations

import os
import subprocess

from common import ENVIRONMENT, PROGRAM, say, workshop


def peak_megabytes(*words: object, folder: object) -> float:
    process = subprocess.Popen([PROGRAM, "-q", *map(str, words)], cwd=str(folder), stdout=subprocess.DEVNULL)
    _, status, usage = os.wait4(process.pid, 0)
    process.returncode = os.waitstatus_to_exitcode(status)
    assert process.returncode == 0
    return usage.ru_maxrss / 1000


def main() -> None:
    with workshop() as folder:
        project = folder / "project"
        for name, words in (
            ("memory: capture, empty cache", ["capture", ENVIRONMENT]),
            ("memory: capture again", ["capture", ENVIRONMENT]),
            ("memory: restore, byte-code to compile", ["restore"]),
            ("memory: restore, warm", ["restore", "--into", folder / "again"]),
        ):
            megabytes = peak_megabytes(*words, folder=project)
            say(name, "", megabytes, 150, "MB")


if __name__ == "__main__":
    main()
