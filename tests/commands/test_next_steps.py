"""Needs and pins, day by day: what is shown first, what follows by itself, and what a message tells to do next."""

from __future__ import annotations

import csv
import os
import subprocess
import sys
import zipfile
from pathlib import Path

from msgspec.structs import replace

from lapidar.core.records import lockfile
from lapidar.core.records.layers import LowerLayers
from lapidar.standin.packages import write_source
from roots import skip_loudly
from standins import Pinning
from support import wheel

AUTHOR = ["-c", "user.name=kiln", "-c", "user.email=kiln@sherds.example"]


class Daily(Pinning):
    def git(self, *words: str, code: int = 0) -> str:
        done = subprocess.run(["git", *AUTHOR, *words], cwd=self.project, capture_output=True, text=True, check=False)
        self.assertEqual(done.returncode, code, done.stdout + done.stderr)
        return done.stdout

    def another_runtime(self) -> str:
        """The version of another Python of this machine, as one types it."""
        here = self.json("runtimes")
        own = ".".join(map(str, sys.version_info[:2]))
        for one in here:
            short = ".".join(one["version"].split(".")[:2])
            if one["title"] == "Python" and one.get("interpreter") and short != own:
                return str(short)
        skip_loudly(self, "there is one line of Python here")
        raise AssertionError

    def test_a_runtime_comes_first_and_is_restored(self) -> None:
        other = self.another_runtime()
        self.lapidar("need", "clay")
        said = self.pin("--runtime", other, "--dry-run")
        self.assertRegex(said.splitlines()[1], rf"^(newer|older)\s+the runtime Python\s+\S+\s+{other}\.")
        self.assertEqual(self.json("pin", "--runtime", other, "--dry-run")["runtimes"][0]["language"], "python")
        self.pin("--runtime", other)
        self.assertTrue(self.lapidar("run", "python", "-V").stdout.startswith(f"Python {other}"), "it was restored too")
        self.lapidar("check")

    def test_an_old_package_leads_to_its_runtime(self) -> None:
        other = self.another_runtime()
        tag = f"cp{other.replace('.', '')}"
        wheel(self.files, "oldlib", "1.0", tag=f"{tag}-{tag}-manylinux_2_17_x86_64")
        write_source(
            self.files,
            "oldlib",
            "1.0",
            {
                "pyproject.toml": '[build-system]\nrequires = []\nbuild-backend = "b"\nbackend-path = ["."]\n',
                "b.py": "def build_wheel(*a, **k):\n    print('busy')\n    raise RuntimeError('an API that is gone')\n",
                "PKG-INFO": "Metadata-Version: 2.1\nName: oldlib\nVersion: 1.0\n",
            },
        )
        self.declare("oldlib")
        said = self.fails("pin", "--runtime", self.venv)
        self.assertIn("RuntimeError: an API that is gone", said)
        self.assertNotIn("busy", said)
        self.assertIn(f"next: `lapidar pin --runtime {other}`, which is here", said)
        self.pin("--runtime", other)
        self.assertEqual(self.locked(), {"oldlib": "1.0"})

    def test_what_was_current_is_brought_up_to_date(self) -> None:
        self.declare("sherdplot<2")
        self.pin()
        self.lapidar("restore")
        self.declare("sherdplot")
        self.pin("--renew", "--no-restore")
        self.lapidar("check", code=1)
        self.lapidar("restore")
        self.declare("sherdplot", "drawing")
        self.assertIn("Replaced .lapidar/env", self.pin())
        self.lapidar("check")

    def test_quiet_is_quiet_and_no_is_no(self) -> None:
        self.declare("sherdplot<2")
        self.assertEqual(self.lapidar("pin", "-q").stdout, "")
        self.assertEqual(self.lapidar("need", "-q", "drawing").stdout, "")
        before = self.lock.read_bytes()
        said = self.at_a_terminal(["need", "newest"], "n")
        self.assertIn("Nothing was changed.", said)
        self.assertEqual(self.lock.read_bytes(), before)

    def test_nothing_has_no_row(self) -> None:
        self.declare("clay")
        self.pin()
        for _ in range(2):
            self.assertIn("Nothing has changed", self.pin())
        self.lapidar("restore")
        self.assertEqual([one["cause"] for one in self.json("history")], ["pinned"])
        self.assertTrue(self.json("history")[0]["who"])

    def test_two_branches_that_add_something(self) -> None:
        """Lists stay in order; what both sides pinned is kept to; what differs between them is told of the real sides."""
        self.git("init", "-q", "-b", "main")
        for name in ("ash", "bone", "slip"):
            wheel(self.files, name, "1.0")
        self.lapidar("need", "clay", "drawing", "glazemath<2", "newest<2")
        self.git("add", "-A")
        self.git("commit", "-qm", "fired")
        self.git("checkout", "-qb", "other")
        self.lapidar("need", "slip")
        self.git("commit", "-qam", "slip")
        self.git("checkout", "-q", "main")
        self.lapidar("need", "ash")
        self.git("commit", "-qam", "ash")
        self.git("merge", "other", code=1)
        self.assertNotIn("<<<<", (self.project / "lapidar.toml").read_text(), "the lists merge by themselves")
        self.assertIn("<<<<", self.lock.read_text())
        found = {one["name"]: one["kind"] for one in self.json("changes")["changes"]}
        self.assertEqual(found, {"ash": "removed", "slip": "added"})
        said = self.pin("--yes")
        self.assertNotIn("Nothing has changed", said)
        self.assertEqual(sorted(self.locked()), ["ash", "clay", "drawing", "glazemath", "newest", "slip"])

    def test_several_names_that_nobody_has(self) -> None:
        said = self.fails("need", "neither", "nor", "glazmath")
        for name in ("neither", "nor", "glazmath"):
            self.assertIn(name, said.splitlines()[0])
        self.assertIn("Near to glazmath: glazemath.", said)
        self.assertFalse((self.project / "lapidar.toml").exists())

    def test_what_was_passed_over_for_what_is_lacking(self) -> None:
        wheel(self.files, "sherdplot", "2.2", requires=["unheard-of"])
        done = self.lapidar("need", "sherdplot")
        self.assertIn(
            "sherdplot 2.2 was passed over: it needs unheard-of, and no index has a package called unheard-of",
            done.stderr,
        )
        self.assertEqual(self.locked()["sherdplot"], "2.1")

    def test_a_dry_run_changes_nothing(self) -> None:
        self.lapidar("need", "sherdplot<2", "--no-restore")
        first = lockfile.read(self.lock).snapshot[7:19]
        said = self.lapidar("restore", "--dry-run").stdout
        self.assertRegex(said, r"Would make .lapidar/env: [\d,]+ files, .* Nothing was changed \(--dry-run\)\.")
        self.assertFalse(self.restored.exists())
        self.lapidar("restore")
        self.assertIn("there is nothing to do", self.lapidar("restore", "--dry-run").stdout)
        self.lapidar("need", "drawing")
        before, rows = self.unchanged(), len(self.json("history"))
        for words, told in (
            (("return", "--dry-run"), f"Would return to snapshot {first}. Nothing was changed (--dry-run)."),
            (("return", "--dry-run", "--declaration"), "Would write lapidar.toml as it was."),
            (("capture", self.venv, "--dry-run"), "lapidar.lock would hold: snapshot"),
            (("pin", "--dry-run"), "Nothing was changed (--dry-run)"),
            (("need", "clay", "--dry-run"), "Nothing was changed (--dry-run)"),
            (("drop", "drawing", "--dry-run"), "Nothing was changed (--dry-run)"),
        ):
            with self.subTest(words):
                self.assertIn(told, self.lapidar(*words).stdout)
                self.assertEqual(self.unchanged(), before)
        self.assertEqual(len(self.json("history")), rows)
        self.lapidar("check")
        self.variables["LAPIDAR_CACHE"] = str(self.folder / "empty")
        self.lapidar("--cache", self.folder / "empty", "capture", self.venv, "--lock", self.folder / "x.lock")
        said = self.lapidar("restore", "--dry-run", "--replace").stdout
        self.assertIn("not in the cache: drawing 1.2", said)
        self.assertIn("would have to be fetched first: --fetch", said)

    def test_exports_say_what_they_leave_out(self) -> None:
        self.lapidar("need", "sherdplot<2", "--no-restore")
        done = self.lapidar("export", "requirements")
        self.assertRegex(done.stderr, r"it has no place for the runtime Python 3[\d.]+, \d+ system libraries")
        self.lapidar("export", "table")
        with (self.project / "packages.csv").open(newline="") as stream:
            rows = {row["name"]: row for row in csv.DictReader(stream)}
        digests = {one.name: (one.version, one.origin.sha256, one.tree) for one in lockfile.read(self.lock).packages}
        self.assertEqual({name: (row["version"], row["sha256"], row["tree"]) for name, row in rows.items()}, digests)
        self.lapidar("drop", "sherdplot", "--no-restore")
        (self.project / "pinned-packages.txt").unlink()
        self.assertIn("no package of Python, and nothing was written", self.fails("export", "requirements"))
        self.assertFalse((self.project / "pinned-packages.txt").exists())

    def test_options_are_written_out(self) -> None:
        self.declare("clay")
        done = self.lapidar("pin", "--dry", code=2)
        self.assertIn("there is no option --dry", done.stderr)

    def test_only_telling_is_done(self) -> None:
        (self.project / "fit.py").write_text("import clay, drawing\n")
        self.declare("sherdplot<2")
        self.pin()
        for words in (("survey",), ("outlook",), ("why", "drawing")):
            self.lapidar(*words)
            self.lapidar(*words, "--exit-code", code=1)
        self.declare("sherdplot")
        self.pin("--renew")
        self.lapidar("changes")
        self.lapidar("changes", "--exit-code", code=1)

    def test_what_most_likely_matters_comes_first(self) -> None:
        """The runtime, what computes, data; a version that is a date is no break."""
        for name, old, new in (
            ("numpy", "1.26.4", "2.0.0"), ("tzdata", "2023.3", "2025.2"), ("clay", "1.0", "2.0"), ("pip", "23.1", "25.0"),
        ):  # fmt: skip
            for version in (old, new):
                wheel(self.files, name, version)
        self.declare("numpy<2", "tzdata<2024", "clay<2", "pip<24")
        self.pin()
        self.declare("numpy", "tzdata", "clay", "pip")
        self.pin("--renew")
        rows = [(one["name"], one["reason"]) for one in self.json("changes")["changes"]]
        self.assertEqual([name for name, _ in rows], ["numpy", "tzdata", "clay", "pip"])
        told = dict(rows)
        self.assertEqual(told["tzdata"], "time zones")
        self.assertEqual(told["clay"], "another major version")
        self.assertIsNone(told["pip"])

    def test_long_differences_are_summed_up(self) -> None:
        for version in ("1.0", "2.0"):
            many = {f"bulk/part_{n}.py": "".join(f"X{i} = {version}\n" for i in range(300)) for n in range(5)}
            wheel(self.files, "bulk", version, files=many)
        self.declare("bulk<2")
        self.pin()
        self.declare("bulk")
        self.pin("--renew")
        said = self.lapidar("changes", "--files", "bulk").stdout
        self.assertLess(len(said.splitlines()), 420)
        self.assertRegex(said, r"and \d more files, with [\d,]+ lines new and [\d,]+ gone \(--all\)")
        self.assertGreater(len(self.lapidar("changes", "--files", "bulk", "--all").stdout.splitlines()), 3000)


class OutsidePrograms(Pinning):
    def test_a_newer_one_is_noticed_and_taken(self) -> None:
        """The system's database is as it is; what the lockfile says of the program is made an older one."""
        self.declare("clay", more='tools = ["bc"]\n' if Path("/usr/bin/bc").exists() else 'tools = ["xargs"]\n')
        self.pin()
        self.lapidar("restore")
        snapshot = lockfile.read(self.lock)
        (tool,) = snapshot.tools
        if not tool.owner_version:
            self.skipTest("no package of the system has the program")
        older = replace(tool, owner_version="0.1")
        below = replace(LowerLayers.of(snapshot), tools=(older,))
        other = lockfile.identified(snapshot.platform, snapshot.runtimes, snapshot.packages, snapshot.remainders, below)
        lockfile.write(other, self.lock)
        self.lapidar("restore")
        said = self.lapidar("check").stderr
        self.assertIn(f"{tool.name} on PATH is of {tool.owner} {tool.owner_version}, the snapshot's of 0.1", said)
        self.pin()
        self.assertEqual(lockfile.read(self.lock).tools[0].owner_version, "0.1", "what is pinned stays")
        self.pin("--renew")
        self.assertEqual(lockfile.read(self.lock).tools[0].owner_version, tool.owner_version)
        (change,) = [one for one in self.json("changes")["changes"] if one["name"] == tool.name]
        self.assertEqual((change["kind"], change["from"]), ("newer", "0.1"))


class Installed(Pinning):
    def test_what_a_notebook_installed_is_taken_over(self) -> None:
        self.lapidar("need", "clay")
        self.assertIn("Nothing was installed", self.lapidar("need", "--installed").stdout)
        site = next((self.restored / "lib").glob("python*/site-packages"))
        for name in ("drawing-1.2", "newest-1.0"):
            with zipfile.ZipFile(self.files / f"{name}-py3-none-any.whl") as archive:
                archive.extractall(site)
        said = self.lapidar("check", code=1).stdout
        self.assertIn("lapidar need --installed", said)
        said = self.fails("need", "--installed")
        self.assertIn("nobody to ask which are meant: drawing 1.2, newest 1.0", said)
        said = self.at_a_terminal(["need", "--installed", "--yes"])
        self.assertEqual(sorted(self.locked()), ["clay", "drawing", "newest"])
        self.lapidar("check")
        self.assertIn("What is needed is not said", self.fails("need"))

    def test_it_asks_of_each(self) -> None:
        self.lapidar("need", "clay")
        site = next((self.restored / "lib").glob("python*/site-packages"))
        for name in ("drawing-1.2", "newest-1.0"):
            with zipfile.ZipFile(self.files / f"{name}-py3-none-any.whl") as archive:
                archive.extractall(site)
        self.at_a_terminal(["need", "--installed"], "y", "n", "y")
        self.assertEqual(sorted(self.locked()), ["clay", "drawing"])


class Linked(Pinning):
    """A file of one environment that is edited is edited in all that share it."""

    own_cache = True

    def test_no_result_rests_on_an_edit_and_the_way_back_is_one(self) -> None:
        projects = [self.project, self.folder / "other"]
        projects[1].mkdir()
        edited = []
        for project in projects:
            (project / "fit.py").write_text("import clay\nprint(clay.VERSION)\n")
            self.lapidar("--project", project, "need", "clay")
            edited.append(next((project / ".lapidar/env/lib").glob("python*/site-packages/clay.py")))
        if not os.path.samefile(*edited):
            self.skipTest("this file system shares blocks, and files are no links")
        self.lapidar("record", "fit", "--", "python", "fit.py")
        edited[0].chmod(0o644)
        with edited[0].open("a") as stream:
            stream.write("VERSION = 'mine'\n")
        records = (self.project / "lapidar.results").read_bytes()
        said = self.fails("record", "fit", "--", "python", "fit.py")
        self.assertIn("What ran is not what the snapshot says, and nothing was recorded", said)
        self.assertEqual((self.project / "lapidar.results").read_bytes(), records)
        self.assertIn("The environment is not what the snapshot says: clay 0.5", self.fails("rerun", "fit"))
        self.assertIn(
            "mine", self.lapidar("rerun", "fit", "--here", code=1).stdout, "as it is, where that is asked for"
        )
        said = self.fails("restore")
        for path in edited:
            self.assertIn(str(path), said, "nobody can tell in which of them")
        said = self.lapidar("restore", "--fetch").stderr
        self.assertIn("right again in all of these", said)
        for project, path in zip(projects, edited, strict=True):
            self.assertEqual(path.read_text(), "VERSION = '0.5'\n")
            self.lapidar("--project", project, "check", "--deep")
        self.lapidar("record", "fit", "--", "python", "fit.py")
        kept = "".join(path.read_text("utf-8", "replace") for path in (self.cache / "aside").iterdir())
        self.assertIn("VERSION = 'mine'", kept, "what was written is kept aside")
