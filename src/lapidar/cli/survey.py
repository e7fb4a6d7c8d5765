"""``lapidar survey``"""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from lapidar.cli.main import Session, add_exit_code_option, add_language_option
from lapidar.cli.view import View, human_count, human_path

if TYPE_CHECKING:
    from lapidar.core.records.surveyed import Place, Surveyed, SurveyedModule

DESCRIPTION = """\
Find out what the project's own source needs: reads every file of Python and R, every notebook, document with code in
it and inline script block as saved on disk, without running any, and matches each import to what provides it in the
environment (named, or found as by `lapidar capture`), and to what the project declares. For modules that nobody here
provides it looks into the cache, and then asks the package indexes that you configured, if any, unless --offline."""

EXAMPLES = """\
examples:
  lapidar survey
  lapidar survey .venv
  lapidar survey -v                     every place where a module is used"""

_SHOWN = 2


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("environment", nargs="?", metavar="ENVIRONMENT", help="a folder, or an interpreter")
    parser.add_argument("--env", metavar="DIR", help="the same as ENVIRONMENT")
    add_language_option(parser)
    add_exit_code_option(parser, "something is missing, not declared, declared and not used, or cannot be read")
    parser.add_argument("--offline", action="store_true", help="ask no index for what nobody here provides")


def run(session: Session) -> int:
    from lapidar.core.flows.survey import survey

    view, options = session.view, session.options
    # It helps to name what is missing, and keeps what was read.
    surveyed, located = survey(
        session.place,
        session.cache_if_any(),
        session.environment(),
        ask=not options.offline,
        only=options.language,
    )
    if view.json:
        view.object(_object(surveyed))
    else:
        if not located:
            view.note("Environment  none is restored; judged by lapidar.lock")
        for one in located:
            view.note(f"Environment  {human_path(one.interpreter)} ({one.why})")
        _show(surveyed, view)
    return session.told(not surveyed.agrees)


def _object(surveyed: Surveyed) -> dict[str, object]:
    fields = {field: getattr(surveyed, field) for field in surveyed.__struct_fields__}
    names = {field: [one._asdict() for one in sorted(fields[field])] for field in ("declared", "pinned")}
    return {**fields, **names}


def _show(surveyed: Surveyed, view: View) -> None:
    view.note(f"Sources      {human_count(surveyed.files, 'file')} read, none run")
    view.note()
    if surveyed.rows:
        languages = {row.language for row in surveyed.rows}
        several = ["language"] if len(languages) > 1 else []
        rows = [
            [
                *([title_of(row.language)] if several else []),
                row.module or "-",
                row.distribution or "-",
                row.version or "-",
                _where(row.places, view),
                _standing(row, surveyed),
            ]
            for row in surveyed.rows
        ]
        view.table([*several, "module", "package", "version", "used in", "standing"], rows)
    else:
        view.line("Nothing but the standard library and the project's own modules is imported.")
    for title, found in (
        ("Outside programs", surveyed.programs),
        ("System libraries opened by name", surveyed.libraries),
        ("Paths of one machine", surveyed.paths),
        ("Loaded by a name that no text says", surveyed.unclear),
    ):
        if found:
            view.line()
            view.line(title, "heading")
            for name, places in found.items():
                view.line(f"  {name}  {_where(places, view)}")
    if surveyed.problems:
        view.line()
        view.line("Could not be read", "heading")
        for problem in surveyed.problems:
            view.line(f"  {problem}")
    view.line()
    _conclude(surveyed, view)


def title_of(language: str) -> str:
    """A language as people write it."""
    from lapidar.core import languages

    return languages.of(language).title


def _standing(row: SurveyedModule, surveyed: Surveyed) -> str:
    from lapidar.core.records import words

    if row.standing == "missing" and row.key in surveyed.pinned:
        return "declared and locked, not here; lapidar restore" if row.declared else "locked, not here; lapidar restore"
    if row.standing == "missing" and row.declared:
        return "missing, though declared; lapidar pin"
    if row.standing == "missing" and row.distribution:
        several = len({one.language for one in surveyed.rows}) > 1
        return f"missing; lapidar need {words.language_option(row.language) if several else ''}{row.distribution}"
    if row.standing == "on no path":
        return 'in src, and on no path; PYTHONPATH = "src" in [conditions.env] of lapidar.toml, lapidar pin'
    if row.standing == "not needed":
        return f"of your own package, and on no path; lapidar need {row.distribution}"
    if row.standing == "out of range":
        return f"{row.version} is here, {row.declared} is declared"
    return {"not declared": "used, not declared", "not used": "declared, not used"}.get(row.standing, row.standing)


def _where(places: tuple[Place, ...], view: View) -> str:
    if not places:
        return "-"
    if not places[0].line:
        return places[0].file
    shown = places if view.verbose else places[:_SHOWN]
    more = f" and {len(places) - len(shown)} more" if len(places) > len(shown) else ""
    return ", ".join(str(place) for place in shown) + more


def _conclude(surveyed: Surveyed, view: View) -> None:
    counts = {
        "missing": "missing from the environment",
        "on no path": "in the project, and on no path",
        "not needed": "of a package of your own that is not needed",
        "out of range": "in another version than is declared",
        "not declared": "used but not declared",
        "not used": "declared but not used",
    }
    said = []
    for standing, words in counts.items():
        number = sum(row.standing == standing for row in surveyed.rows)
        if number:
            said.append(f"{number} {words}")
    if surveyed.problems:
        said.append(f"{human_count(len(surveyed.problems), 'file')} could not be read")
    if said:
        view.line("; ".join(said) + ".", "bad")
    elif surveyed.declares:
        view.line("Source, declaration and environment fit together.", "good")
    else:
        view.line("Everything that is imported is there; the project declares nothing.", "good")
