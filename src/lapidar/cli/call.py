"""``lapidar call``"""

from __future__ import annotations

import argparse
import json
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session

if TYPE_CHECKING:
    from lapidar.core.flows.elsewhere import Elsewhere

DESCRIPTION = """\
Call one function in the environment of another snapshot, and print what it gives, as JSON: an old value that is needed
today, without going back. From Python code: lapidar.elsewhere(); from R code: lapidar_call() of the package that
--r-package lays out. What the function prints goes to standard error."""

EXAMPLES = """\
examples:
  lapidar call --in 3fe0a1 kilns.fit:slope --given '[[1, 2, 3]]'
  lapidar call --in ../old-study stats:median --language r --given '[[1, 2, 3]]'
  lapidar call --in kilns.parcel.tar fit.R:slope --given '{"k": 3}'
  lapidar call --r-package libs/lapidar      then: lapidar need ./libs/lapidar"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "function",
        nargs="?",
        metavar="MODULE:FUNCTION",
        help="as it is imported there; in R PACKAGE:FUNCTION or FILE.R:FUNCTION",
    )
    parser.add_argument(
        "--in",
        dest="where",
        metavar="WHAT",
        help="a snapshot of the history (the beginning of its identity), a lockfile, another project's folder, or a "
        "parcel",
    )
    parser.add_argument("--language", default="", metavar="NAME", help="whose function, where the snapshot has several")
    parser.add_argument(
        "--given",
        metavar="JSON",
        default="[]",
        help="a list of what it is given, or an object of what it is given by name",
    )
    parser.add_argument("--at-most", type=float, metavar="SECONDS", help="end it after so long")
    parser.add_argument("--r-package", metavar="FOLDER", help="lay out the package by which R code calls, there")
    parser.add_argument(
        "--through", metavar="PATH", help="for other languages: answer what comes in by a pipe made there"
    )


def run(session: Session) -> int:
    from lapidar.core.errors import LapidarError

    options = session.options
    if options.r_package is not None:
        return _laid_out(session, Path(options.r_package))
    if options.through:
        return _through(session)
    if not options.function:
        raise LapidarError("No function was named", remedy="lapidar call --in WHAT MODULE:FUNCTION")
    try:
        given = json.loads(options.given)
    except ValueError as error:
        raise LapidarError("What it is given is not valid JSON", why=str(error), remedy="--given '[1, 2]'") from error
    args, named = ([], given) if isinstance(given, dict) else (given if isinstance(given, list) else [given], {})
    with _opened(session) as there:
        value = there.call(options.function, *args, timeout=options.at_most, **named)
    try:
        text = json.dumps(value, default=_plain, ensure_ascii=False)
    except TypeError as error:
        raise LapidarError("What it gives has no form in JSON", why=str(error), remedy="Call it from code.") from error
    sys.stdout.write(text + "\n")
    return ExitCode.DONE


def _opened(session: Session) -> Elsewhere:
    from lapidar.core.flows.elsewhere import opened

    options = session.options
    reporter = session.view.reporter()
    return opened(options.where or "", session.place, session.cache(), reporter, language=options.language, output=2)


def _through(session: Session) -> int:
    from lapidar.core.elsewhere import channel
    from lapidar.core.errors import LapidarError

    try:
        there = _opened(session)
    except LapidarError as error:
        channel.refuse(sys.stdout.buffer, error)
        return ExitCode.FAILED
    with there, channel.opened(Path(session.options.through), sys.stdout.buffer) as asked:
        if asked:
            there.relay(asked, sys.stdout.buffer)
    return ExitCode.DONE


def _laid_out(session: Session, folder: Path) -> int:
    from lapidar.cli.view import typed_path
    from lapidar.core.flows.laid_out import lay_out_calling

    lay_out_calling(folder, "r")
    typed = typed_path(folder) if folder.is_absolute() else f"./{typed_path(folder)}"
    session.view.line(f"The package lapidar for R is in {typed}: `lapidar need {typed}`, or `R CMD INSTALL {typed}`.")
    return ExitCode.DONE


def _plain(value: object) -> object:
    """Frames as columns, arrays as lists, dates as text."""
    for name in ("to_dict", "tolist", "isoformat"):
        if hasattr(value, name):
            return (
                getattr(value, name)("list")
                if name == "to_dict" and hasattr(value, "columns")
                else getattr(value, name)()
            )
    raise TypeError(f"a {type(value).__name__}")
