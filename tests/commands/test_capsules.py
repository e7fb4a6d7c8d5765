"""What earlier versions wrote is read: each capsule of tests/capsules/ is a cache with a project of each language in it, as
one version left them, lockfile, environment, record and history. See `tests/capsules/make.py`."""

from __future__ import annotations

import io
import tarfile
import unittest
from pathlib import Path

from support import Case

CAPSULES = Path(__file__).parent.parent / "capsules"


class Capsules(Case):
    """The projects lie elsewhere than they were written, and what they were captured from is gone."""

    own_cache, seeded = True, False

    def each(self) -> list[Path]:
        """The projects of each capsule, one after the other, their cache in place."""
        found = []
        for capsule in sorted(path for path in CAPSULES.iterdir() if path.is_dir() and path.name[0].isdigit()):
            place = self.folder / capsule.name
            data = b"".join(part.read_bytes() for part in sorted(capsule.glob("*.tar.xz.part")))
            with tarfile.open(fileobj=io.BytesIO(data)) as archive:
                archive.extractall(place, filter="tar")
            found += [place / "python", place / "r"]
        self.assertTrue(found)
        return found

    def enter(self, project: Path) -> None:
        self.project, self.variables["LAPIDAR_CACHE"] = project, str(project.parent / "cache")

    def test_the_environment_as_it_was_left(self) -> None:
        for project in self.each():
            with self.subTest(project=str(project.relative_to(self.folder))):
                self.enter(project)
                self.lapidar("check", "--deep")
                self.assertIn("fit: nothing differs (identical).", self.lapidar("rerun", "fit").stdout)
                self.assertIn("The cache is sound", self.lapidar("cache", "audit").stdout)
                self.assertEqual(self.lapidar("cache", "prune", "--dry-run").returncode, 0)

    def test_restored_from_lockfile_and_cache_alone(self) -> None:
        for project in self.each():
            with self.subTest(project=str(project.relative_to(self.folder))):
                self.enter(project)
                self.lapidar("restore", "--into", self.folder / f"new-{project.name}")
                self.lapidar("restore", "--verify")
                self.lapidar("check", "--deep")
                self.assertIn("nothing differs", self.lapidar("rerun").stdout)

    def test_an_earlier_snapshot_comes_back(self) -> None:
        for project in self.each():
            with self.subTest(project=str(project.relative_to(self.folder))):
                self.enter(project)
                snapshots = [moment["snapshot"] for moment in self.json("history")]
                self.assertEqual(len(set(snapshots)), 2)
                change = self.lapidar("changes", snapshots[-1], snapshots[0]).stdout
                self.assertIn("glazes", change)
                lockfile = self.lock.read_bytes()
                self.lapidar("return", snapshots[-1], "--yes")
                self.assertNotEqual(self.lock.read_bytes(), lockfile)
                told = self.lapidar("check", "--deep", code=1).stdout  # that it is not the snapshot of record and needs
                self.assertNotIn("environment\n", told)
                self.assertNotIn("cache\n", told)
                self.lapidar("rerun", "fit")
                self.lapidar("return", snapshots[0], "--yes")
                self.assertEqual(self.lock.read_bytes(), lockfile)


if __name__ == "__main__":
    unittest.main()
