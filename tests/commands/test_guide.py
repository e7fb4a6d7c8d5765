"""The guide: each page begins with the one command that makes its world, and all that it shows is typed there."""

from __future__ import annotations

import re
import subprocess
from pathlib import Path

from lapidar.demo.guide import PAGES
from support import PROGRAM, Case

FOLDER = Path(__file__).parents[2] / "docs/guide"
BLOCK = re.compile(r"^```(\w+)(?: (\S+))?\n(.*?)^```$", re.MULTILINE | re.DOTALL)


class Guide(Case):
    own_cache = True

    def test_every_page_has_a_world(self) -> None:
        self.assertEqual({page.stem for page in FOLDER.glob("*.md")}, set(PAGES))
        self.assertIn("There are: first-steps", self.fails("demo", "--guide", "elsewhere"))

    def test_first_steps(self) -> None:
        self.type_page("first-steps")

    def test_new_analysis(self) -> None:
        self.type_page("new-analysis")

    def test_old_project(self) -> None:
        self.type_page("old-project")

    def test_daily_work(self) -> None:
        self.type_page("daily-work")

    def test_after_an_update(self) -> None:
        said = self.type_page("after-an-update")
        self.assertEqual(said.count("The change lies in site/kilns/__init__.py"), 2)

    def test_several_analyses(self) -> None:
        said = self.type_page("several-analyses")
        self.assertIn("The first step whose result differs with it is distances, and then report.", said)

    def test_another_machine(self) -> None:
        self.type_page("another-machine")

    def test_analysis_in_r(self) -> None:
        self.type_page("analysis-in-r")

    def test_own_packages(self) -> None:
        said = self.type_page("own-packages")
        self.assertEqual(re.findall(r"kiln: (\d+) minutes", said), ["36", "29", "29"])

    def test_scripts_and_programs(self) -> None:
        said = self.type_page("scripts-and-programs")
        self.assertEqual(said.count("celadon: 2\ntenmoku: 1\n"), 2)

    def test_older_code(self) -> None:
        said = self.type_page("older-code")
        self.assertEqual(re.findall(r"0\.\d{3}(?=\d* ?k|\d*\])", said), ["0.707", "0.679", "0.707", "0.679"])

    def type_page(self, name: str) -> str:
        """Open the world of a page by the command that it shows, and type its lines there; none may fail."""
        text = (FOLDER / f"{name}.md").read_text("utf-8")
        blocks = BLOCK.findall(text)
        shown = {file: body for _, file, body in blocks if file}
        self.assertEqual(shown, dict(PAGES[name]), "the files that the page shows are those of its world")
        kind, _, begins = next(block for block in blocks if not block[1])
        self.assertEqual((kind, begins), ("console", f"$ lapidar demo --guide {name}\n"))
        typed = [line for kind, file, body in blocks if kind == "sh" and not file for line in body.splitlines()]
        self.assertGreater(len(typed), 5)
        script = "".join(f"{line} || {{ echo 'FAILED: {line.replace(chr(39), '')}'; exit 1; }}\n" for line in typed)
        done = subprocess.run(
            [PROGRAM, "--cache", self.cache, "demo", "--guide", name, "--", "sh"],
            cwd=self.project,
            env=self.variables,
            input=script,
            capture_output=True,
            text=True,
            check=False,
        )
        self.assertEqual(done.returncode, 0, f"{done.stdout[-3000:]}\n{done.stderr[-3000:]}")
        self.assertNotIn("Traceback", done.stderr)
        return done.stdout
