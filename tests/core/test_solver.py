"""The resolver against brute force: thousands of small made-up universes."""

from __future__ import annotations

import random
import unittest
from collections.abc import Iterator, Sequence

from packaging.specifiers import SpecifierSet
from packaging.version import Version

from lapidar.core.pinning.solver import SAME, Fact, Solver, Unsolvable, Wish
from support import many

Release = tuple[str, Version]
Needs = dict[tuple[str, Version, str], list[Wish] | None]
VERSIONS = [Version(text) for text in ("0.9", "1.0", "1.1.post1", "1!0.5", "2.0rc1", "2.0", "2.0+kiln", "2.1")]


def wish(text: str) -> Wish:
    """``name[extra]>=1``"""
    at = next((at for at, char in enumerate(text) if char in "<>=!~"), len(text))
    name, _, extra = text[:at].partition("[")
    return Wish(name, tuple(extra.rstrip("]").split(",")) if extra else (), SpecifierSet(text[at:]), text)


class Made:
    """A universe in memory, which counts what is asked of it."""

    def __init__(self, versions: dict[str, list[Version]], needs: Needs) -> None:
        self.of = {name: sorted(several, reverse=True) for name, several in versions.items()}
        self.needs = needs
        self.asked: list[tuple[str, Version, str]] = []

    @classmethod
    def of_lines(cls, *lines: str) -> Made:
        """``sherdplot 2.1: numpy<2, glaze[plot]`` or ``sherdplot[svg] 2.1: ...``, a line each."""
        versions: dict[str, list[Version]] = {}
        needs: Needs = {}
        for line in lines:
            head, _, tail = line.partition(":")
            key, text = head.split()
            name, _, extra = key.rstrip("]").partition("[")
            version = Version(text)
            if version not in versions.setdefault(name, []):
                versions[name].append(version)
            needs[(name, version, extra)] = [wish(part.strip()) for part in tail.split(",") if part.strip()]
        return cls(versions, needs)

    def versions(self, name: str) -> Sequence[Version]:
        return self.of.get(name, [])

    def wishes(self, name: str, version: Version, extra: str) -> Sequence[Wish] | None:
        self.asked.append((name, version, extra))
        return self.needs.get((name, version, extra), [])

    def fitting(self, wish: Wish, versions: Sequence[Version]) -> int:
        return sum(2 << at for at, version in enumerate(versions) if self.fits(wish, version))

    def fits(self, wish: Wish, version: Version) -> bool:
        return allows(wish, version)

    def soon(self, wishes: Sequence[Wish]) -> None:
        pass


def allows(wanted: Wish, version: Version) -> bool:
    return wanted.range is None or bool(wanted.range.contains(version, prereleases=True))


def is_met(made: Made, roots: list[Wish], chosen: dict[str, Version]) -> bool:
    """Whether a choice meets all needs: found by walking along them, with no cleverness."""
    waiting, seen = list(roots), set()
    while waiting:
        one = waiting.pop()
        if one.name not in chosen or not allows(one, chosen[one.name]):
            return False
        for extra in ("", *one.extras):
            if (one.name, extra) not in seen:
                seen.add((one.name, extra))
                needs = made.needs.get((one.name, chosen[one.name], extra), [])
                if needs is None:
                    return False
                waiting += needs
    return True  # what is chosen beside that only names an extra that nobody asked for


def reached(made: Made, roots: list[Wish], chosen: dict[str, Version], name: str) -> bool:
    """Whether a choice needs a package: without it the needs are not met."""
    return not is_met(made, roots, {other: version for other, version in chosen.items() if other != name})


def all_choices(made: Made, roots: list[Wish]) -> Iterator[dict[str, Version]]:
    """Every choice of versions that leaves out nothing which a need of the choice, whatever its range, names."""

    def grow(chosen: dict[str, Version], waiting: list[str]) -> Iterator[dict[str, Version]]:
        if not waiting:
            yield chosen
            return
        name, *rest = waiting
        for version in made.of.get(name, []):
            named = [one.name for extra in ("", "fine") for one in made.needs.get((name, version, extra)) or []]
            known = {*chosen, name, *rest}
            yield from grow({**chosen, name: version}, [*rest, *sorted(set(named) - known)])

    yield from grow({}, sorted({root.name for root in roots}))


def random_universe(source: random.Random) -> tuple[Made, list[Wish]]:
    names = ["clay", "glaze", "kiln", "sherd", "slip"][: source.randint(2, 5)]
    versions = {name: sorted(source.sample(VERSIONS, source.randint(1, 4))) for name in names}

    def random_wish() -> Wish:
        name = source.choice(names)
        extra = source.choice(["", "", "[fine]"])
        ranges = ["", "", *(f"{sign}{source.choice(VERSIONS).public}" for sign in (">=", "<", "==", "!=", "<="))]
        return wish(f"{name}{extra}{source.choice(ranges)}")

    needs: Needs = {}
    for name in names:
        for version in versions[name]:
            for extra in ("", "fine"):
                wishes = [random_wish() for _ in range(source.choice([0, 0, 1, 1, 2]))]
                # Once in a while what a version needs cannot be known.
                needs[(name, version, extra)] = None if source.random() < 0.04 else wishes
    return Made(versions, needs), [random_wish() for _ in range(source.randint(1, 3))]


class AgainstBruteForce(unittest.TestCase):
    UNIVERSES = many(4000, 1000)

    def test_the_same_answers(self) -> None:
        solved = 0
        for seed in range(self.UNIVERSES):
            made, roots = random_universe(random.Random(seed))
            with self.subTest(seed=seed):
                possible = next((choice for choice in all_choices(made, roots) if is_met(made, roots, choice)), None)
                try:
                    answer = Solver(made, roots).solve()
                except Unsolvable:
                    self.assertIsNone(possible)
                    continue
                solved += 1
                chosen = {key: version for key, version in answer.items() if "[" not in key}
                self.assertTrue(is_met(made, roots, chosen), (chosen, possible))
                self.assertTrue(all(reached(made, roots, chosen, name) for name in chosen), chosen)
                self.not_improvable(made, roots, chosen)
                self.assertEqual(Solver(made, roots).solve(), answer)
        self.assertGreater(solved, self.UNIVERSES // 4)
        self.assertLess(solved, self.UNIVERSES * 3 // 4)

    def not_improvable(self, made: Made, roots: list[Wish], chosen: dict[str, Version]) -> None:
        for name, version in chosen.items():
            for newer in made.of[name][: made.of[name].index(version)]:
                self.assertFalse(is_met(made, roots, {**chosen, name: newer}), (name, newer, chosen))

    def test_the_facts_of_a_refusal_are_enough(self) -> None:
        """What is given as the reason must be unsolvable by itself: all other needs taken away."""
        refused = 0
        for seed in range(self.UNIVERSES, self.UNIVERSES + 1500):
            made, roots = random_universe(random.Random(seed))
            with self.subTest(seed=seed):
                try:
                    Solver(made, roots).solve()
                    continue
                except Unsolvable as error:
                    facts = error.facts
                refused += 1
                fewer, fewer_roots = only(made, facts)
                self.assertFalse(any(is_met(fewer, fewer_roots, choice) for choice in all_choices(fewer, fewer_roots)))
        self.assertGreater(refused, 300)


def only(made: Made, facts: list[Fact]) -> tuple[Made, list[Wish]]:
    """The universe with nothing but the needs that some facts tell of."""
    needs: Needs = {}
    for fact in facts:
        if not fact.package or fact.version is None:
            continue
        name, _, extra = fact.package.rstrip("]").partition("[")
        key = (name, fact.version, extra)
        if fact.wish is None:
            needs[key] = None
        elif fact.wish.text != SAME:
            wishes = needs.setdefault(key, [])
            if wishes is not None:
                wishes.append(fact.wish)
    roots = [fact.wish for fact in facts if not fact.package and fact.wish]
    return Made(made.of, needs), roots


class Corners(unittest.TestCase):
    def solve(self, made: Made, *roots: str, limits: Sequence[str] = ()) -> dict[str, str]:
        answer = Solver(made, [wish(root) for root in roots], [wish(limit) for limit in limits]).solve()
        return {key: str(version) for key, version in answer.items()}

    def test_the_newest_that_fits(self) -> None:
        made = Made.of_lines("plot 1.9: numpy<3", "plot 2.1: numpy<2", "numpy 1.26:", "numpy 2.1:")
        self.assertEqual(self.solve(made, "plot"), {"numpy": "1.26", "plot": "2.1"})
        self.assertEqual(self.solve(made, "plot", "numpy>=2"), {"numpy": "2.1", "plot": "1.9"})

    def test_a_cycle(self) -> None:
        made = Made.of_lines("a 1.0: b", "a 2.0: b>=2", "b 1.0: a", "b 2.0: a<2")
        self.assertEqual(self.solve(made, "a"), {"a": "1.0", "b": "2.0"})

    def test_an_extra_changes_the_set(self) -> None:
        made = Made.of_lines("plot 1.0:", "plot[svg] 1.0: draw>=1", "plot 2.0:", "plot[svg] 2.0: draw>=9", "draw 1.0:")
        self.assertEqual(self.solve(made, "plot"), {"plot": "2.0"})
        self.assertEqual(self.solve(made, "plot[svg]"), {"draw": "1.0", "plot": "1.0", "plot[svg]": "1.0"})

    def test_an_extra_of_itself(self) -> None:
        made = Made.of_lines("plot 1.0:", "plot[all] 1.0: plot[svg]", "plot[svg] 1.0: draw", "draw 1.0:")
        self.assertEqual(set(self.solve(made, "plot[all]")), {"plot", "plot[all]", "plot[svg]", "draw"})

    def test_arbitrary_equality_and_epochs(self) -> None:
        made = Made.of_lines("a 1.0:", "a 1.0.0:", "a 2.0:", "a 1!0.1:")
        self.assertEqual(self.solve(made, "a==1.0"), {"a": "1.0"})
        self.assertEqual(self.solve(made, "a===1.0"), {"a": "1.0"})
        self.assertEqual(self.solve(made, "a"), {"a": "1!0.1"})
        self.assertEqual(self.solve(made, "a<9"), {"a": "2.0"})

    def test_limits_ask_for_nothing(self) -> None:
        made = Made.of_lines("a 1.0:", "a 2.0: b", "b 1.0:", "b 2.0:")
        self.assertEqual(self.solve(made, "a", limits=["b<2", "a<2"]), {"a": "1.0"})
        self.assertEqual(self.solve(made, "a", limits=["b<2"]), {"a": "2.0", "b": "1.0"})

    def test_a_large_detour_is_learned_from(self) -> None:
        """Every version of one package is in the way of another: each is looked at once, not once per combination."""
        lines = [f"a {at}.0: c<{at % 3}" for at in range(30)]
        lines += [f"b {at}.0: c>=9" for at in range(30)] + ["c 0.5:", "c 1.5:", "b 99.0: d", "d 1.0: c>=7", "c 7.0:"]
        made = Made.of_lines(*lines)
        with self.assertRaises(Unsolvable):
            self.solve(made, "a", "b")
        self.assertLessEqual(len(made.asked), len(lines))


if __name__ == "__main__":
    unittest.main()
