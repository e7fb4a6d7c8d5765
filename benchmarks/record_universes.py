"""Record universes from a real index, names taken away: of each list of needs, all that its resolution looked at. Run
by hand; writes universes.json.xz, which benchmarks/universes.py and the tests resolve again without a network.

    LAPIDAR_INDEX=https://packages.example/simple python benchmarks/record_universes.py LISTS

LISTS is a file with needs in each line, blanks between them.
"""

from __future__ import annotations

import json
import lzma
import re
import sys
import tempfile
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from lapidar.core.cache.store import Cache
from lapidar.core.declaring import reading
from lapidar.core.errors import Conflict, LapidarError
from lapidar.core.languages.python.pinning.candidates import Candidates
from lapidar.core.languages.python.pinning.session import opened
from lapidar.core.pinning.session import PinOptions, PinRequest
from lapidar.core.pinning.solver import Version, Wish
from lapidar.core.place import Place
from lapidar.core.progress import Silent

TO = Path(__file__).with_name("universes.json.xz")


class _Recording(Candidates):
    """Notes what the resolver looks at."""

    def note(self) -> dict[str, Any]:
        noted: dict[str, Any] = self.__dict__.setdefault("noted", {"versions": {}, "needs": {}})
        return noted

    def versions(self, name: str) -> Sequence[Version]:
        found = super().versions(name)
        self.note()["versions"][name] = [str(version) for version in found]
        return found

    def wishes(self, name: str, version: Version, extra: str) -> Sequence[Wish] | None:
        found = super().wishes(name, version, extra)
        told = None if found is None else [_written(wish) for wish in found]
        self.note()["needs"][f"{name} {version} {extra}"] = told
        return found


def _written(wish: Wish) -> list[Any]:
    return [wish.name, list(wish.extras), "" if wish.range is None else str(wish.range)]


def main() -> None:
    recorded = []
    for line in Path(sys.argv[1]).read_text().splitlines():
        with tempfile.TemporaryDirectory() as folder:
            one = record(Path(folder), line.split())
        recorded.append(without_names(one))
        print(
            len(one["versions"]), "packages,", len(one["needs"]), "looked at,", "an answer" if one["answer"] else "none"
        )
    TO.write_bytes(lzma.compress(json.dumps(recorded, separators=(",", ":"), sort_keys=True).encode()))


def record(folder: Path, needs: list[str]) -> dict[str, Any]:
    (folder / "lapidar.toml").write_text(f"[needs]\npackages = {json.dumps(needs)}\n")
    project, cache = Place.of_project(folder), Cache(folder / "cache", create=True)
    declaration = reading.read(project)
    with opened(PinRequest(project, cache, declaration, None, PinOptions(no_builds=True), Silent())) as pinning:
        decider = pinning.decider
        candidates = _Recording(decider.supply.indexes, decider.target, decider.policy(), decider.supply)
        answer: dict[str, str] | None = None
        try:
            answer = {key: str(version) for key, version in decider.solve(candidates).items()}
        except (Conflict, LapidarError):
            pass
        roots = [_written(wish) for wish in decider.roots()]
    return {"roots": roots, "answer": answer, **candidates.note()}


def without_names(one: dict[str, Any]) -> dict[str, Any]:
    names = {name: f"package-{at:03}" for at, name in enumerate(sorted(one["versions"]))}
    extras: dict[str, str] = {}

    def key(text: str) -> str:
        name, _, extra = text.rstrip("]").partition("[")
        return names[name] + (f"[{extra_of(extra)}]" if extra else "")

    def extra_of(extra: str) -> str:
        return extras.setdefault(extra, f"extra-{len(extras):02}") if extra else ""

    def need(told: list[Any]) -> list[Any]:
        return [names.get(told[0], "package-elsewhere"), [extra_of(extra) for extra in told[1]], told[2]]

    needs = {}
    for text, told in one["needs"].items():
        name, version, extra = re.split(" ", text, maxsplit=2)
        needs[f"{names[name]} {version} {extra_of(extra)}"] = None if told is None else [need(each) for each in told]
    return {
        "roots": [need(told) for told in one["roots"]],
        "answer": {key(name): version for name, version in one["answer"].items()} if one["answer"] else None,
        "versions": {names[name]: versions for name, versions in one["versions"].items()},
        "needs": needs,
    }


if __name__ == "__main__":
    main()
