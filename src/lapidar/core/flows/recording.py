"""A run that is to be recorded: watched, held against what was there before, and kept in the cache."""

from __future__ import annotations

import hashlib
import os
import shutil
import stat
import threading
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager, nullcontext, suppress
from fnmatch import fnmatchcase
from functools import partial
from pathlib import Path

from msgspec import Struct, field
from msgspec.structs import replace

from lapidar.core import atomic
from lapidar.core.cache.digest import sha256_of
from lapidar.core.cache.history import History
from lapidar.core.cache.runs import RunNote, Runs
from lapidar.core.cache.seen import seen_files
from lapidar.core.cache.store import Cache
from lapidar.core.cache.stowing import Draft, FileDraft, LinkDraft, stow
from lapidar.core.cache.trees import LINK, Tree
from lapidar.core.declaring import reading
from lapidar.core.environment.comparing import altered_of
from lapidar.core.environment.folder import Environment
from lapidar.core.environment.marker import WATCHED
from lapidar.core.errors import LapidarError
from lapidar.core.flows import run as running
from lapidar.core.flows.kept_copy import KeptCopy
from lapidar.core.flows.typed import Typed
from lapidar.core.layers import conditions
from lapidar.core.place import Place, plain_command
from lapidar.core.progress import Progress
from lapidar.core.records import lockfile, results, selection, words
from lapidar.core.records.declaration import DeclaredAnalysis
from lapidar.core.records.results import Analysis, RecordedFile, Results
from lapidar.core.records.snapshot import Snapshot
from lapidar.core.results import listing, observing
from lapidar.core.results.hindering import hindrances
from lapidar.core.results.kinds import kind_of
from lapidar.core.results.scratch import PRINTED, RESULTS, TYPED
from lapidar.core.steps import used
from lapidar.core.steps.attempts import Before, kept_of
from lapidar.core.steps.used import EVERYTHING, RunSeen, Used
from lapidar.core.system import processor, supervision
from lapidar.core.system.observed import ObservedRun
from lapidar.core.system.supervision import Ended, RunOptions, Stopped
from lapidar.core.system.written import Touched

__all__ = [
    "FAILURES",
    "UNNAMED",
    "RecordOptions",
    "Recorded",
    "Recording",
    "RunFailed",
    "RunLate",
    "RunLost",
    "RunStopped",
    "amended",
    "how_it_failed",
]

UNNAMED = "this command"  # what is run and not recorded
_MOST_BYTES = 1_000_000_000
_SHOWN = 4


class RunLost(LapidarError):
    """A run that did not come to its end, and was not recorded.

    Attributes:
        seen: what it did. stood_on: what it used, and looked for in vain.
    """

    seen: observing.Seen | None = None
    stood_on: Used = EVERYTHING


class RunStopped(Stopped):
    """The same of one that was ended because whoever ran it was told to end."""

    seen: observing.Seen | None = None
    stood_on: Used = EVERYTHING


class RunLate(RunLost):
    """A run was ended, for it took longer than it was given."""


class RunFailed(RunLost):
    """A run ended with another exit code than 0.

    Attributes:
        how: its exit code, or the signal.
    """

    def __init__(self, name: str, how: str) -> None:
        if name == UNNAMED:
            super().__init__(f"The command failed here ({how})", remedy="Let it succeed here first.")
        else:
            super().__init__(
                f"The analysis {name} failed ({how}), and nothing was recorded",
                remedy="Mend it; --even-failed records it as it is.",
            )
        self.how = how


FAILURES = (LapidarError, OSError)  # what keeps a run from being recorded


def how_it_failed(error: Exception) -> str:
    """Why a run was not recorded, in a few words: ``exit code 1``."""
    if isinstance(error, RunFailed):
        return error.how
    if isinstance(error, OSError):
        return f"{error.strerror or error}: {error.filename or ''}".rstrip(": ")
    return str(error)


class RecordOptions(Struct, frozen=True, kw_only=True):
    """How to record.

    Attributes:
        environment: a restored environment; the project's own unless given.
        even_failed: record a run that ends with another exit code than 0 too.
        most_bytes: larger files are recorded by their digest alone.
        at_most: seconds, after which the run is ended.
        output: the descriptor that what it prints goes to.
        keeps_input: what comes on this process's standard input is the run's, and is kept.
        folder: where it runs: the current folder, if that is in the project.
        before: what attempts at it left that did not come to their end.
        memory: bytes that each of its processes may have of its own; 0: as many as there are.
        typed: a file that it is given on standard input, where `quiet` is given.
        quiet: a file that what it says on standard error goes to; what it prints is only kept, and it is given nothing.
    """

    environment: Path | None = None
    even_failed: bool = False
    most_bytes: int = _MOST_BYTES
    at_most: float | None = None
    output: int = 1
    keeps_input: bool = False
    folder: Path | None = None
    quiet: Path | None = None
    typed: Path | None = None
    memory: int = 0
    before: Before | None = None


class Recorded(Struct, frozen=True):
    """What came of it.

    Attributes:
        changed: whether the file of records is another now.
        differing: the results that are not what the record before had, where there was one.
        notes: what the user should know, a sentence each.
        seconds: how long the run took; memory: the most that it had, in bytes.
    """

    analysis: Analysis
    file: Path
    changed: bool
    differing: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()
    seconds: float = 0.0
    memory: int = 0


def amended(place: Place, change: Callable[[Results], Results]) -> tuple[Results, bool]:
    """Change the records of a project. Another may be recorded at the same time: each changes what is there then.

    Returns:
        The records before, and whether anything is another now.
    """
    with atomic.locked(place.own_folder):
        before = results.read(place.records)
        return before, results.write(change(before), place.records)


class Recording(Struct):
    """A run that is to be recorded: `run` it, then write it as `kept`.

    Attributes:
        notes: what the user should know, a sentence each.
        used, stood_on: what the run used, once it has ended.
        is_copy: it runs in a copy of the project.
        variable_files: what its variables are read from, below the project.
        removed: files of the project that the run took away.
    """

    place: Place
    cache: Cache
    options: RecordOptions
    settings: DeclaredAnalysis
    command: tuple[str, ...]
    ready: running.Run
    environment: Environment
    work: Path
    notes: list[str] = field(default_factory=list)
    by_digest_only: tuple[str, ...] = ()
    forgotten: frozenset[str] = frozenset()
    without_bytes: list[str] = field(default_factory=list)
    statuses: dict[str, os.stat_result] = field(default_factory=dict)
    seconds: float = 0.0
    memory: int = 0
    used: ObservedRun = field(default_factory=lambda: ObservedRun(0, (), (), ()))
    stood_on: Used = EVERYTHING
    is_copy: bool = False
    variable_files: tuple[str, ...] = ()
    removed: tuple[str, ...] = ()

    def declares(self, place: Place) -> None:
        """Take what the project declares of all its analyses."""
        self.by_digest_only, self.forgotten = reading.read(place).by_digest_only, self.cache.forgotten()
        self.variable_files = used.variable_files(place, conditions.kept(self.environment))

    @property
    def folder(self) -> Path:
        """Where it runs."""
        here = self.options.folder or Path.cwd()
        return here if self.place.relative(here) is not None else self.place.root

    def run(self, reporter: Progress) -> Analysis:
        """Run it; what it read and made is in the cache then.

        Returns:
            The record that it would have, without an identity.

        Raises:
            RunLost: it did not come to its end.
            RunStopped: whoever ran it was told to end.
            LapidarError: it cannot be run or observed, or what ran is not what the snapshot says.
        """
        ready = self.ready
        if ready.locked:
            snapshots = words.short(ready.snapshot), words.short(ready.locked)
            self.notes.append(f"the environment is of snapshot {snapshots[0]}, the lockfile of {snapshots[1]}")
        began_ns = time.time_ns()
        ended, stopped = self._supervised()
        self.seconds, self.memory, self.used = ended.seconds, ended.memory, ended.observed
        seen = self._looked_at(ended, began_ns)
        try:
            if stopped:
                raise stopped
            self._refuse_failed(ended.code, ended.is_late)
        except (RunLost, RunStopped) as lost:
            lost.seen, lost.stood_on = seen, self.stood_on
            raise
        self._refuse_altered(ended.observed)
        self.removed = seen.removed
        self._tell(seen, ended.touched, ended.left_behind)
        return self._analysis(ended.code, seen, reporter, began_ns)

    def _supervised(self) -> tuple[Ended, RunStopped | None]:
        """How the run ended; and where whoever ran it was told to end, that."""
        ready, printed, typed = self.ready, self.work / PRINTED, self.work / TYPED
        (kept := self.work / "before").mkdir()
        typing = Typed(typed) if self.options.keeps_input else nullcontext(None)
        if self.options.typed:
            shutil.copyfile(self.options.typed, typed)
        free = nullcontext((None, None, self.options.output))
        quiet = _quiet(self.options.quiet, self.options.typed) if self.options.quiet else free
        with quiet as (nothing, errors, passed_on), _printing(printed, passed_on) as output, typing as given:
            how = RunOptions(
                input=nothing if given is None else given,
                output=output,
                errors=errors,
                folder=str(self.folder),
                umask=ready.prepared.umask,
                at_most=self.options.at_most,
                memory=self.options.memory,
                watches=True,
                absent=True,
                files=observing.files_of(self.place, [self.environment.folder, self.cache.root], kept),
            )
            variables = {**ready.prepared.variables, **self.settings.values, WATCHED: "1"}
            try:
                return supervision.run(ready.program, ready.words, variables, how), None
            except Stopped as stop:
                if stop.ended is None:
                    raise
                return stop.ended, RunStopped(stop.code)

    def _looked_at(self, ended: Ended, began_ns: int) -> observing.Seen:
        """What a run did, less what it keeps for itself; what it stood on is known then."""
        keep = self.settings.keep
        wants = partial(observing.is_wanted, taken=self.settings.results, left=self.settings.leave)
        run_seen = RunSeen(self.place, self.environment, ended)
        seen = observing.seen(self.place, self.environment, ended, began_ns, wants, run_seen.folders)
        root = os.path.realpath(self.place.root)
        written = {path[len(root) + 1 :] for path in ended.touched.written}
        given = set(self.options.before.kept) if self.options.before else set()
        # What it read was there before it began: its own is of that what it was given, and else what it wrote.
        read_too = kept_of((*seen.sources, *seen.inputs), keep)
        state = (read_too & given) | kept_of((*seen.removed, *written), keep) - read_too
        if read_too - given:
            named = words.some(sorted(read_too - given), _SHOWN)
            self.notes.append(f"{named} was there before it began, and counts as read although `keep` names it")
        seen = self._with_before(observing.less(seen, state))
        self._keep_snapshot()
        read = {path[len(root) + 1 :] for path in ended.touched.read}
        stood_on = run_seen.stood_on(self._snapshot(), read, (*seen.results, *state))
        own = state | kept_of(stood_on.absent, keep) | given
        stood_on = used.less(stood_on, own.__contains__)
        if before := self.options.before:
            opened = {*before.sources, *before.inputs}.difference(before.used.unread)
            stood_on = used.both(stood_on, before.used, {*read, *opened, *seen.results})
        outside = {path: sha256_of(path) for path in seen.outside}
        self.stood_on = replace(stood_on, files=dict(self._read_for_it()), outside=outside)
        return seen

    def _with_before(self, seen: observing.Seen) -> observing.Seen:
        """With what attempts before this one read.

        Raises:
            LapidarError: it changed some of that.
        """
        before = self.options.before
        if before is None:
            return seen
        changed = seen.results.keys() & {*before.sources, *before.inputs}
        if changed - (seen.sources.keys() | seen.inputs.keys()):
            raise LapidarError(
                f"It changed what an attempt before it had read: {words.some(sorted(changed), _SHOWN)}",
                remedy="Begin it anew: lapidar refresh --really.",
            )
        root = os.path.realpath(self.place.root)
        return observing.more(seen, root, before.sources, before.inputs, before.outside)

    def _refuse_altered(self, used: ObservedRun) -> None:
        """Raises: LapidarError: what ran is not what the snapshot says: no result is to rest on that."""
        listed = self.environment.manifest
        altered = altered_of(self.environment.folder, listed, {*used.opened, *used.mapped}) if listed else []
        if altered:
            raise LapidarError(
                f"What ran is not what the snapshot says, and nothing was recorded: {words.some(altered, _SHOWN)}",
                why=f"altered since it was placed in {self.environment.folder}",
                remedy="`lapidar restore --fetch` brings it in order; lapidar check tells more. Then say this again.",
            )

    def _refuse_failed(self, code: int, late: bool) -> None:
        if late:
            raise RunLate(
                f"The run was ended after {self.options.at_most:g} s, and nothing was recorded",
                remedy="Give it longer with --at-most.",
            )
        if code and not self.options.even_failed:
            how = f"exit code {code}" if code > 0 else f"signal {-code}"
            raise RunFailed(self.settings.name, how)

    def _tell(self, seen: observing.Seen, touched: Touched, left_behind: int) -> None:
        say = self.notes.append
        if not seen.results:
            say("it wrote no file in the project: what it printed is all that is recorded of its results")
        if seen.outside:
            some = words.some(seen.outside, _SHOWN)
            say(f"it read files outside of the project, which do not travel (their digests are recorded): {some}")
        if seen.written_outside:
            say(f"it wrote outside of the project, which is not recorded: {words.some(seen.written_outside, _SHOWN)}")
        if seen.both:
            say(f"it read and changed {words.some(seen.both, _SHOWN)}: kept as they were before, and after")
        if seen.changed_sources:
            say(f"it changed its own source: {words.some(seen.changed_sources, _SHOWN)}; kept as it was before")
        if seen.removed:
            say(f"it removed files that were there before: {words.some(seen.removed, _SHOWN)}")
        if seen.odd:
            say(f"it made what is no file, and was passed over: {words.some(seen.odd, _SHOWN)}")
        if touched.partners:
            say(f"it talked to {words.some(touched.partners, _SHOWN)}: what came from there is not recorded")
        if touched.unseen:
            say(f"it may have used files unseen ({', '.join(touched.unseen)}): look whether all of them are recorded")
        if left_behind:
            say(f"it left {left_behind} processes behind, which were ended")

    def _analysis(self, code: int, seen: observing.Seen, reporter: Progress, began_ns: int) -> Analysis:
        read = {**seen.sources, **seen.inputs}
        printed, typed = self.work / PRINTED, self.work / TYPED
        has_typed = typed.is_file() and typed.stat().st_size > 0
        made: list[Draft] = [FileDraft(PRINTED, str(printed))]
        made += self._drafts({TYPED: str(typed)} if has_typed else {}, "")
        made += self._drafts(seen.results, f"{RESULTS}/")
        drafts = {"given": list(self._drafts(read, "")), "made": made}
        # What was read of a copy is no help the next time.
        known = None if self.is_copy else seen_files(self.cache.short_cuts, str(self.place.root))
        stowed = stow(self.cache, drafts, known, reporter, self.statuses)
        if known is not None:
            known.save()
        if self.without_bytes:
            self.notes.append(f"no bytes are kept of {words.some(sorted(self.without_bytes), _SHOWN)}")
        given = stowed["given"].tree
        sources, inputs = (self._recorded(several, "", given) for several in (seen.sources, seen.inputs))
        found = self._recorded(seen.results, f"{RESULTS}/", stowed["made"].tree)
        (given_to_it,) = self._recorded({TYPED: str(typed)}, "", stowed["made"].tree) if has_typed else (None,)
        kinds = {seen.results[file.name]: file.kind for file in found}
        self.notes += hindrances(seen.results, kinds, os.path.realpath(self.place.root), began_ns / 1e9)
        held = conditions.kept(self.environment)
        return Analysis(
            name=self.settings.name,
            record="",
            command=plain_command(self.command, self.place.root, self.folder),
            snapshot=self.ready.snapshot,
            numerics=held.numerics if held else "native",
            exit_code=code,
            printed=sha256_of(str(printed)),
            printed_bytes=printed.stat().st_size,
            typed=given_to_it.sha256 if given_to_it else "",
            typed_bytes=given_to_it.bytes if given_to_it else 0,
            given=given.digest,
            made=stowed["made"].tree.digest,
            folder=self.place.relative(self.folder) or ".",
            variables=dict(held.variables) if held else {},
            values=dict(self.settings.values),
            source=sources,
            input=inputs,
            outside=tuple(map(self._outside, seen.outside)),
            result=found,
        )

    def _drafts(self, files: Mapping[str, str], folder: str) -> Iterator[Draft]:
        """What of files goes into a tree: their bytes, where they are not too many.

        Args:
            folder: in the tree.
        """
        for path, place in sorted(files.items()):
            shown, _ = results.written(path)
            status = self.statuses[place] = os.lstat(place)
            if stat.S_ISLNK(status.st_mode):
                yield LinkDraft(folder + shown, os.readlink(place))
            elif self._must_not_be_kept(path, place):
                self.without_bytes.append(shown)
            elif status.st_size <= self.options.most_bytes:
                yield FileDraft(folder + shown, place)
            else:
                self.notes.append(f"{shown} is larger than the limit, and is recorded by its digest alone (--largest)")

    def _must_not_be_kept(self, path: str, place: str) -> bool:
        if any(fnmatchcase(path, pattern) for pattern in self.by_digest_only):
            return True
        return bool(self.forgotten) and sha256_of(place) in self.forgotten

    def _recorded(self, files: Mapping[str, str], folder: str, tree: Tree) -> tuple[RecordedFile, ...]:
        """The records of files.

        Args:
            folder, tree: where those that were stowed are; their bytes were read there, and are not read again.
        """
        digests = {entry.path: entry.content for entry in tree if entry.kind != LINK}
        found = []
        for path, place in sorted(files.items()):
            shown, escaped = results.written(path)
            status = self.statuses[place]
            if stat.S_ISLNK(status.st_mode):
                data = os.fsencode(os.readlink(place))
                one = RecordedFile(shown, hashlib.sha256(data).hexdigest(), len(data), link=True, escaped=escaped)
            else:
                digest = digests.get(folder + shown)
                kind = kind_of(Path(place), shown) if folder else ""
                size, kept = status.st_size, digest is not None
                one = RecordedFile(shown, digest or sha256_of(place), size, kind, kept=kept, escaped=escaped)
            found.append(one)
        return tuple(found)

    def _outside(self, path: str) -> RecordedFile:
        name, escaped = results.written(os.path.basename(path))
        return RecordedFile(name, sha256_of(path), os.stat(path).st_size, kept=False, escaped=escaped)

    def _keep_snapshot(self) -> None:
        """The history must have it: of a restored environment without some groups it is one of its own."""
        history = History(self.cache)
        snapshot_id, mark = self.ready.snapshot, self.environment.marker
        if history.path(snapshot_id).is_file():
            return
        for file in (self.place.lockfile, self.place.members_snapshot):
            whole = lockfile.read_if_there(file)
            if whole and mark and (part := selection.without(whole, mark.left_out)).snapshot == snapshot_id:
                history.put(part)
                return

    def _read_for_it(self) -> Iterator[tuple[str, str]]:
        """The files that its variables were read from."""
        for name in self.variable_files:
            if (self.place.root / name).is_file():
                yield name, sha256_of(str(self.place.root / name))

    def _snapshot(self) -> Snapshot | None:
        try:
            return History(self.cache).find(self.ready.snapshot)
        except LapidarError:
            return None

    def kept(self, run: Analysis) -> Recorded:
        """Note a run, and write its record, last of all."""
        return self.written(self.noted(run))

    def noted(self, run: Analysis) -> Analysis:
        """Keep a run in the cache; its record as it is written."""
        analysis = results.identified(listing.packed(run, self.cache, used.packed(self.stood_on)))
        features, machine = " ".join(processor.features()), os.uname().machine
        file = str(self.place.records)
        note = RunNote(time.time(), analysis.record, file, self.seconds, self.memory, machine, features=features)
        Runs(self.cache).add(analysis, note)
        return analysis

    def written(self, analysis: Analysis) -> Recorded:
        """Write the record of a run that was noted."""
        file = self.place.records
        before, changed = amended(self.place, lambda before: results.with_analysis(before, analysis))
        earlier = before.named(analysis.name)
        differing = tuple(sorted(self._differing(earlier, analysis))) if earlier and changed else ()
        return Recorded(analysis, file, changed, differing, tuple(self.notes), self.seconds, self.memory)

    def _differing(self, earlier: Analysis, now: Analysis) -> Iterator[str]:
        try:
            several = [listing.whole(one, self.cache) for one in (earlier, now)]
        except LapidarError:
            self.notes.append(f"the results recorded before of {now.name} are listed in another cache: not compared")
            return
        before, after = ({file.path: file.sha256 for file in one.result} for one in several)
        yield from (path for path in before.keys() | after.keys() if before.get(path) != after.get(path))


@contextmanager
def _quiet(said: Path, typed: Path | None) -> Iterator[tuple[int | None, int | None, int]]:
    """What a run that nobody looks at is given, and where it goes what it says and what it prints."""
    with open(os.devnull, "wb") as nobody, open(typed or os.devnull, "rb") as given, said.open("wb") as errors:
        yield given.fileno(), errors.fileno(), nobody.fileno()


@contextmanager
def _printing(into: Path, output: int) -> Iterator[int]:
    """A descriptor whose text goes to a file, and to another descriptor as it comes."""
    kept = KeptCopy(into, "keep what the run prints")
    reading_end, writing_end = os.pipe()

    def pass_on() -> None:
        with kept:
            while piece := os.read(reading_end, 65_536):
                kept.add(piece)
                with suppress(OSError):  # whoever read it went away
                    os.write(output, piece)

    passing = threading.Thread(target=pass_on, daemon=True)
    passing.start()
    try:
        yield writing_end
    finally:
        os.close(writing_end)
        passing.join()
        os.close(reading_end)
    kept.require_whole()
