"""Folders for unfinished work: never swept while they are held."""

from __future__ import annotations

import tempfile
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
