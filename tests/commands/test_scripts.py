"""Single scripts that state their needs inline: run in environments of their own, pinned beside them, edited in place."""

from __future__ import annotations

import os
import shutil
import subprocess
from pathlib import Path

from lapidar.core.declaring import script
from lapidar.core.errors import DeclarationError
from lapidar.core.records import lockfile
from roots import skip_loudly
from support import PROGRAM, InFolder, WithIndex, wheel

BLOCK = """\
# /// script
# requires-python = ">=3.8"
# dependencies = [
#   "glaze",  # for the colours
# ]
# ///
"""
BODY = "import sys, os, glaze\nprint(glaze.VERSION, sys.argv[1:], os.getcwd(), sys.prefix)\n"


class Blocks(InFolder):
    """What the standard says of blocks."""

    def told(self, text: str, name: str = "a.py") -> script.Script | None:
        return script.parsed(text, Path(name))

    def test_as_the_standard_has_it(self) -> None:
        found = self.told(
            "# /// script\n# requires-python = '>=3.11'\n# dependencies = [\n#   'requests<3',\n#   'rich',\n# ]\n# ///\n\nimport x\n"
        )
        assert found
        self.assertEqual(found.document["dependencies"].unwrap(), ["requests<3", "rich"])
        # Blocks of other types, and two of them, mean nothing to us; what lies in it may look like an end.
        found = self.told(
            "# /// some-toml\n# embedded-csharp = '''\n# /// <summary>\n# text\n# /// </summary>\n# '''\n# ///\n"
            "# /// pyproject\n# x = 1\n# ///\n# /// pyproject\n# x = 1\n# ///\nimport x\n"
        )
        assert found
        self.assertEqual((dict(found.document), found.span), ({}, None))
        for text in (
            "# /// script\n# dependencies = []\n# ///",
            "#!/x\n\n# /// script\n#\n# dependencies = []\n# ///\nx",
        ):
            found = self.told(text)
            assert found
            self.assertEqual(dict(found.document), {"dependencies": []})

    def test_what_is_broken(self) -> None:
        for text, why in (
            (BLOCK + "\n" + BLOCK, "has two blocks"),
            ("# /// script\n# dependencies = []\nimport x\n", "has a block that does not end"),
            ("# /// script\n#dependencies = []\n# ///\n", "has a block that does not end"),
            ("# /// script\n# dependencies = [\n# ///\n", "is not valid TOML"),
            ("# /// script\n# dependency = []\n# ///\n", "says dependency, which means nothing there"),
            ("# /// script\n# dependencies = 'x'\n# ///\n", "is no list of strings"),
            ("# /// script\n# requires-python = 3\n# ///\n", "is no string"),
        ):
            with self.subTest(text=text), self.assertRaises(DeclarationError) as caught:
                found = self.told(text)
                assert found
                found.declaration()
            self.assertIn(why, f"{caught.exception.what} {caught.exception.why}")

    def test_nothing_else_of_it_changes(self) -> None:
        for ends in ("\n", "\r\n"):
            for mark in ("", "\ufeff"):
                for before in ("", "#!/usr/bin/env python3\n# -*- coding: utf-8 -*-\n", "'''doc'''\n\n"):
                    for last in ("x = '\u00e4'", "x = 1\n\n\n"):
                        text = (mark + before + BLOCK + last).replace("\n", ends)
                        found = self.told(text)
                        assert found
                        needs = found.needs()
                        array = needs.array("", create=True)
                        assert array is not None
                        self.assertEqual(found.with_block(needs.text).decode(), text, "unchanged it is the same bytes")
                        array.append("tin<2")
                        again = found.with_block(needs.text).decode()
                        self.assertTrue(again.startswith((mark + before).replace("\n", ends)))
                        self.assertTrue(again.endswith(last.replace("\n", ends)))
                        self.assertIn("# for the colours", again)
                        read = self.told(again)
                        assert read
                        self.assertEqual(read.document["dependencies"].unwrap(), ["glaze", "tin<2"])
        for head, rest in (("#!/usr/bin/python\n# coding: latin-1\n", "x = 1\n"), ("", ""), ("", "import x\n")):
            found = self.told(head + rest)
            assert found
            made = found.with_block('dependencies = ["tin"]\n').decode()
            self.assertTrue(made.startswith(head + "# /// script\n"))
            self.assertTrue(made.endswith(rest))


class OfScripts(WithIndex):
    def setUp(self) -> None:
        super().setUp()
        wheel(self.index, "glaze", "1.0")
        wheel(self.index, "glaze", "2.0")
        wheel(self.index, "tin", "1.0", requires=["glaze<2"])
        self.file = self.project / "fit it.py"
        self.file.write_text(BLOCK + BODY)
        self.beside = self.project / "fit it.py.lapidar.lock"

    def ran(self, *words: object, code: int = 0) -> str:
        done = self.lapidar("run", *(words or (self.file,)), code=code)
        self.said = done.stderr
        return done.stdout.strip()

    def envs(self) -> list[Path]:
        return sorted((self.cache / "scripts").glob("*/env"))


class Running(OfScripts):
    def test_in_an_environment_of_its_own(self) -> None:
        told = self.ran("fit it.py", "a", "--json", "b c")
        self.assertTrue(told.startswith(f"2.0 ['a', '--json', 'b c'] {self.project} "), told)
        self.assertIn("states its needs", self.said)
        self.assertEqual(sorted(os.listdir(self.project)), ["fit it.py", "fit it.py.lapidar.lock"])
        self.assertEqual([one.name for one in lockfile.read(self.beside).packages], ["glaze"])
        shutil.rmtree(self.index)
        shutil.rmtree(self.folder / "venv")
        self.assertTrue(self.ran().startswith("2.0 []"))
        self.assertEqual(self.said, "")
        # Elsewhere: with the snapshot beside it, and the bytes.
        away = self.folder / "away"
        away.mkdir()
        shutil.copy(self.file, away / "other.py")
        shutil.copy(self.beside, away / "other.py.lapidar.lock")
        self.assertTrue(self.ran(away / "other.py").startswith("2.0 []"))
        self.assertEqual(len(self.envs()), 1, "the same snapshot: the same environment")
        self.file.write_text(BLOCK + "import sys\nsys.exit(7)\n")
        self.ran(code=7)

    def test_what_it_states_counts(self) -> None:
        self.ran()
        self.file.write_text(self.file.read_text().replace('"glaze"', '"glaze<2"'))
        self.assertTrue(self.ran().startswith("1.0 "))
        self.assertIn("Pinned 1 package for it", self.said)
        said = self.lapidar("need", "--script", self.file, "tin").stdout
        self.assertIn("Next: lapidar run 'fit it.py'", said)
        self.assertIn('#   "tin",\n', self.file.read_text())
        (finding,) = self.json("check", "--script", "fit it.py", code=1)["findings"]
        self.assertEqual(finding["remedy"], "lapidar pin --script 'fit it.py'")
        self.assertIn(
            "next: lapidar pin --script 'fit it.py'\n", self.lapidar("check", "--script", "fit it.py", code=1).stdout
        )
        self.assertTrue(self.ran().startswith("1.0 "))
        self.assertEqual(len(lockfile.read(self.beside).packages), 2)
        self.lapidar("drop", "--script", self.file, "tin")
        self.assertEqual(self.file.read_text(), (BLOCK + BODY).replace('"glaze"', '"glaze<2"'))
        self.assertIn("tin is not declared in fit it.py", self.fails("drop", "--script", self.file, "tin"))
        self.assertIn("is not a need", self.fails("need", "--script", self.file, "<<<"))
        self.file.write_text(self.file.read_text().replace("<2", ">9"))
        said = self.fails("run", self.file)
        self.assertIn("glaze>9", said)
        self.assertIn("fit it.py", said)
        self.file.write_text("# /// script\n# dependencies = []\n# ///\nprint('bare')\n")
        self.assertEqual(self.ran(), "bare")

    def test_what_prune_takes(self) -> None:
        self.ran("--unpinned", self.file)
        self.lapidar("cache", "prune", "--history-days", "0")
        self.assertEqual(self.envs(), [], "nobody used it for longer; it is there again at the next start")
        self.assertTrue(self.ran("--unpinned", self.file).startswith("2.0 "))
        self.assertEqual(len(self.envs()), 1)
        self.lapidar("cache", "prune")
        self.assertEqual(len(self.envs()), 1)
        self.file.unlink()
        log = self.cache / "snapshots" / "log.jsonl"
        whole = log.read_bytes()
        log.write_bytes(whole[:-9])
        self.assertIn("Nothing was removed", self.fails("cache", "prune"))
        self.assertEqual(len(self.json("places")), 1, "nor forgotten")
        log.write_bytes(whole)
        for words, told in ((("--dry-run",), "would forget"), ((), "forgetting")):
            said = self.lapidar("cache", "prune", "--history-days", "0", *words).stdout
            self.assertIn(f"{told} the script {self.file}, which is gone", said)
        self.assertEqual(self.envs(), [])
        self.assertEqual(self.json("places"), [])
        self.assertEqual(self.json("cache", "summary")["snapshots"], [])

    def test_where_nothing_can_lie_beside_it(self) -> None:
        self.assertTrue(self.ran("--unpinned", self.file).startswith("2.0 "))
        self.assertFalse(self.beside.exists())
        done = subprocess.run(
            [PROGRAM, "run", "-", "z"],
            input=self.file.read_bytes(),
            env=self.variables,
            cwd=self.project,
            capture_output=True,
        )
        self.assertTrue(done.stdout.startswith(b"2.0 ['z']"), done)
        self.assertEqual(len(self.envs()), 1)
        self.assertEqual(os.listdir(self.project), ["fit it.py"])
        said = subprocess.run([PROGRAM, "run", "-"], input=b"x = 1\n", env=self.variables, capture_output=True).stderr
        self.assertIn(b"states no needs", said)
        link = self.project / "linked.py"
        link.symlink_to(self.file)
        self.assertTrue(self.ran(link).startswith("2.0 "))
        self.assertIn("is for a script that states its needs", self.fails("run", "--unpinned", "python", "x.py"))
        (self.project / "plain.py").write_text("print(1)\n")
        self.assertIn("plain.py", self.fails("run", "plain.py"))

    def test_every_command_takes_one(self) -> None:
        for words in (("pin",), ("restore",), ("check",), ("check", "--deep"), ("show",), ("cache", "audit")):
            self.lapidar(*words, "--script", self.file)
        self.assertIn("you need glaze (fit it.py)", self.lapidar("why", "glaze", "--script", self.file).stdout)
        self.lapidar(
            "--script", self.file, "capture", self.envs()[0], "--lock", self.folder / "again.lock", "--scope", "whole"
        )
        self.assertEqual((self.folder / "again.lock").read_bytes(), self.beside.read_bytes())
        self.ran()
        (self.envs()[0] / "bin" / "python3").unlink()
        self.lapidar("check", "--script", self.file, code=1)
        self.lapidar("restore", "--script", self.file)
        self.assertTrue(self.json("check", "--script", self.file)["clean"])
        self.assertIn("There is no script", self.fails("show", "--script", "nothing.py"))
        self.assertIn("A project and a script are named", self.fails("show", "--script", self.file, "--project", "."))
        parcel = self.folder / "p.tar"
        self.lapidar("parcel", "make", "--script", self.file, "--without-lapidar", "--with-project", "--to", parcel)
        self.variables["LAPIDAR_CACHE"] = str(self.folder / "elsewhere")
        self.variables.pop("LAPIDAR_INDEX")
        mailed = self.folder / "mailed"
        self.lapidar("parcel", "open", parcel, "--into", mailed)
        here = {self.file.name: self.file.read_bytes(), self.beside.name: self.beside.read_bytes()}
        self.assertEqual({name: (mailed / name).read_bytes() for name in here}, here)
        self.file = mailed / self.file.name
        self.assertTrue(self.ran().startswith("2.0 "), "a mailed script, its snapshot and the parcel: no network")

    def test_recorded_and_run_again(self) -> None:
        (self.project / "clay.csv").write_text("red\n")
        self.file.write_text(
            BLOCK + "import glaze\nopen('out.csv', 'w').write(open('clay.csv').read() + glaze.VERSION)\n"
        )
        said = self.lapidar("record", "--script", self.file).stdout
        self.assertIn("1 source, 1 input, 1 result", said)
        self.assertTrue((self.project / "fit it.py.lapidar.results").is_file())
        self.assertFalse((self.project / ".lapidar").exists())
        (self.project / "clay.csv").write_text("white\n")
        self.lapidar("rerun", "--script", self.file)
        self.assertEqual([one["analysis"] for one in self.json("rerun", "--script", self.file)["reruns"]], ["fit it"])
        (self.project / "out.csv").write_text("other\n")
        self.lapidar("compare", "--script", self.file, "fit it", "out.csv", code=1)
        self.assertIn("recorded", self.lapidar("check", "--script", self.file, code=1).stdout)
        self.lapidar("cache", "prune", "--history-days", "0")
        self.lapidar("rerun", "--script", self.file)

    def test_several_at_once_make_one(self) -> None:
        files = []
        for number in range(6):
            file = self.project / f"s{number}.py"
            file.write_text(BLOCK + f"import glaze, sys\nprint({number}, sys.prefix)\n")
            files.append(file)
        done = [
            subprocess.Popen(
                [PROGRAM, "-q", "run", str(file)], cwd=self.project, env=self.variables, stdout=subprocess.PIPE
            )
            for file in files
        ]
        told = [one.communicate(timeout=120)[0].split() for one in done]
        self.assertEqual([int(one[0]) for one in told], list(range(6)))
        self.assertEqual(len({one[1] for one in told}), 1)
        self.assertEqual(len(self.envs()), 1)


class OfR(OfScripts):
    def test_a_block_of_our_own(self) -> None:
        if not shutil.which("Rscript"):
            skip_loudly(self, "there is no R here (Debian's r-base-core)")
        file = self.project / "fit.R"
        file.write_text(
            '# /// lapidar-r\n# requires-r = ">= 3.5"\n# dependencies = []\n# ///\n'
            'cat(commandArgs(TRUE), basename(getwd()), R.home(), "\\n")\n'
        )
        self.variables["LAPIDAR_INDEX"] = f"r={self.index}"
        (self.index / "src" / "contrib").mkdir(parents=True)
        (self.index / "src" / "contrib" / "PACKAGES").write_text("")
        told = self.ran(file, "a b")
        self.assertTrue(told.startswith("a b project"), told)
        self.assertIn("/scripts/", told)
        self.assertTrue((self.project / "fit.R.lapidar.lock").is_file())
        self.lapidar("need", "--script", file, "clay (>= 1.0)")
        self.assertIn('"clay (>= 1.0)"', file.read_text())
