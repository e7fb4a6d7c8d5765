"""Programs for everywhere: each package in a place of its own, with links in the user's folder of programs."""

from __future__ import annotations

import os
import shutil
import subprocess
from pathlib import Path

from support import PROGRAM, Case, wheel


class OnTheShelf(Case):
    own_cache = True

    def setUp(self) -> None:
        super().setUp()
        self.environment()
        self.bin = self.folder / ".local" / "bin"
        self.variables |= {
            "HOME": str(self.folder),
            "PATH": f"{self.bin}:{self.folder}/venv/bin:{self.variables['PATH']}",
            "XDG_DATA_HOME": str(self.folder / "data"),
            "XDG_CONFIG_HOME": str(self.folder / "config"),
        }
        self.index = self.folder / "index"
        self.index.mkdir()
        self.tool("1.0")
        wheel(self.index, "glaze", "1.0")
        self.variables["LAPIDAR_INDEX"] = str(self.index)

    def tool(self, version: str) -> None:
        text = f"import sys\n\n\ndef main():\n    print({version!r}, sys.argv[1:])\n    try:\n        import glaze\n        print('glazed')\n    except ImportError:\n        pass\n"
        points = "[console_scripts]\nkilntools = kilntools:main\nkiln-two = kilntools:main\n"
        wheel(self.index, "kilntools", version, files={"kilntools.py": text}, entry_points=points)

    def said(self, *words: str) -> str:
        return str(subprocess.run(words, env=self.variables, capture_output=True, text=True, check=True).stdout)

    def test_put_renewed_and_taken(self) -> None:
        self.assertIn("Nothing stands", self.lapidar("shelf").stdout)
        self.assertIn("kiln-two, kilntools", self.lapidar("shelf", "put", "kilntools").stdout)
        self.assertEqual(self.said("kilntools", "a"), "1.0 ['a']\n")
        self.assertEqual(sorted(os.listdir(self.bin)), ["kiln-two", "kilntools"])
        self.assertEqual(os.listdir(self.project), [], "and nothing in the project")
        self.tool("2.0")
        self.lapidar("shelf", "put", "kilntools")
        self.assertEqual(self.said("kilntools"), "1.0 []\n", "what is there stays")
        self.assertRegex(self.lapidar("shelf", "--newer").stdout, r"kilntools +1\.0 .* 2\.0\s")
        self.assertEqual(self.json("shelf")[0]["newer"], "", "nobody was asked")
        self.assertIn("kilntools 1.0 -> 2.0", self.lapidar("shelf", "renew").stdout)
        self.assertEqual(self.said("kilntools"), "2.0 []\n")
        self.assertIn("nothing newer", self.lapidar("shelf", "renew", "kilntools").stdout)
        self.lapidar("shelf", "put", "kilntools<2", "--with", "glaze")
        self.assertEqual(self.said("kiln-two"), "1.0 []\nglazed\n")
        (row,) = self.json("shelf")
        self.assertEqual((row["version"], row["programs"]), ("1.0", ["kiln-two", "kilntools"]))
        self.lapidar("cache", "prune", "--history-days", "0")
        self.assertEqual(self.said("kiln-two"), "1.0 []\nglazed\n")
        self.assertEqual(self.json("shelf", "--newer")[0]["newer"], "2.0", "though its range keeps it out")
        self.lapidar("shelf", "take", "kilntools")
        self.assertEqual(os.listdir(self.bin), [])
        self.assertEqual(self.json("shelf"), [])
        self.assertIn("is not on the shelf", self.fails("shelf", "take", "kilntools"))

    def test_what_is_not_taken_from_others(self) -> None:
        self.bin.mkdir(parents=True)
        (self.bin / "kiln-two").write_text("somebody's\n")
        said = self.fails("shelf", "put", "kilntools")
        self.assertIn("is there, and not of this shelf", said)
        self.assertEqual(os.listdir(self.bin), ["kiln-two"])
        self.assertEqual(self.json("shelf"), [])
        self.assertIn("glaze has no programs", self.fails("shelf", "put", "glaze"))
        self.assertIn("no index has a package called nothing", self.fails("shelf", "put", "nothing"))
        self.assertEqual(list((self.folder / "data" / "lapidar" / "shelf").iterdir()), [])
        for words in (("put",), ("take",), ("put", "a", "b"), ("renew", "--with", "x"), ("--newer", "renew")):
            self.fails("shelf", *words)
        self.variables["LAPIDAR_BIN"] = str(self.folder / "other")
        self.assertIn("is not on your PATH", self.lapidar("shelf", "put", "kilntools").stdout)
        (self.folder / "config" / "lapidar" / "shelf.toml").write_text("not = [toml\n")
        self.assertIn("cannot be read", self.fails("shelf"))

    def test_run_without_putting(self) -> None:
        done = self.lapidar("shelf", "run", "--with", "glaze", "kilntools", "x", "--json")
        self.assertEqual(done.stdout, "1.0 ['x', '--json']\nglazed\n")
        self.assertEqual(self.json("shelf"), [])
        self.assertFalse(self.bin.exists())
        shutil.rmtree(self.index)
        self.lapidar("shelf", "run", "--with", "glaze", "kilntools")

    def test_carried_to_another_machine(self) -> None:
        self.lapidar("shelf", "put", "kilntools")
        shutil.rmtree(self.bin)
        shutil.rmtree(self.folder / "data")
        self.tool("2.0")
        self.assertEqual([one["version"] for one in self.json("shelf")], [""])
        self.assertIn("On the shelf: kilntools", self.lapidar("shelf", "restore").stdout)
        self.assertEqual(self.said("kilntools"), "1.0 []\n", "by its snapshot")
        self.lapidar("shelf", "renew")
        self.assertEqual(self.said("kilntools"), "2.0 []\n")

    def test_every_place(self) -> None:
        self.assertIn("No places are known here", self.lapidar("places").stdout)
        self.lapidar("shelf", "put", "kilntools")
        self.lapidar("need", "glaze")
        (self.project / "one.py").write_text("# /// script\n# dependencies = ['kilntools']\n# ///\nprint(1)\n")
        self.lapidar("run", "one.py")
        self.lapidar("aside", "kilntools", "--", "true")
        rows = self.json("places")
        self.assertEqual([one["kind"] for one in rows], ["project", "shelf", "script", "aside"])
        self.assertEqual(rows[-1]["name"], "kilntools", "what was tried")
        self.assertEqual([one["standing"] for one in rows], ["restored", "kiln-two, kilntools", "placed", "used today"])
        self.assertTrue(all(one["bytes"] > 1_000_000 and one["snapshot"] for one in rows))
        (self.project / "one.py").unlink()
        shutil.rmtree(self.project / ".lapidar" / "env")
        self.assertEqual([one["standing"] for one in self.json("places")][::2], ["not restored", "is gone"])
        self.assertIn("kilntools 1.0", self.lapidar("places").stdout)

    def test_killed(self) -> None:
        for seconds in (0.3, 0.6, 1.0, 1.5):
            process = subprocess.Popen([PROGRAM, "shelf", "put", "kilntools"], env=self.variables, stdout=-3, stderr=-3)
            try:
                process.wait(seconds)
            except subprocess.TimeoutExpired:
                process.kill()
                process.wait()
            for link in self.bin.iterdir() if self.bin.exists() else ():
                self.assertTrue(Path(os.path.realpath(link)).exists())
        self.lapidar("shelf", "put", "kilntools")
        self.assertEqual(self.said("kilntools"), "1.0 []\n")
