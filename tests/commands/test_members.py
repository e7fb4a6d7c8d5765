"""Packages of the project's own: needed by their folders, edited while they are used, kept in the snapshot."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
from pathlib import Path

from lapidar.core.records import lockfile
from roots import skip_loudly
from support import PROGRAM, Case, WithIndex, tree_of, wheel

# A build back end in the source itself: all of src/, a module made of grid.txt, and what pyproject.toml says.
BACKEND = """\
import hashlib, os, pathlib, tomllib, zipfile

def build_wheel(folder, config_settings=None, metadata_directory=None):
    told = tomllib.loads(pathlib.Path("pyproject.toml").read_text())["project"]
    name, version = told["name"].replace("-", "_"), told["version"]
    if os.path.exists("broken"):
        raise SystemExit("error: the clay is too wet")
    files = {}
    for path in sorted(pathlib.Path("src").rglob("*")):
        if path.is_file():
            files[path.relative_to("src").as_posix()] = path.read_bytes()
    if os.path.exists("grid.txt"):
        files[f"{name}/grid.py"] = f"GRID = {pathlib.Path('grid.txt').read_text()!r}\\n".encode()
        pathlib.Path("left-by-the-build").write_text("x")
    info = f"{name}-{version}.dist-info"
    needs = "".join(f"Requires-Dist: {one}\\n" for one in told.get("dependencies", []))
    files[f"{info}/METADATA"] = f"Metadata-Version: 2.1\\nName: {name}\\nVersion: {version}\\n{needs}".encode()
    files[f"{info}/WHEEL"] = b"Wheel-Version: 1.0\\nGenerator: made up\\nRoot-Is-Purelib: true\\nTag: py3-none-any\\n"
    rows = "".join(f"{path},,\\n" for path in files)
    target = f"{name}-{version}-py3-none-any.whl"
    with zipfile.ZipFile(os.path.join(folder, target), "w") as archive:
        for path, data in {**files, f"{info}/RECORD": rows.encode()}.items():
            archive.writestr(path, data)
    return target
"""
PYPROJECT = """\
[project]
name = "{name}"
version = "{version}"
dependencies = {needs}
[build-system]
requires = []
build-backend = "backend"
backend-path = ["."]
"""


class OfMembers(WithIndex):
    def member(self, name: str, text: str, *needs: str, at: str = "", version: str = "1.0") -> Path:
        folder = self.project / (at or f"libs/{name}")
        (folder / "src" / name).mkdir(parents=True)
        (folder / "pyproject.toml").write_text(PYPROJECT.format(name=name, version=version, needs=json.dumps(needs)))
        (folder / "backend.py").write_text(BACKEND)
        (folder / "src" / name / "__init__.py").write_text(text)
        return folder

    def ran(self, script: str, code: int = 0) -> str:
        done = self.lapidar("run", "python", "-c", script, code=code)
        self.said = done.stderr
        return done.stdout.strip()


class Living(OfMembers):
    def test_an_edit_shows_at_the_next_start(self) -> None:
        folder = self.member("kilns", "SLOPE = 1\n")
        (folder / "src" / "kilns" / "clay.csv").write_text("red\n")
        (folder / "src" / "kilns" / "run.sh").write_text("#!/bin/sh\n")
        (folder / "src" / "kilns" / "run.sh").chmod(0o755)
        self.lapidar("need", "./libs/kilns")
        self.assertIn('"kilns @ ./libs/kilns"', (self.project / "lapidar.toml").read_text())
        self.assertEqual(self.ran("import kilns; print(kilns.SLOPE)"), "1")
        (folder / "src" / "kilns" / "__init__.py").write_text("SLOPE = 22\n")
        (folder / "src" / "kilns" / "clay.csv").write_text("white\n")
        script = (
            "import kilns, pathlib; print(kilns.SLOPE, (pathlib.Path(kilns.__file__).parent / 'clay.csv').read_text())"
        )
        self.assertEqual(self.ran(script), "22 white")
        self.assertNotIn("built again", self.said)
        found = self.json("check", code=1)["findings"]
        self.assertEqual(
            [(one["name"], one["problem"]) for one in found],
            [("kilns 1.0", "libs/kilns was edited since the snapshot")],
        )
        self.assertEqual(len(self.json("check", "--deep", code=1)["findings"]), 1, "the environment is as it must be")
        first = lockfile.read(self.lock).snapshot
        self.lapidar("pin", "--yes")
        self.assertNotEqual(lockfile.read(self.lock).snapshot, first)
        self.assertTrue(self.json("check", "--deep")["clean"])
        # Nothing absolute is in it: the project may be moved.
        moved = self.folder / "moved"
        self.project.rename(moved)
        self.project = moved
        (moved / "libs/kilns/src/kilns/__init__.py").write_text("SLOPE = 333\n")
        self.assertEqual(self.ran("import kilns; print(kilns.SLOPE)"), "333")
        for link in self.restored.rglob("*"):
            if link.is_symlink():
                self.assertFalse(os.readlink(link).startswith("/"), link)

    def test_the_rest_is_built_again(self) -> None:
        folder = self.member("kilns", "from kilns.grid import GRID\n")
        (folder / "grid.txt").write_text("3 x 3")
        self.lapidar("need", "./libs/kilns")
        self.assertEqual(self.ran("import kilns; print(kilns.GRID)"), "3 x 3")
        self.assertFalse((folder / "left-by-the-build").exists())
        made = self.restored / "lib"
        (grid,) = made.rglob("grid.py")
        self.assertFalse(grid.is_symlink())
        # A source of something made that goes along itself: no less a reason to build.
        (folder / "setup.py").write_text("import nobody_has_it\n")
        (folder / "src" / "kilns" / "heat.c").write_text("1\n")
        self.lapidar("pin", "--yes")
        self.assertTrue(self.json("check")["clean"], "what builds it is not what the environment is for")
        (folder / "src" / "kilns" / "heat.c").write_text("2\n")
        self.ran("import kilns")
        self.assertIn("built again", self.said)
        (folder / "src" / "kilns" / "heat.c").write_text("1\n")
        (folder / "src" / "kilns" / "__init__.py").write_text("from kilns.grid import GRID  # edited\n")
        self.ran("import kilns")
        self.ran("import kilns")
        self.assertNotIn("built again", self.said)
        (folder / "src" / "kilns" / "__init__.py").write_text("from kilns.grid import GRID\n")
        self.ran("import kilns")
        shutil.rmtree(self.index)  # what it was built with is at hand
        (folder / "grid.txt").write_text("4 x 4")
        with subprocess.Popen(
            [PROGRAM, "run", "python", "-c", "import kilns; print(flush=True); input(); import kilns.grid as g; print(g.GRID)"],
            cwd=self.project, env=self.variables, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True,
        ) as running:  # fmt: skip
            assert running.stdout
            running.stdout.readline()
            (folder / "grid.txt").write_text("5 x 5")
            self.assertEqual(self.ran("import kilns; print(kilns.GRID)"), "5 x 5")
            self.assertRegex(self.said, r"kilns was built again, for libs/kilns changed \([\d.]+ s\)")
            said = running.communicate("\n")[0]
        self.assertIn("4 x 4", said, "who runs goes on with what was there")
        self.assertEqual(self.ran("import kilns; print(kilns.GRID)"), "5 x 5")
        self.assertNotIn("built again", self.said)
        (folder / "src" / "kilns" / "new.py").write_text("NEW = 1\n")
        self.assertEqual(self.ran("import kilns.new; print(kilns.new.NEW)"), "1")
        self.assertIn("built again", self.said)
        self.assertEqual(len(self.json("check", "--deep", code=1)["findings"]), 1)
        before = tree_of(self.restored)
        (folder / "broken").write_text("")
        said = self.fails("run", "python", "-c", "import kilns")
        self.assertIn("the clay is too wet", said)
        self.assertIn("lapidar restore --kept", said)
        self.assertNotIn("--wheels-only", said)
        self.assertEqual(tree_of(self.restored), before)
        (folder / "broken").unlink()
        text = (folder / "pyproject.toml").read_text()
        (folder / "pyproject.toml").write_text(text.replace("dependencies = []", 'dependencies = ["soda"]'))
        self.assertIn("needs other things than when it was pinned", self.fails("run", "python", "-c", "import kilns"))
        (folder / "pyproject.toml").write_text(text)
        (folder / "src" / "kilns" / "new.py").unlink()
        (folder / "grid.txt").write_text("3 x 3")
        self.assertEqual(self.ran("import kilns; print(kilns.GRID)"), "3 x 3")
        self.assertTrue(self.json("check", "--deep")["clean"], "all of it is again what the snapshot has")
        self.assertIn("restored its own packages as edited", self.lapidar("history").stdout)
        self.assertEqual([one["folder"] for one in self.json("cache", "summary")["projects"]], [str(self.project)])
        os.utime(folder / "grid.txt")
        self.ran("import kilns")
        self.assertNotIn("built again", self.said)

    def test_recorded_and_run_again(self) -> None:
        folder = self.member("kilns", "SLOPE = 1\n")
        (self.project / "fit.py").write_text("import kilns\nopen('out.txt', 'w').write(str(kilns.SLOPE))\n")
        self.lapidar("need", "./libs/kilns")
        source = folder / "src" / "kilns" / "__init__.py"
        source.write_text("SLOPE = 2\n")
        said = self.lapidar("record", "fit", "--", "python", "fit.py")
        self.assertIn("kilns was built again", said.stderr)
        told = self.json("show", "results", "fit")
        self.assertIn("libs/kilns/src/kilns/__init__.py", {one["path"] for one in told["source"]})
        self.assertEqual((self.project / "out.txt").read_text(), "2")
        source.write_text("SLOPE = 9\n")
        self.assertEqual(self.json("rerun", "fit")["reruns"][0]["verdict"], "identical", "with what was recorded")
        self.lapidar(
            "parcel", "make", "--with-project", "--with-results", "--without-lapidar", "--to", self.folder / "p.tar"
        )
        self.lapidar("pin", "--yes")
        self.lapidar("record", "fit", "--", "python", "fit.py")
        self.assertEqual((self.project / "out.txt").read_text(), "9")

    def test_elsewhere_without_its_folder(self) -> None:
        folder = self.member("kilns", "SLOPE = 1\n")
        (folder / "grid.txt").write_text("3 x 3")
        self.lapidar("need", "./libs/kilns")
        clone = self.folder / "clone"
        clone.mkdir()
        shutil.copy(self.lock, clone)
        self.project = clone
        said = self.lapidar("restore").stderr
        self.assertIn("kilns is as it was built for the snapshot: libs/kilns is not here", said)
        self.assertEqual(self.ran("import kilns, kilns.grid; print(kilns.SLOPE, kilns.grid.GRID)"), "1 3 x 3")
        self.assertTrue(self.json("check", "--deep")["clean"])
        self.lapidar("capture", self.restored, "--lock", "again.lock", "--scope", "whole")
        self.assertEqual((clone / "again.lock").read_bytes(), self.lock.read_bytes())

    def test_as_it_was_built(self) -> None:
        folder = self.member("kilns", "SLOPE = 1\n")
        self.lapidar("need", "./libs/kilns")
        self.lapidar("restore", "--kept")
        self.lapidar("restore", "--into", "other")
        (folder / "src" / "kilns" / "__init__.py").write_text("SLOPE = 2\n")
        self.assertEqual(self.ran("import kilns; print(kilns.SLOPE)"), "1")
        self.assertEqual(len(self.json("check", "--deep", code=1)["findings"]), 1)
        self.assertEqual(
            self.lapidar("run", "--env", "other", "python", "-c", "import kilns; print(kilns.SLOPE)").stdout, "1\n"
        )
        self.lapidar("restore")
        self.assertEqual(self.ran("import kilns; print(kilns.SLOPE)"), "2")
        (folder / "src" / "kilns" / "__init__.py").write_text("SLOPE = 1\n")
        self.lapidar("restore")
        self.lapidar("capture", self.restored, "--lock", "again.lock", "--scope", "whole")
        self.assertEqual((self.project / "again.lock").read_text(), self.lock.read_text())


class Needing(OfMembers):
    def test_which_is_meant(self) -> None:
        wheel(self.index, "kilns", "7.0")
        self.member("kilns", "SLOPE = 1\n")
        said = self.fails("need", "kilns")
        self.assertIn("a package of your own of this name lies in libs/kilns", said)
        self.assertIn("lapidar need ./libs/kilns", said)
        self.assertFalse((self.project / "lapidar.toml").exists())
        shown = self.at_a_terminal(["need", "kilns"], "y", "y")
        self.assertIn("Is that meant?", shown)
        self.assertIn("./libs/kilns", (self.project / "lapidar.toml").read_text())
        self.lapidar("drop", "kilns")
        self.lapidar("need", "kilns>=0", "--yes")
        self.assertEqual(lockfile.read(self.lock).packages[0].version, "7.0")

    def test_what_the_source_imports_of_them(self) -> None:
        self.member("kilns", "SLOPE = 1\n")
        (self.project / "fit.py").write_text("import kilns\n")
        (row,) = self.json("survey")["rows"]
        self.assertEqual((row["module"], row["standing"], row["distribution"]), ("kilns", "not needed", "./libs/kilns"))
        self.assertIn("lapidar need ./libs/kilns", self.lapidar("survey").stdout)
        (self.project / "lapidar.toml").write_text('[conditions]\nenv = ["PYTHONPATH=libs/kilns/src"]\n')
        self.assertEqual(self.json("survey")["rows"], [], "a variable leads there")
        (self.project / "lapidar.toml").unlink()
        self.lapidar("start", "--yes")
        self.assertIn('"kilns @ ./libs/kilns"', (self.project / "lapidar.toml").read_text())
        self.lapidar("pin", "--yes")
        self.lapidar("restore")
        self.assertEqual([one["standing"] for one in self.json("survey")["rows"]], ["provided"])
        self.assertTrue(self.json("check")["clean"])
        self.assertIn("a package of your own, in libs/kilns", self.fails("versions", "kilns"))

    def test_three_that_need_each_other(self) -> None:
        wheel(self.index, "glaze", "7.0")
        wheel(self.index, "tin", "1.0")
        wheel(self.index, "tin", "2.0")
        self.member("glaze", "import tin\nCOLOUR = 'green'\n", "tin<2")
        self.member("kilns", "import glaze\n", "glaze>=1")
        self.member("pots", "import kilns, glaze\n", "kilns", "glaze")
        said = self.fails("need", "./libs/kilns")
        self.assertIn("kilns in libs/kilns needs glaze>=1, which lies in libs/glaze and is not declared", said)
        self.lapidar("need", "./libs/glaze", "./libs/kilns", "./libs/pots/")
        self.assertEqual({one.name: one.version for one in lockfile.read(self.lock).packages},
                         {"glaze": "1.0", "kilns": "1.0", "pots": "1.0", "tin": "1.0"})  # fmt: skip
        self.assertEqual(self.ran("import pots; print(pots.glaze.COLOUR)"), "green")
        before = self.lock.read_bytes()
        said = self.fails("need", "tin>=2", code=3)
        self.assertIn("glaze", said)
        self.assertIn("libs/glaze", said)
        self.assertEqual(self.lock.read_bytes(), before)

    def test_a_standard_file_stays_one(self) -> None:
        (self.project / "pyproject.toml").write_text('[project]\nname = "study"\nversion = "1"\ndependencies = []\n')
        folder = self.member("kilns", "SLOPE = 1\n")
        self.lapidar("need", "./libs/kilns")
        self.assertIn('dependencies = ["kilns"]', (self.project / "pyproject.toml").read_text())
        self.assertIn('folder = "libs/kilns"', (self.project / "lapidar.toml").read_text())
        (folder / "src" / "kilns" / "__init__.py").write_text("SLOPE = 2\n")
        self.assertEqual(self.ran("import kilns; print(kilns.SLOPE)"), "2")
        (folder / "src" / "kilns" / "new.py").write_text("")
        self.ran("import kilns.new")
        self.assertIn("built again", self.said)
        self.lapidar("pin", "--yes")
        self.assertTrue(self.json("check", "--deep")["clean"])
        self.assertEqual(self.json("check")["overrides"], [])
        self.lapidar("need", "./libs/kilns")  # said again it is the same
        self.lapidar("drop", "./libs/kilns")
        self.assertNotIn("override", (self.project / "lapidar.toml").read_text())
        self.assertEqual(lockfile.read(self.lock).packages, ())

    def test_what_is_no_member(self) -> None:
        (self.project / "empty").mkdir()
        outside = self.folder / "outside"
        outside.mkdir()
        for words, told in (
            (["./nowhere"], "There is no folder"),
            (["./empty"], "is no package"),
            (["../outside"], "lies outside of the project"),
            (["."], "is the project itself"),
        ):
            self.assertIn(told, self.fails("need", *words))
        (self.project / "empty" / "pyproject.toml").write_text("[project\n")
        self.assertIn("is no package", self.fails("need", "./empty"))
        self.member("kilns", "")
        self.member("kilns", "", at="other/kilns")
        self.lapidar("need", "./libs/kilns")
        self.lapidar("need", "./other/kilns", "--yes")  # of one name there is one
        self.assertEqual(lockfile.read(self.lock).packages[0].origin.path, "other/kilns")
        link = self.project / "libs" / "linked"
        link.symlink_to(outside)
        self.assertIn("lies outside of the project", self.fails("need", "./libs/linked"))


class OfR(Case):
    own_cache = True

    def test_installed_from_its_folder(self) -> None:
        if not shutil.which("Rscript"):
            skip_loudly(self, "there is no R here (Debian's r-base-core)")
        (self.folder / "none" / "src" / "contrib").mkdir(parents=True)
        (self.folder / "none" / "src" / "contrib" / "PACKAGES").write_text("")
        self.variables["LAPIDAR_INDEX"] = f"r={self.folder / 'none'}"
        for name, text, imports in (("clay", "1", ""), ("kilns", "clay::wet() + 1", "Imports: clay\n")):
            folder = self.project / "libs" / name
            (folder / "R").mkdir(parents=True)
            (folder / "inst").mkdir()
            (folder / "inst" / "colour.txt").write_text("red\n")
            (folder / "DESCRIPTION").write_text(f"Package: {name}\nVersion: 0.1\nTitle: T\nLicense: MIT\n{imports}")
            (folder / "NAMESPACE").write_text("export(wet)\n")
            (folder / "R" / "a.R").write_text(f"wet <- function() {text}\n")
        self.assertIn("needs clay, which lies in libs/clay and is not declared", self.fails("need", "./libs/kilns"))
        self.lapidar("need", "./libs/kilns", "./libs/clay")
        (self.project / "a.R").write_text(
            'cat(kilns::wet(), readLines(system.file("colour.txt", package = "clay")), "\\n")\n'
        )

        def ran() -> tuple[str, str]:
            done = self.lapidar("run", "Rscript", "a.R")
            return done.stdout.strip(), done.stderr

        self.assertEqual(ran()[0], "2 red")
        (self.project / "libs/clay/inst/colour.txt").write_text("white\n")
        self.assertEqual(ran()[0], "2 white")
        (self.project / "libs/clay/R/a.R").write_text("wet <- function() 5\n")
        told, said = ran()
        self.assertEqual(told, "6 white")
        self.assertIn("clay was built again, for libs/clay changed", said)
        self.assertIn("kilns was built again, for clay", said)
        self.assertEqual(ran()[0], "6 white")
        checked = self.json("check", "--deep", code=1)
        self.assertEqual([one["name"] for one in checked["findings"]], ["clay 0.1"])
        self.assertEqual(checked["overrides"], [], "that it is the project's own is no remark")
        self.lapidar("record", "wet", "--", "Rscript", "a.R")
        (self.project / "libs/clay/R/a.R").write_text("wet <- function() 7\n")
        self.lapidar("rerun", "wet")
        self.assertEqual(ran()[0], "8 white")
        self.lapidar("pin", "--yes")
        findings = self.json("check", "--deep", code=1)["findings"]
        self.assertEqual([one["layer"] for one in findings], ["results"], "what was recorded before")
