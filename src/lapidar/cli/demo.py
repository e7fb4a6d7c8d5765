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
network, and in a folder of its own: remove it and nothing is left. With --guide: opens a shell in the made-up folder of
a page of the guide, with indexes and a cache of its own, where all that the page shows can be typed; when one leaves
it (exit), it is gone."""

EXAMPLES = """\
examples:
  lapidar demo
  lapidar demo --into /tmp/sherds-demo
  lapidar demo --guide first-steps
  lapidar demo --guide daily-work -- sh typed.sh"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--into", metavar="DIR", default="lapidar-demo", help="where (default: ./lapidar-demo)")
    parser.add_argument("--guide", metavar="PAGE", help="a shell (or the COMMAND after --) in the world of this page")


def _in_a_world(session: Session) -> int:
    """A shell in the world of a page, until it ends; its exit code is ours."""
    import os
    import subprocess
    import tempfile
    from pathlib import Path

    from lapidar.core import spelling
    from lapidar.core.errors import LapidarError
    from lapidar.demo.guide import PAGES, opened

    page, view, command = session.options.guide, session.view, session.options.after
    if page not in PAGES:
        hint = spelling.hint(spelling.near(page, PAGES), f"There are: {', '.join(PAGES)}.")
        raise LapidarError(f"The guide has no page {page}", remedy=hint)
    with (
        tempfile.TemporaryDirectory(prefix="lapidar-guide-") as folder,
        opened(page, Path(folder).resolve()) as (project, variables),
    ):
        if session.options.cache:
            variables["LAPIDAR_CACHE"] = str(session.cache(create=True).root)
        if not command:
            view.note(
                f"You are in the folder of the page {page}; type what it shows. Leave it with exit: it is gone then."
            )
        return subprocess.run(
            command or [os.environ.get("SHELL") or "/bin/sh"], cwd=project, env=variables, check=False
        ).returncode


def run(session: Session) -> int:
    if session.options.guide:
        return _in_a_world(session)
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
