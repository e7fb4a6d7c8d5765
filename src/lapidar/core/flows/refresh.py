"""Refresh: run what is out of date, in order, several at a time, and nothing else (docs/steps.md)."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Sequence
from functools import cached_property, partial

from msgspec import Struct, field, structs

from lapidar.core import atomic
from lapidar.core.cache import sweeps
from lapidar.core.cache.runs import Runs
from lapidar.core.cache.store import Cache
from lapidar.core.declaring import reading
from lapidar.core.environment.folder import Environment
from lapidar.core.flows import recording
from lapidar.core.flows import restore as restoring
from lapidar.core.flows import steps as stepping
from lapidar.core.flows.engines import engine_named
from lapidar.core.flows.record import REFRESH
from lapidar.core.flows.rerun import RecordUnknown
from lapidar.core.flows.restore import RestoreOptions
from lapidar.core.flows.step_here import StepHere
from lapidar.core.flows.steps import Failure, Judged
from lapidar.core.place import Place
from lapidar.core.progress import Progress, Silent
from lapidar.core.records import lockfile, results
from lapidar.core.steps.earlier import EarlierRuns, OtherRuns
from lapidar.core.steps.engines.here import Here
from lapidar.core.steps.engines.protocol import Done, Engine, How
from lapidar.core.steps.graph import Graph, Standing, Step

__all__ = ["RefreshOptions", "Refreshed", "refresh"]

_KEEP_SECONDS = 5.0  # after which the records of a sweep are written again while it goes on
_PASSES = 4  # where steps turn out to read what later ones write


class RefreshOptions(Struct, frozen=True, kw_only=True):
    """How to refresh.

    Attributes:
        only: the named steps, without those that they stand on.
        jobs: how many at a time; as many as there are processors unless given.
        stops: run nothing more once one has failed.
        really: run, also what ran already.
        is_whole: count every part of the environment, used or not.
        trusted: run what is recorded, also where neither this cache nor anybody here knows it.
        engine: what runs steps; this machine unless given. on: the same by its name.
        others: runs that others made, which are taken too.
        leaves: hand all over to an engine elsewhere, and wait for nothing.
    """

    only: bool = False
    jobs: int = 0
    stops: bool = False
    really: bool = False
    is_whole: bool = False
    trusted: bool = False
    engine: Engine | None = None
    on: str = ""
    leaves: bool = False
    others: OtherRuns | None = None


class Refreshed(Struct):
    """What came of it.

    Attributes:
        done: what was done, in the order in which it ended; what was up to date is not in it.
        judged: how all steps stand now.
        left: the names of those that were to be up to date and are not.
        notes: what the user should know, a sentence each.
        handed_over: the names of those that run elsewhere, and that nobody waits for.
    """

    done: list[Done]
    judged: Judged
    left: tuple[str, ...] = ()
    notes: list[str] = field(default_factory=list)
    handed_over: tuple[str, ...] = ()

    @property
    def is_good(self) -> bool:
        return not set(self.left).difference(self.handed_over) and all(
            one.how in (How.RAN, How.TAKEN) for one in self.done
        )


def refresh(
    place: Place,
    cache: Cache,
    names: Sequence[str],
    options: RefreshOptions,
    tell: Callable[[Done, Step], None] = lambda done, step: None,
    reporter: Progress | None = None,
) -> Refreshed:
    """Run what is out of date.

    Args:
        names: of the steps that are to be up to date at the end; all unless given.
        tell: called with each that ended, and the step.

    Raises:
        LapidarError: nothing can be run here at all. What single steps fail by is told of these.
    """
    cache.require_writable()
    place.require_writable()
    place.make_own_folder()
    try:
        (alone := place.own_folder / "refreshing").mkdir(exist_ok=True)
        with atomic.locked(alone):  # another waits, and then finds what is left to do
            work = _Refresh(place, cache, names, options, tell, reporter or Silent())
            work.run()
    finally:
        atomic.sweep(place.own_folder, REFRESH)
    left = stepping.plan(work.judged, names, only=options.only)
    # Of a step that is to run alone it is no fault that it waits for others.
    names = [step.name for step in left if not (options.only and step.standing is Standing.WAITS)]
    return Refreshed(work.done, work.judged, tuple(names), work.notes, work.handed_over)


class _Pass(Struct):
    """One pass through the graph.

    Attributes:
        pending: those that are not under way, in the order of the graph.
        due: of these the ones that are to run, and for which there was no room yet.
        aside: failed, and may come right once others have run.
    """

    engine: Engine
    graph: Graph
    pending: dict[str, None]
    due: set[str] = field(default_factory=set)
    running: set[str] = field(default_factory=set)
    aside: dict[str, Done] = field(default_factory=dict)

    def ahead_of(self, step: Step) -> list[str]:
        """What a step waits for."""
        before = () if step.odds else (*step.after, *step.follows)
        held = self.aside.keys() & step.after.keys()
        return [one for one in before if one in self.pending or one in self.running or one in held]


class _Refresh(Struct, dict=True):
    place: Place
    cache: Cache
    names: Sequence[str]
    options: RefreshOptions
    tell: Callable[[Done, Step], None]
    reporter: Progress
    done: list[Done] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    bad: set[str] = field(default_factory=set)
    swept: set[str] = field(default_factory=set)
    kept_at: float = field(default_factory=time.monotonic)
    looked_at: dict[str, int] = field(default_factory=dict)  # how often what came of a step elsewhere was
    handed_over: tuple[str, ...] = ()
    again: set[str] = field(default_factory=set)  # those that were run too early

    @cached_property
    def runs(self) -> EarlierRuns:
        return EarlierRuns(self.cache, self.options.others)

    def run(self) -> None:
        self.judged = self._judge()
        if planned := stepping.plan(self.judged, self.names, only=self.options.only):
            self._require_known(planned)
            self._restore()
        engine = self._engine()
        try:
            for _ in range(_PASSES):
                before = len(self.done)
                try:
                    self._pass(engine)
                finally:
                    self._keep_sweeps()
                self.judged = self._judge()
                left = [step.name for step in self._left() if step.standing is not Standing.AT_ODDS]
                if len(self.done) == before or not left or self.handed_over:
                    break
        finally:
            engine.cancel()
        ran = {one.name for one in self.done}
        still = [step.name for step in self._left() if step.name in ran]
        if still:
            self.notes.append(f"still out of date after they ran: {', '.join(still)}; `lapidar steps` says why")

    def _require_known(self, planned: Sequence[Step]) -> None:
        """Raises: RecordUnknown: a command would be run that stands in somebody else's record alone."""
        runs = Runs(self.cache)
        for step in planned if not self.options.trusted and not reading.is_trusted(self.place) else ():
            if step.written is not None and not step.declared.command and not runs.knows(step.written):
                raise RecordUnknown(step.analysis or step.written, self.place)

    def _engine(self) -> Engine:
        if self.options.on:
            present, made = self.judged.present, self.judged.graph.made
            anew = self.options.really
            return engine_named(self.options.on, self.place, self.cache, present.snapshot, made, anew=anew)
        return self.options.engine or Here(lambda step: self.here.run(step), self.options.jobs)

    @property
    def here(self) -> StepHere:
        """What takes and runs steps on this machine."""
        return StepHere(self.place, self.cache, self.judged, self.runs, self.options.really)

    def _judge(self) -> Judged:
        return stepping.judge(self.place, self.cache, is_whole=self.options.is_whole)

    def _left(self) -> list[Step]:
        return [
            one for one in stepping.plan(self.judged, self.names, only=self.options.only) if one.name not in self.bad
        ]

    def _restore(self) -> None:
        """Have the environment of the lockfile."""
        snapshot, mark = self.judged.present.snapshot, Environment(self.place.environment).marker
        if snapshot is not None and (mark is None or mark.snapshot != snapshot.snapshot):
            whole = lockfile.read(self.place.lockfile)
            done = restoring.restore(self.place, self.cache, whole, RestoreOptions(), self.reporter)
            self.notes += [*done.warnings, "the environment was restored to what the lockfile says"]

    # ---- one pass through the graph

    def _pass(self, engine: Engine) -> None:
        on = _Pass(engine, self.judged.graph, dict.fromkeys(step.name for step in self._left()))
        while on.pending or on.running or on.aside:
            self._submit(on)
            if self.options.leaves and engine.is_elsewhere:
                engine.hand_over()
                self.handed_over = tuple(sorted(on.running))
                break
            if on.running:
                self._wait(on)
            elif on.aside:
                self._again(on)
            else:
                break
            if self.swept and time.monotonic() - self.kept_at > _KEEP_SECONDS:
                self._keep_sweeps()

    def _submit(self, on: _Pass) -> None:
        """Give the engine what can run now; to one elsewhere also what can run once that has ended."""
        for name in list(on.pending):
            step = on.graph.steps[name]
            ahead = on.ahead_of(step)
            if ahead and not (on.engine.is_elsewhere and on.running.issuperset(ahead) and not self.options.stops):
                continue
            if name not in on.due and not ahead:
                if not self._is_to_run(step, on.graph) or self._was_taken(step, on.graph, on.engine):
                    del on.pending[name]
                    continue
                on.due.add(name)
            if not on.engine.submit(step, ahead):
                break  # there is no room
            del on.pending[name]
            on.running.add(name)

    def _wait(self, on: _Pass) -> None:
        """Take what ended."""
        for ended in on.engine.wait():
            on.running.remove(ended.name)
            on.due.discard(ended.name)
            done = self._collected(ended, on.graph, on.engine)
            if done is None:
                on.pending[ended.name] = None
            elif (on.pending or on.running) and self._may_come_right(done, on.graph):
                on.aside[done.name] = done
            else:
                self._ended(done, on.graph)

    def _may_come_right(self, done: Done, graph: Graph) -> bool:
        """Whether one that failed looked for something that others may make: it ran for the first time, and nobody
        knew what it reads."""
        is_new = graph.steps[done.name].analysis is None and done.name not in self.again
        return done.how is How.FAILED and is_new and bool(done.absent)

    def _again(self, on: _Pass) -> None:
        """Run those once more that looked for what was made meanwhile; where there are none, all of them failed."""
        found = {
            name: made
            for name, done in on.aside.items()
            if (made := [path for path in done.absent if os.path.lexists(self.place.root / path)])
        }
        for name in found or list(on.aside):
            done = on.aside.pop(name)
            if name not in found:
                self._ended(done, on.graph)
                continue
            self.again.add(name)
            on.pending[name] = None
            whose = on.graph.steps[name].declared.part_of or name
            note = f"{whose} was run before {found[name][0]} was made, and once more after that"
            self.notes += [note] if note not in self.notes else []

    def _was_taken(self, step: Step, graph: Graph, engine: Engine) -> bool:
        """Whether it need not run elsewhere because it ran before; here that is found out in its own thread."""
        if not engine.is_elsewhere or self.options.really:
            return False
        done = self.here.taken(step)
        if done is not None:
            self._ended(structs.replace(done, reasons=tuple(step.reasons)), graph)
        return done is not None

    def _collected(self, done: Done, graph: Graph, engine: Engine) -> Done | None:
        """What became of a step, with its results laid out where it ran elsewhere; None where it is looked at once
        more: what it was run with was not all that it looked for, or is not what is there now."""
        step = graph.steps[done.name]
        if not engine.is_elsewhere:
            return done
        stepping.consider(step, graph, self.judged.present)
        done = structs.replace(done, reasons=tuple(step.reasons))
        is_well = step.analysis is not None and not step.reasons and not step.failed and not self.options.really
        if is_well:
            return None  # it is as it should be, and what ran was handed over for what was there then
        if done.how is How.RAN and (taken := self.here.taken(step)) is not None:
            same = {name: getattr(done, name) for name in ("how", "reasons", "seconds", "notes")}
            return structs.replace(taken, **same, taken_from=0.0)
        self.looked_at[done.name] = self.looked_at.get(done.name, 0) + 1
        is_again = self.looked_at[done.name] < _PASSES
        if done.how is How.FAILED:
            own = {file.name for file in step.analysis.result} if step.analysis else set()
            lacked = any(one not in own and os.path.lexists(self.place.root / one) for one in done.absent)
            if step.used.is_whole or not lacked or not is_again:
                return done
        elif not is_again:
            why = "it ran, and did not read what the project has: was that changed meanwhile? Run it again"
            return structs.replace(done, how=How.FAILED, error=done.error or why)
        if done.how in (How.FAILED, How.RAN):
            step.used = structs.replace(step.used, is_whole=True)
        return None

    def _is_to_run(self, step: Step, graph: Graph) -> bool:
        """Whether it is to run, now that all before it have; where it cannot, that is told."""
        held = [name for name in step.after if name in self.bad]
        if step.odds or held or (self.options.stops and self.bad):
            why = step.odds[0] if step.odds else f"{held[0]} failed" if held else "another failed (--stop)"
            self._ended(Done(step.name, How.HELD_UP, error=why), graph)
            return False
        stepping.consider(step, graph, self.judged.present)
        return bool(step.reasons) or step.analysis is None or bool(step.failed)

    def _ended(self, done: Done, graph: Graph) -> None:
        self.done.append(done)
        step, present = graph.steps[done.name], self.judged.present
        if done.how in (How.FAILED, How.HELD_UP):
            self.bad.add(done.name)
        notes = self.judged.notes
        if done.how is How.FAILED:
            notes.failed[done.name] = Failure(stepping.stands_on(step, present), done.error)
            stepping.keep_notes(self.place, notes)
        elif notes.failed.pop(done.name, None):
            stepping.keep_notes(self.place, notes)
        made = {file.name for file in step.analysis.result} if step.analysis else set()
        if done.written is not None:
            fresh = stepping.step_of(done.name, done.written, step.declared, self.cache, {}, {})
            made |= {file.name for file in fresh.analysis.result} if fresh.analysis else set()
            step.analysis, step.used, step.written = fresh.analysis, fresh.used, fresh.written
            step.reasons, step.failed = [], ""
            if step.declared.part_of:
                self.swept.add(step.declared.part_of)
        for name in made:
            present.forget(name)
        self.tell(done, step)

    def _keep_sweeps(self) -> None:
        """Write the records of the sweeps of which a run ended, each as one digest."""
        swept, self.swept = self.swept, set()
        for name in sorted(swept):
            runs = [one for one in self.judged.graph.steps.values() if one.declared.part_of == name]
            with self.cache.in_use():
                sweep = sweeps.packed(name, [one.written for one in runs if one.written], self.cache)
            recording.amended(self.place, partial(results.with_sweep, sweep=sweep))
        self.kept_at = time.monotonic()
