"""Culprit: which change between a good snapshot and a bad one alters a result. Hybrids of the two are built and tried,
each once; what was learned is kept, so that the same search goes on where it was stopped."""

from __future__ import annotations

import hashlib
import shutil
import subprocess
import threading
import time
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

import msgspec

from lapidar.core import atomic, languages
from lapidar.core.cache.history import History
from lapidar.core.cache.store import Cache
from lapidar.core.cache.trees import Tree
from lapidar.core.changes import files, hybrid
from lapidar.core.changes.files import FileChange
from lapidar.core.changes.hybrid import Hybrids
from lapidar.core.changes.narrowing import Narrowed, Outcome, narrow, without
from lapidar.core.errors import LapidarError, MissingFromCache
from lapidar.core.flows.between import Between
from lapidar.core.flows.choose import named_snapshot
from lapidar.core.flows.history import changes_between
from lapidar.core.flows.judges import ByCommand, ByRecord, Judge, analysis_of
from lapidar.core.flows.rerun import Rerun
from lapidar.core.flows.restore import RestoreOptions, restore
from lapidar.core.progress import Progress, Silent
from lapidar.core.project import Project
from lapidar.core.records import lockfile, words
from lapidar.core.records.difference import Change
from lapidar.core.records.owner import Layer
from lapidar.core.records.snapshot import Snapshot

__all__ = ["Culprit", "CulpritOptions", "Guilty", "Trial", "as_values", "culprit"]

_FOLDER = "culprit"
_MOST_FILES = 4000
_MOST_SETS = 5  # of changes that do it each by itself


@dataclass(frozen=True, slots=True)
class CulpritOptions:
    """How to search.

    Attributes:
        good, bad: as snapshots are named; None: that of the record, and the project's own.
        analysis: the recorded analysis that judges; "" for the only one. Not asked where there is a command.
        command: judges by its exit code instead: 0 is good, 125 cannot tell, any other below 126 is bad.
        times: how often each trial is run; where these do not agree, it cannot be told.
        at_most: seconds for one run, after which it cannot be told.
        jobs: how many trials are made at once.
        deeper: go on to the version and the files.
        draws: keep the results of both sides, to draw them: see `Culprit.last`.
    """

    good: str | None = None
    bad: str | None = None
    analysis: str = ""
    command: Sequence[str] = ()
    times: int = 1
    at_most: float | None = None
    jobs: int = 1
    deeper: bool = True
    draws: bool = False


@dataclass(frozen=True, slots=True)
class Trial:
    """One hybrid that was tried.

    Attributes:
        taken: what of the bad side it had, in short.
        remembered: whether its outcome was known from an earlier search.
    """

    snapshot: str
    taken: tuple[str, ...]
    outcome: Outcome
    seconds: float
    remembered: bool = False


@dataclass(slots=True)
class Guilty:
    """A change without which the result is as it was.

    Attributes:
        last_good, first_bad: of the versions between, where some of them could be tried.
        files: those of its files that do it; empty where that could not be told.
        lines: of each of these files, the lines that differ; None for what is no text.
    """

    change: Change
    last_good: str = ""
    first_bad: str = ""
    files: list[FileChange] = field(default_factory=list)
    lines: dict[str, list[str] | None] = field(default_factory=dict)


@dataclass(slots=True)
class Culprit:
    """What was found.

    Attributes:
        judge: what decided.
        guilty: a minimal set of changes: only together they do it, where there are several.
        also: more such sets, each of which does it without the others.
        certain: whether each of `guilty` was seen to be needed.
        without: what the bad side gives without all of these; None where nothing is left of it.
        changes: how many there were to choose from.
        last: what the bad side gave, where a recorded analysis judges.
    """

    good: Snapshot
    bad: Snapshot
    judge: str
    changes: int
    guilty: list[Guilty] = field(default_factory=list)
    also: list[list[Guilty]] = field(default_factory=list)
    certain: bool = True
    without: Outcome | None = None
    trials: list[Trial] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    last: Rerun | None = None


def culprit(
    project: Project,
    cache: Cache,
    options: CulpritOptions,
    reporter: Progress | None = None,
    told: Callable[[Trial, int], None] = lambda trial, left: None,
) -> Culprit:
    """Find which change alters a result.

    Args:
        told: hears of each trial, and how many are left at most.

    Raises:
        LapidarError: there is nothing to find, or the two do not differ as they are said to.
        MissingFromCache: bytes of either are lost.
    """
    cache.require_writable()
    project.make_own_folder()
    judge = _judge(project, cache, options)
    good = named_snapshot(project, cache, options.good) if options.good else _of_record(project, cache, options)
    bad = named_snapshot(project, cache, options.bad) if options.bad else lockfile.read(project.lockfile)
    changes = hybrid.takeable([change for change, _ in changes_between(good, bad)])
    if not changes:
        raise LapidarError(
            "The two snapshots hold the same, as far as it can be altered: there is no change to find",
            why=f"{words.short(good.snapshot)} and {words.short(bad.snapshot)}",
            remedy="Name two others: --good ID --bad ID (`lapidar history`).",
        )
    _require_whole(cache, good, bad)
    search = _Search(project, cache, options, judge, Hybrids(good, bad, changes, cache), reporter or Silent(), told)
    with cache.in_use():
        try:
            return search.run()
        except BaseException:
            if search.last:
                search.last.forget()
            raise


def _of_record(project: Project, cache: Cache, options: CulpritOptions) -> Snapshot:
    if options.command:
        raise LapidarError(
            "Which snapshot is good is not said", remedy="Name it: --good ID (`lapidar history` shows what there was)."
        )
    return History(cache).find(analysis_of(project, options.analysis).snapshot)


def _require_whole(cache: Cache, *snapshots: Snapshot) -> None:
    for snapshot in snapshots:
        lost = [words.owner(part.owner) for part in snapshot.parts() if not cache.is_whole(part.tree)]
        if lost:
            raise MissingFromCache(
                f"The cache lacks bytes of snapshot {words.short(snapshot.snapshot)}",
                why=words.some(lost, 5),
                remedy=f"lapidar restore --fetch --snapshot {words.short(snapshot.snapshot)} --into FOLDER may bring "
                "them; or name a cache that is whole.",
            )


def _judge(project: Project, cache: Cache, options: CulpritOptions) -> Judge:
    if options.command:
        return ByCommand(project, tuple(options.command), options.at_most)
    return ByRecord(project, cache, analysis_of(project, options.analysis), options.at_most)


# ---- the search


class _Kept(msgspec.Struct):
    """What an earlier search learned: by the identity of a hybrid, its outcome."""

    outcomes: dict[str, Outcome] = {}


@dataclass
class _Search:
    project: Project
    cache: Cache
    options: CulpritOptions
    judge: Judge
    hybrids: Hybrids
    reporter: Progress
    told: Callable[[Trial, int], None]
    trials: list[Trial] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    last: Rerun | None = None
    left: int = 0
    _removals: list[subprocess.Popen[bytes]] = field(default_factory=list)
    _lock: threading.Lock = field(default_factory=threading.Lock)
    _kept: _Kept = field(default_factory=_Kept)

    def run(self) -> Culprit:
        changes = self.hybrids.changes
        result = Culprit(
            self.hybrids.good, self.hybrids.bad, self.judge.called, len(changes), trials=self.trials, notes=self.notes
        )
        self._kept = self._read()
        self.left = 2 * len(changes).bit_length() + 4
        self._require_ends(result)
        sets = self._sets(result)
        for found, those in zip(sets, [result.guilty, *result.also], strict=True):
            for one in those if self.options.deeper else ():
                self._deeper(one, found)
        for removal in self._removals:
            removal.wait()
        shutil.rmtree(self.project.own_folder / _FOLDER / "trials", ignore_errors=True)
        return result

    def _sets(self, result: Culprit) -> list[frozenset[int]]:
        """A minimal set of changes; and as long as the bad side is bad without what was found, another."""
        changes, needs = self.hybrids.changes, self.hybrids.needs()
        rest = frozenset(range(len(changes)))
        sets: list[frozenset[int]] = []
        while len(sets) < _MOST_SETS:
            found = self._narrowed(rest, needs)
            guilty = [Guilty(changes[number]) for number in sorted(found.guilty)]
            sets.append(found.guilty)
            if len(sets) == 1:
                result.guilty, result.certain = guilty, found.certain
            else:
                result.also.append(guilty)
            if not found.guilty:
                result.notes.append(
                    "the changes that were found together are not bad by themselves: the judge may vary"
                )
                break
            rest = without(rest, found.guilty, needs)
            result.without = self._probe(rest) if rest else None
            if result.without is not Outcome.BAD:
                break
        return sets

    def _narrowed(self, rest: frozenset[int], needs: Mapping[int, Collection[int]]) -> Narrowed:
        """Narrow within some of the changes, which need none of the others."""
        numbers = sorted(rest)
        places = {number: place for place, number in enumerate(numbers)}
        found = narrow(
            len(numbers),
            lambda taken: self._probe(frozenset(numbers[place] for place in taken)),
            {places[one]: [places[needed] for needed in needs[one]] for one in numbers if one in needs},
            jobs=self.options.jobs,
            told=self._left_now,
        )
        return Narrowed(frozenset(numbers[place] for place in found.guilty), found.trials, found.certain)

    def _left_now(self, done: int, left: int) -> None:
        self.left = left

    def _require_ends(self, result: Culprit) -> None:
        """Raises: LapidarError: the good side is not good, or the bad one not bad."""
        everything = frozenset(range(len(self.hybrids.changes)))
        good = self._probe(frozenset())
        bad = self._probe_of_bad(everything, result)
        names = words.short(self.hybrids.good.snapshot), words.short(self.hybrids.bad.snapshot)
        if (good, bad) == (Outcome.GOOD, Outcome.BAD):
            return
        if (good, bad) == (Outcome.BAD, Outcome.GOOD):
            raise LapidarError(
                f"It is the other way round: {names[0]} is bad, and {names[1]} is good",
                remedy=f"lapidar culprit --good {names[1]} --bad {names[0]}",
            )
        if good is bad and good is not Outcome.UNKNOWN:
            raise LapidarError(
                f"Both are {good}: no change between them makes a difference to {self.judge.called}",
                why=f"{names[0]} and {names[1]}",
                remedy="Name two others: --good ID --bad ID, or another judge.",
            )
        which = names[0] if good is Outcome.UNKNOWN else names[1]
        raise LapidarError(
            f"It cannot be told of {which} whether it is good",
            why="the run did not end as it was recorded, took too long, or its runs do not agree with one another",
            remedy="Look at it: lapidar restore --snapshot ID --into FOLDER, and run it there.",
        )

    def _probe_of_bad(self, everything: frozenset[int], result: Culprit) -> Outcome:
        """The bad side. How a run ends there is how one ends that is bad."""
        judge = self.judge
        if isinstance(judge, ByRecord):
            snapshot = self.hybrids.snapshot(everything)
            with self._environment(snapshot) as place:
                try:
                    result.last = self.last = judge.run(place, draws=self.options.draws)
                except LapidarError:
                    return Outcome.UNKNOWN
            if result.last.exit_code != judge.analysis.exit_code:
                judge.bad_code = result.last.exit_code
        return self._probe(everything)

    # ---- trials

    def _probe(self, taken: frozenset[int]) -> Outcome:
        """Try the good side with some of the changes."""
        names = tuple(words.change_in_short(self.hybrids.changes[number]) for number in sorted(taken))
        return self._try(self.hybrids.snapshot(taken), names)

    def _try(self, snapshot: Snapshot, names: tuple[str, ...]) -> Outcome:
        known = self._kept.outcomes.get(snapshot.snapshot)
        began = time.monotonic()
        outcome = known or self._run(snapshot)
        trial = Trial(snapshot.snapshot, names, outcome, time.monotonic() - began, known is not None)
        with self._lock:
            self.trials.append(trial)
            self.left = max(self.left - 1, 0)
            if known is None:
                self._kept.outcomes[snapshot.snapshot] = outcome
                self._write()
        self.told(trial, self.left)
        return outcome

    def _run(self, snapshot: Snapshot) -> Outcome:
        with self._environment(snapshot) as place:
            said = {self.judge.outcome(place) for _ in range(self.options.times)}
        return said.pop() if len(said) == 1 else Outcome.UNKNOWN

    def _environment(self, snapshot: Snapshot) -> _Placed:
        folder = self.project.own_folder / _FOLDER / "trials"
        return _Placed(self.project, self.cache, snapshot, folder / snapshot.snapshot[7:19], self._removals)

    # ---- what was learned before

    @property
    def _file(self) -> Path:
        key = hashlib.sha256(f"{self.judge.key} {self.options.times}".encode()).hexdigest()[:24]
        return self.project.own_folder / _FOLDER / f"{key}.json"

    def _read(self) -> _Kept:
        try:
            return msgspec.json.decode(self._file.read_bytes(), type=_Kept)
        except (OSError, msgspec.MsgspecError):
            return _Kept()

    def _write(self) -> None:
        atomic.make_folder(self._file.parent)
        atomic.write_file(self._file, msgspec.json.encode(self._kept))

    # ---- deeper

    def _deeper(self, one: Guilty, guilty: frozenset[int]) -> None:
        """The first of the versions between that does it, and the files."""
        user = one.change.owner.user
        trees = [side.tree_of(user) for side in (self.hybrids.good, self.hybrids.bad)]
        if one.change.owner.layer not in (Layer.PACKAGES, Layer.RUNTIME, Layer.TOOLS) or None in trees:
            return
        before, after = (self.cache.tree(tree) for tree in trees if tree)
        if one.change.owner.layer is Layer.PACKAGES:
            before, after = self._version(one, guilty, before, after)
        self._files(one, guilty, before, after)

    def _with(self, guilty: frozenset[int], user: str, tree: Tree, what: str) -> Outcome:
        """The guilty changes, with another tree of one of them."""
        snapshot = self.hybrids.snapshot(guilty, {user: tree})
        return self._try(snapshot, (what,))

    def _version(self, one: Guilty, guilty: frozenset[int], before: Tree, after: Tree) -> tuple[Tree, Tree]:
        """Halve the versions between; the trees of the last good one and the first bad one."""
        between = Between(self.project, self.cache, self.hybrids.good, one.change)
        if between.trouble:
            self.notes.append(
                f"of {one.change.owner.name} only versions that the cache has were tried: {between.trouble}"
            )
        one.last_good, one.first_bad = one.change.old, one.change.new
        rest = between.versions
        low, high = before, after
        while rest:
            middle = len(rest) // 2
            version = rest[middle]
            tree = between.tree(version)
            name = f"{one.change.owner.name} {version}"
            outcome = self._with(guilty, one.change.owner.user, tree, name) if tree else Outcome.UNKNOWN
            if outcome is Outcome.UNKNOWN:
                del rest[middle]
            elif outcome is Outcome.BAD:
                high, one.first_bad, rest = tree or high, version, rest[:middle]
            else:
                low, one.last_good, rest = tree or low, version, rest[middle + 1 :]
        return low, high

    def _files(self, one: Guilty, guilty: frozenset[int], before: Tree, after: Tree) -> None:
        """Narrow down to the files, by hybrids of the two trees."""
        language = languages.of(one.change.owner.language) if one.change.owner.language else None
        changed = [
            file for file in files.differing(before, after) if not (language and language.is_metadata(file.path))
        ]
        if not changed or len(changed) > _MOST_FILES:
            return
        user = one.change.owner.user

        def probe(taken: frozenset[int]) -> Outcome:
            paths = {changed[number].path for number in taken}
            tree = hybrid.of_trees(before, after, paths)
            named = words.some(sorted(paths), 2) if taken else "none of its files"
            return self._with(guilty, user, tree, f"{one.change.owner.name or user}: {named}")

        whole = frozenset(range(len(changed)))
        if probe(frozenset()) is not Outcome.GOOD or probe(whole) is not Outcome.BAD:
            return  # what describes the package is part of it, or it works only as a whole
        narrowed = narrow(len(changed), probe, jobs=self.options.jobs, told=self._left_now)
        one.files = [changed[number] for number in sorted(narrowed.guilty)]
        one.lines = {file.path: files.text_difference(self.cache, file) for file in one.files}


class _Placed:
    """An environment for the time of a trial, with hard links to the cache.

    It is removed beside the next trial, which takes as long as placing it; by a process, since a thread would keep the
    next restore from sharing its work out.
    """

    def __init__(
        self,
        project: Project,
        cache: Cache,
        snapshot: Snapshot,
        place: Path,
        removals: list[subprocess.Popen[bytes]],
    ) -> None:
        self._project, self._cache, self._snapshot, self._place = project, cache, snapshot, place
        self._removals = removals

    def __enter__(self) -> Path:
        self._place.parent.mkdir(parents=True, exist_ok=True)
        place = self._place.with_name(f"{self._place.name}-{atomic.random_name()}")
        try:
            restore(self._project, self._cache, self._snapshot, RestoreOptions(into=place))
        except BaseException:
            shutil.rmtree(place, ignore_errors=True)
            raise
        self._place = place
        return place

    def __exit__(self, *_: object) -> None:
        quiet = subprocess.DEVNULL
        self._removals.append(subprocess.Popen(["rm", "-rf", "--", self._place], stdout=quiet, stderr=quiet))


def as_values(found: Culprit) -> Mapping[str, object]:
    """What was found, for machines."""
    return {
        "good": found.good.snapshot,
        "bad": found.bad.snapshot,
        "judge": found.judge,
        "changes": found.changes,
        "certain": found.certain,
        "guilty": [_guilty_as_values(one) for one in found.guilty],
        "also": [[_guilty_as_values(one) for one in those] for those in found.also],
        "without": found.without,
        "trials": found.trials,
        "notes": found.notes,
    }


def _guilty_as_values(one: Guilty) -> Mapping[str, object]:
    return {
        "layer": one.change.owner.layer,
        "language": one.change.owner.language or None,
        "name": one.change.owner.name,
        "from": one.change.old or None,
        "to": one.change.new or None,
        "last_good": one.last_good or None,
        "first_bad": one.first_bad or None,
        "files": [file.path for file in one.files],
        "lines": one.lines,
    }
