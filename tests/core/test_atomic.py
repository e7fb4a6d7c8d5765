"""Folders for unfinished work: never swept while they are held."""

from __future__ import annotations

import resource
import tempfile
import time
import unittest
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from unittest import mock

from lapidar.core import atomic
from lapidar.core.errors import from_os_error
from support import InFolder


class Unflushed(InFolder):
    def test_a_flush_that_fails_after_the_file_is_there(self) -> None:
        """It is told as what it is: the file stands there, whole."""
        path = self.root / "lapidar.lock"
        broken = mock.patch.object(atomic, "_flush_folder", side_effect=OSError(5, "Input/output error"))
        with broken, self.assertRaises(atomic.Unconfirmed) as caught:
            atomic.write_file(path, b"all of it")
        self.assertEqual(path.read_bytes(), b"all of it")
        told = from_os_error(caught.exception, "capture the environment")
        self.assertIn("is written and whole", told.remedy)
        self.assertNotIn("Could not", told.what)


class Written(InFolder):
    def test_by_many_writers_at_once(self) -> None:
        """Each sweeps what is abandoned; none takes another's part for that. One reader finds only whole texts."""
        path = self.root / "file"
        path.write_bytes(b"0" * 2000)

        def write(number: int) -> bool:
            atomic.write_file(path, str(number % 10).encode() * 2000, flush=False)
            return len(set(path.read_bytes())) == 1 and path.stat().st_size == 2000

        # The moment between making a part and locking it is where another may sweep it.
        lock = atomic._try_lock

        def slow_lock(descriptor: int) -> bool | None:
            time.sleep(0.0005)
            return lock(descriptor)

        with mock.patch.object(atomic, "_try_lock", slow_lock), ThreadPoolExecutor(8) as pool:
            self.assertTrue(all(pool.map(write, range(400))))
        self.assertEqual([entry.name for entry in self.root.iterdir()], ["file"])

    def test_a_file_of_the_users_own_stays_as_it_is_kept(self) -> None:
        real = self.root / "kept" / "lapidar.toml"
        real.parent.mkdir()
        real.write_text("old")
        real.chmod(0o600)
        link = self.root / "lapidar.toml"
        link.symlink_to(real)
        atomic.replace_file(link, b"new")
        self.assertTrue(link.is_symlink())
        self.assertEqual((real.read_text(), real.stat().st_mode & 0o777), ("new", 0o600))

    def test_a_lock_lets_one_in_at_a_time(self) -> None:
        counter = self.root / "counter"
        counter.write_text("0")

        def count(_: int) -> None:
            with atomic.locked(self.root):
                number = int(counter.read_text())
                time.sleep(0.001)
                counter.write_text(str(number + 1))

        with ThreadPoolExecutor(8) as pool:
            list(pool.map(count, range(60)))
        self.assertEqual(counter.read_text(), "60")


class Appended(InFolder):
    def test_a_line_that_is_cut_short_is_taken_back(self) -> None:
        """The disk is full in the middle of a line: the file is what it was, and the next line is no worse for it."""
        path = self.root / "log"
        atomic.append_line(path, b"first")
        before = resource.getrlimit(resource.RLIMIT_FSIZE)
        resource.setrlimit(resource.RLIMIT_FSIZE, (len("first\nsec"), before[1]))
        try:
            with self.assertRaises(OSError):
                atomic.append_line(path, b"second")
        finally:
            resource.setrlimit(resource.RLIMIT_FSIZE, before)
        self.assertEqual(path.read_bytes(), b"first\n")
        atomic.append_line(path, b"third")
        self.assertEqual(path.read_bytes(), b"first\nthird\n")

    def test_a_line_that_was_cut_before_is_ended(self) -> None:
        path = self.root / "log"
        path.write_bytes(b"fir")
        atomic.append_line(path, b"second")
        self.assertEqual(path.read_bytes(), b"fir\nsecond\n")


class WorkFolders(unittest.TestCase):
    def test_made_by_many_at_once(self) -> None:
        """Each sweeps what is abandoned before it makes its own; none may take another's for that."""
        with tempfile.TemporaryDirectory() as name:
            parent = Path(name)

            def work(number: int) -> bool:
                with atomic.WorkFolder(parent, "work-") as folder:
                    (folder.path / "file").write_text(str(number))
                    return (folder.path / "file").read_text() == str(number)

            with ThreadPoolExecutor(16) as pool:
                self.assertTrue(all(pool.map(work, range(3000))))
            self.assertEqual(list(parent.iterdir()), [])

    def test_what_is_abandoned_is_swept(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            (Path(name) / "work-old").mkdir()
            with atomic.WorkFolder(Path(name), "work-") as folder:
                self.assertEqual([path.name for path in Path(name).iterdir()], [folder.path.name])


if __name__ == "__main__":
    unittest.main()
