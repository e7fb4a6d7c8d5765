"""Reading the imports of 1,000 files of real source against parsing them with `ast.parse` alone."""

from __future__ import annotations

import ast
import os
import statistics
import time
from collections.abc import Callable

from common import ENVIRONMENT, say, workshop
from lapidar.core.cache.store import Cache
from lapidar.core.languages.python.survey import imports
from lapidar.core.languages.python.survey.flow import survey
from lapidar.core.languages.python.survey.providers import Providers
from lapidar.core.place import Place

FILES = 1000


def main() -> None:
    paths = sorted(path for path in ENVIRONMENT.rglob("*.py") if 2_000 < path.stat().st_size < 40_000)
    codes = []
    for path in paths[:: max(1, len(paths) // FILES)]:
        try:
            code = path.read_text("utf-8")
            ast.parse(code)
        except (SyntaxError, ValueError):
            continue
        codes.append(code)

    def timed(work: Callable[[str], object]) -> float:
        began = time.perf_counter()
        for code in codes:
            work(code)
        return time.perf_counter() - began

    pairs = [(timed(imports.read), timed(ast.parse)) for _ in range(3)]
    own, other = (statistics.median(values) for values in zip(*pairs, strict=True))
    found = statistics.median(ours / theirs for ours, theirs in pairs)
    say(f"survey: {len(codes)} files, imports", f"{own:7.3f} s against {other:7.3f} s", found, 2.0)
    again(codes, other)


def again(codes: list[str], parsing: float) -> None:
    """All of a survey of files that are unchanged since the last one, against parsing them."""
    with workshop() as folder:
        for at, code in enumerate(codes):
            path = folder / "project" / f"module_{at}.py"
            path.write_text(code)
            os.utime(path, (1, 1))
        cache = Cache(folder / "cache", create=True)
        time.sleep(2.1)  # what was changed a moment ago is not trusted to stay
        survey(Place.of_project(folder / "project"), Providers(), "", cache)
        began = time.perf_counter()
        survey(Place.of_project(folder / "project"), Providers(), "", cache)
        taken = time.perf_counter() - began
    say("survey: again, nothing changed", f"{taken:7.3f} s against {parsing:7.3f} s", taken / parsing, 0.2)


if __name__ == "__main__":
    main()
