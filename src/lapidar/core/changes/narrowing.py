"""Which of many changes alter a result: a minimal set of them, found by trying some of the changes together.

Delta debugging with three answers (good, bad, cannot tell): the changes stand in an order in which each comes after
those that it needs, and the shortest beginning of that order that is bad is looked for by halving. Its last change is
needed; with it taken for granted the search begins again in what stands before it, until what is taken for granted is
bad by itself. For k guilty ones of n changes that is k (log2 n + 1) trials.

What cannot be told is never taken for an answer. Where beginnings from one length to another cannot be told, the change
at which that begins and the one at which it ends are taken to need each other, and move together from then on.
"""

from __future__ import annotations

import enum
import itertools
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

from msgspec import Struct, field

__all__ = ["Narrowed", "Outcome", "border", "narrow", "narrow_within", "needed_by", "ring", "units_in_order", "without"]


class Outcome(enum.StrEnum):
    """What a trial says."""

    GOOD = "good"
    BAD = "bad"
    UNKNOWN = "cannot tell"


_MOST_PAIRS = 15
_MOST_SPARED = 24  # of what was found, how much is left out one by one
Probe = Callable[[frozenset[int]], Outcome]
Unit = tuple[int, ...]  # changes that move together
T = TypeVar("T")


class Narrowed(Struct, frozen=True):
    """What was found.

    Attributes:
        guilty: the changes that make it bad, and none of which can be spared; empty where it could not be found.
        trials: how many were made.
        certain: whether each was seen to be needed: without it the rest was good, and not only impossible to tell.
        outcomes: of every set that was tried.
    """

    guilty: frozenset[int]
    trials: int
    certain: bool
    outcomes: Mapping[frozenset[int], Outcome] = field(default_factory=dict)


def ring(several: Sequence[T]) -> Iterator[tuple[T, T]]:
    """Pairs by which things need one another, all of them."""
    yield from zip(several, [*several[1:], *several[:1]], strict=True)


def units_in_order(count: int, needs: Mapping[int, Collection[int]]) -> list[Unit]:
    """The changes, each after those that it needs; those that need one another as one.

    Args:
        needs: by a change, those without which it cannot be.
    """
    index: dict[int, int] = {}
    low: dict[int, int] = {}
    stack: list[int] = []
    found: list[Unit] = []

    def visit(start: int) -> None:  # Tarjan's strongly connected components, without recursion
        work = [(start, iter(sorted(needs.get(start, ()))))]
        index[start] = low[start] = len(index)
        stack.append(start)
        while work:
            at, rest = work[-1]
            following = next(rest, None)
            if following is None:
                work.pop()
                if work:
                    low[work[-1][0]] = min(low[work[-1][0]], low[at])
                if low[at] == index[at]:
                    members: list[int] = []
                    while not members or members[-1] != at:
                        members.append(stack.pop())
                    found.append(tuple(sorted(members)))
            elif following not in index:
                index[following] = low[following] = len(index)
                stack.append(following)
                work.append((following, iter(sorted(needs.get(following, ())))))
            elif following in stack:
                low[at] = min(low[at], index[following])

    for one in range(count):
        if one not in index:
            visit(one)
    return found


def without(all_of: frozenset[int], some: Collection[int], needs: Mapping[int, Collection[int]]) -> frozenset[int]:
    """Changes less some of them, and less those that need these, at once or through others."""
    gone = set(some)
    while users := {one for one in all_of - gone if gone & set(needs.get(one, ()))}:
        gone |= users
    return all_of - gone


def needed_by(one: int, needs: Mapping[int, Collection[int]]) -> set[int]:
    """All changes that one needs, at once or through others; itself only where that leads back to it."""
    return _with_needs(needs.get(one, ()), needs)


def _with_needs(some: Iterable[int], needs: Mapping[int, Collection[int]]) -> set[int]:
    """Changes with all that they need."""
    met: set[int] = set()
    waiting = list(some)
    while waiting:
        one = waiting.pop()
        if one not in met:
            met.add(one)
            waiting += needs.get(one, ())
    return met


def narrow(
    count: int,
    probe: Probe,
    needs: Mapping[int, Collection[int]] | None = None,
    *,
    jobs: int = 1,
    announce: Callable[[int, int], None] = lambda done, left: None,
) -> Narrowed:
    """Find a minimal set of changes that is bad. All of them together are known to be, and none of them is good.

    Args:
        count: how many changes there are; they are called by their numbers.
        probe: tries some of them. Several may be asked for at once where there are jobs for it.
        needs: by a change, those without which it cannot be: these are tried with it.
        announce: hears how many trials were made, and how many there will be at most, as far as is known.
    """
    search = _Search(count, probe, dict(needs or {}), jobs, announce)
    return search.run()


def narrow_within(
    some: Collection[int],
    probe: Probe,
    needs: Mapping[int, Collection[int]],
    *,
    jobs: int = 1,
    announce: Callable[[int, int], None] = lambda done, left: None,
) -> Narrowed:
    """Narrow within some of the changes; see `narrow`. What they need of the others is left out of account."""
    numbers = sorted(some)
    places = {number: place for place, number in enumerate(numbers)}
    found = narrow(
        len(numbers),
        lambda taken: probe(frozenset(numbers[place] for place in taken)),
        {places[one]: [places[other] for other in needs[one] if other in places] for one in numbers if one in needs},
        jobs=jobs,
        announce=announce,
    )
    outcomes = {frozenset(numbers[place] for place in taken): one for taken, one in found.outcomes.items()}
    return Narrowed(frozenset(numbers[place] for place in found.guilty), found.trials, found.certain, outcomes)


def border(between: Sequence[str], probe: Callable[[str], Outcome]) -> tuple[str | None, str | None]:
    """Halve what stands in an order between something good and something bad. What cannot be told is passed over.

    Returns:
        The last that is good and the first that is bad, of those that could be told; None where that is an end.
    """
    rest = list(between)
    last_good: str | None = None
    first_bad: str | None = None
    while rest:
        middle = len(rest) // 2
        outcome = probe(rest[middle])
        if outcome is Outcome.UNKNOWN:
            del rest[middle]
        elif outcome is Outcome.BAD:
            first_bad, rest = rest[middle], rest[:middle]
        else:
            last_good, rest = rest[middle], rest[middle + 1 :]
    return last_good, first_bad


class _Search(Struct, dict=True):
    count: int
    probe: Probe
    needs: dict[int, Collection[int]]
    jobs: int
    announce: Callable[[int, int], None]
    known: dict[frozenset[int], Outcome] = field(default_factory=dict)
    trials: int = 0

    def run(self) -> Narrowed:
        self.known[frozenset()] = Outcome.GOOD
        self.known[frozenset(range(self.count))] = Outcome.BAD
        candidates = units_in_order(self.count, self.needs)
        required: list[Unit] = []
        while candidates and not (required and self.ask(required) is Outcome.BAD):
            at, candidates = self.last_of_shortest(required, candidates)
            required.append(candidates[at])
            candidates = candidates[:at]
        return self.smallest(required)

    def ask(self, *units: Iterable[Unit]) -> Outcome:
        """The outcome of some units together, with what they need."""
        return self.ask_many([self.closure(one for several in units for one in several)])[0]

    def ask_many(self, sets: Sequence[frozenset[int]]) -> list[Outcome]:
        """Several outcomes, each tried once."""
        new = [one for one in dict.fromkeys(sets) if one not in self.known]
        if len(new) > 1:
            with ThreadPoolExecutor(len(new)) as pool:
                outcomes = list(pool.map(self.probe, new))
        else:
            outcomes = [self.probe(one) for one in new]
        self.known.update(zip(new, outcomes, strict=True))
        self.trials += len(new)
        return [self.known[one] for one in sets]

    def closure(self, units: Iterable[Unit]) -> frozenset[int]:
        """Changes with all that they need."""
        return frozenset(_with_needs((one for unit in units for one in unit), self.needs))

    # ---- the shortest beginning that is bad

    def last_of_shortest(self, required: list[Unit], candidates: list[Unit]) -> tuple[int, list[Unit]]:
        """The place of the last unit of the shortest beginning that is bad, and the units, of which some may have been
        put together, or found to be spared."""
        good, bad = 0, len(candidates)
        dark: list[int] = []  # lengths between that cannot be told
        while bad - good > 1:
            lengths = self._lengths(good, bad, dark)
            if not lengths:
                candidates, bad = self._together(required, candidates, good, bad)
                dark = []
                continue
            self.announce(self.trials, len(candidates[good:bad]).bit_length() * (1 + bool(dark)) + 2)
            sets = [self.closure([*required, *candidates[:length]]) for length in lengths]
            for length, outcome in zip(lengths, self.ask_many(sets), strict=True):
                if outcome is Outcome.BAD:
                    bad = min(bad, length)
                elif outcome is Outcome.GOOD:
                    good = max(good, length)
                else:
                    dark.append(length)
            if good >= bad:  # a good beginning that is longer than a bad one: the shorter one counts
                good = max([0, *(one for one in lengths if one < bad and self._is_good(required, candidates, one))])
            dark = [length for length in dark if good < length < bad]
        return good, candidates

    def _is_good(self, required: list[Unit], candidates: list[Unit], length: int) -> bool:
        return self.known.get(self.closure([*required, *candidates[:length]])) is Outcome.GOOD

    def _lengths(self, good: int, bad: int, dark: list[int]) -> list[int]:
        """Which lengths to try: between what is known, and beside what cannot be told, never within."""
        gaps = [(good, min(dark)), (max(dark), bad)] if dark else [(good, bad)]
        found: list[int] = []
        for low, high in gaps:
            if high - low > 1:
                parts = min(self.jobs, high - low - 1) if not dark else 1
                found += [low + (high - low) * (at + 1) // (parts + 1) for at in range(parts)]
        return list(dict.fromkeys(found))[: max(self.jobs, 1)]

    def _together(self, required: list[Unit], candidates: list[Unit], good: int, bad: int) -> tuple[list[Unit], int]:
        """Nothing between two lengths can be told: the first unit there and the last one move together. Where either
        can be left out, and it is still bad, it is."""
        first, last = candidates[good], candidates[bad - 1]
        for one in (first, last):
            rest = [unit for unit in candidates[:bad] if unit is not one]
            if self.ask(required, rest) is Outcome.BAD and not self.closure([*required, *rest]) & set(one):
                return rest, bad - 1
        both: Unit = tuple(sorted({*first, *last}))
        return [*candidates[:good], both, *candidates[good + 1 : bad - 1]], bad - 1

    # ---- nothing that can be spared

    def smallest(self, required: list[Unit]) -> Narrowed:
        """Leave out what can be left out of what was found."""
        if self.ask(required) is not Outcome.BAD:
            return Narrowed(frozenset(), self.trials, certain=False)
        guilty, before = self.closure(required), frozenset[int]()
        dark: list[int] = []  # without which it cannot be told
        tried: list[frozenset[int]] = []
        while guilty != before:
            before, dark = guilty, []
            # Each once that leaves another rest; what nobody else needs first.
            rests = {without(guilty, [one], self.needs): one for one in sorted(guilty)}
            tried = sorted(rests, key=len, reverse=True)
            for rest in tried[:_MOST_SPARED]:
                guilty = self._spared(guilty, [rests[rest]], dark)
            # What moves together unknown to anybody can only be left out together.
            for pair in list(itertools.combinations(dark, 2))[:_MOST_PAIRS]:
                guilty = self._spared(guilty, pair, [])
        certain = not set(dark) & guilty and len(tried) <= _MOST_SPARED
        return Narrowed(guilty, self.trials, certain=certain, outcomes=self.known)

    def _spared(self, guilty: frozenset[int], some: Collection[int], dark: list[int]) -> frozenset[int]:
        """A bad set without some changes, and those that need them, where it is still bad; else as it is."""
        rest = without(guilty, some, self.needs)
        if not rest or not guilty.issuperset(some):
            return guilty
        outcome = self.ask_many([rest])[0]
        if outcome is Outcome.UNKNOWN:
            dark += some
        return rest if outcome is Outcome.BAD else guilty
