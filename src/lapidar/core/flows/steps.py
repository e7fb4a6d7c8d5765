"""Steps: every analysis of a project in order, each with its standing (docs/steps.md)."""

from __future__ import annotations

import hashlib
import os
from collections import defaultdict
from collections.abc import Iterator, Sequence

import msgspec
from msgspec import Struct, field, structs

from lapidar.core import atomic, decoding, foreign, sealed
from lapidar.core.cache import sweeps
from lapidar.core.cache.history import History
from lapidar.core.cache.runs import RunNote, Runs
from lapidar.core.cache.store import Cache
from lapidar.core.declaring import reading
from lapidar.core.environment.folder import Environment
from lapidar.core.errors import LapidarError
from lapidar.core.flows import run as running
from lapidar.core.place import Place
from lapidar.core.records import lockfile, results, selection
from lapidar.core.records.declaration import DeclaredAnalysis
from lapidar.core.records.results import Analysis, Results, Sweep
from lapidar.core.records.snapshot import Snapshot
from lapidar.core.results import listing
from lapidar.core.steps import sweeps as sweeping
from lapidar.core.steps import used
from lapidar.core.steps.engines.tasks import Tasks
from lapidar.core.steps.graph import Graph, Step, ordered
from lapidar.core.steps.standing import Cause, Present, Reason, of_results, reasons
from lapidar.core.steps.used import EVERYTHING, Used

__all__ = [
    "Failure",
    "Judged",
    "Notes",
    "consider",
    "judge",
    "keep_notes",
    "named",
    "notes_of",
    "plan",
    "stands_on",
    "step_of",
    "steps_of",
]


_LARGE_BYTES = 200_000  # of a file of records: above, reading it takes longer than asking for the files in it


_NOTES = "steps.json"


class Failure(msgspec.Struct, frozen=True):
    """How a refresh of a step failed.

    Attributes:
        on: a digest of what it stood on then.
        said: how it ended, in a few words.
    """

    on: str
    said: str


class Notes(msgspec.Struct):
    """What is kept of steps beside their records, in the project's own folder.

    Attributes:
        failed: by the name of a step, how its last refresh failed.
        in_place: the names of steps that name the project's folder outright, and so run in it.
    """

    failed: dict[str, Failure] = {}
    in_place: list[str] = []


def notes_of(place: Place) -> Notes:
    """What is kept of a project's steps; nothing where it cannot be read: it is no more than a help."""
    try:
        return decoding.from_json(foreign.read(place.own_folder / _NOTES), Notes)
    except (OSError, ValueError):
        return Notes()


def keep_notes(place: Place, notes: Notes) -> None:
    """Keep it."""
    place.make_own_folder()
    atomic.replace_file(place.own_folder / _NOTES, msgspec.json.encode(notes))


class Judged(Struct, dict=True):
    """All steps in order, what is there, and what is kept of steps.

    Attributes:
        unfit: the names that are declared as earlier steps and are none.
        empty: the names of sweeps without a run: what they are for matches no file.
        handed_over: steps that are to run and run elsewhere, each with whether it has ended there.
    """

    graph: Graph
    present: Present
    notes: Notes
    unfit: tuple[str, ...] = ()
    empty: tuple[str, ...] = ()
    handed_over: dict[str, bool] = field(default_factory=dict)


def _snapshot(place: Place, cache: Cache) -> Snapshot | None:
    """That which runs would run in: the lockfile's, less the groups that were left out, or with members as edited."""
    locked = lockfile.read_if_there(place.lockfile)
    mark = Environment(place.environment).marker
    if locked is None:
        return None
    if mark and mark.chosen and mark.snapshot != locked.snapshot and running.is_chosen(place, mark):
        try:
            return History(cache).find(mark.snapshot)  # another was restored on purpose: runs run in that
        except LapidarError:
            return locked
    edited = lockfile.read_if_there(place.members_snapshot) if mark else None
    if mark and edited and edited.snapshot == mark.snapshot:
        return edited
    return selection.without(locked, mark.left_out) if mark and mark.left_out else locked


def judge(place: Place, cache: Cache, *, is_whole: bool = False) -> Judged:
    """Put all analyses in order, and say how each stands.

    Args:
        is_whole: count every part of the environment, used or not.

    Raises:
        LapidarError: records or declaration cannot be read.
    """
    present, notes = Present(place, cache, _snapshot(place, cache), is_whole), notes_of(place)
    graph = ordered(steps_of(place, cache))
    for step in graph.steps.values():
        consider(step, graph, present)
        if (failure := notes.failed.get(step.name)) and failure.on == stands_on(step, present):
            step.failed = failure.said
    for name, step in graph.steps.items():
        step.waits_for = [one for one in step.after if not graph.steps[one].is_good and one != name]
    runs = {step.declared.part_of for step in graph.steps.values()}
    empty = {name for name, one in reading.read(place).analyses.items() if one.sweep and name not in runs}
    after = {one for step in graph.steps.values() for one in step.declared.after}
    present.save()
    elsewhere = {
        name: ended
        for name, ended in sorted(Tasks(cache).handed_over(str(place.records)).items())
        if name in graph.steps and not graph.steps[name].is_good
    }
    unfit = tuple(sorted(after - graph.steps.keys() - empty))
    return Judged(graph, present, notes, unfit, tuple(sorted(empty)), elsewhere)


def steps_of(place: Place, cache: Cache) -> list[Step]:
    """Every analysis that is recorded or declared."""
    every = _recorded(place, cache)
    recorded = {one.name: one for one in every.analysis}
    declared: dict[str, DeclaredAnalysis] = {}
    for name, one in reading.read(place).analyses.items():
        declared |= {run.name: run for run in sweeping.members(one, place.root)} if one.sweep else {name: one}
    for sweep in every.sweep:
        recorded |= {run.name: run for run in _runs_of(sweep, cache) if run.name in declared}
    notes: dict[str, RunNote] = {note.record: note for note in Runs(cache).notes() if not note.is_proof}
    names = [*declared, *(name for name in recorded if name not in declared)]
    known: dict[str, Used] = {}
    steps = [
        step_of(name, recorded.get(name), declared.get(name, DeclaredAnalysis(name)), cache, notes, known)
        for name in names
        if name in recorded or declared[name].command
    ]
    _expand_after(steps)
    return steps


def _recorded(place: Place, cache: Cache) -> Results:
    """The records of a project; those of many steps are remembered as they were read, by the digest of the file."""
    try:
        data = foreign.read(place.records)
    except OSError:
        data = b""
    if len(data) < _LARGE_BYTES:
        return results.read(place.records)
    digest, of_file = hashlib.sha256(data).digest(), hashlib.sha256(os.fsencode(place.records)).hexdigest()[:32]
    kept = cache.short_cuts / f"results-{of_file}"
    before = sealed.read(kept) or b""
    if before.startswith(digest):
        try:
            return msgspec.msgpack.decode(before[len(digest) :], type=Results)
        except (msgspec.MsgspecError, UnicodeDecodeError):
            pass
    found = results.read(place.records)
    sealed.keep(kept, lambda: digest + msgspec.msgpack.encode(found), flush=False)
    return found


def _runs_of(sweep: Sweep, cache: Cache) -> list[Analysis]:
    """Those of a sweep; none where the list of them is in another cache: then they run, or are taken, again."""
    try:
        return sweeps.runs_of(sweep, cache)
    except LapidarError:
        return []


def _expand_after(steps: Sequence[Step]) -> None:
    """What comes after a sweep comes after each of its runs."""
    runs: dict[str, list[str]] = defaultdict(list)
    for step in steps:
        runs[step.declared.part_of].append(step.name)
    for step in steps:
        if any(name in runs for name in step.declared.after):
            after = (one for name in step.declared.after for one in runs.get(name, [name]))
            step.declared = structs.replace(step.declared, after=tuple(after))


def step_of(
    name: str,
    analysis: Analysis | None,
    declared: DeclaredAnalysis,
    cache: Cache,
    notes: dict[str, RunNote],
    known: dict[str, Used],
) -> Step:
    """One step, not judged yet.

    Args:
        analysis: as it is written.
        notes: of runs, by their records.
        known: what runs stood on, by the trees that have it: runs of a sweep mostly stand on the same.
    """
    if analysis is None:
        return Step(name, None, declared, EVERYTHING)
    note = notes.get(analysis.record)
    if analysis.lists not in known:
        known[analysis.lists] = _used(analysis, cache)
    seconds = note.seconds if note else None
    step = Step(name, analysis, declared, known[analysis.lists], written=analysis, seconds=seconds)
    try:
        step.analysis = listing.whole(analysis, cache)
    except LapidarError:
        step.reasons.append(Reason(Cause.UNLISTED, name))
    return step


def _used(analysis: Analysis, cache: Cache) -> Used:
    return used.read(listing.stood_on(analysis, cache)) or EVERYTHING


def consider(step: Step, graph: Graph, present: Present) -> None:
    """Say why a step is out of date by itself."""
    if step.analysis is None or any(one.cause is Cause.UNLISTED for one in step.reasons):
        return
    step.reasons = list(_reasons(step, graph, present))


def _reasons(step: Step, graph: Graph, present: Present) -> Iterator[Reason]:
    assert step.analysis is not None
    yield from reasons(step.analysis, step.used, present, step.declared, graph.made_behind(step.name))
    yield from of_results(step.analysis, present.digest)


def stands_on(step: Step, present: Present) -> str:
    """A digest of what a step that failed stood on, as far as that can be known of a run that was not recorded."""
    analysis = step.analysis
    read = [file.name for file in (*analysis.source, *analysis.input)] if analysis else []
    words = [word for word in step.command if os.path.isfile(present.place.root / word)]
    snapshot = present.snapshot.snapshot if present.snapshot else ""
    told = [step.command, snapshot, [(name, present.digest(name)) for name in sorted({*read, *words})]]
    return hashlib.sha256(repr(told).encode("utf-8", "surrogateescape")).hexdigest()


def named(graph: Graph, names: Sequence[str]) -> list[str]:
    """The names of steps, where that of a sweep stands for all its runs.

    Raises:
        LapidarError: one is no step.
    """
    runs: dict[str, list[str]] = defaultdict(list)
    for step in graph.steps.values():
        if step.declared.part_of:
            runs[step.declared.part_of].append(step.name)
    unknown = [name for name in names if name not in graph.steps and name not in runs]
    if unknown:
        raise LapidarError(
            f"There is no step {unknown[0]}",
            remedy=f"There are: {', '.join(graph.steps) or 'none'}. lapidar record NAME -- COMMAND makes one.",
        )
    return [one for name in names for one in runs.get(name, [name])]


def plan(judged: Judged, names: Sequence[str], *, only: bool = False) -> list[Step]:
    """The steps that a refresh looks at, in order, and that are not up to date.

    Raises:
        LapidarError: one that is named is no step.
    """
    graph = judged.graph
    names = named(graph, names)
    wanted = set(names) if only else graph.before(names or graph.steps)
    return [step for name, step in graph.steps.items() if name in wanted and not step.is_good]
