"""Two packages of one name in two languages, needed by one project, through every command."""

from __future__ import annotations

import shutil
from typing import Any

from lapidar.core.records import lockfile
from lapidar.core.records.owner import PackageName
from lapidar.standin.r_packages import write_list, write_source_package
from roots import skip_loudly
from support import Case, wheel

P, R = PackageName("python", "tin"), PackageName("r", "tin")
SCRIPT_P = "import tin\nprint(tin.FIRE)\n"
SCRIPT_R = "cat(tin::tin_fire())\n"


class OneNameInTwo(Case):
    """Python's tin is needed by its glaze and needs its lead; R's tin needs R's ash. Both have a 1.0 and a 2.0."""

    def setUp(self) -> None:
        super().setUp()
        if shutil.which("Rscript") is None:
            skip_loudly(self, "there is no R here (Debian's r-base-core)")
        self.wheels, self.contrib = self.folder / "wheels", self.folder / "r" / "src" / "contrib"
        self.wheels.mkdir()
        self.write("1.0")
        wheel(self.wheels, "glaze", requires=["tin>=1"])
        wheel(self.wheels, "lead")
        write_source_package(self.contrib, "ash")
        write_list(self.contrib)
        self.declare()
        (self.project / "a.py").write_text(SCRIPT_P)
        (self.project / "a.R").write_text(SCRIPT_R)
        self.lapidar("pin", "--yes")

    def write(self, version: str) -> None:
        wheel(self.wheels, "tin", version, {"tin.py": f"FIRE = 'p{version}'\n"}, requires=["lead"])
        files = {"R/fire.R": f"tin_fire <- function() 'r{version}'\n"}
        write_source_package(self.contrib, "tin", version, files, Imports="ash")
        write_list(self.contrib)

    def declare(self, more: str = "") -> None:
        (self.project / "lapidar.toml").write_text(
            f'[index]\nwheels = "{self.wheels}"\nkilns = {{ address = "{self.folder}/r", language = "r" }}\n'
            f'[needs]\npackages = ["tin", "glaze"]\nr = ["tin"]\n{more}'
        )

    def pinned(self) -> dict[PackageName, str]:
        return {one.key: one.version for one in lockfile.read(self.lock).packages}

    def keyed(self, rows: list[dict[str, Any]], name: str = "name") -> dict[PackageName, dict[str, Any]]:
        return {PackageName(row["language"], row[name]): row for row in rows}

    def test_shown_and_explained(self) -> None:
        self.assertEqual(self.pinned()[P], "1.0")
        self.assertEqual(self.pinned()[R], "1.0")
        said = self.fails("show", "packages", "tin")
        self.assertIn("tin is a package of Python and of R", said)
        self.assertIn("--language", said)
        self.assertEqual(self.json("show", "packages", "tin", "--language", "r")["requires"], ["ash"])
        self.assertEqual(self.json("show", "packages", "tin", "--language", "python")["requires"], ["lead"])
        table = self.lapidar("show", "packages").stdout
        self.assertRegex(table, r"tin \(python\) .* asked for, glaze")
        self.assertRegex(table, r"tin \(r\) .* asked for\s")
        tree = self.lapidar("show", "--graph").stdout.splitlines()
        at = next(number for number, line in enumerate(tree) if "tin (r)" in line)
        self.assertIn("ash", tree[at + 1])
        needs = {(row["language"], row["source"], row["target"]) for row in self.json("show", "--graph")}
        self.assertIn(("r", "tin", "ash"), needs)
        self.assertIn(("python", "tin", "lead"), needs)
        self.assertNotIn(("python", "tin", "ash"), needs)
        self.fails("why", "tin")
        self.assertEqual(
            [[edge["target"] for edge in chain] for chain in self.json("why", "tin", "--language", "r")["chains"]],
            [["tin"]],
        )
        self.assertEqual(len(self.json("why", "tin", "--language", "python")["chains"]), 2)
        self.assertEqual(self.json("why", "ash")["language"], "r", "only one of them has it")
        self.assertIn("tin 1.0 needs ash", self.lapidar("why", "ash").stdout)

    def test_restored_run_and_checked(self) -> None:
        self.lapidar("restore")
        self.assertEqual(self.lapidar("-q", "run", "python", "a.py").stdout, "p1.0\n")
        self.assertEqual(self.lapidar("-q", "run", "Rscript", "a.R").stdout, "r1.0")
        (self.project / "lapidar.toml").write_text(
            (self.project / "lapidar.toml").read_text().replace('r = ["tin"]', 'r = ["tin (>= 2.0)"]')
        )
        (finding,) = self.json("check", "--live", code=1)["findings"]
        self.assertEqual((finding["language"], finding["name"]), ("r", "tin"))
        (self.project / "lapidar.toml").write_text(
            (self.project / "lapidar.toml").read_text().replace('r = ["tin (>= 2.0)"]', 'r = ["ash"]')
        )
        remedies = {one["remedy"] for one in self.json("check", code=1)["findings"] if one["language"] == "r"}
        self.assertIn("lapidar need --language r tin", remedies)
        self.lapidar("need", "--language", "r", "tin", "--yes")  # as printed: it cures it
        self.assertTrue(self.json("check")["clean"])
        rows = self.keyed(self.json("survey", "--offline")["rows"], "distribution")
        self.assertEqual((rows[P]["standing"], rows[R]["standing"]), ("provided", "provided"))

    def test_changed_one_by_one(self) -> None:
        first = lockfile.read(self.lock).snapshot
        self.lapidar("restore")
        self.lapidar("record", "p", "--", "python", "a.py")
        self.lapidar("record", "r", "--", "Rscript", "a.R")
        self.write("2.0")
        self.assertEqual({row["language"] for row in self.keyed(self.json("outlook")).values()}, {"python", "r"})
        self.fails("pin", "--renew", "tin", "--yes")
        self.assertIn("Near to it", self.fails("pin", "--renew", "tim", "--yes"))
        changed = self.json("pin", "--renew", "tin", "--language", "r", "--yes")["changes"]
        self.assertEqual([(row["language"], row["package"], row["to"]) for row in changed], [("r", "tin", "2.0")])
        self.lapidar("pin", "--renew", "tin", "--language", "python", "--yes")
        self.assertEqual((self.pinned()[P], self.pinned()[R]), ("2.0", "2.0"))
        rows = self.keyed(self.json("changes", first)["changes"])
        self.assertEqual((rows[P]["to"], rows[R]["to"]), ("2.0", "2.0"))
        self.assertRegex(self.lapidar("changes", first).stdout, r"tin \(r\)")
        self.fails("changes", first, "--files", "tin")
        (one,) = self.json("changes", first, "--files", "tin", "--language", "python")
        self.assertEqual(one["file"], "site/tin.py")
        self.lapidar("restore")
        for name, language in (("p", "python"), ("r", "r")):
            found = self.json("culprit", name, code=0)
            self.assertEqual([(row["language"], row["name"]) for row in found["guilty"]], [(language, "tin")], name)
        self.lapidar("return", first[7:19])
        self.assertEqual((self.pinned()[P], self.pinned()[R]), ("1.0", "1.0"))
        rerun = self.json("rerun")["reruns"]
        self.assertEqual([one["verdict"] for one in rerun], ["identical", "identical"])

    def test_needed_dropped_and_overridden(self) -> None:
        self.assertIn("--language", self.fails("need", "tin", "--yes"))
        self.assertIn("--language", self.fails("drop", "tin", "--yes"))
        self.lapidar("drop", "tin", "--language", "r", "--yes")
        self.assertNotIn(R, self.pinned())
        self.assertIn(P, self.pinned())
        said = self.lapidar("need", "ash", "--language", "r", "--yes").stderr
        self.assertNotIn("taken for", said)
        self.lapidar("drop", "tin", "--yes")  # now only one language declares it
        self.assertIn(P, self.pinned(), "glaze needs it")
        self.declare('[override.r.tin]\nversion = "1.0"\nbecause = "fire"\n')
        self.write("2.0")
        answer = self.json("pin", "--renew", "--yes")
        self.assertEqual((self.pinned()[P], self.pinned()[R]), ("2.0", "1.0"))
        self.assertEqual([(one["language"], one["name"]) for one in answer["overrides"]], [("r", "tin")])
        self.assertIn("soot is taken for a package of Python", self.fails("versions", "soot"))

    def test_a_runtime_is_one_languages(self) -> None:
        """A version, or an interpreter, of one language leaves the other's as it is."""
        before = {one.language: one.version for one in lockfile.read(self.lock).runtimes}
        interpreter = shutil.which("Rscript") or ""
        for named in (".".join(before["r"].split(".")[:2]), interpreter):
            self.lapidar("pin", "--yes", "--runtime", named)
            self.assertEqual({one.language: one.version for one in lockfile.read(self.lock).runtimes}, before, named)
        said = self.fails("pin", "--yes", "--runtime", "99.9")
        self.assertIn("There is no runtime 99.9", said)
        self.assertIn("no language", self.fails("pin", "--yes", "--runtime", "/bin/cat"))

    def test_captured(self) -> None:
        self.lapidar("restore", "--into", self.folder / "there")
        self.lock.unlink()
        captured = self.json("capture", self.folder / "there", "--scope", "whole")
        self.assertEqual(captured["edited"], [])
        self.assertEqual((self.pinned()[P], self.pinned()[R]), ("1.0", "1.0"))
        (self.project / "a.R").unlink()
        (self.project / "lapidar.toml").write_text('[needs]\npackages = ["tin", "glaze"]\n')
        captured = self.json("capture", self.folder / "there", "--scope", "used", "--yes", "--language", "python")
        self.assertNotIn("tin", {one["name"] for one in captured["unused"] if one["language"] == "python"})
