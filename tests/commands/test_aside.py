"""Trying something without a trace: another environment for a moment, and the project as it was."""

from __future__ import annotations

import shutil
import subprocess

from support import PROGRAM, WithIndex, pythons, tree_of, wheel


class Asides(WithIndex):
    def setUp(self) -> None:
        super().setUp()
        for version in ("1.0", "2.0"):
            wheel(self.index, "glaze", version)
        wheel(self.index, "tin", "1.0", requires=["glaze<2"])
        wheel(self.index, "clay", "1.0")
        wheel(self.index, "clay", "2.0")
        self.lapidar("need", "glaze<2", "clay<2")
        (self.project / "lapidar.toml").write_text(
            (self.project / "lapidar.toml").read_text().replace("clay<2", "clay")
        )
        self.lapidar("pin", "--yes")
        (self.project / "fit.py").write_text("import glaze\nopen('out.csv', 'w').write(glaze.VERSION)\n")
        self.lapidar("record", "fit", "--", "python", "fit.py")
        self.before = self.state()

    def state(self) -> dict[str, object]:
        history = (self.cache / "snapshots" / "log.jsonl").read_bytes()
        return {**tree_of(self.project), "history": history}

    def ran(self, *words: object, code: int = 0) -> str:
        done = self.lapidar("aside", *words, code=code)
        self.said = done.stderr
        self.assertEqual(self.state(), self.before, "the project is as it was")
        return done.stdout.strip()

    def test_without_a_trace(self) -> None:
        script = "import glaze, clay; print(glaze.VERSION, clay.VERSION)"
        self.assertEqual(self.ran("glaze>=2", "--", "python", "-c", script), "2.0 1.0", "the rest is held")
        self.assertIn("glaze 1.0 -> 2.0", self.said)
        self.assertIn("to keep this: lapidar need 'glaze>=2'", self.said)
        shutil.rmtree(self.index)
        self.assertEqual(self.ran("glaze>=2", "--", "python", "-c", script), "2.0 1.0", "made once")
        self.assertNotIn("->", self.said)
        self.ran("glaze>=2", "--", "python", "-c", "import sys; sys.exit(5)", code=5)
        told = self.ran("glaze>=2", "--", "sh", "-c", "kill -TERM $$", code=143)
        self.assertEqual(told, "")

    def test_other_ways(self) -> None:
        self.ran("tin", "--without", "clay", "--", "python", "-c", "import tin, glaze; print(glaze.VERSION)")
        self.assertIn("lapidar need tin && lapidar drop clay", self.said)
        find = "import importlib.util as u; print(u.find_spec('clay'), u.find_spec('glaze') is not None)"
        self.assertEqual(self.ran("--without", "clay", "--", "python", "-c", find), "None True")
        told = self.ran("clay", "--only", "--", "python", "-c", f"import clay; print(clay.VERSION); {find}")
        self.assertTrue(told.startswith("2.0\n") and told.endswith("False"), "nothing of the project holds it")
        self.assertNotIn("to keep", self.said)
        said = self.fails("aside", "tin", "glaze>=2", "--", "true")
        self.assertIn("tin", said)
        self.assertEqual(self.state(), self.before)
        for words, why in (
            ((), "What is to be tried is not said"),
            (("tin",), "There is no command to run"),
            (("--without", "nothing", "--", "true"), "nothing is not declared"),
            (("<<", "--", "true"), "is not a need"),
        ):
            self.assertIn(why, self.fails("aside", *words))
        empty = self.folder / "empty"
        empty.mkdir()
        self.lapidar("aside", "--only", "clay", "--", "python", "-c", "import clay", cwd=empty)
        self.assertEqual(list(empty.iterdir()), [])

    def test_what_becomes_of_results(self) -> None:
        told = self.ran("glaze>=2", "--compare", code=1)
        self.assertIn("out.csv", told)
        self.assertIn("1 of 2 results are not what was recorded", told)
        told = self.ran("clay>=2", "--compare")
        self.assertIn("nothing differs", told)

    def test_another_runtime(self) -> None:
        script = "import sys; print(sys.version_info[:2])"
        own = self.lapidar("run", "python", "-c", script).stdout.strip()
        for other in pythons():
            asked = subprocess.run([other, "-c", script], capture_output=True, text=True, check=True).stdout.strip()
            if asked != own:
                self.assertEqual(self.ran("--runtime", other, "--", "python", "-c", script), asked)
                return
        self.skipTest("there is one version of Python here")

    def test_several_at_once(self) -> None:
        words = [PROGRAM, "-q", "aside", "glaze>=2", "--", "python", "-c", "import sys; print(sys.prefix)"]
        done = [
            subprocess.Popen(words, cwd=self.project, env=self.variables, stdout=subprocess.PIPE, stderr=-3)
            for _ in range(5)
        ]
        self.assertEqual(len({one.communicate(timeout=120)[0] for one in done}), 1)
        self.assertEqual([one.returncode for one in done], [0] * 5)
        self.assertEqual(self.state(), self.before)
