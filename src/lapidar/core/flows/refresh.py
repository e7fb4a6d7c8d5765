"""Refresh: run what is out of date, in order, several at a time, and nothing else (docs/steps.md)."""

from __future__ import annotations

import dataclasses
import enum
import os
import time
from collections.abc import Callable, Collection, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from dataclasses import dataclass, field
from pathlib import Path

import msgspec

from lapidar.core import atomic
from lapidar.core.cache.runs import Runs
from lapidar.core.cache.store import Cache
from lapidar.core.environment.folder import Environment
from lapidar.core.errors import LapidarError, TargetRefused
from lapidar.core.flows import record as recording
from lapidar.core.flows import restore as restoring
from lapidar.core.flows import run as running
from lapidar.core.flows import steps as stepping
from lapidar.core.flows.record import REFRESH, Recorded, RecordOptions, RunFailed
from lapidar.core.flows.restore import RestoreOptions
from lapidar.core.flows.steps import Failure, Failures, Judged
from lapidar.core.place import Place
from lapidar.core.progress import Progress, Silent
from lapidar.core.records import lockfile, results
from lapidar.core.records.results import Analysis
from lapidar.core.results.observing import ignored
from lapidar.core.steps import copying, earlier
from lapidar.core.steps.copying import Copy
from lapidar.core.steps.earlier import Earlier
from lapidar.core.steps.graph import Graph, Standing, Step
from lapidar.core.steps.standing import Cause, Reason

__all__ = ["Done", "How", "RefreshOptions", "Refreshed", "refresh"]

# Where nothing else is another, it reads the files that it read.
_SAME_FILES = (Cause.INPUT, Cause.RESULT_GONE, Cause.RESULT_ALTERED)
_PASSES = 4  # where steps turn out to read what later ones write


class How(enum.StrEnum):
    """What became of a step."""

    RAN = "ran"
    TAKEN = "taken"  # from an earlier run
    FAILED = "failed"
    HELD_UP = "held up"  # by one that failed, or that cannot be ordered


@dataclass(frozen=True, slots=True)
class Done:
    """What came of one step.

    Attributes:
        reasons: why it was not up to date.
        seconds: how long it took.
        changed: its results that are not what they were.
        notes: what the user should know, a sentence each.
        error: why it failed, or what holds it up.
        said: the last of what a failed one said on standard error.
        taken_from: when the run was made that it was taken from, seconds since 1970; 0 where it ran.
    """

    name: str
    how: How
    reasons: tuple[Reason, ...] = ()
    seconds: float = 0.0
    changed: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()
    error: str = ""
    said: tuple[str, ...] = ()
    taken_from: float = 0.0


@dataclass(frozen=True, slots=True, kw_only=True)
class RefreshOptions:
    """How to refresh.

    Attributes:
        only: the named steps, without those that they stand on.
        jobs: how many at a time; as many as there are processors unless given.
        stops: run nothing more once one has failed.
        really: run, also what ran already.
        is_whole: count every part of the environment, used or not.
    """

    only: bool = False
    jobs: int = 0
    stops: bool = False
    really: bool = False
    is_whole: bool = False


@dataclass(slots=True)
class Refreshed:
    """What came of it.

    Attributes:
        done: what was done, in the order in which it ended; what was up to date is not in it.
        judged: how all steps stand now.
        notes: what the user should know, a sentence each.
    """

    done: list[Done]
    judged: Judged
    notes: list[str] = field(default_factory=list)

    @property
    def is_good(self) -> bool:
        return all(one.how in (How.RAN, How.TAKEN) for one in self.done)


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
    return Refreshed(work.done, work.judged, work.notes)


@dataclass
class _Refresh:
    place: Place
    cache: Cache
    names: Sequence[str]
    options: RefreshOptions
    tell: Callable[[Done, Step], None]
    reporter: Progress
    done: list[Done] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    bad: set[str] = field(default_factory=set)
    ran: set[str] = field(default_factory=set)

    def run(self) -> None:
        self.judged = self._judge()
        if stepping.plan(self.judged, self.names, only=self.options.only):
            self._restore()
        for _ in range(_PASSES):
            before = len(self.done)
            self._pass()
            self.judged = self._judge()
            left = [step.name for step in self._left() if step.standing is not Standing.AT_ODDS]
            if len(self.done) == before or not left:
                break
        still = [step.name for step in self._left() if step.name in self.ran and step.name not in self.bad]
        if still:
            self.notes.append(f"still out of date after they ran: {', '.join(still)}; `lapidar steps` says why")

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

    def _pass(self) -> None:
        graph = self.judged.graph
        pending = [step.name for step in self._left()]
        running: dict[Future[Done], str] = {}
        free = _Free(self.options.jobs or len(os.sched_getaffinity(0)), _memory())
        with ThreadPoolExecutor(max_workers=max(1, free.processors)) as pool:
            while pending or running:
                for name in list(pending):
                    step = graph.steps[name]
                    earlier_ones = () if step.odds else (*step.after, *step.follows)
                    if any(one in pending or one in running.values() for one in earlier_ones):
                        continue
                    if not self._is_to_run(step, graph):
                        pending.remove(name)
                    elif free.take(step):
                        pending.remove(name)
                        running[pool.submit(self._one, step, graph)] = name
                if not running:
                    if pending:  # a circle: told as such
                        pending.clear()
                    continue
                ended, _ = wait(running, return_when=FIRST_COMPLETED)
                for future in ended:
                    name = running.pop(future)
                    free.give(graph.steps[name])
                    self._ended(future.result(), graph)

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
        else:
            self.ran.add(done.name)
        notes = self.judged.notes
        if done.how is How.FAILED:
            notes.failed[done.name] = Failure(stepping.stands_on(step, present), done.error)
            Failures(self.place).write(notes)
        elif notes.failed.pop(done.name, None):
            Failures(self.place).write(notes)
        made = {file.name for file in step.analysis.result} if step.analysis else set()
        now = results.read(self.place.records).named(done.name)
        if now is not None:
            fresh = stepping.step_of(done.name, now, step.declared, self.cache, {})
            made |= {file.name for file in fresh.analysis.result} if fresh.analysis else set()
            step.analysis, step.used, step.reasons, step.failed = fresh.analysis, fresh.used, [], ""
        for name in made:
            present.forget(name)
        self.tell(done, step)

    # ---- one step, in a thread

    def _one(self, step: Step, graph: Graph) -> Done:
        began = time.monotonic()
        reasons = tuple(step.reasons)
        said: list[str] = []
        try:
            done = self._taken(step, graph) if not self.options.really else None
            done = done or self._run(step, said)
        except LapidarError as error:
            text = error.how if isinstance(error, RunFailed) else str(error)
            return Done(step.name, How.FAILED, reasons, time.monotonic() - began, error=text, said=tuple(said))
        except OSError as error:
            text = f"{error.strerror or error}: {error.filename or ''}".rstrip(": ")
            return Done(step.name, How.FAILED, reasons, time.monotonic() - began, error=text, said=tuple(said))
        return dataclasses.replace(done, reasons=reasons, seconds=time.monotonic() - began)

    def _taken(self, step: Step, graph: Graph) -> Done | None:
        """Its results out of a run that was made before; None where there is none."""
        later = (graph.steps[name].analysis for name in graph.behind([step.name]) - {step.name})
        made = frozenset(file.name for one in later if one for file in one.result)
        found = earlier.find(step, self.judged.present, made)
        if found is None:
            return None
        with self.cache.in_use(), atomic.WorkFolder(self.place.own_folder, REFRESH) as work:
            folder = Path(work.path)
            if not earlier.laid_out(found.analysis, self.cache, folder):
                return None
            changed = self._moved_in(step, found.analysis, folder)
        self._write(step, found)
        return Done(step.name, How.TAKEN, changed=changed, taken_from=found.note.time)

    def _write(self, step: Step, found: Earlier) -> None:
        named = results.identified(msgspec.structs.replace(found.written, name=step.name))
        note = msgspec.structs.replace(found.note, record=named.record, results=str(self.place.records))
        Runs(self.cache).add(named, note)
        with atomic.locked(self.place.own_folder):
            before = results.read(self.place.records)
            results.write(results.with_analysis(before, named), self.place.records)

    def _run(self, step: Step, said: list[str]) -> Done:
        with atomic.WorkFolder(self.place.own_folder, REFRESH) as work:
            folder = Path(work.path)
            options = RecordOptions(quiet=folder / "errors", at_most=step.declared.at_most)
            try:
                if step.analysis is None or step.name in self.judged.notes.in_place:
                    return _of(step, self._in_place(step, options))
                return self._in_copy(step, folder, options)
            finally:
                if (folder / "errors").is_file():
                    said += running.last_lines(folder / "errors")

    def _in_place(self, step: Step, options: RecordOptions) -> Recorded:
        folder = self.place.root / (step.analysis.folder if step.analysis else ".")
        first, *others = step.command
        first = str(folder / first) if "/" in first else first
        options = dataclasses.replace(options, folder=folder)
        return recording.record(self.place, self.cache, step.name, (first, *others), options)

    def _in_copy(self, step: Step, folder: Path, options: RecordOptions) -> Done:
        """Run it in a copy of the project, completed until nothing is lacking, and move in what it made."""
        analysis = step.analysis
        assert analysis is not None
        others = (self.place.environment, self.cache.root)
        is_other = step.used.is_whole or any(one.cause not in _SAME_FILES for one in step.reasons)
        what = Copy(self.place, analysis, step.used, is_whole=is_other, others=others)
        for attempt in range(_PASSES):
            copy = folder / f"project-{attempt}"
            copy.mkdir()
            copying.lay_out(what, copy)
            failed: LapidarError | None = None
            with recording.in_copy(self.place, copy, self.cache, (step.declared, analysis), options) as run:
                try:
                    ran = run.run(Silent())
                except LapidarError as error:
                    failed = error
                if self._names_project(run, copy):
                    return self._named_project(step, options)
                lacking = copying.lacking(what, run.stood_on)
                if not lacking:
                    if failed:
                        raise failed
                    changed = self._moved_in(step, ran, copy, removed=run.removed)
                    recorded = run.kept(ran)
                    return Done(step.name, How.RAN, changed=changed, notes=tuple(recorded.notes))
            what = Copy(self.place, analysis, step.used, True, {*what.besides, *lacking}, others)
        raise LapidarError(
            f"{step.name} looks for other files each time it runs: {', '.join(sorted(lacking)[:3])}",
            remedy=f"Run it in the project: lapidar record {step.name}",
        )

    def _names_project(self, run: recording.Recording, copy: Path) -> bool:
        """Whether it read files of the project itself, and not of its copy."""
        root = os.path.realpath(self.place.root) + "/"
        is_ignored = ignored(self.place, [self.place.environment, self.cache.root])
        opened = (path for path in run.used.opened if path.startswith(root) and not is_ignored(path))
        return any(not path.startswith(os.path.realpath(copy)) for path in opened)

    def _named_project(self, step: Step, options: RecordOptions) -> Done:
        notes = self.judged.notes
        notes.in_place.append(step.name)
        Failures(self.place).write(notes)
        done = _of(step, self._in_place(step, options))
        said = "it names the project's folder outright, and so was run in it"
        return dataclasses.replace(done, notes=(*done.notes, said))

    def _moved_in(self, step: Step, ran: Analysis, source: Path, removed: Collection[str] = ()) -> tuple[str, ...]:
        """Move results into the project, and out of it what it makes no more; the names of those that changed."""
        root, present = self.place.root, self.judged.present
        before = {file.name: file.sha256 for file in step.analysis.result} if step.analysis else {}
        now = {file.name: file.sha256 for file in ran.result}
        for name in sorted(now):
            if os.path.isdir(root / name) and not os.path.islink(root / name):
                raise TargetRefused(f"{root / name} is a folder, and {step.name} makes a file of this name")
        moved = [name for name in sorted(now) if present.digest(name) != now[name]]
        for name in moved:
            atomic.make_folder((root / name).parent)
            os.replace(source / name, root / name)
        for name in sorted({*(before.keys() - now.keys()), *removed}):
            if name in removed or present.digest(name) == before.get(name):
                (root / name).unlink(missing_ok=True)  # its bytes are in the cache
        return tuple(name for name in sorted(now) if before.get(name) != now[name])


def _memory() -> int:
    """What the machine has, in bytes."""
    return os.sysconf("SC_PHYS_PAGES") * os.sysconf("SC_PAGE_SIZE")


@dataclass
class _Free:
    """What of the machine is free for steps.

    Attributes:
        memory: bytes that may still be promised.
    """

    processors: int
    memory: int
    running: int = 0

    def take(self, step: Step) -> bool:
        """Give a step what it needs, where that is there; one that needs more than there is runs alone."""
        asks = step.declared
        fits = asks.processors <= self.processors and asks.memory <= self.memory
        if not fits and self.running:
            return False
        self.processors -= asks.processors
        self.memory -= asks.memory
        self.running += 1
        return True

    def give(self, step: Step) -> None:
        self.processors += step.declared.processors
        self.memory += step.declared.memory
        self.running -= 1


def _of(step: Step, recorded: Recorded) -> Done:
    return Done(step.name, How.RAN, changed=recorded.differing, notes=tuple(recorded.notes))
