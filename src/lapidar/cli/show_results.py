"""``lapidar show results``: what was recorded of analyses."""

from __future__ import annotations

import datetime
import shlex
from typing import TYPE_CHECKING

from lapidar.cli.main import Session
from lapidar.cli.show_layers import pairs
from lapidar.cli.view import View, human_bytes, human_count, human_seconds
from lapidar.core.errors import CacheError, LapidarError
from lapidar.core.records import words

if TYPE_CHECKING:
    from lapidar.core.records.results import Analysis, Proof

__all__ = ["show"]


def show(session: Session, name: str | None) -> None:
    """All records, or one in full.

    Raises:
        LapidarError: there is none.
    """
    from lapidar.core.records import results

    view = session.view
    recorded = results.read(session.place.records)
    if name is None:
        if view.json:
            view.object(recorded)
        elif not recorded.analysis and not recorded.sweep:
            view.line("Nothing is recorded here. For example: lapidar record -- python analysis.py")
        else:
            rows = [
                [
                    one.name,
                    shlex.join(one.command),
                    words.short(one.snapshot),
                    "yes" if recorded.proof_of(one) else "no",
                    str(one.amount("source").files + one.amount("input").files),
                    str(one.amount("result").files),
                    human_bytes(one.amount("result").bytes),
                ]
                for one in recorded.analysis
            ]
            view.table(["analysis", "command", "snapshot", "proven", "read", "results", "size"], rows, right=(4, 5, 6))
            for sweep in recorded.sweep:
                view.line(f"{sweep.name}: {human_count(sweep.runs, 'run')}; `lapidar steps {shlex.quote(sweep.name)}`")
        return
    analysis = recorded.named(name)
    if analysis is None:
        known = ", ".join(one.name for one in recorded.analysis) or "none"
        raise LapidarError(f"There is no record of an analysis {name}", remedy=f"Recorded are: {known}.")
    if view.json:
        from lapidar.core.results import listing

        view.object(listing.whole(analysis, session.cache()) if analysis.listed else analysis)
    else:
        _one(session, analysis, recorded.proof_of(analysis), view)


def _one(session: Session, analysis: Analysis, proof: Proof | None, view: View) -> None:
    variables = ", ".join(f"{name}={value}" for name, value in sorted(analysis.variables.items()))
    told = [
        ["command", shlex.join(analysis.command)],
        ["folder", analysis.folder],
        ["snapshot", words.short(analysis.snapshot)],
        ["numerics", analysis.numerics],
        ["variables", variables or "none"],
        ["exit code", str(analysis.exit_code)],
        ["printed", human_bytes(analysis.printed_bytes)],
        ["proven", f"{proof.verdict}, on {proof.machine}, Linux {proof.kernel}" if proof else "no (lapidar prove)"],
    ]
    pairs(told, view)
    for title, files in (("source", analysis.source), ("input", analysis.input), ("outside", analysis.outside)):
        if files:
            view.line()
            view.table(
                [title, "size", "sha256"],
                [[one.path, human_bytes(one.bytes), one.sha256[:12]] for one in files],
                right=(1,),
            )
    view.line()
    rows = [
        [one.path, "link" if one.link else one.kind, human_bytes(one.bytes), one.sha256[:12]] for one in analysis.result
    ]
    view.table(["result", "kind", "size", "sha256"], rows, right=(2,))
    if analysis.listed:
        view.line()
        for part, listed in analysis.listed.items():
            view.line(f"{part}: {human_count(listed.files, 'file')}, {human_bytes(listed.bytes)}")
        view.note("With --json they are listed.")
    _runs(session, analysis.record, view)


def _runs(session: Session, record: str, view: View) -> None:
    """When it was run with this cache, and how long it took."""
    from lapidar.core.cache.runs import Runs

    try:
        notes = [note for note in Runs(session.cache()).notes() if note.record == record and not note.is_proof]
    except CacheError:
        return
    if notes:
        last = notes[-1]
        day = datetime.datetime.fromtimestamp(last.time).strftime("%Y-%m-%d %H:%M")
        view.line()
        view.note(
            f"Recorded {human_count(len(notes), 'time')} with this cache, last on {day}: "
            f"{human_seconds(last.seconds)}, at most {human_bytes(last.memory)} of memory."
        )
