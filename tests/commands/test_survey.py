"""lapidar survey: what the source needs, who provides it, and how that stands to what is declared."""

from __future__ import annotations

import ast
import json
import os
import time
import unittest
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from lapidar.core import sealed
from lapidar.core.languages.python.declaring import standard
from lapidar.core.languages.python.survey import imports
from support import Case, wheel


class Imports(unittest.TestCase):
    def manners(self, code: str) -> dict[str, str]:
        return {use.name: use.manner for use in imports.read(code).modules}

    def test_manners_are_told_apart(self) -> None:
        code = (
            "import a, b.c as d\nfrom e.f import g\nfrom . import own\nfrom .own import thing\n"
            "from typing import TYPE_CHECKING\nif TYPE_CHECKING:\n    import h\nelse:\n    import i\n"
            "try:\n    import j\nexcept ImportError:\n    import k\nelse:\n    import l\n"
            "try:\n    import m\nexcept ValueError:\n    pass\n"
            "def f():\n    import n\n    try:\n        import o\n    except Exception:\n        pass\n"
            "async def g():\n    import p\n"
            "class C:\n    import q\n"
            "import importlib\nimportlib.import_module('r.s')\n__import__('t')\nimportlib.import_module(name)\n"
        )
        tried, function, named = "tried", "in a function", "by name"
        self.assertEqual(self.manners(code), {
            "a": "plain", "b.c": "plain", "e.f": "plain", "typing": "plain", "h": "for type checking", "i": "plain",
            "j": tried, "k": tried, "l": "plain", "m": "plain", "n": function, "o": tried, "p": function, "q": "plain",
            "importlib": "plain", "r.s": named, "t": named,
        })  # fmt: skip

    def test_programs_and_personal_paths(self) -> None:
        code = (
            "import subprocess, os, shutil\nsubprocess.run(['pandoc', x])\nsubprocess.check_output('LANG=C latexmk -pdf', shell=True)\n"
            "os.system('gnuplot plot.gp')\nshutil.which('inkscape')\nsubprocess.run(command)\nrun(['not-this'])\n"
            "open('/home/anna/x.csv'); open('C:\\\\Users\\\\anna\\\\x.csv'); open('/usr/share/dict/words'); open('data/x.csv')\n"
        )
        found = imports.read(code)
        self.assertEqual([use.name for use in found.programs], ["pandoc", "latexmk", "gnuplot", "inkscape"])
        self.assertEqual([use.name for use in found.paths], ["/home/anna/x.csv", "C:\\Users\\anna\\x.csv"])
        self.assertEqual([use.line for use in found.programs], [2, 3, 4, 5])

    def test_the_short_way_finds_the_same_imports(self) -> None:
        """Most files are read without looking into expressions; that must not lose an import statement."""
        root = Path(json.__file__).parents[1]
        for path in sorted([*root.glob("*.py"), *root.glob("asyncio/*.py")]):
            code = path.read_text("utf-8", "replace")
            tree = ast.parse(code)
            expected = {alias.name for node in ast.walk(tree) if isinstance(node, ast.Import) for alias in node.names}
            expected |= {
                node.module for node in ast.walk(tree)
                if isinstance(node, ast.ImportFrom) and node.module and not node.level
            }  # fmt: skip
            found = {use.name for use in imports.read(code).modules if use.manner != "by name"}
            self.assertEqual(found | expected, found, path)

    @given(st.text(max_size=200))
    def test_no_text_breaks_the_reader(self, text: str) -> None:
        try:
            imports.read(text)
        except (SyntaxError, ValueError):
            pass

    def test_inline_script_metadata(self) -> None:
        code = "# /// script\n# requires-python = '>=3.11'\n# dependencies = [\n#   'Sherd.Plot>=2',\n#   'kilns',\n# ]\n# ///\nimport x\n"
        found = standard.of_script(code, "a.py")
        self.assertEqual([(one.name, one.text, one.where) for one in found.needs],
                         [("sherd-plot", "Sherd.Plot>=2", "a.py"), ("kilns", "kilns", "a.py")])  # fmt: skip
        broken = standard.of_script("# /// script\n# = = =\n# ///\n", "a.py")
        self.assertEqual((broken.needs, len(broken.problems)), ((), 1))


class Surveying(Case):
    def setUp(self) -> None:
        super().setUp()
        self.venv = self.environment(
            wheel(self.folder, "sherdplot", "2.1"),
            wheel(self.folder, "kiln_tools", "0.3", files={"kilns/__init__.py": "", "kilns/fire.py": ""}),
            wheel(self.folder, "ns_one", files={"pots/one/__init__.py": "", "ns_one.py": ""}),
            wheel(self.folder, "ns_two", files={"pots/two/__init__.py": "", "ns_two.py": ""}),
        )

    def write(self, path: str, text: str) -> None:
        target = self.project / path
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_text(text)

    def rows(self, code: int) -> dict[str, tuple[str, str, str]]:
        said = self.json("survey", self.venv, "--exit-code", code=code)
        return {
            row["module"] or row["distribution"]: (row["distribution"], row["version"], row["standing"])
            for row in said["rows"]
        }

    def test_names_that_differ_and_namespaces(self) -> None:
        self.write("a.py", "import sherdplot, kilns.fire, os\nfrom pots.two import x\nimport helpers\n")
        self.write("helpers.py", "import json\n")
        self.assertEqual(self.rows(0), {
            "sherdplot": ("sherdplot", "2.1", "provided"),
            "kilns": ("kiln-tools", "0.3", "provided"),
            "pots": ("ns-two", "1.0", "provided"),
        })  # fmt: skip
        said = self.json("survey", self.venv)
        self.assertEqual((said["own"], said["standard"]), (["helpers"], ["json", "os"]))

    def test_against_the_declaration(self) -> None:
        self.write("pyproject.toml", "[project]\nname = 'p'\nversion = '1'\ndependencies = ['Sherdplot>=2', 'unused>1']\n"
                                     "[dependency-groups]\ndev = ['kiln-tools', {include-group = 'x'}]\nx = []\n")  # fmt: skip
        self.write("src/mine/__init__.py", "import sherdplot, kilns\nfrom mine.part import x\nimport ns_one\n")
        self.write(
            "src/mine/part.py", "try:\n    import turbo\nexcept ImportError:\n    turbo = None\nimport nowhere\n"
        )
        self.assertEqual(self.rows(1), {
            "nowhere": ("", "", "missing"),
            "ns_one": ("ns-one", "1.0", "not declared"),
            "unused": ("unused", "", "not used"),
            "turbo": ("", "", "optional"),
            "kilns": ("kiln-tools", "0.3", "provided"),
            "sherdplot": ("sherdplot", "2.1", "provided"),
        })  # fmt: skip
        said = self.lapidar("survey", self.venv).stdout
        self.assertIn("src/mine/part.py:5", said)
        self.assertIn("1 missing from the environment; 1 used but not declared; 1 declared but not used.", said)

    def test_a_second_survey_reads_only_what_changed(self) -> None:
        self.write("a.py", "import sherdplot\n")
        self.write("b.py", "import kilns\n")
        for name in ("a.py", "b.py"):
            os.utime(self.project / name, ns=(1, 1))
        time.sleep(2.1)  # a file that was changed a moment ago is not trusted to stay
        first = self.rows(0)
        source = str(self.project / "a.py").encode()
        tables = [path for path in (self.cache / "seen").iterdir() if source in path.read_bytes()]
        table = next(path for path in tables if b"sherdplot" in path.read_bytes())
        kept = sealed.read(table)
        assert kept is not None
        sealed.write(table, kept.replace(b"sherdplot", b"glazeplot"))  # of the same length
        self.assertIn("glazeplot", self.rows(1), "it was read again")
        self.write("a.py", "import sherdplot, kilns\n")
        self.assertEqual(self.rows(0), first)

    def test_the_index_is_asked_last(self) -> None:
        index = self.folder / "index"
        index.mkdir()
        wheel(index, "python-turbo", files={"turbo/__init__.py": "", "python_turbo.py": ""})
        wheel(index, "nothing", files={"other.py": "", "nothing.py": ""})
        (index / "nothing-1.0-py3-none-any.whl").rename(index / "swiftly-1.0-py3-none-any.whl")
        self.write("a.py", "import turbo, swiftly\n")
        self.variables["LAPIDAR_INDEX"] = str(index)
        self.assertEqual(self.rows(1), {"turbo": ("python-turbo", "1.0", "missing"), "swiftly": ("", "", "missing")})
        said = self.lapidar("survey", self.venv, "--offline").stdout
        self.assertNotIn("python-turbo", said)

    def test_requirements_lists(self) -> None:
        self.write(
            "requirements.txt",
            "-r more/base.txt\nsherdplot>=2 ; python_version>'3' # why\n--index-url https://packages.example/simple\n",
        )
        self.write("more/base.txt", "kiln_tools==0.3 --hash=sha256:00\n-r base.txt\n")
        self.write("a.py", "import sherdplot, kilns\n")
        self.assertEqual({standing for _, _, standing in self.rows(0).values()}, {"provided"})
        self.assertIn("fit together", self.lapidar("survey", self.venv).stdout)

    def test_notebooks(self) -> None:
        cells = [
            {"cell_type": "markdown", "source": ["import nothing"]},
            {"cell_type": "code", "source": ["%matplotlib inline\n", "!ls\n", "import sherdplot\n"]},
            {"cell_type": "code", "source": "%%bash\nimport nothing\n"},
            {"cell_type": "code", "source": "if True:\n    %time x\nimport kilns"},
        ]
        self.write("look.ipynb", json.dumps({"nbformat": 4, "cells": cells}))
        said = self.json("survey", self.venv)
        self.assertEqual([(row["module"], row["places"][0]["cell"], row["places"][0]["line"]) for row in said["rows"]],
                         [("kilns", "cell 4", 3), ("sherdplot", "cell 2", 3)])  # fmt: skip

    def test_what_cannot_be_read_is_a_finding_and_not_the_end(self) -> None:
        self.write("good.py", "import sherdplot\n")
        self.write("bad.py", "x = 1\ndef broken(:\n")
        (self.project / "latin.py").write_bytes(b"# caf\xe9\n")
        self.write("no.ipynb", "{}")
        self.write("pyproject.toml", "= = =")
        said = self.json("survey", self.venv)
        problems = "\n".join(said["problems"])
        for expected in (
            "bad.py, line 2",
            "latin.py: it is not UTF-8",
            "no.ipynb: it is no notebook",
            "pyproject.toml is not valid TOML",
        ):
            self.assertIn(expected, problems)
        self.assertEqual([row["module"] for row in said["rows"]], ["sherdplot"])

    def test_what_is_not_the_projects_own(self) -> None:
        self.write(".gitignore", "scratch/\n*_old.py\n!keep_old.py\n")
        for path in ("scratch/a.py", "b_old.py", ".hidden/c.py", "__pycache__/d.py", "node_modules/e.py"):
            self.write(path, "import nowhere\n")
        self.write("keep_old.py", "import sherdplot\n")
        self.write("env/pyvenv.cfg", "")
        self.write("env/lib/x.py", "import nowhere\n")
        (self.project / "loop").symlink_to(self.project)
        said = self.json("survey", self.venv)
        self.assertEqual((said["files"], [row["module"] for row in said["rows"]]), (1, ["sherdplot"]))

    def test_a_missing_module_is_named_from_the_cache(self) -> None:
        self.lapidar("capture", self.venv)
        self.write("a.py", "import kilns\n")
        said = self.lapidar("survey", self.environment(name="bare")).stdout
        self.assertRegex(said, r"kilns +kiln-tools +0\.3 .*locked, not here; lapidar restore")

    def test_an_empty_project(self) -> None:
        self.assertIn("Nothing but the standard library", self.lapidar("survey", self.venv).stdout)

    def test_nothing_is_run(self) -> None:
        self.write("a.py", f"open({str(self.folder / 'ran')!r}, 'w')\n")
        self.lapidar("survey", self.venv)
        self.assertFalse(Path(self.folder / "ran").exists())


if __name__ == "__main__":
    unittest.main()
