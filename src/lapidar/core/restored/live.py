"""The memory-map test: a restored interpreter loads everything it has, and its memory map says which files it uses.

Nothing but the kernel's own word is taken: a file that is mapped from outside the environment is not the snapshot's.
"""

from __future__ import annotations

import os
import re
import subprocess
import tempfile
from collections.abc import Iterator, Mapping, Sequence

import msgspec
from msgspec import Struct

from lapidar.core import decoding, languages, progress
from lapidar.core.cache.store import Cache
from lapidar.core.environment.folder import Environment
from lapidar.core.errors import EnvironmentUnusable
from lapidar.core.languages.protocol import LoadTest
from lapidar.core.place import Place
from lapidar.core.records import words
from lapidar.core.records.findings import Finding, Problem
from lapidar.core.records.owner import Layer, PackageName
from lapidar.core.records.snapshot import Snapshot
from lapidar.core.restored import running

__all__ = ["Live", "look"]

_SECONDS = 600
_MOST_TRIED_AGAIN = 25
_LACKS_LIBRARY = re.compile(r"shared object|GLIBC")  # the loader tells of it in words alone
_NO_FILE = re.compile(r"^/(dev/zero|dev/shm/sem\.|memfd:|SYSV|anon_hugepage|\[)| \(deleted\)$")


class NotLoaded(Struct, frozen=True):
    """A module or a package of a language that cannot be loaded, and the error."""

    language: str
    name: str
    why: str = ""


class Live(Struct, frozen=True):
    """What the running environment was seen to use.

    Attributes:
        modules: how many were asked to be imported.
        failed: those that could not be, each with the error's own words.
        crashed: modules at whose import the interpreter ended.
        mapped: how many files were mapped.
        outside: the files among them that lie outside the environment.
        unusable: packages that cannot be imported: what one imports of it failed, or all of it did.
    """

    modules: int
    failed: tuple[NotLoaded, ...]
    crashed: tuple[NotLoaded, ...]
    mapped: int
    outside: tuple[str, ...]
    unusable: tuple[NotLoaded, ...] = ()

    def findings(self, private: bool, snapshot: Snapshot) -> Iterator[Finding]:
        """What of it is no good.

        Args:
            snapshot: tells who asked for a package that cannot be imported.
            private: whether the environment is to run with libraries of its own.
        """
        if private and self.outside:
            yield Finding(Layer.LIBRARIES, Problem.MAPPED_OUTSIDE, paths=self.outside)
        for one in self.failed:
            if _LACKS_LIBRARY.search(one.why):
                yield _finding(Layer.LIBRARIES, Problem.LIBRARY_MISSING, one, one.why)
        for one in self.unusable:
            if not _LACKS_LIBRARY.search(one.why):
                asked = _asked_by(snapshot, PackageName(one.language, one.name))
                yield _finding(Layer.PACKAGES, Problem.NOT_IMPORTABLE, one, one.why, asked)
        for one in self.crashed:
            yield _finding(Layer.PACKAGES, Problem.CRASHED, one)


def _finding(layer: Layer, problem: Problem, what: NotLoaded, *details: str) -> Finding:
    return Finding(layer, problem, name=what.name, details=details, language=what.language)


def look(place: Place, cache: Cache, snapshot: Snapshot, environment: Environment, reporter: progress.Progress) -> Live:
    """Run the restored interpreters, load everything that the packages and the runtimes have, and read the memory maps.

    Raises:
        EnvironmentUnusable: one does not run.
    """
    # As for a run, but that no window is opened.
    prepared = running.prepare(place, environment, os.environ, env_file=False)
    variables = {**prepared.variables, "MPLBACKEND": "Agg", "QT_QPA_PLATFORM": "offscreen"}
    found = []
    for name in snapshot.languages:
        test = languages.of(name).checking.load_test(snapshot, cache, environment.folder)
        if test is not None:
            found.append(_look(name, place, test, environment, variables, reporter))
    return Live(
        modules=sum(one.modules for one in found),
        failed=tuple(module for one in found for module in one.failed),
        crashed=tuple(module for one in found for module in one.crashed),
        mapped=sum(one.mapped for one in found),
        outside=tuple(sorted({path for one in found for path in one.outside})),
        unusable=tuple(one for several in found for one in several.unusable),
    )


def _unusable(test: LoadTest, failed: Mapping[str, str]) -> Iterator[tuple[str, str]]:
    """Packages of which nothing, or not what they are called by, can be imported, and why."""
    for package, modules in test.of_packages.items():
        named = [name for name in modules if name.lower() == package.replace("-", "_").lower()]
        if modules and (all(name in failed for name in modules) or any(name in failed for name in named)):
            yield package, failed[next(name for name in (*named, *modules) if name in failed)]


def _asked_by(snapshot: Snapshot, asked_for: PackageName) -> str:
    """Which version of a package is there, and who asked for it."""
    package = next((one for one in snapshot.packages if one.key == asked_for), None)
    if package is None:
        return asked_for.name
    own = [one for one in snapshot.packages if one.language == package.language]
    by = [f"{one.name} {one.version}" for one in own if package.name in one.requires]
    asked = (["you"] if package.asked_for else []) + by
    need = "needs" if asked[:1] != ["you"] and len(asked) == 1 else "need"
    return f"{package.name} {package.version}" + (f", which {words.some(asked, 3)} {need}" if asked else "")


def _look(
    language: str,
    place: Place,
    test: LoadTest,
    environment: Environment,
    variables: dict[str, str],
    reporter: progress.Progress,
) -> Live:
    if not os.path.exists(test.command[0]):
        raise EnvironmentUnusable(
            f"There is no interpreter in {environment.folder}", remedy="Run `lapidar restore` first."
        )
    failed: dict[str, str] = {}
    crashed: list[str] = []
    mapped: set[str] = set()
    waiting = list(test.names)
    with progress.task(reporter, "Importing", len(waiting), "modules"):
        while True:
            said = _run(test, environment, variables, waiting)
            reporter.advance(len(said.seen))
            if said.mapped is not None:
                failed |= said.failed
                mapped |= set(said.mapped)
                break
            if not said.seen:
                raise EnvironmentUnusable("The restored interpreter does not run on this machine", why=said.error)
            # What was loaded so far is loaded again without the one at which it ended.
            crashed.append(said.seen[-1])
            waiting = [name for name in test.names if name not in crashed]
    # Some modules cannot stand others before them; what fails is tried once more by itself.
    for name in list(failed)[:_MOST_TRIED_AGAIN]:
        again = _run(test, environment, variables, [name])
        if again.mapped is not None and not again.failed:
            del failed[name]
            mapped |= set(again.mapped)
    own = (os.path.realpath(environment.folder) + "/", said.prefix + "/", str(place.root) + "/")
    real = [path for path in mapped if not _NO_FILE.search(path)]
    outside = tuple(sorted(path for path in real if not path.startswith(own)))
    return Live(
        len(test.names),
        tuple(NotLoaded(language, *one) for one in failed.items()),
        tuple(NotLoaded(language, name) for name in crashed),
        len(real),
        outside,
        tuple(NotLoaded(language, *one) for one in _unusable(test, failed)),
    )


class _Said(msgspec.Struct):
    """What the interpreter said until it ended."""

    prefix: str
    seen: list[str] = []
    failed: dict[str, str] = {}
    mapped: list[str] | None = None
    error: str = ""


class _Line(msgspec.Struct):
    at: str | None = None
    failed: dict[str, str] = {}
    mapped: list[str] = []
    prefix: str = ""


def _run(test: LoadTest, environment: Environment, variables: dict[str, str], names: Sequence[str]) -> _Said:
    reading, writing = os.pipe()
    with tempfile.TemporaryDirectory(prefix="lapidar-live-") as folder, open(reading, encoding="utf-8") as answer:
        try:
            with tempfile.TemporaryFile("w+", dir=folder) as told:
                told.write(msgspec.json.encode(list(names)).decode())
                told.seek(0)
                process = subprocess.Popen(
                    [*test.command, str(writing)],
                    stdin=told,
                    stdout=subprocess.DEVNULL,
                    stderr=subprocess.PIPE,
                    cwd=folder,
                    env={**variables, "HOME": folder},
                    pass_fds=[writing],
                )
        except OSError as error:
            raise EnvironmentUnusable(
                "The restored interpreter does not start", why=error.strerror or str(error)
            ) from error
        finally:
            os.close(writing)
        said = _Said(str(environment.folder))
        with process:
            try:
                errors = process.communicate(timeout=_SECONDS)[1]
            except subprocess.TimeoutExpired:
                process.kill()
                errors = b"it did not end within 10 minutes"
        for text in answer:
            line = decoding.from_json(text, _Line)
            if line.at is not None:
                said.seen.append(line.at)
            else:
                said.failed, said.mapped, said.prefix = line.failed, line.mapped, line.prefix
        said.error = (errors.decode("utf-8", "replace").strip().splitlines() or [""])[-1]
        return said
