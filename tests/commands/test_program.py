"""The program as such: help, exit codes, JSON, colours, what it imports; and the Python API."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import unittest
from typing import Any

import lapidar
from lapidar.cli.main import COMMANDS
from support import PROGRAM, Case, pythons, wheel


class Program(Case):
    def test_every_command_has_help_with_an_example(self) -> None:
        said = self.lapidar("--help").stdout
        self.assertIn("exit codes", said)
        for name in COMMANDS:
            with self.subTest(command=name):
                self.assertIn(name, said)
                own = self.lapidar(name, "--help").stdout
                self.assertIn("examples:\n  lapidar " + name, own)
                self.assertIn("--cache", own)

    def test_help_is_quick_to_load(self) -> None:
        for words in (["--help"], ["--version"], ["capture", "--help"]):
            script = (
                "import sys\nfrom lapidar.cli.main import main\ntry: main(sys.argv[1:])\nexcept SystemExit: pass\n"
                "heavy = {'numpy', 'pandas', 'scipy', 'matplotlib', 'rich', 'msgspec', 'packaging'} & set(sys.modules)\n"
                "print('heavy:', sorted(heavy))"
            )
            done = subprocess.run([sys.executable, "-c", script, *words], capture_output=True, text=True, check=True)
            self.assertIn("heavy: []", done.stdout)

    def test_the_core_knows_nothing_of_the_interface(self) -> None:
        script = (
            "import pkgutil, importlib, sys, lapidar.core\n"
            "for m in pkgutil.walk_packages(lapidar.core.__path__, 'lapidar.core.'):\n"
            "    if not m.name.rpartition('.')[2].startswith('_'): importlib.import_module(m.name)\n"
            "print([n for n in sys.modules if n.startswith(('lapidar.cli', 'rich', 'argparse'))])"
        )
        done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True)
        self.assertEqual(done.stdout.strip(), "[]")

    def test_wrong_command_lines(self) -> None:
        for words in (("nonsense",), ("capture", "--nonsense"), ("restore", "--placement", "magic"), ("cache",)):
            with self.subTest(words=words):
                self.assertIn("next: lapidar", self.lapidar(*words, code=2).stderr)

    def test_options_before_and_after_the_command(self) -> None:
        environment = self.environment(wheel(self.folder, "sherdlib"))
        other = self.folder / "other project"
        other.mkdir()
        self.lapidar("--project", other, "-q", "capture", environment)
        self.assertTrue((other / "lapidar.lock").is_file())
        self.lapidar("capture", environment, "--project", other, cwd="/")
        self.assertIn("no project folder", self.fails("capture", "--project", self.folder / "none"))

    def test_quiet_and_json(self) -> None:
        environment = self.environment(wheel(self.folder, "sherdlib"))
        quiet = self.lapidar("-q", "capture", environment).stdout
        self.assertEqual(len(quiet.splitlines()), 1)
        for words in (
            ("capture", environment),
            ("restore",),
            ("check",),
            ("show",),
            ("cache", "summary"),
            ("cache", "prune"),
        ):
            self.assertIsInstance(self.json(*words), dict)
        error = json.loads(self.lapidar("capture", self.folder / "none", "--json", code=3).stdout)["error"]
        self.assertIn("no environment", error["what"])
        self.assertTrue(error["remedy"])

    def test_colour_only_on_a_terminal_that_wants_it(self) -> None:
        import os
        import pty

        def on_terminal(**variables: str) -> str:
            leader, follower = pty.openpty()
            with subprocess.Popen(
                [PROGRAM, "cache", "prune", "--dry-run"],
                stdout=follower,
                stderr=follower,
                env={**self.variables, "TERM": "xterm", **variables},
            ) as process:
                os.close(follower)
                process.wait()
            said = os.read(leader, 10_000).decode()
            os.close(leader)
            return said

        self.lapidar("capture", self.environment())
        self.cache = self.folder
        self.assertNotIn("\033[", self.lapidar("check", code=1).stdout)
        self.variables["LAPIDAR_CACHE"] = str(self.folder / "none")
        self.assertIn("\033[31m", on_terminal())
        self.assertNotIn("\033[", on_terminal(NO_COLOR="1"))

    def test_a_reader_that_goes_away(self) -> None:
        self.lapidar("capture", self.environment())
        done = subprocess.run(
            f"'{PROGRAM}' show runtime | true",
            shell=True,
            cwd=self.project,
            env=self.variables,
            capture_output=True,
            text=True,
            check=False,
        )
        self.assertEqual(done.stderr, "")

    def test_the_answer_stays_where_the_reader_goes_away(self) -> None:
        """`check | head`: no is still no."""
        self.lapidar("capture", self.environment())
        (self.project / "lapidar.toml").write_text('[needs]\npackages = ["never-there"]\n')
        for words, code in (("check", 1), ("show packages", 0), ("check --json", 1)):
            done = subprocess.run(
                ["bash", "-c", f"'{PROGRAM}' {words} | true; echo ${{PIPESTATUS[0]}}"],
                cwd=self.project,
                env=self.variables,
                capture_output=True,
                text=True,
                check=False,
            )
            self.assertEqual((done.stdout, done.stderr), (f"{code}\n", ""), words)

    def test_each_option_of_the_python_api(self) -> None:
        """What it is called is what it does: told by what only that option sees."""
        lapidar.capture(self.environment(), project=self.project, cache=self.cache)
        self.addCleanup(shutil.rmtree, self.folder / "there", ignore_errors=True)
        restored = lapidar.restore(
            project=self.project, cache=self.cache, into=self.folder / "there", placement="copy", libraries="private"
        )
        self.assertEqual((restored.placement, restored.libraries), ("copy", "private"))
        there: dict[str, Any] = {"project": self.project, "cache": self.cache, "environment": self.folder / "there"}
        quick, deep = lapidar.check(**there), lapidar.check(**there, deep=True)
        live = lapidar.check(**there, live=True)
        self.assertEqual((quick.deep, quick.live), (False, None))
        self.assertEqual((deep.deep, deep.live), (True, None))
        self.assertFalse(live.deep)
        self.assertIsNotNone(live.live)
        # The same size, and the time put back: only reading it tells.
        path = next((self.folder / "there" / "lib").glob("python3*/this.py"))
        status, data = path.stat(), path.read_bytes()
        path.write_bytes(data[:-1] + b"#")
        os.utime(path, ns=(status.st_atime_ns, status.st_mtime_ns))
        self.assertFalse(lapidar.check(**there, deep=True).clean)

    def test_the_python_api(self) -> None:
        environment = self.environment(wheel(self.folder, "sherdlib"))
        captured = lapidar.capture(environment, project=self.project, cache=self.cache)
        self.assertEqual([package.name for package in captured.snapshot.packages], ["sherdlib"])
        for wrong in ({"placement": "clone"}, {"libraries": "mine"}):
            with self.assertRaisesRegex(lapidar.LapidarError, "There is no '(clone|mine)'"):
                lapidar.restore(project=self.project, cache=self.cache, **wrong)
        restored = lapidar.restore(project=self.project, cache=self.cache, placement="copy")
        self.assertEqual(restored.placement, "copy")
        self.assertTrue(lapidar.check(project=self.project, cache=self.cache).clean)
        (restored.environment / "bin" / "python").unlink()
        self.assertFalse(lapidar.check(project=self.project, cache=self.cache).clean)
        with self.assertRaises(lapidar.api.LapidarError):
            lapidar.restore(project=self.folder, cache=self.cache)


class EveryPython(Case):
    """Each CPython from 3.9 on that this machine has, the system's own among them. Compiled once for both tests. All of
    them where LAPIDAR_TEST_ALL is set, as in CI: to compile a standard library takes a while."""

    together = True
    slow = True

    def test_round_trip(self) -> None:
        found = pythons()
        self.assertGreaterEqual(len(found), 1)
        if not os.environ.get("LAPIDAR_TEST_ALL") and len(found) > 3:
            found = [found[0], found[-2], found[-1]]  # the one of these tests, the oldest, the system's
        for number, python in enumerate(found):
            with self.subTest(python=python):
                self.lapidar("capture", python)
                place = self.folder / f"restored {number}"
                self.lapidar("restore", "--into", place)
                moved = self.folder / f"moved {number}"
                place.rename(moved)
                self.python(
                    moved,
                    "import sys, sqlite3, ssl, ctypes, json, zlib\n"
                    f"assert sys.prefix == {str(moved)!r}, sys.prefix\n"
                    "outside = [p for p in sys.path if p and not p.startswith(sys.prefix)]\n"
                    "assert not outside, outside",
                )
                self.lapidar("capture", moved, "--lock", "again.lock")
                self.assertEqual((self.project / "again.lock").read_text(), self.lock.read_text())
                self.lapidar("check", "--env", moved, "--deep")

    def test_virtual_environments(self) -> None:
        tried = 0
        for number, python in enumerate(pythons()):
            with self.subTest(python=python):
                made = wheel(
                    self.folder,
                    "sherdlib",
                    entry_points="[console_scripts]\nsherd = sherdlib:main\n",
                    files={"sherdlib.py": "def main():\n    print('sherd')\n"},
                )
                try:
                    environment = self.environment(made, name=f"venv {number}", python=python)
                except subprocess.CalledProcessError:
                    continue  # Debian ships venv apart
                self.lapidar("capture", environment)
                self.lapidar("restore", "--into", self.folder / f"env {number}")
                said = self.lapidar("run", "--env", self.folder / f"env {number}", "sherd").stdout
                self.assertEqual(said, "sherd\n")
                tried += 1
        self.assertGreater(tried, 0, "no Python of this machine can make a virtual environment")


if __name__ == "__main__":
    unittest.main()
