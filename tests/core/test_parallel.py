"""Work in a second process."""

from __future__ import annotations

import signal
import time
import unittest

from lapidar.core.parallel import Begun, both


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


if __name__ == "__main__":
    unittest.main()
