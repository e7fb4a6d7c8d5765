"""``lapidar call``"""

from __future__ import annotations

import argparse
import json
import sys

from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session

DESCRIPTION = """\
Call one function in the environment of another snapshot, and print what it gives, as JSON: an old value that is needed
today, without going back. From Python code: lapidar.elsewhere(). What it prints goes to standard error."""

EXAMPLES = """\
examples:
  lapidar call --in 3fe0a1 kilns.fit:slope --given '[[1, 2, 3]]'
  lapidar call --in ../old-study kilns.fit:slope --given '{"k": 3}'
  lapidar call --in kilns.parcel.tar kilns.fit:slope"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("function", metavar="MODULE:FUNCTION", help="as it is imported there")
    parser.add_argument(
        "--in",
        dest="where",
        metavar="WHAT",
        required=True,
        help="a snapshot of the history (the beginning of its identity), a lockfile, another project's folder, or a "
        "parcel",
    )
    parser.add_argument(
        "--given",
        metavar="JSON",
        default="[]",
        help="a list of what it is given, or an object of what it is given by name",
    )
    parser.add_argument("--at-most", type=float, metavar="SECONDS", help="end it after so long")


def run(session: Session) -> int:
    from lapidar.core.errors import LapidarError
    from lapidar.core.flows.elsewhere import opened

    options = session.options
    try:
        given = json.loads(options.given)
    except ValueError as error:
        raise LapidarError("What it is given is not valid JSON", why=str(error), remedy="--given '[1, 2]'") from error
    args, named = ([], given) if isinstance(given, dict) else (given if isinstance(given, list) else [given], {})
    cache = session.cache()
    with opened(options.where, session.place, cache, session.view.reporter(), output=2) as there:
        value = there.call(options.function, *args, timeout=options.at_most, **named)
    try:
        text = json.dumps(value, default=_plain, ensure_ascii=False)
    except TypeError as error:
        raise LapidarError("What it gives has no form in JSON", why=str(error), remedy="Call it from code.") from error
    sys.stdout.write(text + "\n")
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
