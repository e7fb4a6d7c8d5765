"""``lapidar publish``"""

from __future__ import annotations

import argparse
import os
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session
from lapidar.cli.view import human_bytes, human_path

if TYPE_CHECKING:
    from lapidar.core.languages.python.index.uploading import Archive
    from lapidar.core.records.declaration import Index

DESCRIPTION = """\
Bring archives of a package of your own (wheels, source archives) to a package index that you configured with an address
for uploads. They are checked first: that their metadata is theirs, and that the index has no other file of that name.
What lies there already is not sent again. Name and password come from ~/.netrc, as for reading."""

EXAMPLES = """\
examples:
  lapidar publish --index lab                        what lies in dist/
  lapidar publish libs/kilns/dist/* --index lab
  [index] lab = { address = "https://packages.example/simple", upload = "https://packages.example/upload/" }"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("files", nargs="*", metavar="FILE", help="archives (default: those in dist/)")
    parser.add_argument(
        "--index", metavar="NAME", required=True, help="an index of lapidar.toml, or of your configuration"
    )
    parser.add_argument("-y", "--yes", action="store_true", help="send without asking")


def run(session: Session) -> int:
    from lapidar.core.errors import LapidarError
    from lapidar.core.languages.python.index.publishing import publish

    view, place, options = session.view, session.place, session.options
    paths = [Path(os.path.abspath(one)) for one in options.files] or _built(place.root / "dist")
    if not paths:
        raise LapidarError("There is nothing to publish", remedy="lapidar build makes archives; or name some.")

    def agrees(archives: Sequence[Archive], notes: Sequence[str], index: Index) -> bool:
        for sentence in notes:
            view.warn(sentence)
        for one in archives:
            view.remark(f"{one.path.name}, {human_bytes(one.path.stat().st_size)}")
        if options.yes:
            return True
        if not view.has_company:
            raise LapidarError("There is nobody to ask", why="what is published stays so", remedy="Say --yes.")
        return bool(view.asks(f"Send to {index.upload}? What is published stays so."))

    done = publish(place, session.cache(create=True), paths, options.index, agrees, view.reporter())
    if view.json:
        view.object(
            {"sent": [one.path.name for one in done.sent], "there": [one.path.name for one in done.there_already]}
        )
        return ExitCode.DONE
    for one in done.there_already:
        view.line(f"{one.path.name} is there already.", "good")
    for one in done.sent:
        view.line(f"Published {human_path(one.path)}.", "good")
    if not done.sent and not done.there_already:
        view.note("Nothing was sent.")
    elif done.sent:
        view.note(f"Elsewhere: lapidar need '{done.sent[0].name}=={done.sent[0].version}'")
    return ExitCode.DONE


def _built(folder: Path) -> list[Path]:
    return sorted([*folder.glob("*.whl"), *folder.glob("*.tar.gz")])
