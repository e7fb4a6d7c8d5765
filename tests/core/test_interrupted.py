"""Ctrl-C at the worst moments: where a library would crash, and where cleaning up fails because of it."""

from __future__ import annotations

import io
import os
import signal
import subprocess
import sys
import unittest
from contextlib import redirect_stderr
from unittest import mock

from lapidar.cli import main
from lapidar.core.cache.store import Cache
from support import PROGRAM, Case

WHEN_A_MODULE_IS_READ = """
import os, sys
def hook(event, details):
    if event == "open" and os.environ["INTERRUPTED_AT"] in str(details[0]).replace("__pycache__/", ""):
        os.kill(os.getpid(), 2)
sys.addaudithook(hook)
"""


# A signal that another thread of ours is given ends no call that the main thread waits in.
WHILE_IT_WAITS = """
import os, signal, sys, threading, time
from contextlib import nullcontext
from lapidar.core.system.waking import interruptible
child = os.fork()
if child == 0:
    time.sleep(3)
    os._exit(0)
def send():
    time.sleep(0.3)
    os.kill(os.getpid(), signal.SIGINT)
threading.Thread(target=send).start()
signal.pthread_sigmask(signal.SIG_BLOCK, [signal.SIGINT])
began = time.monotonic()
try:
    with interruptible() if sys.argv[1] == "with" else nullcontext():
        os.waitpid(child, 0)
except KeyboardInterrupt:
    pass
print(time.monotonic() - began < 2)
"""


class Waiting(unittest.TestCase):
    def test_a_signal_ends_it_wherever_it_comes(self) -> None:
        told = {}
        for how in ("with", "without"):
            words = [sys.executable, "-c", WHILE_IT_WAITS, how]
            told[how] = subprocess.run(words, capture_output=True, text=True, check=True).stdout.strip()
        self.assertEqual(told, {"with": "True", "without": "False"}, "the second tells that the case is the one meant")


class Starting(Case):
    """Ctrl-C while the program is being loaded."""

    own_cache = True

    def setUp(self) -> None:
        super().setUp()
        Cache(self.cache, create=True)

    def interrupted_at(self, module: str) -> tuple[int, str]:
        (self.folder / "sitecustomize.py").write_text(WHEN_A_MODULE_IS_READ)
        variables = {**self.variables, "PYTHONPATH": str(self.folder), "INTERRUPTED_AT": module}
        done = subprocess.run(
            [PROGRAM, "cache", "audit"],
            cwd=self.project,
            env=variables,
            capture_output=True,
            text=True,
            # Whoever runs the tests in the background of a shell has Ctrl-C switched off for all below.
            preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),
        )
        return done.returncode, done.stderr

    def test_while_it_is_loaded(self) -> None:
        """Nothing is begun: it ends at once, and shows no reader what it was doing. `ipaddress` makes
        of an interruption an error of its own, and `msgspec` would crash later."""
        for module in ("/cli/main.", "/argparse.", "/pathlib.", "/ipaddress.", "/cli/cache.", "/msgspec/"):
            with self.subTest(module):
                self.assertEqual(self.interrupted_at(module), (130, "lapidar: interrupted before anything was begun\n"))

    def test_while_the_command_works(self) -> None:
        code, said = self.interrupted_at("/cache/auditing.")
        self.assertEqual(code, 130, said)
        self.assertNotIn("Traceback", said)
        self.assertIn("interrupted", said)

    def test_where_it_is_switched_off(self) -> None:
        """Whoever ignores Ctrl-C for a program in the background is not overruled."""
        words = f"trap '' INT; exec '{PROGRAM}' cache audit"
        (self.folder / "sitecustomize.py").write_text(WHEN_A_MODULE_IS_READ)
        for module in ("/argparse.", "/cache/auditing."):
            variables = {**self.variables, "PYTHONPATH": str(self.folder), "INTERRUPTED_AT": module}
            done = subprocess.run(["sh", "-c", words], cwd=self.project, env=variables, capture_output=True, text=True)
            self.assertEqual((done.returncode, done.stderr), (0, ""))


class CleaningUp(unittest.TestCase):
    def code(self, raising: object) -> tuple[int, str]:
        said = io.StringIO()
        with mock.patch("lapidar.cli.cache.run", raising), redirect_stderr(said):
            return main.main(["cache", "summary"]), said.getvalue()

    def test_an_error_that_came_of_the_interruption(self) -> None:
        def interrupted(session: object) -> int:
            try:
                raise KeyboardInterrupt
            finally:
                os.close(10_000)

        code, said = self.code(interrupted)
        self.assertEqual(code, 130)
        self.assertIn("interrupted", said)

    def test_the_same_error_without_one(self) -> None:
        code, said = self.code(lambda session: os.close(10_000))
        self.assertEqual(code, 3)
        self.assertIn("Bad file descriptor", said)


if __name__ == "__main__":
    unittest.main()
