"""The resolver with R's versions, ranges and fields against brute force: thousands of small made-up repositories."""

from __future__ import annotations

import itertools
import random
import unittest
from collections.abc import Iterator
from typing import Any

from lapidar.core.languages.r import requirements
from lapidar.core.languages.r.description import Description
from lapidar.core.languages.r.index.repositories import Offer
from lapidar.core.languages.r.pinning.candidates import Candidates, Policy, RVersion, wish_of
from lapidar.core.pinning.solver import Solver, Unsolvable
from support import many

RUNTIME = "4.2.2"
VERSIONS = ["0.9", "1.0", "1.0-1", "1.0.2", "1.10", "1.9", "2.0", "10.1-3"]
NAMES = ["clay", "glaze", "kiln", "sherd", "slip"]
Made = dict[str, dict[str, dict[str, str]]]


class InMemory:
    """Repositories with nothing behind them."""

    indexes = (None,)

    def __init__(self, made: Made) -> None:
        self.made = made

    def offers(self, name: str) -> list[Offer]:
        found = self.made.get(name, {})
        return [Offer(name, version, "", "", "", Description(fields)) for version, fields in found.items()]

    def description_of(self, offer: Offer) -> Description:
        assert offer.description
        return offer.description

    def names(self) -> list[str]:
        return sorted(self.made)


def random_field(source: random.Random, kind: str, names: list[str]) -> str:
    parts = []
    for _ in range(source.choice([0, 0, 1, 1, 2])):
        name = source.choice([*names, "stats", *(["R"] if kind == "Depends" else [])])
        version = source.choice(["3.0", "4.0", "9.0"]) if name in ("stats", "R") else source.choice(VERSIONS)
        sign = source.choice([">=", ">=", "<", "==", "!=", "<=", ">"]) if name != "R" else ">="
        parts.append(name if source.random() < 0.3 else f"{name} ({sign} {version})")
    return ", ".join(parts)


def random_repository(source: random.Random) -> tuple[Made, list[str]]:
    names = NAMES[: source.randint(2, 5)]
    made: Made = {}
    for name in names:
        for version in source.sample(VERSIONS, source.randint(1, 4)):
            fields = {kind: random_field(source, kind, names) for kind in ("Depends", "Imports", "LinkingTo")}
            made.setdefault(name, {})[version] = {"Package": name, "Version": version, **fields}
    roots = []
    for _ in range(source.randint(1, 3)):
        name = source.choice(names)
        sign = source.choice([">=", "<", "==", "!="])
        roots.append(name if source.random() < 0.5 else f"{name} ({sign} {source.choice(VERSIONS)})")
    return made, roots


def numbers(version: str) -> list[int]:
    return [int(part) for part in version.replace("-", ".").split(".")]


def holds(text: str, versions: dict[str, str]) -> bool:
    """Whether a requirement is met, by its text alone."""
    name, _, rest = text.strip().rstrip(")").partition(" (")
    have = versions.get(name, RUNTIME if name in ("R", "stats") else None)
    if have is None:
        return False
    if not rest:
        return True
    sign, bound = rest.split()
    one, other = numbers(have), numbers(bound)
    return {">=": one >= other, "<=": one <= other, ">": one > other, "<": one < other,
            "==": one == other, "!=": one != other}[sign]  # fmt: skip


def is_met(made: Made, roots: list[str], chosen: dict[str, str]) -> bool:
    wanted = list(roots)
    for name, version in chosen.items():
        for kind in ("Depends", "Imports", "LinkingTo"):
            wanted += [part for part in made[name][version][kind].split(", ") if part]
    return all(holds(text, chosen) for text in wanted)


def every_choice(made: Made) -> Iterator[dict[str, str]]:
    for several in itertools.product(*([None, *made[name]] for name in made)):
        yield {name: version for name, version in zip(made, several, strict=True) if version is not None}


class AgainstBruteForce(unittest.TestCase):
    UNIVERSES = many(1500, 400)

    def test_the_same_answers(self) -> None:
        solved = refused = 0
        for seed in range(self.UNIVERSES):
            made, roots = random_repository(random.Random(seed))
            with self.subTest(seed=seed):
                possible = next((one for one in every_choice(made) if is_met(made, roots, one)), None)
                market: Any = Candidates(InMemory(made), RUNTIME, Policy())  # type: ignore[arg-type]
                try:
                    answer = Solver(market, [wish_of(requirements.parse(root)) for root in roots]).solve()
                except Unsolvable:
                    refused += 1
                    self.assertIsNone(possible)
                    continue
                solved += 1
                chosen = {name: str(version) for name, version in answer.items()}
                self.assertTrue(is_met(made, roots, chosen), chosen)
                for name in chosen:
                    fewer = {other: version for other, version in chosen.items() if other != name}
                    self.assertFalse(is_met(made, roots, fewer), f"{name} is needed by nobody")
                    for newer in made[name]:
                        if RVersion(newer) > RVersion(chosen[name]):
                            self.assertFalse(is_met(made, roots, {**chosen, name: newer}), "a newer one would do")
        self.assertGreater(solved, self.UNIVERSES // 5)
        self.assertGreater(refused, self.UNIVERSES // 10)


if __name__ == "__main__":
    unittest.main()
