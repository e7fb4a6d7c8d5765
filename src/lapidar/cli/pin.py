"""``lapidar pin``"""

from __future__ import annotations

import argparse

from lapidar.cli import pins
from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session

DESCRIPTION = """\
Resolve the declared needs to exact packages that fit together, for the lockfile's runtime (or one that is found as by
`lapidar capture`), fetch them, and keep them in the cache. What is pinned already stays unless it must not, or
--renew says so; what changes is shown before anything is written. Asks the package indexes that you configured, and
no other host. Exit code 3, and nothing changed, where the needs cannot be met together."""

EXAMPLES = """\
examples:
  lapidar pin
  lapidar pin --renew                    the newest of everything that the ranges allow
  lapidar pin --renew numpy pandas       of these
  lapidar pin --as-of 2025-06-30         as the index stood at the end of that day
  lapidar pin --dry-run
  lapidar pin --from pylock.toml         what another program locked"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--renew", nargs="*", metavar="NAME", help="choose anew: these packages, or all")
    parser.add_argument("--as-of", type=pins.day, metavar="DATE", help="as the index stood at the end of this day")
    parser.add_argument("--from", dest="source", metavar="FILE", help="take exact packages from a standard pylock.toml")
    pins.add_options(parser)


def run(session: Session) -> int:
    from packaging.utils import canonicalize_name

    from lapidar.core.declaring import reading
    from lapidar.core.errors import DeclarationError
    from lapidar.core.languages.python.pinning.session import Pinning

    options, source = session.options, session.path("source")
    declaration = reading.read(session.project)
    if not declaration.needs and source is None:
        raise DeclarationError(
            "The project declares no needs",
            remedy="`lapidar start` finds out what it needs; `lapidar need NAME` declares one.",
        )
    renew = options.renew
    settings = pins.options_of(
        session,
        renew=frozenset(canonicalize_name(name) for name in renew or ()),
        renew_all=renew == [],
        as_of=options.as_of,
    )
    pins.warn_of_overrides(declaration, session.view)
    cache = session.cache(create=True)
    cache.require_writable()
    previous = pins.previous_lock(session)
    with Pinning(session.project, cache, declaration, previous, settings, session.view.reporter()) as pinning:
        if source:
            from lapidar.core.languages.python.exchange import pylock

            plan = pylock.plan(pinning, source)
        else:
            plan = pinning.plan()
        pins.show_plan(plan, session.view)
        pinned = pins.carry_out(session, pinning, plan)
    pins.conclude(session, plan, pinned)
    if pinned and pinned.changed:
        session.view.note("Use it with: lapidar restore")
    return ExitCode.DONE
