"""The history: a project is known wherever it lies, and a moment has a cause and a parent."""

from __future__ import annotations

import shutil
import subprocess
import unittest
from pathlib import Path

from lapidar.core.cache.history import Cause, History
from lapidar.core.cache.store import Cache
from lapidar.core.records import lockfile
from lapidar.core.records.owner import Layer
from support import Case, install, wheel


class Moments(Case):
    own_cache = True

    def setUp(self) -> None:
        super().setUp()
        self.venv = self.environment(wheel(self.folder, "sherdlib"))
        self.lapidar("capture", self.venv)
        self.first = lockfile.read(self.lock).snapshot

    @property
    def history(self) -> History:
        return History(Cache(self.cache))

    def move(self, name: str) -> None:
        self.project = self.project.rename(self.folder / name)

    def test_cause_and_parent(self) -> None:
        install(wheel(self.folder, "kilnlib"), self.venv)
        self.lapidar("capture", self.venv)
        self.lapidar("capture", self.venv)  # nothing has changed, and no row tells of that
        moments = self.history.moments()
        second = lockfile.read(self.lock).snapshot
        self.assertEqual([one.snapshot for one in moments], [self.first, second])
        self.assertEqual([one.parent for one in moments], ["", self.first])
        self.assertEqual({one.cause for one in moments}, {Cause.CAPTURED})
        self.assertEqual(len({one.project for one in moments}), 1)
        self.assertRegex(moments[0].project, "^[0-9a-f]{32}$")

    def test_a_moved_project_is_still_one(self) -> None:
        self.lapidar("restore")
        self.move("moved")
        said = self.lapidar("cache", "prune", "--history-days", "0").stdout
        self.assertNotIn("dropping", said)
        shutil.rmtree(self.restored)
        self.lapidar("restore")
        self.assertTrue(self.json("check", "--deep")["clean"])

    def test_a_moved_project_gives_up_what_it_held_before(self) -> None:
        self.move("moved")
        install(wheel(self.folder, "kilnlib"), self.venv)
        self.lapidar("capture", self.venv)
        self.assertIn("dropping snapshot", self.lapidar("cache", "prune", "--history-days", "0").stdout)
        self.assertEqual(self.history.ids(), [lockfile.read(self.lock).snapshot])
        self.assertEqual(len({one.project for one in self.history.moments()}), 1)

    def test_a_clone_is_the_same_project(self) -> None:
        author = ["-c", "user.name=kiln", "-c", "user.email=kiln@sherds.example"]
        for words in (["init", "-q"], ["add", "."], [*author, "commit", "-q", "-m", "first"]):
            subprocess.run(["git", *words], cwd=self.project, check=True)
        clone = self.folder / "clone"
        subprocess.run(["git", "clone", "-q", str(self.project), str(clone)], check=True)
        self.lapidar("restore", cwd=clone)
        self.lapidar("capture", self.venv, cwd=clone)
        self.assertEqual(len({one.project for one in self.history.moments()}), 1)

    def test_what_it_stands_for_counts_every_layer(self) -> None:
        snapshot = lockfile.read(self.lock)
        assert snapshot.library_layer is not None
        parts = snapshot.parts()
        self.assertEqual({part.owner.layer for part in parts}, {Layer.RUNTIME, Layer.PACKAGES, Layer.LIBRARIES})
        self.assertEqual(self.json("cache", "summary")["stands_for"], sum(part.bytes for part in parts))
        self.assertGreater(snapshot.library_layer.bytes, 1_000_000)


class Finding(Case):
    def test_an_environment_is_no_project(self) -> None:
        """It has a lapidar.toml of its own, which says something else."""
        self.lapidar("capture", self.environment(wheel(self.folder, "sherdlib")))
        self.lapidar("restore")
        inside = self.restored / "bin"
        for words in (["check"], ["show"], ["restore"], ["run", "python", "-c", "import sherdlib"]):
            self.lapidar(*words, cwd=inside)
        self.lapidar("restore", "--into", self.folder / "elsewhere")
        self.assertNotIn("means nothing", self.fails("show", cwd=self.folder / "elsewhere"))

    def test_a_distribution_that_is_called_tool(self) -> None:
        self.lapidar("capture", self.environment(wheel(self.folder, "tool")))
        self.lapidar("restore")
        next(Path(self.restored).glob("lib/python3*/site-packages/tool.py")).unlink()
        findings = self.json("check", code=1)["findings"]
        self.assertEqual([(one["layer"], one["name"]) for one in findings], [("packages", "tool 1.0")])


if __name__ == "__main__":
    unittest.main()
