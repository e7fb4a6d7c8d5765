"""``lapidar aside``"""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session, add_language_option

if TYPE_CHECKING:
    from pathlib import Path

    from lapidar.core.cache.store import Cache

DESCRIPTION = """\
Try something without a trace: run a command in an environment that is the project's with these changes, resolved with
the rest held where that can be. Declaration, lockfile and environment of the project stay as they are. Made once, it is
there at once the next time; one that nobody used for 14 days is removed."""

EXAMPLES = """\
examples:
  lapidar aside 'numpy>=3' -- python analysis.py
  lapidar aside seaborn --without sherdplot -- python plots.py
  lapidar aside 'numpy>=3' --compare         what would become of the recorded results?
  lapidar aside --runtime 3.13 -- python analysis.py
  lapidar aside --only rich -- python -m rich.spinner      nothing of the project"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("needs", nargs="*", metavar="NAME[RANGE]", help="what is needed besides, or otherwise")
    parser.add_argument("--without", action="append", default=[], metavar="NAME", help="what is not to be needed")
    parser.add_argument("--only", action="store_true", help="nothing of what the project needs")
    parser.add_argument("--runtime", metavar="RUNTIME", help="another runtime: an interpreter, or a version (3.13)")
    parser.add_argument(
        "--compare", action="store_true", help="run the recorded analyses in it, and compare their results"
    )
    add_language_option(parser, several=False)


def run(session: Session) -> int:
    from lapidar.cli.pins import show_changes
    from lapidar.core.errors import LapidarError
    from lapidar.core.flows.aside import Asked, as_project, aside, how_to_keep
    from lapidar.core.flows.run import prepare

    options, view = session.options, session.view
    asked = Asked(
        needs=tuple(options.needs),
        without=tuple(options.without),
        only=options.only,
        runtime=session.path("runtime"),
        language=options.language or "",
    )
    if not (asked.needs or asked.without or asked.runtime):
        raise LapidarError("What is to be tried is not said", remedy="lapidar aside 'numpy>=3' -- python analysis.py")
    if not options.after and not options.compare:
        raise LapidarError("There is no command to run", remedy="Name one after --, or say --compare.")
    place, cache = session.place, session.cache(create=True)
    with cache.in_use():
        made = aside(place, cache, asked, lambda plan: show_changes(plan, view), view.reporter())
    code = 0
    if options.after:
        code = prepare(as_project(place, asked), options.after, made.environment).wait()
        code = code if code >= 0 else 128 - code
    if options.compare:
        code = code or _compare(session, cache, made.environment)
    if not asked.only:
        view.remark(f"the project is as it was; to keep this: {how_to_keep(asked)}")
    return code


def _compare(session: Session, cache: Cache, environment: Path) -> int:
    """What becomes of the recorded results; exit code 1 where one differs."""
    from lapidar.cli import rerun as shown
    from lapidar.core.errors import LapidarError
    from lapidar.core.flows.rerun import RerunOptions, rerun
    from lapidar.core.records import results

    view, place = session.view, session.place
    names = [one.name for one in results.read(place.records).analysis]
    if not names:
        raise LapidarError("Nothing is recorded here", remedy="For example: lapidar record -- python analysis.py")
    done = [rerun(place, cache, name, RerunOptions(environment=environment), view.reporter()) for name in names]
    if view.json:
        view.object({"reruns": [shown.as_values(one) for one in done]})
    else:
        for one in done:
            shown.show(one, view)
    return ExitCode.DONE if all(one.is_good for one in done) else ExitCode.NO
