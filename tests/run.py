"""Runs the tests and closes with a line that says how many passed and failed.

python tests/run.py                 all of them
python tests/run.py commands.test_check core.test_trees
"""

from __future__ import annotations

import os
import sys
import time
import unittest
from pathlib import Path
from typing import Any

SLOWEST = 12
ENOUGH_BYTES = 8_000_000_000
HERE = Path(__file__).parent


class Result(unittest.TextTestResult):
    """Also knows how long each test took."""

    def __init__(self, *words: Any, **settings: Any) -> None:
        super().__init__(*words, **settings)
        self.seconds: dict[str, float] = {}

    def startTest(self, test: unittest.TestCase) -> None:
        self._began = time.monotonic()
        super().startTest(test)

    def stopTest(self, test: unittest.TestCase) -> None:
        super().stopTest(test)
        self.seconds[test.id()] = time.monotonic() - self._began


def work_in_memory() -> None:
    """Put the tests' folders into memory where there is plenty: they flush thousands of files to the disk."""
    memory = "/dev/shm"
    if "TMPDIR" in os.environ or not os.access(memory, os.W_OK):
        return
    found = os.statvfs(memory)
    if found.f_bavail * found.f_frsize > ENOUGH_BYTES and not found.f_flag & os.ST_NOEXEC:
        os.environ["TMPDIR"] = memory


def main() -> int:
    work_in_memory()  # before any module of the tests makes a folder
    sys.path.insert(0, str(HERE))
    loader = unittest.TestLoader()
    names = sys.argv[1:]
    suite = loader.loadTestsFromNames(names) if names else loader.discover(str(HERE), top_level_dir=str(HERE))
    began = time.monotonic()
    result = unittest.TextTestRunner(verbosity=2, resultclass=Result).run(suite)
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    skipped = len(result.skipped)
    for test, reason in result.skipped:
        print(f"SKIPPED {test}: {reason}")
    assert isinstance(result, Result)
    for name, seconds in sorted(result.seconds.items(), key=lambda one: -one[1])[:SLOWEST]:
        print(f"{seconds:6.1f} s  {name}")
    print(f"in {time.monotonic() - began:.0f} s")
    passed = result.testsRun - failed - skipped
    print(f"{passed} passed, {failed} failed" + (f", {skipped} skipped" if skipped else ""))
    return 1 if failed or not result.testsRun else 0


if __name__ == "__main__":
    raise SystemExit(main())
