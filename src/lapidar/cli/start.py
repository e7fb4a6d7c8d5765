"""``lapidar start``"""

from __future__ import annotations

import argparse
import sys
from typing import TYPE_CHECKING

from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session
from lapidar.cli.view import human_count, human_path, typed_path

if TYPE_CHECKING:
    from lapidar.core.declaring.adopt import Proposal

DESCRIPTION = """\
Make a folder a project: find out what its source needs, take over what it declares already (pyproject.toml,
DESCRIPTION, inline script metadata, requirements-style lists, a captured lockfile), ask a few questions, and write
lapidar.toml. Where pyproject.toml or DESCRIPTION state the needs, only the rest is written. Asks the package indexes
that you configured or name, and no other host."""

EXAMPLES = """\
examples:
  lapidar start
  lapidar start --yes --index https://packages.example/simple
  lapidar start --project analyses/kilns --yes
  lapidar start kilns --laid-out        a folder ready to work in; --language r, or python,r
  lapidar start kilns --package         a package of your own
  lapidar start --guess auto            what an old project without any pins would have had"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("folder", nargs="?", metavar="NAME", help="with --laid-out: the folder to lay out")
    parser.add_argument(
        "--laid-out",
        action="store_true",
        help="a folder ready to work in: data/raw, results, a first script that runs, a README, a first commit; what "
        "is there is never changed",
    )
    parser.add_argument("--package", action="store_true", help="lay out a package of your own instead, with a test")
    parser.add_argument(
        "--language",
        dest="languages",
        action="append",
        default=[],
        metavar="NAME",
        help="laid out for: python, r, or both",
    )
    parser.add_argument("--licence", metavar="SPDX", help="of a package that is laid out")
    parser.add_argument("-y", "--yes", action="store_true", help="take the defaults, ask nothing")
    parser.add_argument("--name", help="the project's name (default: the folder's)")
    parser.add_argument("--python", metavar="RANGE", help='the runtimes it works with, ">=3.11"')
    parser.add_argument(
        "--guess",
        metavar="DATE|auto",
        help="pin nothing newer than this day; auto: the day on which its sources were changed last",
    )
    parser.add_argument("--index", metavar="ADDRESS", help="a package index, or a folder of wheels")


def run(session: Session) -> int:
    from lapidar.core import atomic, languages
    from lapidar.core.declaring import adopt, reading
    from lapidar.core.errors import LapidarError
    from lapidar.core.records.declaration import Index

    options, view = session.options, session.view
    if options.laid_out or options.package:
        return _lay_out(session)
    if options.folder or options.languages or options.licence:
        raise LapidarError("A folder, a language and a licence are for --laid-out", remedy="lapidar start --help")
    place = session.place
    if not options.yes and not view.has_company:
        raise LapidarError(
            "There is nobody to ask: this is no terminal", remedy="Take the defaults: lapidar start --yes"
        )
    place.require_writable()
    proposal = _propose(session)
    if options.name:
        proposal.name = options.name
    if options.python:
        proposal.runtimes[languages.usual().name] = options.python
    if options.index:
        proposal.indexes = [Index("main", options.index, language=_language_of(proposal))]
    if len(proposal.runtimes) > 1 and proposal.indexes:
        view.note(
            f"The index is taken for packages of {languages.of(proposal.indexes[0].language).title}; "
            "[index] of lapidar.toml names others"
        )
    if proposal.as_of:
        view.note(f"Nothing newer than {proposal.as_of} will be pinned: [index] as-of in lapidar.toml")
    if proposal.extras:
        offered = ", ".join(proposal.extras)
        view.note(f"The project offers the extras {offered}: [needs] extras in lapidar.toml takes them, as groups")
    if not options.yes:
        _ask(proposal, session)
    has_index = bool(reading.read(place).indexes)  # of the user's own configuration
    text = adopt.render(proposal)
    atomic.replace_file(place.declaration, text.encode("utf-8"))
    if view.json:
        needs = [{"need": need.text, "group": need.group, "from": need.where} for need in proposal.needs]
        view.object({"file": str(place.declaration), "needs": needs, "unknown": proposal.unknown})
        return ExitCode.DONE
    view.line(f"Wrote {human_path(place.declaration)}", "good")
    if proposal.needs:
        named = ", ".join(dict.fromkeys(need.text for need in proposal.needs))
        view.note(f"Found {human_count(len(proposal.needs), 'need')}: {named}")
    for problem in proposal.problems:
        view.warn(problem)
    if proposal.unknown:
        view.warn(f"nobody here is known to provide {', '.join(proposal.unknown)}; declare it with lapidar need")
    view.note(f"Next: {_next(proposal, has_index or bool(proposal.indexes))}")
    return ExitCode.DONE


def _lay_out(session: Session) -> int:
    """A folder ready to work in."""
    import os
    from pathlib import Path

    from lapidar.core.errors import LapidarError
    from lapidar.core.flows.laid_out import lay_out
    from lapidar.core.languages import usual

    options, view = session.options, session.view
    if not options.folder:
        raise LapidarError("Which folder is not said", remedy="lapidar start NAME --laid-out")
    names = [one for text in options.languages for one in text.split(",")] or [usual().name]
    licence = options.licence or ""
    if options.package and not licence and view.has_company and not options.yes:
        licence = _answer("Licence of the package (an SPDX expression, MIT)", "")
    folder = Path(os.path.abspath(options.folder))
    done = lay_out(folder, names, package=options.package, licence=licence)
    if view.json:
        view.object({"folder": str(folder), "files": done.files, "kept": done.kept, "committed": done.is_committed})
        return ExitCode.DONE
    for path in done.kept:
        view.warn(f"{path} was there, and stays as it is")
    view.line(f"Laid out {human_path(folder)}: {human_count(len(done.files), 'file')}", "good")
    if done.is_committed:
        view.note("They are in a first commit.")
    view.note(
        f"Next: cd {typed_path(folder)} && "
        + ("lapidar build" if options.package else "lapidar capture && lapidar restore && lapidar record")
    )
    return ExitCode.DONE


def _next(proposal: Proposal, has_index: bool) -> str:
    """The command that works next."""
    if not proposal.needs and not proposal.stated:
        return "lapidar capture (nothing but a runtime is needed), or lapidar need NAME"
    return "lapidar pin" if has_index else "name a package index in it, then lapidar pin"


def _propose(session: Session) -> Proposal:
    from pathlib import Path

    from lapidar.core.declaring import reading
    from lapidar.core.flows.start import propose
    from lapidar.core.records.declaration import Index

    named = session.options.index
    indexes = [Index("main", reading.address_of(named, Path.cwd()))] if named else []
    return propose(session.place, session.cache_if_any(), indexes, session.options.guess or "")


def _ask(proposal: Proposal, session: Session) -> None:
    from lapidar.core import languages
    from lapidar.core.records.declaration import Index

    view = session.view
    proposal.name = _answer("Name of the project", proposal.name)
    if not proposal.stated:
        for name in proposal.runtimes or {languages.usual().name: ""}:
            title = languages.of(name).title
            asked = _answer(f"Versions of {title} that it works with", proposal.runtimes.get(name, ""))
            proposal.runtimes |= {name: asked} if asked else {}
        if proposal.needs:
            view.line(f"Found {human_count(len(proposal.needs), 'need')}:")
            for need in proposal.needs:
                group = f"  (group {need.group})" if need.group else ""
                view.line(f"  {need.text}{group}  {need.where}")
            if not _answer("Declare them", "yes").lower().startswith("y"):
                proposal.needs = []
    default = proposal.indexes[0].address if proposal.indexes else ""
    address = _answer("Package index (an address), or a folder of wheels", default)
    if address and address != default:
        proposal.indexes = [Index("main", address, language=_language_of(proposal))]


def _language_of(proposal: Proposal) -> str:
    """Whose packages an index has that is named for the project: those of its one language, or of the usual one."""
    from lapidar.core import languages

    found = set(proposal.runtimes)
    return found.pop() if len(found) == 1 else languages.usual().name


def _answer(question: str, default: str) -> str:
    from lapidar.core.errors import LapidarError

    print(f"{question} [{default or 'none'}]: ", end="", file=sys.stderr, flush=True)
    line = sys.stdin.readline()
    if not line:
        raise LapidarError("There is nobody to ask: the input has ended", remedy="Take the defaults with --yes.")
    return line.strip() or default
