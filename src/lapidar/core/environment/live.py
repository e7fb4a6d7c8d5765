"""The memory-map test: the restored interpreter imports everything it has, and its memory map says which files it uses.

Nothing but the kernel's own word is taken: a file that is mapped from outside the environment is not the snapshot's.
"""

from __future__ import annotations

import os
import re
import subprocess
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import msgspec

from lapidar.core import progress
from lapidar.core.cache.store import Cache
from lapidar.core.cache.trees import Tree
from lapidar.core.errors import EnvironmentUnusable, LapidarError
from lapidar.core.layers import conditions
from lapidar.core.project import Project
from lapidar.core.records.snapshot import Snapshot

__all__ = ["Live", "look"]

_SECONDS = 600
_MOST_TRIED_AGAIN = 25
_NO_FILE = re.compile(r"^/(dev/zero|dev/shm/sem\.|memfd:|SYSV|anon_hugepage|\[)| \(deleted\)$")
_IMPORTABLE = re.compile(r"^[A-Za-z_]\w*$")
_EXTENSION = re.compile(r"^(\w+)\.(?:cpython-[\w-]+|abi3)?\.?so$")
_NOT_IMPORTED = re.compile(r"^(_?_test|_xx|xx|test$|tests$|conftest$|_ctypes_test|_remote_debugging)")


@dataclass(frozen=True, slots=True)
class Live:
    """What the running environment was seen to use.

    Attributes:
        modules: how many were asked to be imported.
        failed: those that could not be, each with the error's own words.
        crashed: modules at whose import the interpreter ended.
        mapped: how many files were mapped.
        outside: the files among them that lie outside the environment.
    """

    modules: int
    failed: dict[str, str]
    crashed: tuple[str, ...]
    mapped: int
    outside: tuple[str, ...]

    @property
    def without_library(self) -> dict[str, str]:
        """Of those that failed, the ones that lack a library."""
        return {name: why for name, why in self.failed.items() if "shared object" in why or "GLIBC" in why}


def look(project: Project, cache: Cache, snapshot: Snapshot, environment: Path, reporter: progress.Progress) -> Live:
    """Run the restored interpreter, import every top-level module of the packages and every extension module of the
    runtime, and read its memory map.

    Raises:
        EnvironmentUnusable: it does not run.
    """
    names = sorted(set(_modules(snapshot, cache)))
    if not (environment / "bin" / "python").exists():
        raise EnvironmentUnusable(f"There is no interpreter in {environment}", remedy="Run `lapidar restore` first.")
    variables = _variables(project, environment)
    failed: dict[str, str] = {}
    crashed: list[str] = []
    mapped: set[str] = set()
    waiting = names
    with progress.task(reporter, "Importing", len(names), "modules"):
        while True:
            said = _run(environment, variables, waiting)
            reporter.advance(len(said.seen))
            if said.mapped is not None:
                failed |= said.failed
                mapped |= set(said.mapped)
                break
            if not said.seen:
                raise EnvironmentUnusable("The restored interpreter does not run on this machine", why=said.error)
            # What was imported so far is imported again without the one at which it ended.
            crashed.append(said.seen[-1])
            waiting = [name for name in names if name not in crashed]
    # Some modules cannot stand others before them; what fails is tried once more by itself.
    for name in list(failed)[:_MOST_TRIED_AGAIN]:
        again = _run(environment, variables, [name])
        if again.mapped is not None and not again.failed:
            del failed[name]
            mapped |= set(again.mapped)
    own = (os.path.realpath(environment) + "/", said.prefix + "/", str(project.root) + "/")
    real = [path for path in mapped if not _NO_FILE.search(path)]
    outside = tuple(sorted(path for path in real if not path.startswith(own)))
    return Live(len(names), failed, tuple(crashed), len(real), outside)


def _modules(snapshot: Snapshot, cache: Cache) -> Iterator[str]:
    trees = [package.tree for package in snapshot.package] + [rest.tree for rest in snapshot.remainder]
    for digest in (snapshot.only_runtime.tree, *trees):
        try:
            tree = cache.tree(digest)
        except LapidarError:
            continue  # the judgement of the cache tells of it
        for name in _top_level(tree):
            if _IMPORTABLE.match(name) and not _NOT_IMPORTED.match(name):
                yield name


def _top_level(tree: Tree) -> Iterator[str]:
    for entry in tree:
        parts = entry.path.split("/")
        if parts[0] == "site" and len(parts) == 2:
            extension = _EXTENSION.match(parts[1])
            if extension or parts[1].endswith(".py"):
                yield extension[1] if extension else parts[1][:-3]
        elif parts[0] == "site" and len(parts) == 3 and parts[2] == "__init__.py":
            yield parts[1]
        elif len(parts) > 1 and parts[-2] == "lib-dynload" and (extension := _EXTENSION.match(parts[-1])):
            yield extension[1]


def _variables(project: Project, environment: Path) -> dict[str, str]:
    """Those of a run, for the conditions have a part in what is loaded."""
    variables = {name: value for name, value in os.environ.items() if not name.startswith(("PYTHON", "LD_"))}
    held_to = conditions.kept(environment)
    if held_to:
        variables = conditions.apply(msgspec.structs.replace(held_to, env_file=None), variables, project.root).variables
    return {**variables, "MPLBACKEND": "Agg", "QT_QPA_PLATFORM": "offscreen"}


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


def _run(environment: Path, variables: dict[str, str], names: list[str]) -> _Said:
    script = Path(__file__).with_name("_live.py").read_text("utf-8")
    reading, writing = os.pipe()
    with tempfile.TemporaryDirectory(prefix="lapidar-live-") as folder, open(reading, encoding="utf-8") as answer:
        command = [str(environment / "bin" / "python"), "-I", "-B", "-c", script, str(writing)]
        try:
            with tempfile.TemporaryFile("w+", dir=folder) as told:
                told.write(msgspec.json.encode(names).decode())
                told.seek(0)
                process = subprocess.Popen(
                    command,
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
        said = _Said(str(environment))
        with process:
            try:
                errors = process.communicate(timeout=_SECONDS)[1]
            except subprocess.TimeoutExpired:
                process.kill()
                errors = b"it did not end within 10 minutes"
        for text in answer:
            line = msgspec.json.decode(text, type=_Line)
            if line.at is not None:
                said.seen.append(line.at)
            else:
                said.failed, said.mapped, said.prefix = line.failed, line.mapped, line.prefix
        said.error = (errors.decode("utf-8", "replace").strip().splitlines() or [""])[-1]
        return said
