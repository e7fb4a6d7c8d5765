"""A language that was added from outside, alone and together with Python: its module is all that knows of it."""

from __future__ import annotations

import os
import shutil
import subprocess
import unittest
from pathlib import Path

from lapidar.core.records import lockfile
from lapidar.core.records.snapshot import Snapshot
from roots import bare_root, run_in, skip_loudly
from support import Case, tree_of, wheel
from toy.kiln import add_package, make_kiln

EXTRA = {("extra package", "soda"), ("extra", "files of no snapshot")}


class Toy(Case):
    own_cache = True

    def setUp(self) -> None:
        super().setUp()
        self.variables |= {"LAPIDAR_LANGUAGES": "toy.glaze", "PYTHONPATH": str(Path(__file__).parents[1])}
        self.kiln = make_kiln(self.project / "kiln", tin=("lead",), lead=(), ash=())
        (self.project / "fire.glz").write_text("use tin\nuse lead\nseed\n")

    def captured(self, *words: object) -> Snapshot:
        self.lapidar("capture", *words)
        return lockfile.read(self.lock)

    def round_trip(self) -> None:
        """Capturing what was restored gives the same lockfile."""
        before = self.lock.read_bytes()
        self.lapidar("capture", self.restored)
        self.assertEqual(self.lock.read_bytes(), before)


class Alone(Toy):
    seeded = False

    def test_from_capture_to_run(self) -> None:
        self.variables["GLAZE_SEED"] = "7"
        snapshot = self.captured()
        self.assertEqual(snapshot.languages, ("glaze",))
        self.assertEqual([package.name for package in snapshot.packages], ["ash", "lead", "tin"])
        self.assertEqual([package.wanted for package in snapshot.packages], [True, False, True])
        self.assertEqual(snapshot.conditions and snapshot.conditions.variables.get("GLAZE_SEED"), "7")
        shutil.rmtree(self.kiln)
        self.lapidar("restore")
        self.variables |= {"GLAZE_SEED": "8", "GLAZE_PACKAGES": "/nowhere"}
        said = self.lapidar("run", "glaze", "fire.glz").stdout
        self.assertEqual(said, "tin 1.0\nlead 1.0\n7\n", "conditions of the snapshot, packages of the environment")
        self.assertTrue(self.json("check", "--deep", "--live")["clean"])
        self.assertIn("already matches", self.lapidar("restore").stdout)
        self.round_trip()

    def test_nothing_of_python_is_in_it(self) -> None:
        self.captured()
        self.lapidar("restore")
        for path in tree_of(self.restored):
            self.assertNotIn("python", path.lower())
            self.assertNotIn(b"python", (self.restored / path).read_bytes().lower(), path)

    def test_what_changed_is_found(self) -> None:
        self.captured()
        self.lapidar("restore")
        packages = self.restored / "lib" / "glaze"
        (packages / "tin" / "recipe").unlink()
        add_package(self.restored, "soda", "2.0")
        findings = self.json("check", code=1)["findings"]
        self.assertEqual({(one["problem"], one["name"]) for one in findings}, EXTRA | {("missing", "tin 1.0")})
        self.assertIn("tin 1.0", self.lapidar("check", code=1).stdout)

    def test_shown_and_asked_about(self) -> None:
        self.captured()
        said = self.lapidar("show").stdout
        self.assertIn("glaze 1.2", said)
        self.assertIn("tin", self.lapidar("show", "packages").stdout)
        self.assertIn("lead", self.lapidar("show", "packages", "tin").stdout)
        self.assertIn("tin", self.lapidar("why", "lead").stdout)

    def test_declared(self) -> None:
        (self.project / "lapidar.toml").write_text(
            '[runtime]\nglaze = ">= 1.3"\n[needs]\nglaze = ["tin >= 2", "salt"]\n'
        )
        self.captured()
        self.lapidar("restore")
        said = self.lapidar("check", code=1).stdout
        for part in ("salt", "tin >= 2", ">=1.3"):
            self.assertIn(part, said)
        (self.project / "lapidar.toml").write_text('[needs]\nglaze = ["tin ="]\n')
        self.assertIn("no need of Glaze", self.fails("check"))
        (self.project / "lapidar.toml").write_text('[needs]\nglaze = ["tin"]\n')
        self.assertIn("cannot be pinned", self.fails("pin"))

    def test_broken(self) -> None:
        (self.kiln / "lib" / "glaze" / "ash" / "manifest.json").write_text("{")
        self.assertIn("no good manifest.json", self.fails("capture"))
        self.assertIn("has no", self.fails("capture", self.folder))
        self.variables["LAPIDAR_LANGUAGES"] = ""
        self.fails("capture", self.kiln)

    def test_a_lockfile_without_its_language(self) -> None:
        self.captured()
        self.variables["LAPIDAR_LANGUAGES"] = ""
        self.assertIn("does not know the language glaze", self.fails("restore"))

    def test_an_outside_program_in_a_root_of_its_own(self) -> None:
        """No Python is needed to start one, and none comes with it."""
        if shutil.which("tclsh") is None:
            skip_loudly(self, "there is no tclsh here (Debian's tcl)")
        root = bare_root(self, self.folder / "bare")
        (self.project / "lapidar.toml").write_text('[needs]\ntools = ["tclsh"]\n')
        self.captured()
        self.lapidar("restore", "--into", root / "home" / "env")
        self.assertFalse([path for path in tree_of(root / "home" / "env") if "python" in path.lower()])
        (root / "home" / "ask.tcl").write_text("puts [info library]\n")
        self.assertRegex(run_in(root, "/home/env/bin/tclsh", "/home/ask.tcl"), "^/usr/share/tcl")
        (root / "home" / "fire.glz").write_text("call tclsh /home/ask.tcl\n")
        said = run_in(root, "/bin/sh", "-c", "cd /home/env; . bin/activate; glaze /home/fire.glz")
        self.assertRegex(said, "^/usr/share/tcl")


class Together(Toy):
    def test_one_environment_of_both(self) -> None:
        both = self.environment(wheel(self.folder, "sherdlib"), name="both")
        make_kiln(both / "more")
        shutil.copytree(self.kiln, both, dirs_exist_ok=True)
        shutil.rmtree(both / "more")
        shutil.rmtree(self.kiln)
        snapshot = self.captured(both)
        self.assertEqual(snapshot.languages, ("glaze", "python"))
        names = [(package.language, package.name) for package in snapshot.packages]
        self.assertEqual(names, [("glaze", "ash"), ("glaze", "lead"), ("glaze", "tin"), ("python", "sherdlib")])
        shutil.rmtree(both)
        self.lapidar("restore")
        self.assertEqual(self.lapidar("run", "glaze", "fire.glz").stdout, "tin 1.0\nlead 1.0\nnone\n")
        said = self.lapidar("run", "python", "-c", "import sherdlib; print(sherdlib.VERSION)").stdout
        self.assertEqual(said, "1.0\n")
        self.assertTrue(self.json("check", "--deep", "--live")["clean"])
        self.round_trip()
        add_package(self.restored, "soda", "2.0")
        findings = self.json("check", code=1)["findings"]
        self.assertEqual({(one["problem"], one["name"]) for one in findings}, EXTRA)

    def test_each_in_a_folder_of_its_own(self) -> None:
        """Two environments of one project become one snapshot, and one environment."""
        self.environment(wheel(self.folder, "sherdlib"), name="project/.venv")
        snapshot = self.captured()
        self.assertEqual(snapshot.languages, ("glaze", "python"))
        self.lapidar("restore")
        script = "import sherdlib, subprocess; print(subprocess.check_output(['glaze', 'fire.glz'], text=True), end='')"
        self.assertEqual(self.lapidar("run", "python", "-c", script).stdout, "tin 1.0\nlead 1.0\nnone\n")
        self.assertTrue(self.json("check", "--deep")["clean"])
        self.round_trip()


class Helpers(unittest.TestCase):
    """The programs in C."""

    def test_they_were_built_from_their_source(self) -> None:
        import hashlib

        from lapidar.core.system import supervision

        folder = Path(supervision.__file__).parent / "native"
        for name in ("enter", "supervise"):
            source = (folder / "kernel.h").read_bytes() + (folder / f"{name}.c").read_bytes()
            said = subprocess.run([folder / f"{name}.{os.uname().machine}"], capture_output=True, text=True).stderr
            self.assertIn(hashlib.sha256(source).hexdigest(), said, "make helper builds it again")


if __name__ == "__main__":
    unittest.main()
