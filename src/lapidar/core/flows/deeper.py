"""What within a guilty change does it: the first of the versions between, the files, the entries of a value. As far as
the judge allows, and each seen in a trial."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from typing import Any

import msgspec

from lapidar.core import languages
from lapidar.core.cache.store import Cache
from lapidar.core.cache.trees import Entry
from lapidar.core.changes import exports, files, hybrid, values
from lapidar.core.changes.files import FileChange
from lapidar.core.changes.hybrid import Hybrids, Instead
from lapidar.core.changes.narrowing import Outcome, border, narrow, narrow_within, units_in_order
from lapidar.core.flows.between import Between, library_of
from lapidar.core.flows.trials import Trials
from lapidar.core.project import Project
from lapidar.core.records import words
from lapidar.core.records.difference import Change
from lapidar.core.records.owner import Layer
from lapidar.core.records.snapshot import Library, Snapshot
from lapidar.core.restored import assemble

__all__ = ["Deeper", "Guilty", "heads"]

_MOST_FILES = 4000
_MOST_ALONE = 64  # files that are left out one by one
_MOST_APART = 16  # files of which it is tried whether some are guilty without those that they need


@dataclass(slots=True)
class Guilty:
    """A change without which the result is as it was.

    Attributes:
        last_good, first_bad: of the versions (or numbers) between, where some of them could be tried.
        files: those of its files that do it; empty where that could not be told.
        entries: of a variable that is a list, those of its entries that do it.
        lines: of each of these files, the lines that differ; None for what is no text. Of a library, what of its
            exported functions differs.
        goes_with: files that only go together with these.
        ships_with: libraries that the operating system ships with it, and that are not needed for it.
    """

    change: Change
    last_good: str = ""
    first_bad: str = ""
    files: list[FileChange] = field(default_factory=list)
    entries: list[str] = field(default_factory=list)
    lines: dict[str, list[str] | None] = field(default_factory=dict)
    ships_with: list[str] = field(default_factory=list)
    goes_with: list[str] = field(default_factory=list)


class _Enough(Exception):
    """So many trials in a row could not be told that the next will not be either."""


class _Patient:
    """A probe that gives up."""

    def __init__(self, probe: Callable[[frozenset[int]], Outcome], most: int) -> None:
        self._probe, self._most, self._dark = probe, most, 0

    def __call__(self, taken: frozenset[int]) -> Outcome:
        outcome = self._probe(taken)
        self._dark = self._dark + 1 if outcome is Outcome.UNKNOWN else 0
        if self._dark > self._most:
            raise _Enough
        return outcome


@dataclass
class Deeper:
    """Looks into guilty changes.

    Attributes:
        notes: what the user should know, a sentence each.
    """

    project: Project
    cache: Cache
    hybrids: Hybrids
    trials: Trials
    jobs: int
    notes: list[str] = field(default_factory=list)

    def look(self, one: Guilty, guilty: frozenset[int]) -> None:
        """Find what within a change does it.

        Args:
            guilty: all that is guilty together with it.
        """
        layer = one.change.owner.layer
        if not one.change.old or not one.change.new:
            return  # it came or went as a whole
        if layer is Layer.CONDITIONS:
            self._value(one, guilty)
        elif layer is Layer.LIBRARIES:
            self._library(one, guilty)
        else:
            self._part(one, guilty)

    def _try(self, guilty: frozenset[int], instead: Instead, what: str) -> Outcome:
        return self.trials.of(self.hybrids.snapshot(guilty, instead), (what,))

    # ---- a runtime, a package, an outside program

    def _part(self, one: Guilty, guilty: frozenset[int]) -> None:
        user = one.change.owner.user
        before, after = (_record(side, user) for side in (self.hybrids.good, self.hybrids.bad))
        if before is None or after is None:
            return
        between = self._between(one.change)

        def probe(version: str) -> Outcome:
            record = between.record(version)
            if record is None:
                return Outcome.UNKNOWN
            return self._with_record(guilty, record, (before, after), f"{one.change.owner.name} {version}")

        good, bad = self._border(one, between, probe)
        before = between.record(good) if good else before
        after = between.record(bad) if bad else after
        self._files(one, guilty, before, after)

    def _between(self, change: Change) -> Between:
        between = Between(self.project, self.cache, self.hybrids.good, change)
        if between.trouble:
            self.notes.append(f"of {change.owner.name} only versions that the cache has were tried: {between.trouble}")
        return between

    def _border(self, one: Guilty, between: Between, probe: Callable[[str], Outcome]) -> tuple[str | None, str | None]:
        good, bad = border(between.versions, probe)
        one.last_good, one.first_bad = good or one.change.old, bad or one.change.new
        return good, bad

    def _files(self, one: Guilty, guilty: frozenset[int], before: Any, after: Any) -> None:
        """Narrow down to the files, by hybrids of two trees."""
        name, user = one.change.owner.name, one.change.owner.user
        language = languages.of(one.change.owner.language) if one.change.owner.language else None
        old, new = (self.cache.tree(record.tree) for record in (before, after))
        changed = [file for file in files.differing(old, new) if not (language and language.is_metadata(file.path))]
        if not changed or len(changed) > _MOST_FILES:
            return

        def probe(taken: frozenset[int]) -> Outcome:
            paths = {changed[number].path for number in taken}
            tree = hybrid.of_trees(old, new, paths)
            self.cache.put_tree(tree)
            record = msgspec.structs.replace(before, tree=tree.digest, files=len(tree), bytes=tree.total_bytes)
            named = words.some(sorted(paths), 2) if taken else "none of its files"
            return self._with_record(guilty, record, (before, after), f"{name or user}: {named}")

        whole = frozenset(range(len(changed)))
        if probe(frozenset()) is not Outcome.GOOD or (outcome := probe(whole)) is Outcome.UNKNOWN:
            return  # it works only as a whole
        if outcome is Outcome.GOOD:
            self.notes.append(f"of {name} it is not its files that do it, but what it says of itself (its metadata)")
            return
        needs, together = language.needs_between(old, new, self.cache) if language else ({}, ())
        at = {file.path: number for number, file in enumerate(changed)}
        known = {
            at[user]: {at[other] for other in others if other in at} for user, others in needs.items() if user in at
        }
        ring = [at[path] for path in together]
        found = self._narrowed(len(changed), probe, known, ring)
        decisive = self._decisive(found, probe, ring) if len(found) > 1 else found
        first = decisive or (heads(found, _with_ring(known, ring)) if len(found) > _MOST_APART else found)
        one.files = [changed[number] for number in sorted(first)]
        one.goes_with = [changed[number].path for number in sorted(found - first)]
        one.lines = {file.path: files.text_difference(self.cache, file) for file in one.files}

    def _narrowed(
        self,
        count: int,
        probe: Callable[[frozenset[int]], Outcome],
        needs: Mapping[int, set[int]],
        ring: Sequence[int],
    ) -> frozenset[int]:
        """The files: tried with those that they take names from, and with what is made together; then, of what is
        found, without the one and the other, as long as that leads anywhere."""
        wide = _with_ring(needs, ring)
        found = narrow(count, probe, wide, jobs=self.jobs, told=self.trials.expect).guilty
        for held, looser in ((wide, needs), (needs, dict[int, set[int]]())):
            if held != looser and len(found) > 1 and (looser or len(found) <= _MOST_APART):
                patient = _Patient(probe, 2 * len(found).bit_length() + 8)
                with suppress(_Enough):
                    less = narrow_within(found, patient, looser, jobs=self.jobs, told=self.trials.expect).guilty
                    found = less or found
        return found

    def _decisive(
        self, found: frozenset[int], probe: Callable[[frozenset[int]], Outcome], compiled: Collection[int]
    ) -> frozenset[int]:
        """Of files that only together do it, those without which alone the result is good. Without the others it cannot
        be told: they are there that these work."""
        alone = sorted(found.difference(compiled) if len(found) > _MOST_APART else found)
        return frozenset(one for one in alone[:_MOST_ALONE] if probe(found - {one}) is Outcome.GOOD)

    def _with_record(self, guilty: frozenset[int], record: Any, relatives: tuple[Any, Any], what: str) -> Outcome:
        """Try the guilty changes with another record of one of them.

        Args:
            relatives: records whose trees share files with it: what they were compiled to is not compiled again.
        """
        snapshot = self.hybrids.snapshot(guilty, Instead(records={hybrid.user_of(record): record}))
        tree, *others = (self.cache.tree(one.tree) for one in (record, *relatives))
        assemble.share_derived(snapshot, self.cache, tree, others)
        return self.trials.of(snapshot, (what,))

    # ---- a library of the system

    def _library(self, one: Guilty, guilty: frozenset[int]) -> None:
        name = one.change.owner.name
        old, new = (library_of(self.cache, side, name) for side in (self.hybrids.good, self.hybrids.bad))
        if old is None or new is None:
            return
        between = self._between(one.change)

        def probe(version: str) -> Outcome:
            found: tuple[Library, Entry] | None = between.record(version)
            return (
                self._try(guilty, Instead(libraries={name: found}), f"{name} {version}") if found else Outcome.UNKNOWN
            )

        good, bad = self._border(one, between, probe)
        (_, before), (_, after) = between.record(good) if good else old, between.record(bad) if bad else new
        one.lines = {name: exports.difference(self.cache.read(before), self.cache.read(after))}

    # ---- a condition

    def _value(self, one: Guilty, guilty: frozenset[int]) -> None:
        """Which number between two values is the first, or which entries of two lists."""
        name = hybrid.variable_of(one.change)
        if name is None:
            return
        numbers = values.numbers_between(one.change.old, one.change.new)
        if numbers:
            good, bad = border(numbers, lambda value: self._with_value(guilty, name, value))
            one.last_good, one.first_bad = good or one.change.old, bad or one.change.new
        both = values.lists(one.change.old, one.change.new)
        if both is not None:
            found = narrow(
                len(both.differing),
                lambda taken: self._with_value(guilty, name, both.value(taken)),
                jobs=self.jobs,
                told=self.trials.expect,
            )
            one.entries = [both.differing[number] for number in sorted(found.guilty)]

    def _with_value(self, guilty: frozenset[int], name: str, value: str) -> Outcome:
        return self._try(guilty, Instead(variables={name: value}), f"{name}={value}")


def _with_ring(needs: Mapping[int, set[int]], ring: Sequence[int]) -> dict[int, set[int]]:
    """Needs, and a ring of those that need one another."""
    wide = {one: set(others) for one, others in needs.items()}
    for one, other in zip(ring, [*ring[1:], *ring[:1]], strict=True):
        wide.setdefault(one, set()).add(other)
    return wide


def heads(found: frozenset[int], needs: Mapping[int, set[int]]) -> frozenset[int]:
    """Those that none of the others needs; where some of these stand alone, only they."""
    within = {one: needs.get(one, set()) & found for one in found}
    units = [unit for unit in units_in_order(max(found) + 1, within) if found.issuperset(unit)]
    needed = {other for unit in units for one in unit for other in within[one] if other not in unit}
    first = [unit for unit in units if not needed.intersection(unit)]
    alone = [unit for unit in first if len(unit) == 1]
    return frozenset(one for unit in alone or first for one in unit)


def _record(snapshot: Snapshot, user: str) -> Any:
    every = (*snapshot.runtimes, *snapshot.packages, *snapshot.remainders, *snapshot.tools)
    return next((one for one in every if hybrid.user_of(one) == user), None)
