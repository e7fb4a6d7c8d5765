"""Ctrl-C at the worst moments: where a library would crash, and where cleaning up fails because of it."""

from __future__ import annotations

import io
import os
import signal
import sys
import tempfile
import unittest
from contextlib import redirect_stderr
from pathlib import Path
from unittest import mock

from lapidar.cli import main


class Loading(unittest.TestCase):
    def test_the_signal_waits_until_a_library_is_loaded(self) -> None:
        """Interrupted in the middle of loading, the library that makes our records would crash later."""
        before = signal.signal(signal.SIGINT, signal.default_int_handler)
        self.addCleanup(signal.signal, signal.SIGINT, before)
        with tempfile.TemporaryDirectory() as folder, mock.patch.object(sys, "path", [folder, *sys.path]):
            text = "import os, signal\nos.kill(os.getpid(), signal.SIGINT)\nLOADED = sum(range(10_000))\n"
            (Path(folder) / "interrupts_itself.py").write_text(text)
            with self.assertRaises(KeyboardInterrupt):
                main._load_undisturbed("interrupts_itself")
            self.assertEqual(sys.modules.pop("interrupts_itself").LOADED, 49_995_000)
        self.assertNotIn(signal.SIGINT, signal.pthread_sigmask(signal.SIG_BLOCK, ()))


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
