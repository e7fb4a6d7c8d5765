"""Recorded universes of real indexes, names taken away: each resolves to the answer that was recorded, or to none."""

from __future__ import annotations

import json
import lzma
import unittest
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st
from packaging.specifiers import SpecifierSet
from packaging.version import Version

from lapidar.core.languages.python.pinning.ranges import VersionBits
from lapidar.core.pinning.solver import Solver, Unsolvable, Wish
from support import many

RECORDED = Path(__file__).parents[2] / "benchmarks" / "universes.json.xz"


class Recorded:
    """A universe as it was recorded; see `lapidar.core.pinning.solver.Universe`."""

    def __init__(self, record: dict[str, Any]) -> None:
        self.record = record
        self.ranges: dict[str, SpecifierSet] = {}
        self.unseen: list[str] = []
        self.bits: dict[str, VersionBits] = {}
        self._versions = {name: [Version(text) for text in texts] for name, texts in record["versions"].items()}
        self._texts = {
            name: dict(zip(self._versions[name], texts, strict=True)) for name, texts in record["versions"].items()
        }

    @property
    def roots(self) -> list[Wish]:
        return [self.wish(told) for told in self.record["roots"]]

    def wish(self, told: Sequence[Any]) -> Wish:
        name, extras, text = told
        return Wish(name, tuple(extras), self.range(text) if text else None, f"{name}{text}")

    def range(self, text: str) -> SpecifierSet:
        if text not in self.ranges:
            self.ranges[text] = SpecifierSet(text)
        return self.ranges[text]

    def versions(self, name: str) -> Sequence[Version]:
        if name not in self._versions:
            self.unseen.append(name)
        return self._versions.get(name, [])

    def fitting(self, wish: Wish, versions: Sequence[Version]) -> int:
        if wish.name not in self.bits:
            self.bits[wish.name] = VersionBits(versions)
        return self.bits[wish.name].allowed(wish.range)

    def wishes(self, name: str, version: Version, extra: str) -> Sequence[Wish] | None:
        key = f"{name} {self._texts[name][version]} {extra}"
        if key not in self.record["needs"]:
            self.unseen.append(key)
        told = self.record["needs"].get(key)
        return None if told is None else [self.wish(one) for one in told]

    def soon(self, wishes: Sequence[Wish]) -> None:
        """Nothing is asked for ahead."""


def universes() -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = json.loads(lzma.decompress(RECORDED.read_bytes()))
    return found


class Ranges(unittest.TestCase):
    """Bits at once, and one by one."""

    VERSIONS = st.from_regex(
        r"(1!)?[0-3](\.[0-3]){0,3}((a|b|rc)[0-2])?(\.post[0-2])?(\.dev[0-2])?(\+[a-c](\.[0-2])?)?", fullmatch=True
    )
    BOUNDS = st.from_regex(
        r"(==|!=)[0-3](\.[0-3]){0,2}\.\*|~=[0-3](\.[0-3]){1,2}|"
        r"(<|<=|>|>=|==|!=|===)[0-3](\.[0-3]){0,3}((a|rc)[0-2])?(\.post[0-2])?(\.dev[0-2])?",
        fullmatch=True,
    )

    @settings(max_examples=many(500, 120))
    @given(st.lists(VERSIONS, max_size=25, unique_by=Version), st.lists(BOUNDS, max_size=3))
    def test_both_allow_the_same(self, texts: list[str], bounds: list[str]) -> None:
        versions, ranges = [Version(text) for text in texts], SpecifierSet(",".join(bounds))
        one_by_one = sum(2 << at for at, one in enumerate(versions) if ranges.contains(one, prereleases=True))
        self.assertEqual(VersionBits(versions).allowed(ranges), one_by_one)


class Universes(unittest.TestCase):
    def test_each_gives_what_was_recorded(self) -> None:
        records = universes()
        self.assertGreaterEqual(len(records), 20)
        self.assertTrue(any(record["answer"] is None for record in records), "none that is impossible")
        for at, record in list(enumerate(records))[:: many(1, 4)]:
            with self.subTest(at):
                universe = Recorded(record)
                try:
                    answer = {key: str(one) for key, one in Solver(universe, universe.roots).solve().items()}
                except Unsolvable:
                    answer = None
                self.assertEqual(answer, record["answer"])
                self.assertEqual(universe.unseen, [], "the resolver looks at something else than when it was recorded")
                if answer:
                    self.holds(universe, answer)

    def holds(self, universe: Recorded, answer: dict[str, str]) -> None:
        """The answer is one: every need of every version in it is met."""
        for key, text in answer.items():
            name, _, extra = key.rstrip("]").partition("[")
            for wish in universe.wishes(name, Version(text), extra) or ():
                self.assertIn(wish.name, answer)
                if wish.range is not None:
                    self.assertTrue(wish.range.contains(Version(answer[wish.name]), prereleases=True), (key, wish))


if __name__ == "__main__":
    unittest.main()
