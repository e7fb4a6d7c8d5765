"""Resolve each of the recorded universes: under 1 s."""

from __future__ import annotations

import sys
import time
from contextlib import suppress
from pathlib import Path

from common import say
from lapidar.core.pinning.solver import Solver, Unsolvable

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
from core.test_universes import Recorded, universes


def main() -> None:
    for at, record in enumerate(universes(), 1):
        universe = Recorded(record)
        solver = Solver(universe, universe.roots)
        began = time.perf_counter()
        with suppress(Unsolvable):
            solver.solve()
        took = time.perf_counter() - began
        figures = f"{took:7.3f} s, {len(record['versions'])} packages, {len(record['needs'])} looked at"
        say(f"pin: recorded universe {at}", figures, took, 1.0, "s")


if __name__ == "__main__":
    main()
