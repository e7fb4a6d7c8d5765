"""One step on this machine: taken from a run that was made before, or run and recorded."""

from __future__ import annotations

import errno
import os
import shutil
import time
from collections.abc import Collection
from pathlib import Path

from msgspec import Struct, structs
from msgspec.structs import replace

from lapidar.core import atomic
from lapidar.core.cache.runs import Runs
from lapidar.core.cache.store import Cache
from lapidar.core.errors import LapidarError, TargetRefused
from lapidar.core.flows import record as recorded
from lapidar.core.flows import recording
from lapidar.core.flows import run as running
from lapidar.core.flows import steps as stepping
from lapidar.core.flows.record import REFRESH
from lapidar.core.flows.recording import RecordOptions
from lapidar.core.flows.steps import Judged
from lapidar.core.flows.work import attempted
from lapidar.core.place import Place
from lapidar.core.progress import Silent
from lapidar.core.records import results
from lapidar.core.records.results import Analysis
from lapidar.core.results import scratch
from lapidar.core.results.observing import ignored
from lapidar.core.steps import copying, earlier
from lapidar.core.steps.earlier import Earlier, EarlierRuns
from lapidar.core.steps.engines.protocol import Done, How
from lapidar.core.steps.graph import Step

__all__ = ["StepHere"]

_PASSES = 4  # where a run turns out to look for more than its copy had


class StepHere(Struct, frozen=True):
    """Makes steps up to date, each by itself; several may be at work at once, in threads.

    Attributes:
        judged: the steps as they stood when this pass began.
        runs: those that were made before.
        really: what ran before is run all the same.
    """

    place: Place
    cache: Cache
    judged: Judged
    runs: EarlierRuns
    really: bool = False

    def run(self, step: Step) -> Done:
        """Take it from an earlier run, or run it; in a thread. What fails is told, and not raised."""
        began = time.monotonic()
        reasons = tuple(step.reasons)
        said: list[str] = []
        try:
            done = self.taken(step) if not self.really else None
            done = done or self._run(step, said)
        except recording.FAILURES as error:
            absent = error.stood_on.absent if isinstance(error, recording.RunLost) else ()
            return Done(
                step.name,
                How.FAILED,
                reasons,
                time.monotonic() - began,
                error=recording.how_it_failed(error),
                said=tuple(said),
                absent=absent,
            )
        return structs.replace(done, reasons=reasons, seconds=time.monotonic() - began)

    def taken(self, step: Step) -> Done | None:
        """Its results out of a run that was made before; None where there is none."""
        found = self.runs.find(step, self.judged.present, self.judged.graph.made_behind(step.name))
        if found is None:
            return None
        with self.cache.in_use(), atomic.WorkFolder(self.place.own_folder, REFRESH) as work:
            folder = Path(work.path)
            if not earlier.laid_out(found.analysis, self.cache, folder):
                return None
            self._move_in(step, found.analysis, folder)
        changed, written = _differing(step, found.analysis), self._write(step, found)
        when = 0.0 if found.by else found.note.time
        return Done(step.name, How.TAKEN, changed=changed, taken_from=when, taken_by=found.by, written=written)

    def _write(self, step: Step, found: Earlier) -> Analysis:
        named = results.identified(replace(found.written, name=step.name))
        note = replace(found.note, record=named.record, results=str(self.place.records))
        Runs(self.cache).add(named, note)
        if not step.declared.part_of:
            recording.amended(self.place, lambda before: results.with_analysis(before, named))
        return named

    def _run(self, step: Step, said: list[str]) -> Done:
        with atomic.WorkFolder(self.place.own_folder, REFRESH) as work:
            folder = Path(work.path)
            options = RecordOptions(
                quiet=folder / "errors",
                at_most=step.declared.at_most,
                even_failed=bool(step.analysis and step.analysis.exit_code),
                typed=scratch.recorded_input(step.analysis, self.cache) if step.analysis else None,
            )
            try:
                if step.analysis is None or step.name in self.judged.notes.in_place:
                    return self._in_place(step, options)
                return self._in_copy(step, folder, options)
            finally:
                if (folder / "errors").is_file():
                    said += running.last_lines(folder / "errors")

    def _in_place(self, step: Step, options: RecordOptions) -> Done:
        folder = self.place.root / (step.analysis.folder if step.analysis else ".")
        options, command = structs.replace(options, folder=folder), running.named_from(folder, step.command)
        if step.declared.part_of:
            written, run = recorded.noted(self.place, self.cache, step.declared, command, options)
            return Done(step.name, How.RAN, changed=_differing(step, written), notes=tuple(run.notes), written=written)
        made = recorded.record(self.place, self.cache, step.name, command, options)
        changed = _differing(step, made.analysis)
        return Done(step.name, How.RAN, changed=changed, notes=tuple(made.notes), written=made.analysis)

    def _in_copy(self, step: Step, folder: Path, options: RecordOptions) -> Done:
        """Run it in a copy of the project, completed until nothing is lacking, and move in what it made."""
        analysis = step.analysis
        assert analysis is not None
        others = (self.place.environment, self.cache.root)
        what = copying.of_step(self.place, step, analysis, others, self.judged.graph.made)
        anew = self.really
        for attempt in range(_PASSES):
            copy = folder / f"project-{attempt}"
            copy.mkdir()
            copying.lay_out(what, copy)
            failed: LapidarError | None = None
            with recorded.in_copy(self.place, copy, self.cache, (step.declared, analysis), options) as run:
                try:
                    with attempted(self.cache, copy, step.declared, self._snapshot, step.command, anew=anew) as before:
                        run.options = structs.replace(run.options, before=before)
                        ran = run.run(Silent())
                except LapidarError as error:
                    failed = error
                if self._names_project(run):
                    return self._named_project(step, options)
                lacking = copying.lacking(what, run.stood_on)
                if not lacking:
                    if failed:
                        raise failed
                    written = run.noted(ran)  # so that it need not run again, should this be killed now
                    self._move_in(step, ran, copy, removed=run.removed)
                    if not step.declared.part_of:
                        run.written(written)
                    changed = _differing(step, ran)
                    return Done(step.name, How.RAN, changed=changed, notes=tuple(run.notes), written=written)
            what = structs.replace(what, is_whole=True, besides={*what.besides, *lacking})
        raise LapidarError(
            f"{step.name} looks for other files each time it runs: {', '.join(sorted(lacking)[:3])}",
            remedy=f"Run it in the project: lapidar record {step.name}",
        )

    @property
    def _snapshot(self) -> str:
        snapshot = self.judged.present.snapshot
        return snapshot.snapshot if snapshot else ""

    def _names_project(self, run: recording.Recording) -> bool:
        """Whether it read files of the project itself, and not of its copy, which lies where nobody looks."""
        root = os.path.realpath(self.place.root) + "/"
        is_ignored = ignored(self.place, [self.place.environment, self.cache.root])
        return any(path.startswith(root) and not is_ignored(path) for path in run.used.opened)

    def _named_project(self, step: Step, options: RecordOptions) -> Done:
        notes = self.judged.notes
        notes.in_place.append(step.name)
        stepping.keep_notes(self.place, notes)
        done = self._in_place(step, options)
        said = "it names the project's folder outright, and so was run in it"
        return structs.replace(done, notes=(*done.notes, said))

    def _move_in(self, step: Step, ran: Analysis, source: Path, removed: Collection[str] = ()) -> None:
        """Move results into the project, and out of it what the step makes no more."""
        root, present = self.place.root, self.judged.present
        before = {file.name: file.sha256 for file in step.analysis.result} if step.analysis else {}
        now = {file.name: file.sha256 for file in ran.result}
        for name in sorted(now):
            if os.path.isdir(root / name) and not os.path.islink(root / name):
                raise TargetRefused(f"{root / name} is a folder, and {step.name} makes a file of this name")
        moved = [name for name in sorted(now) if present.digest(name) != now[name]]
        for name in moved:
            atomic.make_folder((root / name).parent)
            _move(source / name, root / name)
        for name in sorted({*(before.keys() - now.keys()), *removed}):
            if name in removed or present.digest(name) == before.get(name):
                (root / name).unlink(missing_ok=True)  # its bytes are in the cache


def _move(source: Path, target: Path) -> None:
    """Move a file into its place by a rename, also where that lies on another file system."""
    try:
        source.replace(target)
    except OSError as error:
        if error.errno != errno.EXDEV:
            raise
        beside = target.with_name(f".{target.name}.{atomic.random_name()}")
        try:
            shutil.copy2(source, beside, follow_symlinks=False)
            beside.replace(target)
        finally:
            beside.unlink(missing_ok=True)


def _differing(step: Step, now: Analysis) -> tuple[str, ...]:
    """The results that are not what they were."""
    if now.listed:
        return ()  # so many that they do not stand in the record
    before = {file.name: file.sha256 for file in step.analysis.result} if step.analysis else {}
    return tuple(file.name for file in now.result if before.get(file.name) != file.sha256)
