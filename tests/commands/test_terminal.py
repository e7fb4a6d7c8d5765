"""What a person at a terminal sees: drawn tables, colours, a progress bar; and none of it where no terminal is."""

from __future__ import annotations

import fcntl
import os
import pty
import re
import struct
import subprocess
import termios
import unittest

from support import PROGRAM, Case, wheel

COLOUR = re.compile(r"\x1b\[[0-9;]*m")


class Terminal(Case):
    own_cache = True

    def on_terminal(self, *words: object, width: int = 100, **variables: str) -> str:
        """Run the program with a terminal for both of its outputs; what came, escape sequences and all."""
        ours, theirs = pty.openpty()
        fcntl.ioctl(theirs, termios.TIOCSWINSZ, struct.pack("HHHH", 40, width, 0, 0))
        process = subprocess.Popen(
            [PROGRAM, *map(str, words)],
            cwd=self.project,
            env={**self.variables, "TERM": "xterm-256color", **variables},
            stdin=subprocess.DEVNULL,
            stdout=theirs,
            stderr=theirs,
        )
        os.close(theirs)
        pieces = []
        try:
            while piece := os.read(ours, 65536):
                pieces.append(piece)
        except OSError:
            pass  # the other end is closed: it has ended
        os.close(ours)
        self.assertEqual(process.wait(), 0, b"".join(pieces))
        return b"".join(pieces).decode()

    def setUp(self) -> None:
        super().setUp()
        self.lapidar("capture", self.environment(wheel(self.folder, "sherdlib"), wheel(self.folder, "kilnlib")))

    def test_a_table_is_drawn(self) -> None:
        said = self.on_terminal("show", "packages")
        plain = COLOUR.sub("", said)
        self.assertIn("───", plain)
        self.assertRegex(plain, r"kilnlib\s+1\.0")
        self.assertNotIn("─", self.lapidar("show", "packages").stdout)

    def test_a_narrow_terminal_loses_nothing(self) -> None:
        said = COLOUR.sub("", self.on_terminal("show", "libraries", width=60))
        flat = re.sub(r"[\s─]", "", said)
        for row in self.json("show", "libraries"):
            self.assertIn(row["soname"][:8], flat)
        self.assertLessEqual(max(map(len, said.splitlines())), 60)

    def test_colours_are_asked_for_by_a_terminal_alone(self) -> None:
        self.lapidar("restore")
        self.assertIn("\x1b[32m", self.on_terminal("check"))
        self.assertNotIn("\x1b", self.on_terminal("check", NO_COLOR="1"))
        self.assertNotIn("\x1b", self.lapidar("check").stdout)

    def test_a_bar_for_what_takes_a_moment(self) -> None:
        """Compiling for the first time does; the bar is gone in the end, and a dumb terminal gets none."""
        restore = ["restore", "--into", self.folder / "one"]
        for path in (self.cache / "derived").iterdir():
            path.rename(self.folder / path.name)
        said = self.on_terminal(*restore)
        self.assertIn("━", said)
        self.assertRegex(COLOUR.sub("", said), r"\d+/\d+")
        self.assertIn("\x1b[2K", said, "the line of the bar is cleared")
        self.assertNotIn("━", self.on_terminal("restore", "--into", self.folder / "two", TERM="dumb"))


if __name__ == "__main__":
    unittest.main()
