"""A language that was added from outside, alone and together with Python: its module is all that knows of it."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import unittest
from pathlib import Path

from lapidar.core.records import lockfile
from lapidar.core.records.snapshot import Snapshot
from roots import bare_root, run_in, skip_loudly
from support import Case, tree_of, wheel
from toy.kiln import add_package, add_version, make_kiln

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
        (self.project / "lapidar.toml").write_text('[needs]\nglaze = ["salt"]\n')
        self.assertIn("no package index is configured", self.fails("pin"))

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


class OffTheShelf(Toy):
    """Pinned, surveyed, searched: what a language can do beside being captured."""

    seeded = False

    def setUp(self) -> None:
        super().setUp()
        for text in ("tin 1.0 lead", "tin 1.5 lead", "tin 2.0 lead>=2.0", "lead 1.0", "lead 2.0", "ash 1.0"):
            name, version, *needs = text.split()
            add_version(self.folder / "shelf", name, version, *needs)
        index = f'[index]\nshelf = {{ address = "{self.folder / "shelf"}", language = "glaze" }}\n'
        (self.project / "lapidar.toml").write_text(index)
        (self.project / "glaze.toml").write_text('needs = ["tin"]\n')

    def pinned(self) -> dict[str, str]:
        return {one.name: one.version for one in lockfile.read(self.lock).packages}

    def test_from_need_to_run(self) -> None:
        self.lapidar("pin")
        self.assertEqual(self.pinned(), {"lead": "2.0", "tin": "2.0"})
        self.lapidar("need", "--yes", "--language", "glaze", "ash")
        self.assertEqual(self.pinned(), {"ash": "1.0", "lead": "2.0", "tin": "2.0"})
        self.assertIn('"ash"', (self.project / "glaze.toml").read_text())
        self.lapidar("drop", "--yes", "ash")
        self.assertEqual(self.pinned(), {"lead": "2.0", "tin": "2.0"})
        self.assertEqual(self.lapidar("run", "glaze", "fire.glz").stdout, "tin 2.0\nlead 2.0\nnone\n")
        findings = self.json("check", "--deep", "--live", code=1)["findings"]
        self.assertEqual([(one["name"], one["remedy"]) for one in findings], [("lead", "lapidar need lead")])
        self.assertIn("lead>=2.0", self.lapidar("why", "lead").stdout)
        self.lapidar("need", "--yes", "lead")
        self.assertTrue(self.json("check", "--deep", "--live")["clean"])

    def test_what_is_pinned_stays(self) -> None:
        for later in ("tin-2.0", "lead-2.0"):
            (self.folder / "shelf" / later).rename(self.folder / later)
        self.lapidar("pin")
        self.assertEqual(self.pinned(), {"lead": "1.0", "tin": "1.5"})
        for later in ("tin-2.0", "lead-2.0"):
            (self.folder / later).rename(self.folder / "shelf" / later)
        self.lapidar("pin")
        self.assertEqual(self.pinned(), {"lead": "1.0", "tin": "1.5"})
        self.assertIn("nobody: lapidar pin --renew tin", self.lapidar("outlook").stdout)
        self.assertIn("pinned", self.lapidar("versions", "--language", "glaze", "tin").stdout)
        self.lapidar("pin", "--renew", "tin", "lead")
        self.assertEqual(self.pinned(), {"lead": "2.0", "tin": "2.0"})

    def test_overrides_and_what_cannot_be_met(self) -> None:
        own = (self.project / "lapidar.toml").read_text()
        (self.project / "lapidar.toml").write_text(
            own + '[override.glaze.lead]\nversion = "1.0"\nbecause = "it was fired so"\n'
        )
        self.lapidar("pin")
        self.assertEqual(self.pinned(), {"lead": "1.0", "tin": "2.0"})
        (self.project / "lapidar.toml").write_text(
            own + '[override.glaze.lead]\nversion = "3.0"\nbecause = "it was fired so"\n'
        )
        self.assertIn("no shelf has this version", self.fails("pin"))
        (self.project / "lapidar.toml").write_text(own)
        (self.project / "glaze.toml").write_text('needs = ["tin >= 3"]\n')
        self.assertIn("tin", self.fails("pin"))
        (self.project / "glaze.toml").write_text('needs = ["tinn"]\n')
        self.assertIn("Near to it: tin", self.fails("pin"))

    def test_lost_bytes_come_from_the_shelf(self) -> None:
        self.lapidar("pin")
        self.lose_lead()
        self.assertIn("lapidar restore --fetch", self.fails("restore"))
        self.lapidar("restore", "--fetch")
        self.assertEqual(self.lapidar("run", "glaze", "fire.glz").stdout, "tin 2.0\nlead 2.0\nnone\n")
        self.lose_lead()
        (self.folder / "shelf" / "lead-2.0" / "recipe").write_text("lead 2.0, of another day\n")
        self.assertIn("lead is on no shelf as it was", self.fails("restore", "--fetch", "--into", self.folder / "new"))

    def lose_lead(self) -> None:
        for path in (self.cache / "files").rglob("*"):
            if path.is_file() and path.read_bytes() == b"lead 2.0\n":
                path.unlink()

    def test_surveyed(self) -> None:
        (self.project / "fire.glz").write_text("use tin\nuse soda\n")
        rows = self.json("survey")["rows"]
        self.assertEqual({one["module"]: one["standing"] for one in rows}, {"soda": "missing", "tin": "provided"})

    def test_which_change_did_it(self) -> None:
        (self.folder / "shelf" / "tin-2.0").rename(self.folder / "tin-2.0")
        self.lapidar("pin")
        good = lockfile.read(self.lock).snapshot[7:19]
        (self.folder / "tin-2.0").rename(self.folder / "shelf" / "tin-2.0")
        add_version(self.folder / "shelf", "lead", "2.5")
        self.lapidar("pin", "--renew")
        self.assertEqual(self.pinned(), {"lead": "2.5", "tin": "2.0"})
        judge = "glaze fire.glz | grep -q 'tin 1'"
        found = json.loads(self.lapidar("culprit", "--json", "--good", good, "--", "sh", "-c", judge).stdout)
        self.assertEqual([one["name"] for one in found["guilty"]], ["tin"])


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

    def test_why_a_package_of_the_captured_one_is_not_there(self) -> None:
        """The other alone is declared, and has the only index."""
        both = self.environment(wheel(self.folder, "sherdlib"), name="both")
        shutil.copytree(self.kiln, both, dirs_exist_ok=True)
        self.captured(both)
        add_version(self.folder / "shelf", "tin", "1.0")
        index = f'[index]\nshelf = {{ address = "{self.folder / "shelf"}", language = "glaze" }}\n'
        (self.project / "lapidar.toml").write_text(index + '[needs]\nglaze = ["tin"]\n')
        said = self.lapidar("why", "kilnlib", "--language", "python").stdout
        self.assertIn("kilnlib is not in the lockfile", said)
        (self.project / "lapidar.toml").write_text(f'[index]\nmain = "{self.folder}"\n[needs]\nglaze = ["tin"]\n')
        said = self.lapidar("why", "kilnlib", "--language", "python").stdout
        self.assertIn("no index has a package called kilnlib", said)

    def test_the_last_need_is_dropped_and_what_was_captured_stays(self) -> None:
        both = self.environment(wheel(self.folder, "sherdlib"), name="both")
        shutil.copytree(self.kiln, both, dirs_exist_ok=True)
        self.captured(both)
        for name in ("tin", "lead"):
            add_version(self.folder / "shelf", name, "1.0")
        index = f'[index]\nshelf = {{ address = "{self.folder / "shelf"}", language = "glaze" }}\n'
        (self.project / "lapidar.toml").write_text(index + '[needs]\nglaze = ["tin"]\n')
        self.lapidar("pin")
        told = self.fails("need", "--yes", "--language", "python", "kilnlib")
        self.assertIn('Write packages = ["sherdlib"] under [needs] of lapidar.toml', told)
        self.lapidar("drop", "--yes", "tin")
        names = [(one.language, one.name) for one in lockfile.read(self.lock).packages]
        self.assertEqual(names, [("python", "sherdlib")])
        (self.project / "lapidar.toml").write_text(index + '[needs]\npackages = ["sherdlib"]\n')  # as it was told
        self.assertIn("Nothing has changed", self.lapidar("pin").stdout)
        self.assertIn("No package index", self.fails("need", "--yes", "--language", "python", "kilnlib"))

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
        for name in ("enter", "start", "supervise"):
            source = (folder / "kernel.h").read_bytes() + (folder / f"{name}.c").read_bytes()
            said = subprocess.run([folder / f"{name}.{os.uname().machine}"], capture_output=True, text=True).stderr
            self.assertIn(hashlib.sha256(source).hexdigest(), said, "make helper builds it again")


if __name__ == "__main__":
    unittest.main()
