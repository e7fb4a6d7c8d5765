"""``lapidar need``"""

from __future__ import annotations

import argparse

from lapidar.cli import pins
from lapidar.cli.main import Session, add_language_option

DESCRIPTION = """\
Declare what the analysis needs, resolve, and bring lockfile and environment up to it in one go. A need of a name that
is declared already replaces it. Where the needs cannot be met together, it says why and changes nothing. The
declaration is the language's own file (pyproject.toml, DESCRIPTION) where there is one, else lapidar.toml; its comments
and order stay. Asks the package indexes that you configured, and no other host."""

EXAMPLES = """\
examples:
  lapidar need numpy
  lapidar need 'numpy>=2,<3' 'sherdlib[plot]'
  lapidar need --group report sherdpages
  lapidar need --language r 'sherdstats (>= 2.1)'
  lapidar need --index lab slip              from this index of lapidar.toml, and from no other
  lapidar need 'kilns @ git+https://packages.example/kilns@1a2b3c4'"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("needs", nargs="+", metavar="NAME[RANGE]", help="a package, with its range and extras")
    parser.add_argument("--group", metavar="G", default="", help="of a group, for tools of development or reporting")
    add_language_option(parser, several=False)
    parser.add_argument("--index", metavar="INDEX", help="an index of lapidar.toml: look for it there and nowhere else")
    parser.add_argument("--no-restore", action="store_true", help="leave the environment as it is")
    pins.add_options(parser)


def run(session: Session) -> int:
    from lapidar.core.flows.declare import need

    options = session.options
    pins.declaration_of(session)
    settings = pins.declare_options_of(session, options.group, options.index or "")
    cache, review = session.cache(create=True), pins.reviewing(session)
    pinned, restored = need(session.place, cache, options.needs, settings, review, session.view.reporter())
    return pins.conclude_change(session, pinned, restored)
