"""Killed, interrupted, out of space: nothing half-written, nothing lost, and the next run works."""

from __future__ import annotations

import itertools
import os
import random
import shutil
import signal
import subprocess
import time
import unittest
from pathlib import Path

from attack.ground import new
from attack.injected import Injector
from lapidar.core.cache.store import Cache
from lapidar.core.records import lockfile
from support import PROGRAM, Case, install, many, wheel


class Killed(Case):
    """kill -9 and Ctrl-C at many moments. Invariant 6."""

    own_cache = True
    MOMENTS = many(8, 4)

    def setUp(self) -> None:
        super().setUp()
        self.venv = self.environment(wheel(self.folder, "sherdlib"))
        self.lapidar("capture", self.venv)
        self.lapidar("restore")
        self.old_lock = self.lock.read_bytes()
        self.random = random.Random(7)

    def stop_at_many_moments(self, *words: str, number: int, prepare: object = None) -> int:
        """Run and stop the program at moments spread over how long it takes; how often it was stopped midway."""
        began = time.monotonic()
        if callable(prepare):
            prepare()
        self.lapidar(*words)
        takes = time.monotonic() - began
        stopped = 0
        for moment in range(self.MOMENTS):
            if callable(prepare):
                prepare()
            process = subprocess.Popen(
                [PROGRAM, *words],
                cwd=self.project,
                env=self.variables,
                stdout=subprocess.PIPE,
                stderr=subprocess.PIPE,
                text=True,
                # Whoever runs the tests in the background of a shell has Ctrl-C switched off for all below.
                preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),
            )
            time.sleep(takes * (moment + self.random.random()) / self.MOMENTS)
            process.send_signal(number)
            said = process.communicate()
            stopped += process.returncode != 0
            # Interrupted while the interpreter was starting, before our first line: it says so in several ways, and
            # ends with 1, which these commands never do.
            ours = "lapidar/cli" in said[1] or "lapidar/core" in said[1]
            before_us = process.returncode == 1 and not ours
            if number == signal.SIGINT and not before_us and process.returncode not in (0, -signal.SIGINT):
                self.assertEqual((process.returncode, "Traceback" in said[1]), (130, False), said)
            self.nothing_is_half_written()
        return stopped

    def nothing_is_half_written(self) -> None:
        lockfile.read(self.lock)
        self.assertTrue((self.restored / "bin" / "python").is_file(), "the environment is gone or half there")
        cache = Cache(self.cache)
        for digest in cache.all_trees():
            for entry in cache.tree(digest):
                self.assertIsNone(cache.flaw(entry) if entry.kind != "l" else None, entry)

    def no_junk_is_left(self) -> None:
        self.assertEqual(list((self.cache / "staging").iterdir()), [])
        self.assertEqual(sorted(path.name for path in self.project.iterdir()), [".lapidar", "lapidar.lock"])
        self.assertEqual(
            sorted(path.name for path in (self.project / ".lapidar").iterdir()), [".gitignore", "env", "project.toml"]
        )
        self.assertIn("sound", self.lapidar("cache", "audit").stdout)

    def test_capture(self) -> None:
        for number in (signal.SIGKILL, signal.SIGINT):
            with self.subTest(signal=number):
                stopped = self.stop_at_many_moments(
                    "capture", str(self.venv), number=number, prepare=self.fresh_package
                )
                self.assertGreater(stopped, self.MOMENTS // 5)
                self.lapidar("capture", self.venv)
                self.lapidar("restore")
                self.no_junk_is_left()

    def fresh_package(self) -> None:
        """Something new to stow, so that a capture really writes, and a new lockfile to write."""
        self.count = getattr(self, "count", 0) + 1
        files = {f"bulk/part{at}.bin": self.random.randbytes(300_000) for at in range(30)}
        install(wheel(self.folder, "bulk", f"{self.count}.0", files=files), self.venv)
        for old in Path(next((self.venv / "lib").glob("python3*/site-packages"))).glob("bulk-*.dist-info"):
            if old.name != f"bulk-{self.count}.0.dist-info":
                shutil.rmtree(old)

    def test_restore(self) -> None:
        def break_it() -> None:
            (self.restored / "broken").write_text("so that restoring has something to do")

        for number in (signal.SIGKILL, signal.SIGINT):
            with self.subTest(signal=number):
                stopped = self.stop_at_many_moments("restore", number=number, prepare=break_it)
                self.assertGreater(stopped, self.MOMENTS // 5)
                self.lapidar("restore")
                self.lapidar("check", "--deep")
                self.no_junk_is_left()

    def test_compiling_byte_code(self) -> None:
        def drop_bytecode() -> None:
            shutil.rmtree(self.cache / "derived")
            (self.cache / "derived").mkdir()
            (self.restored / "broken").write_text("x")

        self.MOMENTS = many(4, 2)
        self.stop_at_many_moments("restore", number=signal.SIGKILL, prepare=drop_bytecode)
        self.lapidar("restore", "--verify")
        self.lapidar("check", "--deep")
        self.lapidar("cache", "prune")
        self.no_junk_is_left()


class NoSpace(Case):
    """A disk that is full, at every size at which it can be."""

    own_cache = True

    def setUp(self) -> None:
        super().setUp()
        self.venv = self.environment(wheel(self.folder, "sherdlib"))
        self.small = self.folder / "small"
        self.small.mkdir()

    def mounted(self, size: str, *words: object) -> subprocess.CompletedProcess[str]:
        """Run the program where `small` is a file system of this size, and keep what is on it afterwards."""
        script = (
            f"mount -t tmpfs -o size={size} none '{self.small}' && cp -a '{self.folder}/kept/.' '{self.small}/' && "
            f"{{ \"$@\"; code=$?; rm -rf '{self.folder}/after'; cp -a '{self.small}' '{self.folder}/after'; exit $code; }}"
        )
        (self.folder / "kept").mkdir(exist_ok=True)
        return self.in_namespace(script, PROGRAM, *words)

    def test_capture_into_a_full_cache(self) -> None:
        for size in ("100k", "1m", "8m", "24m", "40m"):
            with self.subTest(size=size):
                done = self.mounted(size, "capture", self.venv, "--cache", self.small / "cache")
                self.assertEqual(done.returncode, 3, done.stdout + done.stderr)
                self.assertIn("no space is left", done.stderr.lower())
                self.assertIn("next:", done.stderr)
                self.assertFalse(self.lock.exists())
                after = self.folder / "after" / "cache"
                if (after / "staging").is_dir():
                    self.assertEqual(list((after / "staging").iterdir()), [])
                    self.assertEqual(list((after / "snapshots").iterdir()), [])
                    for entry in Cache(after).all_files():
                        self.assertGreater(len(entry.name), 60)

    def test_restore_onto_a_full_disk(self) -> None:
        self.lapidar("capture", self.venv)
        for size in ("200k", "4m", "30m"):
            with self.subTest(size=size):
                done = self.mounted(size, "restore", "--into", self.small / "env")
                self.assertEqual(done.returncode, 3, done.stdout + done.stderr)
                self.assertIn("no space is left", done.stderr)
                self.assertEqual([path.name for path in (self.folder / "after").iterdir()], [])

    def test_an_older_environment_survives_a_full_disk(self) -> None:
        self.lapidar("capture", self.venv)
        done = self.mounted("140m", "restore", "--into", self.small / "env")
        self.assertEqual(done.returncode, 0, done.stderr)
        shutil.rmtree(self.folder / "kept")
        (self.folder / "after").rename(self.folder / "kept")
        install(wheel(self.folder, "kilnlib"), self.venv)
        self.lapidar("capture", self.venv)
        done = self.mounted("140m", "restore", "--into", self.small / "env")
        self.assertEqual(done.returncode, 3, done.stdout + done.stderr)
        self.assertEqual([path.name for path in (self.folder / "after").iterdir()], ["env"])
        self.python(self.folder / "after" / "env", "import sherdlib")

    def test_the_lockfile_on_a_full_disk(self) -> None:
        self.lapidar("capture", self.venv)
        (self.folder / "kept").mkdir()
        shutil.copy(self.lock, self.folder / "kept" / "lapidar.lock")
        # A kilobyte is left beside the old lockfile.
        pages = -(-self.lock.stat().st_size // 4096) * 4
        (self.folder / "kept" / "ballast").write_bytes(b"x" * 60_000)
        install(wheel(self.folder, "kilnlib"), self.venv)
        done = self.mounted(f"{64 + pages}k", "capture", self.venv, "--lock", self.small / "lapidar.lock")
        self.assertEqual(done.returncode, 3, done.stdout + done.stderr)
        self.assertEqual((self.folder / "after/lapidar.lock").read_bytes(), self.lock.read_bytes())
        self.assertEqual(sorted(path.name for path in (self.folder / "after").iterdir()), ["ballast", "lapidar.lock"])


class Injected(unittest.TestCase):
    """A system call fails, any of them, in any way: a few of the hundreds; `make attack` tries them all. Invariant 6."""

    TRIES = int(os.environ.get("LAPIDAR_ATTACK_TRIES", "12"))

    def test_calls_of_capture_restore_prune_and_audit(self) -> None:
        ground, folder = new()
        self.addCleanup(folder.cleanup)
        injector = Injector(ground, ground.place / "faults.so")
        for fault in itertools.islice(injector.every(random.Random(4)), self.TRIES):
            with self.subTest(fault=fault.shown):
                injector.inject(fault)


if __name__ == "__main__":
    unittest.main()
