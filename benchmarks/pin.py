"""Resolving a recorded universe of some 150 packages against the stand-in index, and stowing a wheel.

Resolving: warm under 1 s, no worse than in step with the number of packages, at most 1.3 requests for each page and
each metadata that the resolver wanted. Stowing: at most 1.5 x `unzip -q` and `sha256sum`.
"""

from __future__ import annotations

import json
import os
import statistics
import subprocess
import sys
import time
from pathlib import Path

from common import PROGRAM, Timed, drop, ratio, say, seconds, workshop
from lapidar.core.cache.store import Cache
from lapidar.core.declaring import reading
from lapidar.core.languages.python.pinning.session import opened
from lapidar.core.pinning.session import PinOptions, PinRequest
from lapidar.core.pinning.solver import Solver
from lapidar.core.place import Place
from lapidar.core.progress import Silent
from lapidar.core.records import lockfile
from lapidar.standin.index import StandInIndex
from lapidar.standin.packages import write_wheel

UNIVERSE = json.loads(Path(__file__).with_name("universe.json").read_text())


def write(folder: Path, copies: int) -> list[str]:
    """The wheels of the universe, as many times as asked, under names of their own; what is asked for."""
    folder.mkdir()
    for copy in range(copies):
        for name, versions in UNIVERSE["packages"].items():
            for version, needs in versions.items():
                requires = [need.replace("package-", f"package-{copy}-") for need in needs]
                write_wheel(folder, name.replace("package-", f"package-{copy}-"), version, requires=requires)
    return [name.replace("package-", f"package-{copy}-") for copy in range(copies) for name in UNIVERSE["asked"]]


def resolved(folder: Path, copies: int) -> tuple[float, float]:
    """The time of a whole warm `pin`, and of the resolution alone, in seconds."""
    project = folder / f"project-{copies}"
    project.mkdir()
    needs = write(folder / f"index-{copies}", copies)
    (project / "lapidar.toml").write_text(f"[needs]\npackages = {json.dumps(needs)}\n")
    with StandInIndex(folder / f"index-{copies}") as index:
        os.environ["LAPIDAR_INDEX"] = index.address
        command = Timed([PROGRAM, "pin", "--dry-run", "--renew", "-q", "--runtime", sys.executable])
        subprocess.run(
            [PROGRAM, "pin", "-q", "--runtime", sys.executable], cwd=project, check=True, stdout=subprocess.DEVNULL
        )
        index.requests.clear()
        requests_of_cold_run(folder, project, index, len(needs))
        seconds(command, project)
        whole = statistics.median(seconds(command, project) for _ in range(3))
        return whole, statistics.median(alone(project) for _ in range(3))


def requests_of_cold_run(folder: Path, project: Path, index: StandInIndex, needs: int) -> None:
    cache = Cache(folder / f"cold-{needs}", create=True)
    declaration = reading.read(Place.of_project(project))
    previous = lockfile.read(project / "lapidar.lock")
    renewing = PinOptions(renew_all=True)
    with opened(PinRequest(Place.of_project(project), cache, declaration, previous, renewing, Silent())) as pinning:
        candidates = pinning.decider.candidates()
        answer = Solver(candidates, pinning.decider.roots()).solve()
        sent = pinning.indexes.client.requests
    figures = f"{sent} for {len(answer)} packages"
    say("pin: requests for each page and metadata", figures, sent / candidates.looked_at, 1.3)


def alone(project: Path) -> float:
    cache = Cache(Path(os.environ["LAPIDAR_CACHE"]))
    previous = lockfile.read(project / "lapidar.lock")
    began = time.perf_counter()
    declaration, renewing = reading.read(Place.of_project(project)), PinOptions(renew_all=True)
    with opened(PinRequest(Place.of_project(project), cache, declaration, previous, renewing, Silent())) as pinning:
        pinning.decider.solve(pinning.decider.candidates())
        return time.perf_counter() - began


def resolving() -> None:
    with workshop() as folder:
        once, once_alone = resolved(folder, 1)
        twice, twice_alone = resolved(folder, 2)
    count = len(UNIVERSE["packages"])
    say(f"pin: {count} packages, warm, whole command", f"{once:7.3f} s", once, 1.0, "s")
    say(f"pin: {count} packages, warm, resolving alone", f"{once_alone:7.3f} s", once_alone, 1.0, "s")
    say("pin: twice the packages, resolving alone", f"{twice_alone:7.3f} s", twice_alone / once_alone, 2.5)
    say("pin: twice the packages, whole command", f"{twice:7.3f} s", twice / once, 2.5)


def stowing() -> None:
    """One wheel of 60 MB and 1,200 files."""
    with workshop() as folder:
        files = {f"bulk/part{at}.bin": (os.urandom(25_000) + b"x" * 25_000) for at in range(1200)}
        wheel = write_wheel(folder, "bulk", files=files)
        script = (
            "import sys; from pathlib import Path; from lapidar.core.cache.store import Cache\n"
            "from lapidar.core.cache.stowing import stow; from lapidar.core.progress import Silent\n"
            "from lapidar.core.languages.python.standards import wheel\n"
            "cache = Cache(Path(sys.argv[2]), create=True)\n"
            "with wheel.opened(Path(sys.argv[1])) as content, cache.in_use():\n"
            "    stow(cache, {'bulk': content.drafts()}, None, Silent())\n"
        )
        cache, unpacked = folder / "cache", folder / "unpacked"
        ours = Timed([sys.executable, "-c", script, wheel, cache], drop(cache))
        shell = 'unzip -q "$1" -d "$2" && find "$2" -type f -exec sha256sum {} + >/dev/null'
        ratio("pin: stowing a wheel", ours, Timed(["sh", "-c", shell, "sh", wheel, unpacked], drop(unpacked)), 1.5)


if __name__ == "__main__":
    resolving()
    stowing()
