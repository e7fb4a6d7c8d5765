"""Ctrl-C at the worst moments: where a library would crash, and where cleaning up fails because of it."""

from __future__ import annotations

import io
import os
import signal
import unittest
from collections.abc import Callable
from contextlib import redirect_stderr
from unittest import mock

import msgspec

from lapidar.cli import main
from lapidar.core import typed


class Interrupting(msgspec.Struct):
    """A record that sends Ctrl-C to its own process while it is made."""

    name: str

    def __post_init__(self) -> None:
        os.kill(os.getpid(), signal.SIGINT)
        MADE.append(self.name)


MADE: list[str] = []


class KeptBack(unittest.TestCase):
    def setUp(self) -> None:
        before = signal.signal(signal.SIGINT, signal.default_int_handler)
        self.addCleanup(signal.signal, signal.SIGINT, before)
        MADE.clear()

    def test_until_the_record_is_made(self) -> None:
        makes: tuple[Callable[[], Interrupting], ...] = (
            lambda: typed.convert({"name": "clay"}, Interrupting),
            lambda: typed.decode(b'{"name": "clay"}', Interrupting),
        )
        for make in makes:
            with self.assertRaises(KeyboardInterrupt):
                make()
        self.assertEqual(MADE, ["clay", "clay"])
        self.assertNotIn(signal.SIGINT, signal.pthread_sigmask(signal.SIG_BLOCK, ()))

    def test_errors_pass_and_the_signal_is_let_through_again(self) -> None:
        with self.assertRaises(msgspec.ValidationError):
            typed.convert({"name": 3}, Interrupting)
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
