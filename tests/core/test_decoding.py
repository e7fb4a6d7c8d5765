"""First calls from many threads at once: what is worked out at the first use is worked out once."""

from __future__ import annotations

import subprocess
import sys

from support import Case, wheel

AT_ONCE = """
import sys, threading
ready, errors = threading.Barrier(8), []

def work(number):
    ready.wait()
    try:
        first(number)
    except BaseException as error:
        errors.append(repr(error))

threads = [threading.Thread(target=work, args=(number,)) for number in range(8)]
for thread in threads: thread.start()
for thread in threads: thread.join()
if errors: sys.exit(errors[0])
"""


class FromManyThreads(Case):
    def setUp(self) -> None:
        super().setUp()
        self.venv = self.environment(wheel(self.folder, "sherdlib"))
        self.lapidar("capture", self.venv)

    def at_once(self, first: str) -> None:
        code = first + AT_ONCE
        done = subprocess.run([sys.executable, "-c", code], env=self.variables, capture_output=True, text=True)
        self.assertEqual(done.returncode, 0, done.stderr)

    def test_reading_a_lockfile(self) -> None:
        for _ in range(12):  # it was a segmentation fault in a quarter of the runs
            self.at_once(
                "from pathlib import Path\nfrom lapidar.core.records import lockfile\n"
                f"def first(number): lockfile.read(Path({str(self.lock)!r}))\n"
            )

    def test_capturing_and_restoring(self) -> None:
        for number in range(8):
            (self.project / str(number)).mkdir()
        for _ in range(3):
            self.at_once(
                "import lapidar\ndef first(number):\n"
                f"    place = {str(self.project)!r} + f'/{{number}}'\n"
                f"    lapidar.capture({str(self.venv)!r}, project=place, cache={str(self.cache)!r})\n"
                f"    lapidar.restore(project=place, cache={str(self.cache)!r})\n"
                f"    assert lapidar.check(project=place, cache={str(self.cache)!r}).clean\n"
            )

    def test_errors_stand_at_the_top(self) -> None:
        import lapidar

        with self.assertRaises(lapidar.LapidarError):
            lapidar.restore(project=self.folder, cache=self.cache)
        for name in lapidar.__all__:
            self.assertIsNotNone(getattr(lapidar, name))
        self.assertTrue(issubclass(lapidar.MissingFromCache, lapidar.LapidarError))
