"""Work in a second process."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
import threading
import time
import unittest
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from unittest import mock

from lapidar.core.environment.status import Walking
from lapidar.core.parallel import Begun, both, shares
from support import InFolder

_MANY = min(4, os.cpu_count() or 1)


class SecondProcess(unittest.TestCase):
    def test_both_results_come(self) -> None:
        self.assertEqual(both(lambda: 1, lambda: (2, "two")), (1, (2, "two")))

    def test_a_work_that_fails_there_is_done_here(self) -> None:
        here = []

        def work() -> int:
            here.append(1)
            if len(here) == 1:
                raise ValueError("the first time it fails")
            return 5

        work_here = Begun(work)
        here.append(1)  # only this process sees it
        self.assertEqual(work_here.result(), 5)

    def test_the_first_process_is_killed(self) -> None:
        """With no one left to take their results, however large, the others end too."""
        script = (
            "import os, time\n"
            "from lapidar.core.parallel import Begun\n"
            "begun = [Begun(lambda: (time.sleep(0.3), b'x' * 1_000_000)) for _ in range(3)]\n"
            "os.kill(os.getpid(), 9)\n"
        )
        # They hold the pipe that is read here: it ends when the last of them has.
        process = subprocess.Popen([sys.executable, "-c", script], stdout=subprocess.PIPE, start_new_session=True)
        try:
            process.communicate(timeout=30)
        finally:
            with suppress(ProcessLookupError):
                os.killpg(process.pid, signal.SIGKILL)
        self.assertEqual(process.returncode, -signal.SIGKILL)

    def test_no_fork_beside_other_threads(self) -> None:
        """A lock that another thread holds would be held in the child for ever."""
        lock, held, done = threading.Lock(), threading.Event(), threading.Event()

        def hold() -> None:
            with lock:
                held.set()
                done.wait()

        thread = threading.Thread(target=hold)
        thread.start()
        self.addCleanup(thread.join)
        self.addCleanup(done.set)
        held.wait()
        self.assertEqual(shares([1, 2, 3, 4], lambda part: os.getpid(), lambda part: 0).count(os.getpid()), _MANY - 1)
        begun = Begun(lambda: lock.acquire(timeout=0.01))
        self.assertFalse(begun.result())

    @unittest.skipIf(_MANY == 1, "there is one processor only")
    def test_it_is_another_process(self) -> None:
        script = "import os; from lapidar.core.parallel import both; print(both(os.getpid, os.getpid))"
        said = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True).stdout
        self.assertEqual(len(set(said.strip(" ()\n").split(", "))), 2)

    def test_interrupted_while_it_waits(self) -> None:
        """Ctrl-C in the middle of waiting, then dropping what was begun: once a closed descriptor was read again."""

        def interrupted(number: int, frame: object) -> None:
            raise KeyboardInterrupt

        before = signal.signal(signal.SIGALRM, interrupted)
        self.addCleanup(signal.signal, signal.SIGALRM, before)
        begun = Begun(lambda: time.sleep(1))
        signal.setitimer(signal.ITIMER_REAL, 0.1)
        with self.assertRaises(KeyboardInterrupt):
            begun.result()
        begun.drop()


class Walked(InFolder):
    def test_what_is_taken_away_meanwhile_is_not_there(self) -> None:
        """As when another restore puts its environment in the place of the one that is looked at."""
        for name in ("a/tin.txt", "a/lead.txt", "b/ash.txt"):
            (self.root / name).parent.mkdir(exist_ok=True)
            (self.root / name).write_text("x")
        listed = os.scandir

        @contextmanager
        def removing(folder: int) -> Iterator[list[os.DirEntry[str]]]:
            entries = list(listed(folder))
            if any(entry.name == "lead.txt" for entry in entries):
                (self.root / "a/lead.txt").unlink()
                shutil.rmtree(self.root / "b", ignore_errors=True)
            yield entries

        with mock.patch("os.scandir", removing), mock.patch("lapidar.core.parallel._may_fork", lambda: False):
            found = Walking(self.root).result()
        self.assertIn("a/tin.txt", found)
        self.assertNotIn("a/lead.txt", found)


if __name__ == "__main__":
    unittest.main()
