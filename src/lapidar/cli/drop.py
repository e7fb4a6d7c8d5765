"""``lapidar drop``"""

from __future__ import annotations

import argparse

from lapidar.cli import pins
from lapidar.cli.main import Session, add_language_option

DESCRIPTION = """\
Take needs out of the declaration, and with them what nothing else needs out of lockfile and environment, in one go.
What stays, stays in the version that is pinned."""

EXAMPLES = """\
examples:
  lapidar drop sherdplot
  lapidar drop --group report sherdpages"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("names", nargs="+", metavar="NAME", help="what is needed no longer")
    parser.add_argument("--group", metavar="G", help="only of this group (default: wherever it is declared)")
    add_language_option(parser, several=False)
    parser.add_argument("--no-restore", action="store_true", help="leave the environment as it is")
    pins.add_options(parser)


def run(session: Session) -> int:
    from lapidar.core.flows.declare import drop

    options = session.options
    if options.script:
        return pins.edit_script(session, options.names, drops=True)
    pins.declaration_of(session)
    settings = pins.declare_options_of(session, options.group)
    cache, review = session.cache(create=True), pins.reviewing(session)
    pinned, restored = drop(session.place, cache, options.names, settings, review, session.view.reporter())
    return pins.conclude_change(session, pinned, restored)
