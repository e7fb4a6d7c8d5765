"""Rerun: a recorded analysis again, in its own environment and in a scratch copy of the project, and what differs."""

from __future__ import annotations

import hashlib
import os
import re
import shlex
import shutil
import tempfile
import time
import weakref
from collections import Counter
from collections.abc import Collection, Iterator, Mapping, Sequence
from pathlib import Path

from msgspec import Struct, field
from msgspec.structs import replace

from lapidar.core import atomic, languages
from lapidar.core.cache import sweeps
from lapidar.core.cache.digest import sha256_of
from lapidar.core.cache.history import History
from lapidar.core.cache.runs import Runs
from lapidar.core.cache.store import Cache
from lapidar.core.declaring import reading
from lapidar.core.environment import launchers
from lapidar.core.environment.folder import Environment
from lapidar.core.environment.marker import WATCHED
from lapidar.core.errors import LapidarError
from lapidar.core.flows import compare
from lapidar.core.flows import restore as restoring
from lapidar.core.flows import run as running
from lapidar.core.flows.record import RERUN, declared, sweep
from lapidar.core.flows.restore import RestoreOptions
from lapidar.core.layers import tools
from lapidar.core.layers.numerics import THREADS
from lapidar.core.place import Place
from lapidar.core.progress import Progress, Silent
from lapidar.core.records import lockfile, results, words
from lapidar.core.records.declaration import DeclaredAnalysis
from lapidar.core.records.findings import Problem
from lapidar.core.records.owner import LAPIDAR
from lapidar.core.records.results import Analysis
from lapidar.core.records.snapshot import Snapshot
from lapidar.core.restored import alone
from lapidar.core.restored.alone import Elsewhere
from lapidar.core.results import listing, scratch, tolerances
from lapidar.core.results.comparing import Was, compare_all, of_file
from lapidar.core.results.observing import ignored, is_wanted
from lapidar.core.results.tolerances import Tolerances
from lapidar.core.results.verdict import PRINTED, Compared, Verdict, worst
from lapidar.core.system.observed import Image, ObservedRun
from lapidar.core.system.supervision import Root

__all__ = ["RecordUnknown", "Rerun", "RerunOptions", "idle_rules", "recorded", "rerun", "rerun_of"]

_SHOWN = 5  # sources that are named
# What anybody may write to, and nothing stays of.
_DEVICES = ("/dev/null", "/dev/zero", "/dev/full", "/dev/tty", "/dev/pts", "/dev/shm", "/proc/self")
_HELD = 4  # runs with a cause held, which must all give the same


class RerunOptions(Struct, frozen=True, kw_only=True):
    """How to rerun.

    Attributes:
        current_files: with sources and inputs as they are in the project now.
        keep: a folder that the results of the rerun are put into.
        draws: keep the files of both sides, to draw them: see `Rerun.files`.
        times: how often to run; more than once finds what varies by itself.
        at_most: seconds, after which a run is ended.
        output: the descriptor that what it prints goes to; None keeps it silent.
        environment: run in this one, whatever it is of, and not in the recorded one.
        opened: with this machine's network, and free to write anywhere; else with neither.
        trusted: run what is recorded, also where neither this cache nor anybody here knows it.
        watches: see what it uses, `Rerun.observed`.
        alone: in a root of its own, where nothing of this machine is in sight, and which is besides as this says.
        quiet: keep the last of what it says on standard error, see `Rerun.said`, instead of passing it on.
        told: the caller's variables; this process's own unless given.
        instead: by paths below the project, files that stand for what was recorded there; None: nothing does.
    """

    current_files: bool = False
    keep: Path | None = None
    times: int = 1
    draws: bool = False
    at_most: float | None = None
    output: int | None = None
    environment: Path | None = None
    opened: bool = False
    trusted: bool = False
    watches: bool = False
    alone: Elsewhere | None = None
    quiet: bool = False
    told: Mapping[str, str] | None = None
    instead: Mapping[str, Path | None] = field(default_factory=dict)


class RecordUnknown(LapidarError):
    """A record that neither this cache nor anybody here has seen: it says what would be run, and nobody agreed to that.

    Attributes:
        analysis: it.
    """

    def __init__(self, analysis: Analysis, place: Place) -> None:
        sources = ", ".join(file.path for file in analysis.source[:_SHOWN]) or "no source of the project"
        more = f" and {len(analysis.source) - _SHOWN} more" if len(analysis.source) > _SHOWN else ""
        super().__init__(
            f"The record of {analysis.name} in {place.records} was made by somebody else",
            why=f"it would run `{shlex.join(analysis.command)}` in {analysis.folder}, with {sources}{more}",
            remedy="Look at these, then run it with --yes; it is asked once for a record. Where you trust all of them, "
            'say so in your own configuration: [rerun] trusts = ["FOLDER"].',
        )
        self.analysis = analysis


class Rerun(Struct, weakref=True):
    """What came of it.

    Attributes:
        compared: each result, and what it printed.
        varying: results that are another each time, each with what of, as far as can be told.
        environment: where it ran; restored: whether that had to be built.
        seconds: how long the run took, the last one.
        notes: what the user should know, a sentence each.
        files: of each result, the recorded file and the new one, where they were to be kept; in `folder`, until
            `forget`.
        said: the last lines on standard error, where they were to be kept.
        not_apart: why it had a network, or could write elsewhere, a sentence each; empty: it had and could not.
        observed: what it used, where that was to be seen.
        absent: what it looked for in its own root and did not find, by what looked.
        made: what its results are known by, of the last run.
        partners: whom it wanted to talk to, where that was to be seen: hosts and ports, sockets.
    """

    analysis: Analysis
    compared: list[Compared] = field(default_factory=list)
    varying: dict[str, str] = field(default_factory=dict)
    environment: Path = Path()
    restored: bool = False
    exit_code: int = 0
    seconds: float = 0.0
    notes: list[str] = field(default_factory=list)
    files: dict[str, tuple[Path, Path]] = field(default_factory=dict)
    folder: str = ""
    said: tuple[str, ...] = ()
    not_apart: tuple[str, ...] = ()
    observed: ObservedRun = field(default_factory=lambda: ObservedRun(0, (), (), ()))
    absent: Mapping[Image, tuple[str, ...]] = field(default_factory=dict)
    partners: tuple[str, ...] = ()
    made: str = ""

    def forget(self) -> None:
        """Remove the files that were kept to be drawn."""
        if self.folder:
            shutil.rmtree(self.folder, ignore_errors=True)

    @property
    def verdict(self) -> Verdict:
        """The worst of all."""
        return worst(one.verdict for one in self.compared)

    @property
    def is_good(self) -> bool:
        return self.verdict.is_good and self.ended_as_recorded

    @property
    def ended_as_recorded(self) -> bool:
        """Whether it has the recorded exit code: what it made can be gone on with."""
        return self.exit_code == self.analysis.exit_code


def rerun(
    place: Place,
    cache: Cache,
    name: str,
    options: RerunOptions | None = None,
    reporter: Progress | None = None,
) -> Rerun:
    """Run a recorded analysis again, and compare.

    Raises:
        LapidarError: there is no such record, its environment cannot be restored, or what it needs is lost.
    """
    return rerun_of(place, cache, recorded(place, name, cache), options, reporter)


def recorded(place: Place, name: str, cache: Cache | None = None) -> Analysis:
    """The record of an analysis.

    Args:
        cache: looked in for that of a run of a sweep.

    Raises:
        LapidarError: there is none.
    """
    every = results.read(place.records)
    analysis = every.named(name) or (sweeps.run_named(every, name, cache) if cache else None)
    if analysis is None:
        raise LapidarError(
            f"There is no record of an analysis {name} in {place.records}",
            remedy=f"Record it: lapidar record {shlex.quote(name)} -- COMMAND",
        )
    return analysis


def rerun_of(
    place: Place,
    cache: Cache,
    analysis: Analysis,
    options: RerunOptions | None = None,
    reporter: Progress | None = None,
) -> Rerun:
    """As `rerun`, of a record that stands in no file, perhaps; where it has no identity, nothing is kept of it."""
    options, reporter = options or RerunOptions(), reporter or Silent()
    name, runs, written = analysis.name, Runs(cache), analysis
    if not (options.trusted or runs.knows(analysis) or reading.is_trusted(place)):
        raise RecordUnknown(analysis, place)
    analysis = listing.whole(analysis, cache)
    if options.keep and options.keep.exists() and any(options.keep.iterdir()):
        raise LapidarError(f"{options.keep} is not empty", remedy="Name another folder with --keep-results.")
    settings = declared(place, name) if written.record else DeclaredAnalysis(name)
    rules = tolerances.of(settings)  # what makes no sense shows before anything is run
    place.make_own_folder()
    sweep(place)
    again = _Again(place, cache, analysis, settings, rules, options, reporter, Rerun(analysis))
    with cache.in_use():
        if cache.writable and written.record:
            runs.keep(written)
        again.restore()
        with atomic.WorkFolder(place.own_folder, RERUN) as work:
            again.run(Path(work.path))
    return again.result


def _require_unaltered(snapshot: Snapshot, environment: Environment) -> None:
    """Raises: LapidarError: an environment is not what the snapshot says: no result is to rest on that."""
    found = [one for one in compare.quickly(snapshot, environment) if one.problem in (Problem.ALTERED, Problem.MISSING)]
    if found:
        raise LapidarError(
            f"The environment is not what the snapshot says: {words.some(map(words.finding_name, found), _SHOWN)}",
            why=f"altered since it was restored in {environment.folder}",
            remedy="`lapidar restore --fetch` brings it in order; --here runs in it as it is.",
        )


def _known_by(compared: Sequence[Compared], files: Mapping[str, Was]) -> str:
    """By what it differs from the record, and not by its bytes: those may hold the time. By them only where nothing
    reads it, and what is told is where the first difference is: that of two others may lie at the same place."""
    told = [
        (one.path, one.verdict, one.worst, one.details, one.more, _bytes_of(files.get(one.path)))
        if one.kind == "bytes" and one.verdict is not Verdict.IDENTICAL
        else (one.path, one.verdict, one.worst, one.details, one.more)
        for one in compared
    ]
    return hashlib.sha256(repr(told).encode("utf-8", "surrogateescape")).hexdigest()


def _bytes_of(was: Was | None) -> str:
    readable = was is not None and was.file is not None and was.file.is_file() and os.access(was.file, os.R_OK)
    return sha256_of(str(was.file)) if was and readable else ""


class _Run(Struct):
    """One execution: what it wrote, what it printed, its exit code."""

    files: Mapping[str, Path]
    printed: Path
    code: int


_BY_NAME = "its name, or whether it is written at all: not every run made it"


class _Again(Struct):
    place: Place
    cache: Cache
    analysis: Analysis
    settings: DeclaredAnalysis
    rules: Tolerances
    options: RerunOptions
    reporter: Progress
    result: Rerun

    def restore(self) -> None:
        """Have the recorded environment: the project's own where it is that, else one of its own beside it."""
        if self.options.environment is not None:
            self.result.environment = self.options.environment
            return
        wanted = self.analysis.snapshot
        own = Environment(self.place.environment)
        # Links to sources lead to the project's, and not to those that were recorded.
        is_own = own.marker is not None and own.marker.snapshot == wanted and not own.marker.live
        locked = lockfile.read_if_there(self.place.lockfile)
        snapshot = locked if locked and locked.snapshot == wanted else None
        if is_own:
            self.result.environment = own.folder
            if snapshot:
                _require_unaltered(snapshot, own)
            return
        snapshot = snapshot or History(self.cache).find(wanted)
        place = self.place.own_folder / "reruns" / wanted.removeprefix("sha256:")[:12]
        place.parent.mkdir(exist_ok=True)
        done = restoring.restore(self.place, self.cache, snapshot, RestoreOptions(into=place), self.reporter)
        self.result.environment, self.result.restored = place, not done.already
        self.result.notes += done.warnings

    def run(self, work: Path) -> None:
        """Run as often as asked, and compare the last with the record."""
        runs = [self._once(work / f"run-{number}", {}) for number in range(self.options.times)]
        last = runs[-1]
        self.result.exit_code = last.code
        if last.code != self.analysis.exit_code:
            self.result.notes.append(f"it ended with exit code {last.code}; recorded is {self.analysis.exit_code}")
        before = scratch.recorded_results(self.analysis, self.cache)
        lost = [path for path, was in before.items() if was.file is None and was.link is None]
        if lost:
            lacking = f"the cache has lost the bytes of {len(lost)} recorded results"
            self.result.notes.append(f"{lacking}: they are compared by their digests alone")
        ones = {**before, PRINTED: scratch.recorded_output(self.analysis, self.cache)}
        others = {**self._wanted(last.files, before), PRINTED: of_file(last.printed)}
        compared = compare_all(ones, others, self.rules)
        self.result.made = _known_by(compared, others)
        self.result.compared = sorted(compared, key=lambda one: one.path == PRINTED)  # what it printed comes last
        self.result.notes += idle_rules(self.settings.name, self.rules, [one.path for one in compared])
        self.result.notes += _never_recorded(self.place)
        if self.options.draws:
            self._keep_drawn(before, last.files)
        if len(runs) > 1:
            self.result.varying = self._varying(runs, work)
        if self.options.keep:
            self._keep(last)

    def _wanted(self, files: Mapping[str, Path], before: Mapping[str, Was]) -> dict[str, Was]:
        """The results among what a run wrote: those recorded, and new ones that would be recorded."""
        given = {one.name for one in (*self.analysis.source, *self.analysis.input)}
        taken, left = self.settings.results, self.settings.leave
        return {
            path: of_file(file)
            for path, file in files.items()
            if path in before or (path not in given and is_wanted(path, taken, left))
        }

    def _once(self, folder: Path, variables: Mapping[str, str]) -> _Run:
        """Run it once in a scratch copy.

        Args:
            variables: that are held beside those of the conditions.
        """
        place, printed = folder / "project", folder / "printed"
        errors = folder / "errors" if self.options.quiet else None
        place.mkdir(parents=True)
        copy = Place.of_project(place)
        notes = scratch.lay_out(
            self.analysis, self.cache, place, self.place.root, current_files=self.options.current_files
        )
        self.result.notes += [note for note in notes if note not in self.result.notes]
        for path, file in self.options.instead.items():
            if os.path.lexists(place / path):
                (place / path).unlink()
                if file is not None:
                    shutil.copy2(file, place / path, follow_symlinks=False)
        besides = self.options.alone
        # A program of the project is that of the scratch copy.
        command = running.named_from(place / self.analysis.folder, self.analysis.command)
        told = {**alone.VARIABLES, **dict(besides.variables)} if besides else self.options.told or os.environ
        ready = running.prepare(self.place, command, self.result.environment, told)
        before = scratch.state(place)
        began = time.monotonic()
        temporary = folder / "temporary"
        temporary.mkdir()
        writable = None if self.options.opened else (str(folder), *_DEVICES)
        root = None
        if besides:
            root, free = self._own_root(folder, ready.program, [place, temporary], besides)
            writable = (*(writable or ()), *free)
        limits = running.Limits(
            typed=scratch.recorded_input(self.analysis, self.cache),
            at_most=self.options.at_most,
            watches=self.options.watches,
            writable=writable,
            root=root,
            one_processor=besides is not None and besides.one_processor,
            has_rooted=bool(tools.kept(Environment(self.result.environment))),
        )
        ended = ready.wait_in(
            place / self.analysis.folder,
            printed,
            errors=errors,
            also_to=self.options.output,
            # Programs keep things between runs in the user's own cache, which cannot be written to.
            more={
                **self.analysis.values,
                **variables,
                WATCHED: "1",
                "TMPDIR": str(temporary),
                "XDG_CACHE_HOME": str(temporary / "cache"),
            },
            limits=limits,
        )
        code = ended.code
        self.result.not_apart = ("it was asked so (--open)",) if self.options.opened else ended.not_isolated
        self.result.observed = ended.observed
        self.result.absent = ended.absent
        self.result.partners = ended.touched.partners
        self.result.seconds = time.monotonic() - began
        self.result.said = running.last_lines(errors) if errors else ()
        is_ignored = ignored(copy, [])
        files = {
            path: file
            for path, file in scratch.changed(place, before).items()
            if not is_ignored(f"{os.path.realpath(place)}/{path}")
        }
        return _Run(files, printed, code)

    def _own_root(
        self, folder: Path, program: str, shown: Sequence[Path], besides: Elsewhere
    ) -> tuple[Root, tuple[str, ...]]:
        """A root in which nothing of this machine is in sight, and the folders in it that anybody may write into.

        Raises:
            LapidarError: what is to be run does not lie in it, or cannot start there.
        """
        environment = self.result.environment
        if not Environment(environment).is_private:
            raise LapidarError(
                f"The environment {environment} uses this machine's libraries",
                why="where they are out of sight it cannot start",
                remedy="Restore it with libraries of its own: lapidar restore --libraries private.",
            )
        (top := folder / "root").mkdir()
        root, free = alone.laid_out(top, [environment, *shown], besides)
        if besides.emulator:
            root = replace(root, instead=tuple(_emulated(Environment(environment), besides.emulator, folder)))
        if not any(program == place or program.startswith(f"{place}/") for place in (*root.shown, str(folder))):
            name = os.path.basename(program)
            raise LapidarError(
                f"{program} is this machine's, and not in the snapshot",
                remedy=f'Write [needs] tools = ["{name}"] into lapidar.toml, and capture or pin again.',
            )
        return root, free

    # ---- what varies by itself

    def _varying(self, runs: Sequence[_Run], work: Path) -> dict[str, str]:
        """The results that differ from run to run, each with what of."""
        made = Counter(path for run in runs for path in self._wanted(run.files, {}))
        unsteady = {path: _BY_NAME for path, times in made.items() if times < len(runs)}
        differing = _differing(runs)
        ones, others = ({path: of_file(pair[side]) for path, pair in differing.items()} for side in (0, 1))
        # What is the same content each time, or near enough, is no riddle.
        bad = {one.path for one in compare_all(ones, others, self.rules) if not one.verdict.is_good}
        varying = {path: pair for path, pair in differing.items() if path in bad}
        if not varying:
            return unsteady
        held = {
            "the order of sets and dicts (hash seed)": _of_hashing(),
            "the number of threads": dict.fromkeys(THREADS, "1"),
        }
        causes: dict[str, str] = {}
        for cause, variables in held.items():
            if variables and (left := varying.keys() - causes.keys()):
                name = f"held-{len(causes)}-{cause[:12].replace(' ', '-')}"
                runs_held = [self._once(work / f"{name}-{number}", variables) for number in range(_HELD)]
                agreeing = left - _differing(runs_held).keys()
                # Letting go must make them differ again: else it was chance that they agreed.
                let_go = [runs_held[0], *(self._once(work / f"{name}-free-{number}", {}) for number in range(2))]
                causes |= dict.fromkeys(agreeing & _differing(let_go).keys(), cause)
        found = {path: causes.get(path) or _by_content(*pair) for path, pair in varying.items()}
        return {**unsteady, **found}

    def _keep_drawn(self, before: Mapping[str, Was], after: Mapping[str, Path]) -> None:
        self.result.folder = tempfile.mkdtemp(prefix="lapidar-drawn-")
        weakref.finalize(self.result, shutil.rmtree, self.result.folder, ignore_errors=True)  # for who forgets
        for number, (path, file) in enumerate(after.items()):
            was = before.get(path)
            if was is not None and was.file is not None and not file.is_symlink():
                place = Path(self.result.folder, str(number))
                shutil.copyfile(file, place)
                self.result.files[path] = (was.file, place)

    def _keep(self, last: _Run) -> None:
        assert self.options.keep is not None
        for path, file in {**last.files, "printed.txt": last.printed}.items():
            place = self.options.keep / path
            place.parent.mkdir(parents=True, exist_ok=True)
            shutil.copy2(file, place, follow_symlinks=False)


def idle_rules(analysis: str, rules: Tolerances, paths: Collection[str]) -> list[str]:
    """What to say of declared rules that no result fits."""
    idle = rules.idle(paths)
    return [f"lapidar.toml has rules of {analysis} for {', '.join(idle)}, which no result fits"] if idle else []


def _never_recorded(place: Place) -> list[str]:
    """What to say of declared analyses that nobody could mean: they have no command and no record."""
    recorded = {one.name for one in results.read(place.records).analysis}
    idle = [name for name, one in reading.read(place).analyses.items() if not one.command and name not in recorded]
    return [f"lapidar.toml declares {', '.join(idle)}, and nothing of that name is recorded"] if idle else []


def _of_hashing() -> dict[str, str]:
    """The variables by which languages hold the order of what they hash."""
    names = [name for language in languages.every() for name in language.variables.watched if "HASH" in name]
    return dict.fromkeys(names, "0")


def _differing(runs: Sequence[_Run]) -> dict[str, tuple[Path, Path]]:
    """Of several runs, the results whose bytes are not always the same, with two that differ."""
    found: dict[str, tuple[Path, Path]] = {}
    first, *others = runs
    for other in others:
        pairs = {path: (file, other.files[path]) for path, file in first.files.items() if path in other.files}
        pairs[PRINTED] = (first.printed, other.printed)
        for path, (one, two) in pairs.items():
            if path not in found and not one.is_symlink() and one.read_bytes() != two.read_bytes():
                found[path] = (one, two)
    return found


# What is another each time, by its form: that, and nothing else, must differ for it to be named.
_EACH_TIME = {
    "the time": re.compile(
        rb"\d{4}-\d\d-\d\d(?:[T ]\d\d:\d\d(?::\d\d(?:\.\d+)?)?)?|\d\d:\d\d(?::\d\d(?:\.\d+)?)?"
        rb"|\b1[5-9]\d{8}(?:\.\d+|\d{3,9})?\b"  # seconds since 1970, or parts of them
    ),
    "addresses in memory": re.compile(rb"0x[0-9a-f]{6,16}"),
    "made-up identities (uuid)": re.compile(
        rb"[0-9a-f]{8}-[0-9a-f]{4}-[1-8][0-9a-f]{3}-[89ab][0-9a-f]{3}-[0-9a-f]{12}"
    ),
    "the folder it ran in": re.compile(rb"/[^\s\0\"']*/" + RERUN.encode() + rb"[^\s\0\"']*"),
    "process numbers": re.compile(rb"(?i)(?<=pid)\W{0,3}\d+|(?<=process)\W{0,3}\d+"),
}


def _emulated(environment: Environment, words: Sequence[str], folder: Path) -> Iterator[tuple[str, str]]:
    """An environment's launchers as they start everything behind an emulator, each with the place of the original."""
    listed = environment.manifest
    (made := folder / "launchers").mkdir()
    for number, path in enumerate(listed.listing.paths_of(LAPIDAR) if listed else ()):
        place = environment.folder / path
        if place.is_symlink() or not os.access(place, os.X_OK):
            continue
        text = launchers.behind(place.read_bytes(), words)
        if text is not None:
            (made / str(number)).write_bytes(text)
            (made / str(number)).chmod(0o755)
            yield str(made / str(number)), os.path.abspath(place)


def _by_content(one: Path, other: Path) -> str:
    """What two files that should be one differ in, as far as their bytes tell."""
    before, after = one.read_bytes(), other.read_bytes()
    for what, pattern in _EACH_TIME.items():
        if pattern.sub(b"", before) == pattern.sub(b"", after):
            return what
    if len(before) == len(after) and sorted(before.splitlines()) == sorted(after.splitlines()):
        return "the order of its lines"
    return "not found out: neither the hash seed nor the threads; a missing seed, perhaps"
