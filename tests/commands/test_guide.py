"""The guide: what its pages show is run as it stands there."""

from __future__ import annotations

import re
import subprocess
from pathlib import Path

from standins import Pinning
from support import PROGRAM

PAGES = sorted((Path(__file__).parents[2] / "docs/guide").glob("*.md"))
BLOCK = re.compile(r"^```(\w+)(?: (\S+))?\n(.*?)^```$", re.MULTILINE | re.DOTALL)


class Guide(Pinning):
    own_cache = True

    def test_there_are_pages(self) -> None:
        self.assertEqual(len(PAGES), 4)

    def test_new_analysis(self) -> None:
        self.run_page("new-analysis")

    def test_old_project(self) -> None:
        self.run_page("old-project")

    def test_daily_work(self) -> None:
        self.run_page("daily-work")

    def test_another_machine(self) -> None:
        self.run_page("another-machine")

    def run_page(self, name: str) -> None:
        """Write the files that a page shows, and run its commands one after the other; none may fail."""
        page = next(page for page in PAGES if page.stem == name)
        variables = {**self.variables, "PATH": f"{Path(PROGRAM).parent}:{self.variables['PATH']}"}
        ran = 0
        for kind, file, text in BLOCK.findall(page.read_text("utf-8")):
            if file:
                (self.project / file).write_text(text)
            elif kind == "sh":
                for line in text.splitlines():
                    done = subprocess.run(
                        ["sh", "-c", line], cwd=self.project, env=variables, capture_output=True, text=True, check=False
                    )
                    self.assertEqual(done.returncode, 0, f"{line}\n{done.stdout}\n{done.stderr}")
                    self.assertNotIn("Traceback", done.stderr)
                    ran += 1
        self.assertGreater(ran, 5)
