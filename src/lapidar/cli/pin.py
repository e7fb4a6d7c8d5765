"""``lapidar pin``"""

from __future__ import annotations

import argparse

from lapidar.cli import pins
from lapidar.cli.main import Session, add_language_option

DESCRIPTION = """\
Resolve the declared needs to exact packages that fit together, for the lockfile's runtime (or one that is found as by
`lapidar capture`), fetch them, and keep them in the cache. What is pinned already stays unless it must not, or
--renew says so; what changes is shown before anything is written. Where the environment was that of the lockfile, it
is brought up to the new one. Asks the package indexes that you configured, and
no other host. Exit code 3, and nothing changed, where the needs cannot be met together."""

EXAMPLES = """\
examples:
  lapidar pin
  lapidar pin --renew                    the newest of everything that the ranges allow
  lapidar pin --renew numpy pandas       of these
  lapidar pin --as-of 2025-06-30         as the index stood at the end of that day
  lapidar pin --dry-run
  lapidar pin --renew --try              what it would make of the recorded results; then it asks
  lapidar pin --pins pylock.toml         what another program locked"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--renew", nargs="*", metavar="NAME", help="choose anew: these packages, or all")
    add_language_option(parser, several=False)
    parser.add_argument("--as-of", type=pins.day, metavar="DATE", help="as the index stood at the end of this day")
    parser.add_argument(
        "--pins", dest="source", metavar="FILE", help="take the exact packages of a standard pylock.toml"
    )
    parser.add_argument("--no-restore", action="store_true", help="leave the environment as it is")
    pins.add_options(parser)


def run(session: Session) -> int:
    from lapidar.core.flows.naming import known_in, package_of
    from lapidar.core.flows.pin import pin
    from lapidar.core.flows.restore import again, is_current
    from lapidar.core.pinning.session import PinRequest
    from lapidar.core.records import lockfile

    options, view = session.options, session.view
    declaration = pins.declaration_of(session)
    locked = lockfile.read_if_there(session.place.lockfile) if options.renew else None
    known = known_in(declaration, locked)
    settings = pins.options_of(
        session,
        renew=frozenset(package_of(name, known, options.language or "") for name in options.renew or ()),
        renew_all=options.renew == [],
        as_of=options.as_of,
    )
    cache = session.cache(create=True)
    restores = not options.no_restore and is_current(session.place)
    request = PinRequest(session.place, cache, declaration, options=settings, reporter=view.reporter())
    pinned = pin(request, pins.reviewing(session), source=session.path("source"), judgement=pins.judging(session))
    wanted = pinned.snapshot if pinned.changed and restores else None
    restored = again(session.place, cache, wanted, view.reporter()) if wanted else None
    code = pins.conclude_change(session, pinned, restored)
    if options.as_of and options.as_of != declaration.as_of and not view.json:
        view.note(
            f"--as-of holds for this pin alone: a later need or pin takes what is newest, but for [index] "
            f"as-of = {options.as_of} in lapidar.toml"
        )
    if pinned.changed and not restored and not view.json:
        view.note("Use it with: lapidar restore")
    return code
