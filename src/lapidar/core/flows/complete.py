"""Complete: capture an environment, prove a command in it against the original there and then, take along what it
missed, and so on until it gives the same, or nothing more can be taken."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

import msgspec

from lapidar.core import foreign
from lapidar.core.cache.store import Cache
from lapidar.core.declaring import editing, writing
from lapidar.core.environment.folder import Environment
from lapidar.core.errors import LapidarError
from lapidar.core.flows.capture import Captured, CaptureOptions, capture
from lapidar.core.flows.locate import locate
from lapidar.core.flows.prove import Missing, Proved, ProveOptions, prove_analysis
from lapidar.core.flows.record import RecordOptions, unrecorded
from lapidar.core.flows.rerun import RerunOptions
from lapidar.core.flows.restore import RestoreOptions, restore
from lapidar.core.flows.run import Run
from lapidar.core.place import DECLARATION_NAME, Place
from lapidar.core.progress import Progress, Silent
from lapidar.core.restored import programs
from lapidar.core.restored.running import Prepared

__all__ = ["Completed", "capture_and_prove"]

_MOST_ROUNDS = 8


@dataclass(slots=True)
class Completed:
    """What came of it.

    Attributes:
        captured, proved: of the last round.
        added: what was declared on the way, in the order of the rounds.
    """

    captured: Captured
    proved: Proved
    added: list[Missing] = field(default_factory=list)


def capture_and_prove(
    place: Place,
    cache: Cache,
    options: CaptureOptions,
    agrees: Callable[[Sequence[Missing]], bool],
    reporter: Progress | None = None,
) -> Completed:
    """Capture, restore and prove, until the command gives what it gives in the original environment.

    Args:
        options: with a command, which is run in the environment as it is, and watched.
        agrees: is shown programs that the original uses and the snapshot lacks; whether they are to be declared.

    Raises:
        LapidarError: it cannot be run here, captured, restored, or run alone.
    """
    reporter = reporter or Silent()
    if options.lock is not None:
        raise LapidarError(
            "What is to be proven is restored beside the project's own lockfile", remedy="Leave --lock out."
        )
    located = locate(place, options.environment, options.languages)[0]
    command = tuple(options.command or ())
    at = _ready(command, located.interpreter), Environment(located.interpreter.parent.parent)
    original, run = unrecorded(place, cache, command, at, RecordOptions(output=options.output), reporter)
    how = replace(options, command=None, observed=run)
    added: list[Missing] = []
    for _ in range(_MOST_ROUNDS):
        captured = capture(place, cache, how, reporter)
        restore(place, cache, captured.snapshot, RestoreOptions(), reporter)
        analysis = msgspec.structs.replace(original, snapshot=captured.snapshot.snapshot)
        proved = prove_analysis(place, cache, analysis, ProveOptions(rerun=RerunOptions(trusted=True)), reporter)
        done = Completed(captured, proved, added)
        known = {os.path.basename(one.path) for one in added}
        wanted = [
            one
            for one in proved.missing
            if one.kind == "program" and one.was_used and os.path.basename(one.path) not in known
        ]
        if proved.proof is not None or not wanted or not agrees(wanted):
            return done
        _declare(place, [os.path.basename(one.path) for one in wanted])
        added += wanted
        how = replace(how, review=None)
    return done


def _ready(command: tuple[str, ...], interpreter: Path) -> Run:
    """The command as it runs where the original environment is active."""
    program, variables = programs.where_active(command[0], interpreter)
    return Run(program=program, words=command, prepared=Prepared(variables, (), None, None), snapshot="")


def _declare(place: Place, names: Sequence[str]) -> None:
    text = foreign.read_text(place.declaration) if place.declaration.is_file() else ""
    writing.write(place.root, {DECLARATION_NAME: editing.with_tools(text, names)})
