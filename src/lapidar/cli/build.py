"""``lapidar build``"""

from __future__ import annotations

import argparse
import os
from pathlib import Path

from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session
from lapidar.cli.view import human_bytes, human_path

DESCRIPTION = """\
Build what is handed on of a package of your own: of Python the source archive and the wheel, by the build back end that
its pyproject.toml names; of R the source archive. The same source gives the same bytes: files in order, of one time and
of nobody. What it is built with is pinned at first, which asks the indexes that you configured, and kept in
.lapidar/builds, for version control too; from then on it comes from the cache, and no host is asked."""

EXAMPLES = """\
examples:
  lapidar build                    the project itself, into dist/
  lapidar build libs/kilns         a package in it, into libs/kilns/dist/
  lapidar build --to /tmp/out"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("folder", nargs="?", metavar="FOLDER", help="of the package (default: the project)")
    parser.add_argument("--to", metavar="DIR", help="for the archives (default: FOLDER/dist)")


def run(session: Session) -> int:
    from lapidar.core.flows.building import build

    view, place = session.view, session.place
    folder = Path(os.path.abspath(session.path("folder") or place.root))
    to = Path(os.path.abspath(session.path("to") or folder / "dist"))
    done = build(place, session.cache(create=True), folder, to, view.reporter())
    if view.json:
        view.object({"files": [str(path) for path in done.files], "built_with": done.built_with})
        return ExitCode.DONE
    for path in done.files:
        view.line(f"Built {human_path(path)}: {human_bytes(path.stat().st_size)}", "good")
    if done.built_with:
        view.note(f"With {', '.join(done.built_with)}, which stay so: {human_path(done.lock or to)}")
    if done.language == "python":
        view.note("Next: lapidar publish --index NAME")
    return ExitCode.DONE
