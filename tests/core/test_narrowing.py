"""The search for the guilty changes, against made-up universes: thousands of sets of changes with one, two or three
guilty ones, alone or only together, changes that need others, and hybrids that fail."""

from __future__ import annotations

import itertools
import math
import random
import unittest

from lapidar.core.changes.narrowing import Narrowed, Outcome, border, narrow, units_in_order
from support import many


class Universe:
    """Changes, some of which are guilty.

    Attributes:
        guilty: the changes that are.
        alone: whether one of them is enough; otherwise it takes all of them.
        needs: by a change, those without which it cannot be.
        pairs: changes that work only together, which nobody knows.
        broken: which hybrids fail for no reason that anyone could know, by chance.
    """

    def __init__(self, seed: int) -> None:
        source = random.Random(seed)
        self.count = source.randint(2, 80)
        self.guilty = frozenset(source.sample(range(self.count), min(source.choice((1, 1, 2, 3)), self.count)))
        self.alone = source.random() < 0.3
        self.needs: dict[int, set[int]] = {}
        for _ in range(source.choice((0, 0, self.count // 6))):
            one, other = source.sample(range(self.count), 2)
            self.needs.setdefault(one, set()).add(other)
        self.pairs = []
        if source.random() < 0.25 and self.count > 4:
            self.pairs = [tuple(source.sample(range(self.count), 2))]
        self.broken = source.choice((0.0, 0.0, 0.0, 0.04))
        self.seed = seed
        self.asked: list[frozenset[int]] = []

    def probe(self, some: frozenset[int]) -> Outcome:
        assert some not in self.asked, "tried twice"
        assert all(needed <= some for one, needed in self.needs.items() if one in some), "cannot be"
        self.asked.append(some)
        return self.outcome(some)

    def outcome(self, some: frozenset[int]) -> Outcome:
        if some and len(some) < self.count:
            if any(len({one, other} & some) == 1 for one, other in self.pairs):
                return Outcome.UNKNOWN
            if self.broken and random.Random(hash((self.seed, *sorted(some)))).random() < self.broken:
                return Outcome.UNKNOWN
        hit = self.guilty & some
        return Outcome.BAD if (hit if self.alone else hit == self.guilty) else Outcome.GOOD

    def closed(self, some: frozenset[int]) -> frozenset[int]:
        met = set(some)
        while more := {other for one in met for other in self.needs.get(one, ())} - met:
            met |= more
        return frozenset(met)


class AgainstUniverses(unittest.TestCase):
    UNIVERSES = many(4000, 1000)

    def test_a_minimal_set_every_time(self) -> None:
        most, with_trouble = 0.0, 0
        for seed in range(self.UNIVERSES):
            universe = Universe(seed)
            with self.subTest(seed=seed):
                found = narrow(universe.count, universe.probe, universe.needs)
                self.right(universe, found)
                guilty = 1 if universe.alone else len(universe.guilty)
                allowed = 2 * guilty * math.log2(universe.count) + 10
                if universe.broken or universe.pairs:
                    with_trouble += 1
                    self.assertLessEqual(found.trials, 2 * allowed, "even where hybrids fail")
                else:
                    self.assertLessEqual(found.trials, allowed)
                    most = max(most, found.trials / allowed)
        self.assertGreater(with_trouble, self.UNIVERSES // 5)
        self.assertGreater(most, 0.3, "the bound means something")

    def right(self, universe: Universe, found: Narrowed) -> None:
        self.assertTrue(found.guilty, "nothing was found")
        self.assertIs(universe.outcome(found.guilty), Outcome.BAD, found)
        self.assertTrue(universe.closed(found.guilty) == found.guilty)
        for size in range(1, min(len(found.guilty), 4)):
            for some in itertools.combinations(sorted(found.guilty), size):
                smaller = frozenset(some)
                if universe.closed(smaller) == smaller and len(found.guilty) <= 8:
                    self.assertIsNot(universe.outcome(smaller), Outcome.BAD, f"{smaller} would do: {found}")

    def test_several_at_once(self) -> None:
        for seed in range(300):
            universe = Universe(seed)
            with self.subTest(seed=seed):
                self.right(universe, narrow(universe.count, universe.probe, universe.needs, jobs=4))

    def test_the_border_between_versions(self) -> None:
        for seed in range(500):
            with self.subTest(seed=seed):
                self.border(random.Random(seed))

    def border(self, source: random.Random) -> None:
        versions = [f"1.{number}" for number in range(source.randint(0, 40))]
        first_bad = source.randint(0, len(versions))
        dark = {one for one in versions if source.random() < source.choice((0, 0.3))}
        tried: list[str] = []

        def probe(version: str) -> Outcome:
            tried.append(version)
            if version in dark:
                return Outcome.UNKNOWN
            return Outcome.BAD if versions.index(version) >= first_bad else Outcome.GOOD

        told = [one for one in versions if one not in dark]
        good = [one for one in told if versions.index(one) < first_bad]
        bad = [one for one in told if versions.index(one) >= first_bad]
        self.assertEqual(border(versions, probe), (good[-1] if good else None, bad[0] if bad else None))
        self.assertEqual(len(tried), len(set(tried)))
        self.assertLessEqual(len(tried), len(versions).bit_length() + len(dark))

    def test_the_order_of_needs(self) -> None:
        self.assertEqual(units_in_order(5, {0: [3], 3: [1], 1: [3], 4: [0]}), [(1, 3), (0,), (2,), (4,)])

    def test_what_cannot_be_told_is_no_answer(self) -> None:
        def nothing(some: frozenset[int]) -> Outcome:
            return Outcome.UNKNOWN

        found = narrow(6, nothing)
        self.assertEqual((found.guilty, found.certain), (frozenset(range(6)), False))


if __name__ == "__main__":
    unittest.main()
