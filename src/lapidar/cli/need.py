"""``lapidar need``"""

from __future__ import annotations

import argparse
import re
from typing import TYPE_CHECKING

from lapidar.cli import pins
from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session, add_language_option

if TYPE_CHECKING:
    from lapidar.core.declaring.own import Own

_BARE = re.compile(r"[A-Za-z0-9._-]+")

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
  lapidar need --installed                   what a notebook installed besides
  lapidar need --language r 'sherdstats (>= 2.1)'
  lapidar need ./libs/kilns                  a package of your own in the project: its sources are used where they lie
  lapidar need --script fit.py numpy         into the block of a script that states its needs
  lapidar need --index lab slip              from this index of lapidar.toml, and from no other
  lapidar need 'kilns @ git+https://packages.example/kilns@1a2b3c4'"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("needs", nargs="*", metavar="NAME[RANGE]", help="a package, with its range and extras")
    parser.add_argument(
        "--installed",
        action="store_true",
        help="what somebody installed into the environment besides: asks of each, with --yes takes all",
    )
    parser.add_argument("--group", metavar="G", default="", help="of a group, for tools of development or reporting")
    add_language_option(parser, several=False)
    parser.add_argument("--index", metavar="INDEX", help="an index of lapidar.toml: look for it there and nowhere else")
    parser.add_argument("--no-restore", action="store_true", help="leave the environment as it is")
    pins.add_options(parser)


def _by_hand(session: Session) -> dict[str, list[str]]:
    """By language, what was installed by hand and is to be needed from now on."""
    from lapidar.core.errors import LapidarError
    from lapidar.core.flows.declare import installed_by_hand

    view, found = session.view, installed_by_hand(session.place)
    if not found:
        view.line("Nothing was installed into the environment besides.")
        return {}
    if not (session.options.yes or view.has_company):
        named = ", ".join(f"{one.name} {one.version}".strip() for one in found)
        raise LapidarError(
            f"There is nobody to ask which are meant: {named}",
            remedy=f"lapidar need {' '.join(one.name for one in found)}, or lapidar need --installed --yes for all.",
        )
    taken: dict[str, list[str]] = {}
    for one in found:
        if session.options.yes or view.asks(f"Need {one.name} {one.version}?"):
            taken.setdefault(one.language, []).append(one.name)
    return taken


def _own_or(session: Session, own: Own, text: str) -> str:
    """A need by a bare name that a package of the project's own has too: asks which is meant."""
    from lapidar.core import languages
    from lapidar.core.errors import LapidarError

    if not _BARE.fullmatch(text):
        return text
    language = session.options.language
    one = next(
        (
            one
            for one in own.every
            if languages.of(one.language).versions.normalised(text).lower() == one.name.lower()
            and (not language or one.language == language)
        ),
        None,
    )
    if one is None or session.view.asks(f"A package of your own of this name lies in {one.path}. Is that meant?"):
        return one.typed if one else text
    if session.view.has_company:
        return text
    raise LapidarError(
        f"Which {text} is meant is not said: a package of your own of this name lies in {one.path}",
        remedy=f"lapidar need {one.typed}; or somebody else's with its range: lapidar need '{text}>=0'.",
    )


def run(session: Session) -> int:
    from lapidar.core.errors import LapidarError
    from lapidar.core.flows.declare import need

    options = session.options
    if not (options.needs or options.installed):
        raise LapidarError("What is needed is not said", remedy="lapidar need NAME, or lapidar need --installed.")
    if options.script:
        return pins.edit_script(session, options.needs)
    pins.declaration_of(session)
    if options.installed:
        by_hand = _by_hand(session)
        if not by_hand:
            return ExitCode.DONE
        # One language at a time; mostly there is one.
        options.language = options.language or min(by_hand)
        options.needs = [*options.needs, *by_hand.pop(options.language, ())]
        if by_hand:
            left = ", ".join(name for several in by_hand.values() for name in several)
            session.view.warn(f"of another language, for which it is to be said again: {left}")
    if not options.index:
        from lapidar.core.declaring.own import Own

        own = Own(session.place)
        options.needs = [_own_or(session, own, text) for text in options.needs]
    settings = pins.declare_options_of(session, options.group, options.index or "")
    cache, review = session.cache(create=True), pins.reviewing(session)
    pinned, restored = need(session.place, cache, options.needs, settings, review, session.view.reporter())
    return pins.conclude_change(session, pinned, restored)
