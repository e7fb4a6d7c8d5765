"""``lapidar help``"""

from __future__ import annotations

import argparse
import importlib

from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import COMMANDS, Session, build_parser

DESCRIPTION = """\
Show the help of a command, or of all of them as a manual page."""

EXAMPLES = """\
examples:
  lapidar help
  lapidar help restore
  lapidar help --manual | man -l -"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("topic", nargs="?", choices=sorted(COMMANDS), metavar="COMMAND", help="which command")
    parser.add_argument("--manual", action="store_true", help="all of it as a manual page, in the form of man(7)")


def run(session: Session) -> int:
    options = session.options
    if options.manual:
        print(importlib.import_module("lapidar.cli.manual").render(), end="")
    elif options.topic:
        build_parser(options.topic).parse_args([options.topic, "--help"])
    else:
        build_parser(None).print_help()
    return ExitCode.DONE
