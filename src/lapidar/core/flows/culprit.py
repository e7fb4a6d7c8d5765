"""Culprit: which change between a good snapshot and a bad one alters a result. Hybrids of the two are built and tried,
each once; what was learned is kept, so that the same search goes on where it was stopped."""

from __future__ import annotations

import shlex
import time
from collections.abc import Callable, Collection, Mapping, Sequence

from msgspec import Struct, field

from lapidar.core.cache.contents import lacking
from lapidar.core.cache.digest import sha256_of
from lapidar.core.cache.history import History
from lapidar.core.cache.store import Cache
from lapidar.core.changes import hybrid
from lapidar.core.changes.hybrid import Hybrids
from lapidar.core.changes.narrowing import Narrowed, Outcome, narrow_within, needed_by, without
from lapidar.core.errors import LapidarError, MissingFromCache
from lapidar.core.flows.choose import named_snapshot
from lapidar.core.flows.deeper import Deeper, Guilty
from lapidar.core.flows.from_raw import chain_of
from lapidar.core.flows.history import changes_between
from lapidar.core.flows.judges import ByChain, ByCommand, ByRecord, Judge, analysis_of, record_before
from lapidar.core.flows.rerun import Rerun
from lapidar.core.flows.trials import OutOfTime, Trial, Trials
from lapidar.core.place import Place
from lapidar.core.progress import Progress, Silent
from lapidar.core.records import lockfile, words
from lapidar.core.records.owner import Layer
from lapidar.core.records.results import RecordedFile
from lapidar.core.records.snapshot import Snapshot
from lapidar.core.restored import sources
from lapidar.core.results import listing

__all__ = ["Culprit", "CulpritOptions", "Guilty", "Trial", "as_values", "culprit"]

_MOST_LOOKED_INTO = 4  # changes that only together do it
_BUDGET_SECONDS = 180.0
_REPRODUCED = 2  # runs of the good side
_MOST_SETS = 5  # of changes that do it each by itself


class CulpritOptions(Struct, frozen=True, kw_only=True):
    """How to search.

    Attributes:
        good, bad: as snapshots are named; None: that of the record, and the project's own.
        analysis: the recorded analysis that judges; "" for the only one. Not asked where there is a command.
        command: judges by its exit code instead: 0 is good, 125 cannot tell, any other below 126 is bad.
        times: how often each trial is run; where these do not agree, it cannot be told.
        at_most: seconds for one run, after which it cannot be told.
        jobs: how many trials are made at once.
        fetch: first fetch what the cache lacks of the two, each package from the origin that its lockfile names.
        deeper: go on to the version and the files.
        draws: keep the results of both sides, to draw them: see `Culprit.last`.
        crash_is_bad: a run that a signal ends, or that takes longer than it is given, is bad.
        budget: seconds for the search within what is guilty: version, files, lines.
        from_raw: in each trial run all that the analysis stands on too, from the recorded raw inputs on; else only
            where the analysis alone gives the recorded results on both sides.
    """

    good: str | None = None
    bad: str | None = None
    analysis: str = ""
    command: Sequence[str] = ()
    times: int = 1
    at_most: float | None = None
    jobs: int = 1
    fetch: bool = False
    deeper: bool = True
    draws: bool = False
    crash_is_bad: bool = False
    budget: float = _BUDGET_SECONDS
    from_raw: bool = False


class Culprit(Struct):
    """What was found.

    Attributes:
        judge: what decided.
        guilty: a minimal set of changes: only together they do it, where there are several.
        also: more such sets, each of which does it without the others.
        certain: whether each of `guilty` was seen to be needed.
        without: what the bad side gives without all of these; None where nothing is left of it.
        others: how many changes that leaves.
        changes: how many there were to choose from.
        last: what the bad side gave, where a recorded analysis judges.
        differing: where a chain is run, for each of these sets the steps whose results are another with it alone, in
            their order.
        names: of both sides, as one names them on a command line: by identity, or where the history has none of it, by
            the path that was given.
    """

    good: Snapshot
    bad: Snapshot
    judge: str
    changes: int
    guilty: list[Guilty] = field(default_factory=list)
    also: list[list[Guilty]] = field(default_factory=list)
    certain: bool = True
    without: Outcome | None = None
    others: int = 0
    trials: list[Trial] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    last: Rerun | None = None
    differing: list[tuple[str, ...]] = field(default_factory=list)
    names: tuple[str, str] = ("", "")


def culprit(
    place: Place,
    cache: Cache,
    options: CulpritOptions,
    reporter: Progress | None = None,
    told: Callable[[Trial, int], None] = lambda trial, left: None,
    known: Callable[[Culprit], None] = lambda found: None,
) -> Culprit:
    """Find which change alters a result.

    Args:
        told: hears of each trial, and how many are left at most.
        known: is shown what is guilty as soon as that is known, before versions and files are looked for.

    Raises:
        LapidarError: there is nothing to find, or the two do not differ as they are said to.
        MissingFromCache: bytes of either are lost.
    """
    cache.require_writable()
    with cache.in_use():  # what is fetched for it is not pruned before it is placed
        return _search(place, cache, options, reporter, told, known)


def _search(
    place: Place,
    cache: Cache,
    options: CulpritOptions,
    reporter: Progress | None,
    told: Callable[[Trial, int], None],
    known: Callable[[Culprit], None],
) -> Culprit:
    bad = named_snapshot(place, cache, options.bad) if options.bad else lockfile.read(place.lockfile)
    judge, notes = _judge(place, cache, options, bad)
    good = named_snapshot(place, cache, options.good) if options.good else _of_record(cache, judge)
    changes = hybrid.takeable([change for change, _ in changes_between(good, bad)])
    if not changes:
        raise LapidarError(
            "The two snapshots hold the same, as far as it can be altered: there is no change to find",
            why=f"{words.short(good.snapshot)} and {words.short(bad.snapshot)}",
            remedy="Name two others: --good ID --bad ID (`lapidar history`).",
        )
    for snapshot in (good, bad):
        if options.fetch and _lost(cache, snapshot):
            sources.bring(place, cache, snapshot, reporter or Silent())
        _require_whole(cache, snapshot)
    names = tuple(_named(cache, one, said) for one, said in ((good, options.good), (bad, options.bad)))

    def searched(judge: Judge) -> Culprit:
        found = Culprit(good, bad, judge.called, len(changes), notes=notes, names=(names[0], names[1]))
        trials = Trials(place, cache, judge, options.times, told, found.trials)
        search = _Search(place, cache, options, Hybrids(good, bad, changes, cache), trials, found, known)
        try:
            with cache.in_use(), trials:
                search.run()
                found.last = _drawn(judge)
                return found
        except BaseException:
            if drawn := _drawn(judge):
                drawn.forget()
            raise

    try:
        return searched(judge)
    except _NoneByItself:
        chain = _chain(place, cache, judge)
        if chain is None:
            raise
        notes.append(
            f"by itself, with what those before it made then, {chain.analysis.name} gives the recorded results in "
            "both: each trial runs all that it stands on, from the raw data on"
        )
        return searched(chain)


class _NoneByItself(LapidarError):
    """On both sides an analysis gives the recorded results; with another input it might not."""


def _chain(place: Place, cache: Cache, judge: Judge) -> ByChain | None:
    """As `judge`, with all that its analysis stands on; None where that is nothing."""
    if not isinstance(judge, ByRecord) or isinstance(judge, ByChain):
        return None
    chain = tuple(chain_of(place, cache, judge.analysis))
    if len(chain) == 1:
        return None
    return ByChain(place, cache, judge.analysis, judge.at_most, crash_is_bad=judge.crash_is_bad, chain=chain)


def _named(cache: Cache, snapshot: Snapshot, said: str | None) -> str:
    known = History(cache).path(snapshot.snapshot).is_file()
    return words.short(snapshot.snapshot) if known or not said else shlex.quote(said)


def _drawn(judge: Judge) -> Rerun | None:
    return judge.drawn if isinstance(judge, ByRecord) else None


def _of_record(cache: Cache, judge: Judge) -> Snapshot:
    if not isinstance(judge, ByRecord):
        raise LapidarError(
            "Which snapshot is good is not said", remedy="Name it: --good ID (`lapidar history` shows what there was)."
        )
    return History(cache).find(judge.analysis.snapshot)


def _lost(cache: Cache, snapshot: Snapshot) -> list[str]:
    return [words.owner(part.owner) for part in lacking(cache, snapshot)]


def _require_whole(cache: Cache, snapshot: Snapshot) -> None:
    if lost := _lost(cache, snapshot):
        raise MissingFromCache(
            f"The cache lacks bytes of snapshot {words.short(snapshot.snapshot)}",
            why=words.some(lost, 5),
            remedy="--fetch brings packages from where they came from; or name a cache that is whole (--cache).",
        )


def _judge(place: Place, cache: Cache, options: CulpritOptions, bad: Snapshot) -> tuple[Judge, list[str]]:
    """Who judges, and what is to be known of that. Where the result was recorded again since, the record before."""
    if options.command:
        return ByCommand(place, tuple(options.command), options.at_most, options.crash_is_bad), []
    analysis, notes = analysis_of(place, options.analysis), []
    if not options.good and analysis.snapshot == bad.snapshot and (before := record_before(place, cache, analysis)):
        notes.append(
            f"{analysis.name} was recorded again with snapshot {words.short(bad.snapshot)}: "
            f"the record before, of {words.short(before.snapshot)}, judges"
        )
        now, then = ({one.path: one.sha256 for one in (*side.source, *side.input)} for side in (analysis, before))
        made = {file.path for one in chain_of(place, cache, before)[:-1] for file in listing.whole(one, cache).result}
        if changed := sorted(path for path in (now.keys() | then.keys()) - made if now.get(path) != then.get(path)):
            notes.append(
                f"{words.some(changed, 3)} changed between the two records, and may be what altered the result: the "
                f"trials run with the files of the earlier one; lapidar rerun {analysis.name} tells of the present ones"
            )
        analysis = before
    judge = ByRecord(place, cache, analysis, options.at_most, crash_is_bad=options.crash_is_bad)
    return (_chain(place, cache, judge) or judge) if options.from_raw else judge, notes


# ---- the search


class _Search(Struct, dict=True):
    place: Place
    cache: Cache
    options: CulpritOptions
    hybrids: Hybrids
    trials: Trials
    found: Culprit
    known: Callable[[Culprit], None]

    def run(self) -> None:
        changes, found = self.hybrids.changes, self.found
        self.trials.left = 2 * len(changes).bit_length() + 4
        self._require_ends()
        sets = self._sets()
        if self.options.deeper and found.guilty:
            self.known(found)
            self.trials.until = time.monotonic() + self.options.budget
            try:
                self._deeper(sets)
            except OutOfTime:
                found.notes.append(
                    f"versions and files were looked for for {self.options.budget:g} s; a longer --budget goes on from "
                    "there"
                )

    def _deeper(self, sets: Sequence[frozenset[int]]) -> None:
        found = self.found
        deeper = Deeper(self.place, self.cache, self.hybrids, self.trials, self.options.jobs, found.notes)
        for numbers, those in zip(sets, [found.guilty, *found.also], strict=True):
            for one in those if _can_be_looked_into(those) else ():
                deeper.look(one, numbers)

    def _sets(self) -> list[frozenset[int]]:
        """A minimal set of changes; and as long as the bad side is bad without what was found, another."""
        found, needs = self.found, self.hybrids.needs()
        rest = frozenset(range(len(self.hybrids.changes)))
        sets: list[frozenset[int]] = []
        while len(sets) < _MOST_SETS:
            narrowed, together = self._apart(self._narrowed(rest, needs))
            guilty = self._guilty(narrowed, together, needs)
            sets.append(narrowed.guilty)
            found.differing.append(self.trials.differing(self.hybrids.snapshot(narrowed.guilty)))
            if len(sets) == 1:
                found.guilty, found.certain = guilty, narrowed.certain
            else:
                found.also.append(guilty)
            if not narrowed.guilty:
                found.notes.append("the changes that were found together are not bad by themselves: the judge may vary")
                break
            rest = without(rest, narrowed.guilty, needs)
            found.others = len(rest)
            found.without = self._probe(rest) if rest else None
            if found.without is not Outcome.BAD:
                break
        return sets

    def _guilty(
        self, narrowed: Narrowed, together: frozenset[int], needs: Mapping[int, Collection[int]]
    ) -> list[Guilty]:
        """What is guilty, with the libraries that only came with it, and what only moved because it did."""
        changes, numbers = self.hybrids.changes, narrowed.guilty
        companions = self._companions(narrowed, needs)
        spared = [changes[number].owner for number in sorted(together - numbers)]
        names = [owner.name for owner in spared if owner.layer is Layer.LIBRARIES]
        found = []
        for number in sorted(numbers - companions.keys()):
            change = changes[number]
            moved = [changes[one] for one, whose in sorted(companions.items()) if whose == number]
            ships_with = names if change.owner.layer is Layer.LIBRARIES else []
            found.append(Guilty(change, ships_with=ships_with, companions=moved))
        return found

    def _companions(self, narrowed: Narrowed, needs: Mapping[int, Collection[int]]) -> dict[int, int]:
        """Changes that are there only because another is, each with that one: packages that move with the runtime; and
        of two of which one needs the other, the one that the result does not hang on, as far as that was tried."""
        changes, numbers = self.hybrids.changes, narrowed.guilty
        runtimes = [one for one in sorted(numbers) if changes[one].owner.layer is Layer.RUNTIME]
        if runtimes:
            bound = {one for one in numbers if needed_by(one, needs) & set(runtimes)}
            return {
                one: runtimes[0] for one in bound.difference(runtimes) if changes[one].owner.layer is Layer.PACKAGES
            }
        found: dict[int, int] = {}
        for one in sorted(numbers):
            for other in sorted(needed_by(one, needs) & numbers - {one}):
                if one in needed_by(other, needs):
                    continue  # they need one another
                alone = narrowed.outcomes.get(without(numbers, [one], needs))
                if alone is Outcome.GOOD:
                    found[other] = one  # it is there because this one needs it
                elif alone is Outcome.UNKNOWN:
                    found[one] = other  # it has to be as new
        return {one: whose for one, whose in found.items() if whose not in found}

    def _narrowed(self, some: frozenset[int], needs: Mapping[int, Collection[int]]) -> Narrowed:
        return narrow_within(some, self._probe, needs, jobs=self.options.jobs, announce=self.trials.expect)

    def _apart(self, found: Narrowed) -> tuple[Narrowed, frozenset[int]]:
        """Libraries that the operating system ships together moved together. Nobody says that they work apart: where
        they do, those are found that are needed. Also gives what was found before that."""
        libraries = [number for number in found.guilty if self.hybrids.changes[number].owner.layer is Layer.LIBRARIES]
        if len(libraries) < 2:
            return found, found.guilty
        narrower = self._narrowed(found.guilty, self.hybrids.needs(apart=True))
        return (narrower if narrower.guilty else found), found.guilty

    def _require_ends(self) -> None:
        """Raises: LapidarError: the good side is not good, or the bad one not bad."""
        everything = frozenset(range(len(self.hybrids.changes)))
        good = self._probe(frozenset(), least=_REPRODUCED)
        bad = self._probe(everything, is_bad=True, draws=self.options.draws)
        names = self.found.names
        if (good, bad) == (Outcome.GOOD, Outcome.BAD):
            return
        if (good, bad) == (Outcome.BAD, Outcome.GOOD):
            raise LapidarError(
                f"It is the other way round: {names[0]} is bad, and {names[1]} is good",
                remedy=f"lapidar culprit --good {names[1]} --bad {names[0]}",
            )
        self._require_reproduced(good, bad)
        if good is bad and good is not Outcome.UNKNOWN:
            raise LapidarError(
                f"Both are {good}: no change between them makes a difference to {self.found.judge}",
                why=f"{names[0]} and {names[1]}",
                remedy="Name two others: --good ID --bad ID, or another judge.",
            )
        which = 0 if good is Outcome.UNKNOWN else 1
        said = self.trials.made[which].said
        raise LapidarError(
            f"It cannot be told of {names[which]} whether it is good",
            why="; ".join(said),
            remedy=f"Look at it: lapidar restore {_option(names[which])} --into FOLDER, and run it there. Where a "
            "crash, or taking longer than --at-most, is what is bad: --crash-is-bad.",
        )

    def _require_reproduced(self, good: Outcome, bad: Outcome) -> None:
        """Raises: LapidarError: a record judges, and its own snapshot does not give it today; or the bad one does."""
        if not isinstance(self.trials.judge, ByRecord):
            return
        analysis, names = self.trials.judge.analysis, (self.hybrids.good, self.hybrids.bad)
        is_own = analysis.snapshot == names[0].snapshot
        if is_own and good is not Outcome.GOOD:
            first = self.trials.made[0]
            varies = "its runs do not agree with one another" in first.said
            gives = "each run gives something else" if varies else "it gives something else today"
            own = words.short(names[0].snapshot)
            raise LapidarError(
                f"The record of {analysis.name} is not reproduced by its own snapshot {own}: {gives}",
                why="; ".join(first.said),
                remedy=f"lapidar rerun {analysis.name} --from-raw shows with which step a difference begins."
                if isinstance(self.trials.judge, ByChain)
                else f"lapidar rerun {analysis.name} --times 3 tells what varies by itself, and whether a cause that "
                "can be held to lets it go.",
            )
        if good is bad is Outcome.GOOD:
            changed = [one.path for one in (*analysis.source, *analysis.input) if self._is_changed(one)]
            raise _NoneByItself(
                f"Both snapshots give the recorded results of {analysis.name} today: no change between them matters",
                why=f"{words.some(changed, 3)} is not as recorded" if changed else "",
                remedy=f"lapidar rerun {analysis.name} --current-files tells whether it is the files."
                if changed
                else f"Look at the other side: lapidar run, or another one: --bad ID; lapidar rerun {analysis.name} "
                "--times 3 tells what varies by itself.",
            )

    def _is_changed(self, one: RecordedFile) -> bool:
        path = self.place.root / one.path
        return not path.is_file() or sha256_of(str(path)) != one.sha256

    def _probe(self, taken: frozenset[int], *, is_bad: bool = False, draws: bool = False, least: int = 1) -> Outcome:
        """Try the good side with some of the changes."""
        called = words.names_in(self.hybrids.good, self.hybrids.bad)
        names = tuple(words.change_in_short(self.hybrids.changes[number], called) for number in sorted(taken))
        return self.trials.of(self.hybrids.snapshot(taken), names, is_bad=is_bad, draws=draws, least=least)


def _option(name: str) -> str:
    """How `lapidar restore` is told of a side: by its identity, or by the lockfile."""
    return f"--snapshot {name}" if name.isalnum() else f"--lock {name}"


def _can_be_looked_into(those: Sequence[Guilty]) -> bool:
    """Not a runtime with all that is made for it, and not a crowd."""
    has_runtime = any(one.change.owner.layer is Layer.RUNTIME for one in those)
    return len(those) == 1 or (len(those) <= _MOST_LOOKED_INTO and not has_runtime)


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
        "differing": found.differing,
        "without": found.without,
        "others": found.others,
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
        "entries": one.entries,
        "lines": one.lines,
        "ships_with": one.ships_with,
        "goes_with": one.goes_with,
        "companions": [
            {"name": change.owner.name, "from": change.old or None, "to": change.new or None}
            for change in one.companions
        ],
    }
