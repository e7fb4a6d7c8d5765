"""Folders for unfinished work: never swept while they are held."""

from __future__ import annotations

import tempfile
import unittest
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from lapidar.core import atomic


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
