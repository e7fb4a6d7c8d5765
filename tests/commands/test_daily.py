"""The daily hour: it knows its own environment, and small slips are told before they do harm."""

from __future__ import annotations

import os
import stat
import sys
from pathlib import Path

from standins import Pinning
from support import Case, site_of, wheel


class OwnEnvironment(Pinning):
    """What is declared, pinned, restored and imported, against each other."""

    def setUp(self) -> None:
        super().setUp()
        del self.variables["VIRTUAL_ENV"]
        self.declare("Kiln.Tools", "sherdplot<2")
        self.pin("--runtime", self.venv)
        (self.project / "fit.py").write_text("import kilns\nimport sherdplot\n")

    def standings(self, *words: object, code: int = 0) -> dict[str, str]:
        rows = self.json("survey", *words, code=code)["rows"]
        return {row["module"] or row["distribution"]: row["standing"] for row in rows}

    def test_without_an_environment_by_the_lockfile(self) -> None:
        self.assertEqual(self.standings(), {"kilns": "provided", "sherdplot": "provided"})
        self.assertIn("judged by lapidar.lock", self.lapidar("survey").stdout)
        self.lapidar("restore")
        self.assertEqual(self.standings(), {"kilns": "provided", "sherdplot": "provided"})
        self.assertIn("the project's restored environment", self.lapidar("survey").stdout)

    def test_what_is_declared_and_not_here_is_known_by_what_it_provides(self) -> None:
        self.lock.unlink()
        found = self.json("survey", self.venv, code=1)
        (row,) = [row for row in found["rows"] if row["module"] == "kilns"]
        self.assertEqual((row["standing"], row["distribution"]), ("missing", "kiln-tools"))
        said = self.lapidar("survey", self.venv, code=1).stdout
        self.assertIn("missing, though declared; lapidar pin", said)
        self.assertNotIn("lapidar need", said)

    def test_another_version_than_declared(self) -> None:
        self.lapidar("restore")
        declaration = self.project / "lapidar.toml"
        declaration.write_text(declaration.read_text().replace("sherdplot<2", "sherdplot>=2"))
        self.assertEqual(self.standings(code=1)["sherdplot"], "out of range")
        self.assertIn("1.9 is here, sherdplot>=2 is declared", self.lapidar("survey", code=1).stdout)
        self.assertIn("sherdplot>=2 is declared, and 1.9 is locked", self.lapidar("check", code=1).stdout)

    def test_imports_that_nobody_declares(self) -> None:
        self.lapidar("restore")
        self.lapidar("check")
        (self.project / "more.py").write_text(
            "import clay\nimport lost_glaze\ntry:\n    import perhaps\nexcept ImportError:\n    pass\n"
        )
        said = self.lapidar("check", code=1).stdout
        self.assertRegex(said, r"clay: .*clay is not declared: more.py:1")
        self.assertRegex(said, r"lost_glaze: .*nothing that is locked provides it: more.py:2")
        self.assertIn("lapidar need clay", said)
        self.assertNotIn("perhaps", said)

    def test_what_is_still_imported_is_said_before_it_is_dropped(self) -> None:
        before = self.lock.read_bytes()
        said = self.lapidar("drop", "kiln.tools", "--dry-run").stderr
        self.assertIn("kiln-tools is still imported as kilns: fit.py:1", said)
        self.assertEqual(self.lock.read_bytes(), before)

    def test_left_out_groups_stay_left_out(self) -> None:
        self.declare("Kiln.Tools", more='[needs.groups]\nreport = ["drawing"]\n')
        self.pin()
        self.lapidar("restore", "--leave-out", "report")
        self.lapidar("need", "clay")
        self.assertEqual(
            {path.name.split("-")[0].lower() for path in site_of(self.restored).glob("*.dist-info")},
            {"clay", "kiln.tools"},
        )


class Running(Case):
    """Which program a command means."""

    def setUp(self) -> None:
        super().setUp()
        self.lapidar("capture", self.environment(wheel(self.folder, "sherdlib")))
        self.lapidar("restore")
        self.outside = self.folder / "bin"
        self.outside.mkdir()
        self.variables["PATH"] = f"{self.outside}:{self.variables['PATH']}"

    def program(self, name: str, text: str, folder: Path | None = None) -> Path:
        path = (folder or self.outside) / name
        path.write_text(text)
        path.chmod(0o755)
        return path

    def test_no_program_of_another_environment(self) -> None:
        ran = self.folder / "ran"
        plot = self.program("kilnplot", f"#!{sys.executable}\nopen({str(ran)!r}, 'w')\n")
        self.program("pip", f"#!/bin/sh\ntouch {ran}\n")
        for name in ("kilnplot", "pip", "python3.77"):
            self.program("python3.77", f"#!/bin/sh\ntouch {ran}\n")
            said = self.fails("run", name, "install", "x")
            self.assertIn(f"{name} is not in the environment", said)
            self.assertIn("lapidar need", said)
            self.assertFalse(ran.exists())
        self.lapidar("run", plot)  # by its path it is meant
        self.assertTrue(ran.exists())
        self.program("kilnshell", "#!/bin/sh\necho fired\n")  # of no language
        self.assertEqual(self.lapidar("run", "kilnshell").stdout, "fired\n")

    def test_installers_are_told_what_to_do_instead(self) -> None:
        """Externally Managed Environments: what installers look for, where they look for it."""
        script = (
            "import os, sysconfig; print(open(os.path.join(sysconfig.get_path('stdlib'), 'EXTERNALLY-MANAGED')).read())"
        )
        self.assertIn("lapidar need NAME", self.lapidar("run", "python", "-c", script).stdout)
        before = self.lock.read_bytes()
        self.lapidar("capture", self.restored)
        self.assertEqual(self.lock.read_bytes(), before)

    def test_scripts(self) -> None:
        (self.project / "fit.py").write_text("print('fitted')\n")
        for words in (["fit.py", "--fast"], ["./fit.py"]):
            self.assertIn(f"lapidar run python {' '.join(words)}", self.fails("run", *words))
        where = "import sys, os\nprint(os.path.realpath(sys.prefix), sys.argv[1:])\n"
        for line in ("#!/usr/bin/env python3", f"#!{os.path.dirname(sys.executable)}/python3", "#!/usr/bin/python3 -B"):
            for mode in (0o755, 0o644):
                path = self.program("fire", f"{line}\n{where}", self.project)
                path.chmod(mode)
                said = self.lapidar("run", "./fire", "hot").stdout
                self.assertEqual(said.strip(), f"{self.restored} ['hot']", line)
        path = self.program("shell", "#!/bin/sh\necho $1\n", self.project)
        self.assertEqual(self.lapidar("run", "./shell", "hot").stdout, "hot\n")
        path.chmod(stat.S_IRUSR)
        self.assertIn("cannot be executed", self.fails("run", "./shell"))


class Slips(Case):
    def test_the_machines_own_runtime_is_not_captured_by_accident(self) -> None:
        said = self.fails("capture")
        self.assertIn("has no environment and no source", said)
        self.assertFalse(self.lock.exists())
