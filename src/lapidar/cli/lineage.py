"""``lapidar lineage``"""

from __future__ import annotations

import argparse
import datetime
import shlex
from typing import TYPE_CHECKING, Any

from lapidar.cli import standings
from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session
from lapidar.cli.view import View

if TYPE_CHECKING:
    from lapidar.core.steps.lineage import Lineage, Made

DESCRIPTION = """\
Follow a file of the project back: which analysis made it, when, by which command, from which sources, inputs and
packages, and where those come from, to the raw data; and whether the file still is what was made. With --forward: what
would change if this file did."""

EXAMPLES = """\
examples:
  lapidar lineage results/sherds.png
  lapidar lineage sherds.csv --forward
  lapidar lineage results/sherds.png --picture lineage.svg
  lapidar lineage results/sherds.png --prov sherds.prov.json     as W3C PROV (PROV-JSON)

exit codes:
  0  the file, and all on the way, is what was made and read
  1  something is not as it was, or the file is gone"""

_MOST = 6


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("file", metavar="FILE", help="of the project")
    parser.add_argument("--forward", action="store_true", help="what rests on it, instead of what it rests on")
    parser.add_argument("--picture", metavar="FILE", help="draw it into a .svg, .png or .html")
    parser.add_argument("--prov", metavar="FILE", help="write it as PROV-JSON")


def run(session: Session) -> int:
    from lapidar.core.flows.lineage import follow
    from lapidar.core.foreign import expanded

    options, view = session.options, session.view
    found = follow(session.place, session.cache(create=True), options.file, forward=options.forward)
    good = found.is_same and all(is_same for _, is_same in found.raw)
    good = good and all(one.step.is_good for one in found.made)
    if options.picture:
        from lapidar.core.steps.graph import Graph
        from lapidar.core.steps.picture import draw

        path = expanded(options.picture)
        steps = {one.step.name: one.step for one in found.made}
        draw(Graph(steps), path, {name: standings.why(step) for name, step in steps.items()}, found.file)
        view.note(f"Drew it into {options.picture}.")
    if options.prov:
        from lapidar.core.exchange import prov

        prov.write(found, expanded(options.prov))
        view.note(f"Wrote {options.prov}.")
    if view.json:
        view.object({**_json(found), "good": good})
    else:
        _show(found, view, forward=options.forward)
    return ExitCode.DONE if good else ExitCode.NO


def _show(found: Lineage, view: View, *, forward: bool) -> None:
    maker = next((one for one in found.made if any(file.name == found.file for file, _ in one.results)), None)
    if not found.is_there:
        view.line(f"{found.file} is gone.", "bad")
    elif maker and found.is_same:
        view.line(f"{found.file} is what {maker.step.name} made.", "good")
    elif maker:
        view.line(f"{found.file} is not what {maker.step.name} made: it was changed since.", "bad")
    elif not found.is_same:
        view.line(f"{found.file} is raw data, and is not what was read.", "warn")
    else:
        view.line(f"{found.file} is raw data: no analysis makes it.")
    if not found.made:
        view.line("Nothing that is recorded rests on it.")
    for one in found.made:
        view.line()
        _step(one, view)
    if found.raw and not forward:
        view.line()
        changed = [name for name, is_same in found.raw if not is_same]
        view.line("All of it rests on " + ", ".join(_short([name for name, _ in found.raw])) + ".")
        if changed:
            view.line(f"Changed since it was read: {', '.join(_short(changed))}.", "warn")


def _step(one: Made, view: View) -> None:
    step = one.step
    day = f", run on {datetime.datetime.fromtimestamp(one.when):%Y-%m-%d %H:%M}" if one.when else ""
    view.line(f"{step.name} ({step.standing}{day})", "" if step.is_good else "warn")
    told = [
        ("runs", shlex.join(step.command)),
        ("makes", ", ".join(_marked(one.results))),
        ("by", ", ".join(_marked(one.sources))),
        ("from", ", ".join(_marked(one.inputs))),
        ("with", ", ".join(_short(one.packages)) if one.packages is not None else "what it used is not known here"),
    ]
    for title, text in told:
        if text:
            view.line(f"  {title:<7}{text}")


def _marked(files: Any) -> list[str]:
    return _short([file.path + ("" if is_same else " (changed)") for file, is_same in files])


def _short(names: Any) -> list[str]:
    several = list(names)
    return several if len(several) <= _MOST else [*several[: _MOST - 1], f"{len(several) - _MOST + 1} more"]


def _json(found: Lineage) -> dict[str, Any]:
    return {
        "file": found.file,
        "is_there": found.is_there,
        "is_same": found.is_same,
        "raw": [{"path": name, "is_same": is_same} for name, is_same in found.raw],
        "steps": [
            {
                **standings.as_json(one.step),
                "when": one.when,
                "packages": list(one.packages) if one.packages is not None else None,
                "read": [
                    {"path": file.path, "sha256": file.sha256, "is_same": is_same}
                    for file, is_same in (*one.sources, *one.inputs)
                ],
                "made": [
                    {"path": file.path, "sha256": file.sha256, "is_same": is_same} for file, is_same in one.results
                ],
            }
            for one in found.made
        ],
    }
