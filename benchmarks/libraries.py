"""The layers below: observing the libraries of a large environment, cold and known, and reading a large lockfile."""

from __future__ import annotations

import statistics
import subprocess
import time
from pathlib import Path

from common import ENVIRONMENT, PROGRAM, say, workshop
from lapidar.core.environment.folder import Environment
from lapidar.core.languages.python import inventory, probe
from lapidar.core.layers import libraries
from lapidar.core.layers.protocol import Subject
from lapidar.core.place import Place
from lapidar.core.records import lockfile
from lapidar.core.records.declaration import Declaration
from lapidar.core.records.layers import LowerLayers
from lapidar.core.records.snapshot import Library, Package
from lapidar.core.system.memory import ElfMemory


def main() -> None:
    with workshop() as folder:
        _observing(folder)
        _reading(folder)


def _observing(folder: Path) -> None:
    answer = probe.ask(ENVIRONMENT / "bin" / "python")
    found = inventory.observe(answer, Place.of_project(folder / "project"), full_runtime=False, skip_outside=True)
    objects = list(found.files())
    program = next(one for one in objects if one.source == found.program)

    def once() -> float:
        began = time.perf_counter()
        memory = ElfMemory(folder, answer.prefix)
        libraries.observe(Subject(Environment(Path(answer.prefix)), program, objects, Declaration(), memory))
        memory.save()
        return time.perf_counter() - began

    cold = once()
    known = statistics.median(once() for _ in range(5))
    say("observing libraries, nothing known", f"{len(objects):,} files", cold, 2, "s")
    say("observing libraries, known", f"{len(objects):,} files", known, 0.3, "s")


def _reading(folder: Path) -> None:
    subprocess.run([PROGRAM, "-q", "capture", str(ENVIRONMENT), "--scope", "whole"], cwd=folder / "project", check=True)
    snapshot = lockfile.read(folder / "project" / "lapidar.lock")
    package, library = snapshot.packages[0], snapshot.libraries[0]
    many: list[Package] = [_renamed(package, f"package-{at:03}") for at in range(300)]
    several = [Library(f"lib{at:03}.so.1", library.sha256, library.bytes, ("runtime/python",)) for at in range(150)]
    lower = LowerLayers(snapshot.library_layer, tuple(several))
    large = lockfile.identified(snapshot.platform, snapshot.runtimes, many, lower=lower)
    path = folder / "large.lock"
    lockfile.write(large, path)
    times = []
    for _ in range(11):
        began = time.perf_counter()
        lockfile.read(path)
        times.append(time.perf_counter() - began)
    size = path.stat().st_size
    say("lockfile of 300 packages, 150 libraries", f"{size / 1000:.0f} kB", 1000 * statistics.median(times), 50, "ms")


def _renamed(package: Package, name: str) -> Package:
    import msgspec

    return msgspec.structs.replace(package, name=name)


if __name__ == "__main__":
    main()
