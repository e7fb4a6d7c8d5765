"""``lapidar demo``"""

from __future__ import annotations

import argparse

from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session
from lapidar.cli.view import human_bytes, human_path
from lapidar.core.foreign import expanded

DESCRIPTION = """\
Lays out a sample project (made-up chemistry of glazed sherds), captures the environment that lapidar itself runs in,
restores it in another folder, runs the analysis in both and compares the results byte for byte. It works with no
network, and in a folder of its own: remove it and nothing is left."""

EXAMPLES = """\
examples:
  lapidar demo
  lapidar demo --into /tmp/sherds-demo"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--into", metavar="DIR", default="lapidar-demo", help="where (default: ./lapidar-demo)")


def run(session: Session) -> int:
    from lapidar.demo.story import Story

    view = session.view
    folder = expanded(session.options.into).absolute()

    told = False

    def tell(kind: str, text: str) -> None:
        nonlocal told
        if kind == "say" and told:
            view.note()
        view.note(f"$ {text}" if kind == "type" else text, "heading" if kind == "type" else "faint")
        told = True

    story = Story(folder, tell, quiet=view.quiet)
    compared = story.run()
    identical = all(result.identical for result in compared)
    if view.json:
        story.end()
        view.object({"folder": str(folder), "identical": identical, "results": compared})
        return ExitCode.DONE if identical else ExitCode.NO
    rows = [
        [
            result.name,
            human_bytes(result.bytes),
            result.before[:16],
            result.after[:16],
            "identical" if result.identical else "DIFFERENT",
        ]
        for result in compared
    ]
    view.table(["result", "size", "sha256 today", "sha256 later", ""], rows, right=(1,))
    story.end()
    if identical:
        view.line(f"Identical results. The project is in {human_path(folder / 'sherds')}, look around in it.", "good")
    else:
        view.line("The results differ.", "bad")
    return ExitCode.DONE if identical else ExitCode.NO
