"""``lapidar capture``"""

from __future__ import annotations

import argparse
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session, add_language_option
from lapidar.cli.view import View, human_bytes, human_count, human_path, human_seconds, runtime_title
from lapidar.core.errors import LapidarError

if TYPE_CHECKING:
    from lapidar.core.cache.store import Cache
    from lapidar.core.flows.capture import Captured, CaptureOptions
    from lapidar.core.flows.complete import Addition
    from lapidar.core.records.snapshot import Snapshot

DESCRIPTION = """\
Record an environment: its runtime, its packages, the system libraries and outside programs below them, and the
conditions of a run. The bytes go into the cache, the record into PROJECT/lapidar.lock. Without ENVIRONMENT it takes the
active environment, else the project's .venv or venv, else the python3 on PATH, and says which; and the Rscript on PATH
where the project has source of R. Nothing is written into the environment."""

EXAMPLES = """\
examples:
  lapidar capture
  lapidar capture .venv
  lapidar capture --scope whole
  lapidar capture /usr/bin/Rscript      R alone
  lapidar capture --observe -- python analysis.py
  lapidar capture --prove -- python analysis.py
  lapidar capture /usr/bin/python3 --lock system.lock"""

_SHOWN = 5
_ROWS = 20
_NAMED = 3  # so that the line stays one


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("environment", nargs="?", metavar="ENVIRONMENT", help="a folder, or an interpreter")
    parser.add_argument("--env", metavar="DIR", help="the same as ENVIRONMENT")
    add_language_option(parser)
    parser.add_argument("--lock", metavar="FILE", help="write the lockfile here instead of in the project")
    parser.add_argument(
        "--scope",
        choices=["used", "whole"],
        help="used: what the project's source imports or declares, and all that needs; whole: everything there "
        "(default: used, where the project imports or declares anything)",
    )
    parser.add_argument(
        "--full-runtime", action="store_true", help="take the runtime's own test suite and static archives too"
    )
    parser.add_argument(
        "--observe",
        action="store_true",
        help="run the COMMAND after -- once in the environment, and capture also the libraries, packages and programs "
        "that it and its children were seen to use",
    )
    parser.add_argument(
        "--prove",
        action="store_true",
        help="run the COMMAND after -- in the environment; capture, restore, and run it where nothing of this machine "
        "is in sight, until it gives the same; what only that run tells of (programs, packages of the system, files, "
        "libraries, fonts) is declared in lapidar.toml (asks first)",
    )
    parser.add_argument(
        "--start-nothing",
        action="store_true",
        help="do not start outside programs; else each is started once with a word such as --version, with no network "
        "and nothing that it could write, to see what it needs for that, and once more from what was captured of it",
    )
    parser.add_argument("--dry-run", action="store_true", help="show what would change; only the cache is written to")
    parser.add_argument("-y", "--yes", action="store_true", help="change the lockfile that is there without asking")
    parser.add_argument(
        "--skip-outside", action="store_true", help="leave out files that a package lists outside the environment"
    )


def run(session: Session) -> int:
    from lapidar.core.flows.capture import CaptureOptions, capture

    options, view = session.options, session.view
    how = CaptureOptions(
        environment=session.environment(),
        lock=session.path("lock"),
        full_runtime=options.full_runtime,
        skip_outside=options.skip_outside,
        scope=options.scope,
        command=_command(options),
        output=2 if view.json else 1,  # standard output is one object then
        languages=tuple(options.language),
        starts=not options.start_nothing,
        writes=not options.dry_run,
        review=None if options.yes or view.json else reviewing(view),
        doubt=None if options.yes else lambda lacks: view.asks(f"{lacks}. Capture it all the same?"),
    )
    cache = session.cache(create=True)
    if options.prove:
        return _proving(session, cache, how)
    captured = capture(session.place, cache, how, view.reporter())
    if view.json:
        view.object(_object(captured))
    else:
        _show(captured, view)
    return ExitCode.DONE


def _proving(session: Session, cache: Cache, how: CaptureOptions) -> int:
    """Capture, and prove what was captured."""
    from lapidar.cli import prove
    from lapidar.core.flows.complete import capture_and_prove

    options, view = session.options, session.view

    def agrees(additions: Sequence[Addition]) -> bool:
        told = "is declared in lapidar.toml" if options.yes else "would have to be declared"
        view.note(f"The original uses more than a capture finds by itself; it {told}:")
        prove.show_additions(additions, view)
        return options.yes or view.asks("Declare it in lapidar.toml ([needs])?")

    done = capture_and_prove(session.place, cache, how, agrees, view.reporter())
    if view.json:
        added = [
            {"key": key, "value": value, "package": several[0].owner, "paths": [one.path for one in several]}
            for (key, value), several in prove.together(done.added).items()
        ]
        view.object({**_object(done.captured), "added": added, "proof": prove.as_values(done.proved)})
    else:
        _show(done.captured, view)
        view.line()
        prove.show(done.proved, view)
    return ExitCode.DONE if done.proved.proof else ExitCode.NO


def reviewing(view: View) -> Callable[[Snapshot, Snapshot], bool]:
    """Shows what a lockfile would become, and asks whoever sits at the terminal."""

    def review(before: Snapshot, after: Snapshot) -> bool:
        from lapidar.cli.changes import rows_of, show_rows
        from lapidar.core.flows.history import changes_between
        from lapidar.core.records import words

        rows = rows_of(changes_between(before, after), words.names_in(before, after))
        if rows and not view.quiet:
            show_rows(rows[:_ROWS], view)
            if len(rows) > _ROWS:
                view.note(f"and {len(rows) - _ROWS} more (`lapidar changes` shows all afterwards)")
            view.note()
        return view.agrees("Change the lockfile so?")

    return review


def _command(options: argparse.Namespace) -> list[str] | None:
    """The command to observe: what follows --."""
    words: list[str] = options.after
    asked = "--prove" if options.prove else "--observe"
    if (options.observe or options.prove) and not words:
        raise LapidarError(
            f"There is no command for {asked}", remedy=f"For example: lapidar capture {asked} -- python analysis.py"
        )
    if words and not (options.observe or options.prove):
        raise LapidarError(
            f"There is nothing to do with the words {' '.join(words)}",
            remedy="Write --observe or --prove before --, or leave them out.",
        )
    return words or None


def _show(captured: Captured, view: View) -> None:
    from lapidar.core.records import words

    for located in captured.located:
        view.note(f"Environment  {human_path(located.interpreter)} ({located.why})")
    for runtime in captured.snapshot.runtimes:
        view.note(f"Runtime      {runtime_title(runtime)}")
    view.note()
    rows = [
        [
            words.layer_title(layer.layer),
            f"{layer.count:,}",
            f"{layer.files:,}",
            human_bytes(layer.bytes),
            human_bytes(layer.new_bytes),
            human_bytes(layer.reused_bytes),
        ]
        for layer in captured.layers
    ]
    if not view.quiet:
        view.table(["layer", "count", "files", "size", "new in the cache", "reused"], rows, right=range(1, 6))
        view.note()
    for rest in captured.snapshot.remainders:
        shown = ", ".join(rest.paths[:_SHOWN]) + (", ..." if len(rest.paths) > _SHOWN else "")
        view.note(f"Of no package, kept all the same: {shown}")
    view.note(f"Left out: {_left_out(captured)}.")
    for package, files in captured.edited.items():
        view.warn(
            f"{human_count(len(files), 'file')} of {package.name} edited after installation: {_some(files, view)}"
        )
    for warning in captured.warnings:
        view.warn(warning)
    for detail in captured.details if view.verbose else ():
        view.warn(detail)
    if not captured.written:
        _show_dry(captured, view)
        return
    if captured.refused:
        view.line("Nothing was changed.")
        return
    digest = words.short(captured.snapshot.snapshot)
    done = "Wrote" if captured.changed else "Nothing has changed:"
    view.line(
        f"{done} {human_path(captured.lockfile)}, snapshot {digest}, in {human_seconds(captured.seconds)}", "good"
    )
    _show_unused(captured, view)


def _show_dry(captured: Captured, view: View) -> None:
    from lapidar.cli.changes import show_difference
    from lapidar.core.records import lockfile, words

    before, after = lockfile.read_if_there(captured.lockfile), captured.snapshot
    show_difference(before, after, view)
    would = "would be as it is" if before and before.snapshot == after.snapshot else "would hold"
    view.line(f"{human_path(captured.lockfile)} {would}: snapshot {words.short(after.snapshot)}. "
              "Nothing was changed (--dry-run).")  # fmt: skip
    _show_unused(captured, view)


def _show_unused(captured: Captured, view: View) -> None:
    """What was there and is not in the snapshot, and how to have it."""
    from lapidar.core.records import words

    unused = captured.unused
    if not unused:
        return
    names = words.package_names(unused)
    if view.verbose:
        view.note()
        rows = [[names[package], words.unused(why.needed_by)] for package, why in unused.items()]
        view.table(["left out", "because"], rows)
    count = human_count(len(unused), "package")
    named = ", ".join(list(names.values())[:_NAMED]) + (", ..." if len(unused) > _NAMED else "")
    why = "" if view.verbose else "; -v says why"
    view.note(f"Not used by the project, left out: {count} ({named}){why}; --scope whole captures all.")


def _left_out(captured: Captured) -> str:
    left_out = captured.left_out
    of_runtime = [f"of the runtime {', '.join(left_out.of_runtimes)}"] if left_out.of_runtimes else []
    return "; ".join([*of_runtime, *left_out.others]) or "nothing"


def _some(names: list[str], view: View) -> str:
    if view.verbose or len(names) <= _SHOWN:
        return ", ".join(names)
    return ", ".join(names[:_SHOWN]) + f", and {len(names) - _SHOWN} more (-v shows all)"


def _object(captured: Captured) -> dict[str, object]:
    from lapidar.core.records import words

    first = captured.located[0]
    return {
        "lockfile": str(captured.lockfile),
        "snapshot": captured.snapshot.snapshot,
        "changed": captured.changed,
        "environment": {"interpreter": str(first.interpreter), "why": first.why},
        "layers": [
            {
                "layer": words.layer_title(layer.layer),
                "count": layer.count,
                "files": layer.files,
                "bytes": layer.bytes,
                "new_bytes": layer.new_bytes,
                "reused_bytes": layer.reused_bytes,
            }
            for layer in captured.layers
        ],
        "edited": [{**package._asdict(), "files": files} for package, files in captured.edited.items()],
        "warnings": captured.warnings,
        "left_out": [
            *(f"runtime: {phrase}" for phrase in captured.left_out.of_runtimes),
            *captured.left_out.others,
        ],
        "unused": [
            {**package._asdict(), "why": words.unused(why.needed_by)} for package, why in captured.unused.items()
        ],
        "seconds": round(captured.seconds, 3),
    }
