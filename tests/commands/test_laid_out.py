"""A laid-out beginning: an empty folder becomes one that works."""

from __future__ import annotations

import shutil
import subprocess
from pathlib import Path

from roots import skip_loudly
from support import Case


class LaidOut(Case):
    own_cache = True

    def setUp(self) -> None:
        super().setUp()
        self.environment()
        self.variables |= {
            "PATH": f"{self.folder}/venv/bin:{self.variables['PATH']}",
            "HOME": str(self.folder),
            "GIT_AUTHOR_NAME": "A. Potter",
            "GIT_AUTHOR_EMAIL": "potter@kilns.example",
            "GIT_COMMITTER_NAME": "A. Potter",
            "GIT_COMMITTER_EMAIL": "potter@kilns.example",
        }

    def test_it_runs_as_it_is(self) -> None:
        said = self.lapidar("start", "kilns", "--laid-out").stdout
        self.assertIn("Next: cd kilns && lapidar capture && lapidar restore && lapidar record", said)
        self.project /= "kilns"
        status = subprocess.run(["git", "status", "--porcelain"], cwd=self.project, capture_output=True, text=True)
        self.assertEqual((status.returncode, status.stdout), (0, ""), "in a first commit")
        self.lapidar("capture")
        self.lapidar("restore")
        self.lapidar("record")
        self.assertEqual((self.project / "results" / "files.csv").read_text(), "file,lines\nfirst.csv,3\n")
        self.lapidar("rerun")
        self.assertTrue(self.json("check")["clean"])
        status = subprocess.run(["git", "status", "--porcelain"], cwd=self.project, capture_output=True, text=True)
        self.assertNotIn(".lapidar/env", status.stdout)

    def test_what_is_there_stays(self) -> None:
        folder = self.project / "kilns"
        (folder / "data").mkdir(parents=True)
        (folder / "README.md").write_text("mine\n")
        (folder / "analysis.py").write_text("print('mine')\n")
        said = self.lapidar("start", "kilns", "--laid-out")
        self.assertIn("README.md was there, and stays as it is", said.stderr)
        self.assertEqual((folder / "README.md").read_text(), "mine\n")
        self.assertEqual((folder / "analysis.py").read_text(), "print('mine')\n")
        self.assertEqual(self.json("start", "kilns", "--laid-out")["files"], [])
        (self.project / "file").write_text("")
        self.assertIn("no folder", self.fails("start", "file", "--laid-out"))
        self.assertIn("is no name of a project", self.fails("start", "a b", "--laid-out"))
        self.assertIn("Which folder is not said", self.fails("start", "--laid-out"))
        self.assertIn("does not know the language", self.fails("start", "x", "--laid-out", "--language", "cobol"))
        self.assertIn("are for --laid-out", self.fails("start", "x"))
        inside = subprocess.run(["git", "init", "-q"], cwd=self.project, check=True)
        self.assertEqual(inside.returncode, 0)
        self.assertFalse(self.json("start", "other", "--laid-out")["committed"], "it lies in a repository already")
        deep = self.project / "deep" / "down" / "here"
        deep.mkdir(parents=True)
        for place in ("over there/kilns", self.folder / "it's mine" / "kilns"):
            told = self.lapidar("start", place, "--laid-out", cwd=deep).stdout
            typed = told.partition("Next: ")[2].partition(" && ")[0]
            found = subprocess.run(
                ["sh", "-c", f"{typed} && pwd"], cwd=deep, env=self.variables, capture_output=True, text=True
            )
            self.assertEqual(found.stdout, f"{deep / place}\n", typed)

    def test_of_r_and_of_both(self) -> None:
        if not shutil.which("Rscript"):
            skip_loudly(self, "there is no R here (Debian's r-base-core)")
        self.lapidar("start", "kilns", "--laid-out", "--language", "python,r")
        self.project /= "kilns"
        self.lapidar("capture", "--language", "python", "--language", "r")
        self.lapidar("restore")
        self.lapidar("record")
        self.assertEqual((self.project / "results" / "files-r.csv").read_text(), '"file","lines"\n"first.csv",3\n')
        self.lapidar("start", "clay", "--package", "--language", "r", cwd=self.folder)
        self.lapidar("build", "--project", self.folder / "clay")

    def test_a_package(self) -> None:
        self.lapidar("start", "fine-kilns", "--package", "--licence", "MIT")
        folder = self.project / "fine-kilns"
        test = ["python3", "-m", "unittest", "discover", "-s", "tests"]
        variables = {**self.variables, "PYTHONPATH": str(Path(folder) / "src")}
        subprocess.run(test, cwd=folder, env=variables, check=True, capture_output=True)
        self.assertIn('license = "MIT"', (folder / "pyproject.toml").read_text())
