"""A run of the analysis itself in its restored environment, and what of it came from the host."""

from __future__ import annotations

import os
import re
import tempfile
from collections.abc import Iterator, Sequence

from msgspec import Struct

from lapidar.core import languages
from lapidar.core.environment.folder import Environment
from lapidar.core.layers import packaged, tools
from lapidar.core.place import Place
from lapidar.core.records.findings import Finding, Problem
from lapidar.core.records.owner import Layer
from lapidar.core.restored.running import Prepared
from lapidar.core.system import supervision
from lapidar.core.system.observed import ObservedRun
from lapidar.core.system.supervision import RunOptions

__all__ = ["Inside", "Watched", "temporary_folders", "watch"]

# The C library reads these lists of names, whose places are built into it, after those of the environment.
_LISTS_OF_NAMES = re.compile(r"/gconv/gconv-modules(\.cache|\.d/[^/]+\.conf)?$|/locale\.alias$")
# The kernel's, and what tells a program who its user is and what other machines are called.
_OF_EVERY_HOST = ("/proc/", "/dev/", "/sys/", "/run/")
_WHO_AND_WHERE = frozenset(
    f"/etc/{name}"
    for name in (
        "passwd",
        "group",
        "shadow",
        "gshadow",
        "nsswitch.conf",
        "hosts",
        "host.conf",
        "resolv.conf",
        "gai.conf",
        "hostname",
    )
)


class Watched(Struct, frozen=True):
    """What a run was seen to use.

    Attributes:
        code: its exit code.
        files: how many files it and its children opened or mapped.
        outside: those that are neither of the environment nor of the project, nor temporary.
        by_programs: of these, what outside programs of the snapshot opened.
        programs: programs of the host that it started. What these opened is theirs.
        utilities: likewise those that every system has.
    """

    code: int
    files: int
    outside: tuple[str, ...]
    by_programs: tuple[str, ...]
    programs: tuple[str, ...]
    utilities: tuple[str, ...]

    def findings(self) -> Iterator[Finding]:
        """What of it is no good: by what would help."""
        by_problem: dict[Problem, list[str]] = {}
        for path in self.outside:
            by_problem.setdefault(self._problem(path), []).append(path)
        for problem, paths in sorted(by_problem.items()):
            yield Finding(Layer.RUN, problem, paths=tuple(paths))
        if self.programs:
            yield Finding(Layer.RUN, Problem.STARTED_OUTSIDE, paths=self.programs)
        if self.code:
            yield Finding(Layer.RUN, Problem.RUN_FAILED, details=(str(self.code),))

    def _problem(self, path: str) -> Problem:
        if ".so" in os.path.basename(path):
            return Problem.LIBRARY_OUTSIDE
        can_be_declared = path in self.by_programs and not packaged.refused(path)
        return Problem.READ_BY_PROGRAM if can_be_declared else Problem.OPENED_OUTSIDE


def watch(
    place: Place, environment: Environment, program: str, words: Sequence[str], prepared: Prepared, output: int
) -> Watched:
    """Run a command and see what it and its children use.

    Args:
        program: its path.
        prepared: the variables of the run.
        output: the descriptor that its standard output goes to.

    Raises:
        LapidarError: it cannot be observed here, or does not start.
    """
    how = RunOptions(output=output, umask=prepared.umask, watches=True)
    ended = supervision.run(program, [program, *words], prepared.variables, how)
    return _judged(ended.observed, Inside(place, environment), with_hosts=not environment.is_private)


def temporary_folders() -> tuple[str, ...]:
    """Where files lie that nobody keeps, each with a slash at its end."""
    folders = {"/tmp", "/var/tmp", "/dev/shm", tempfile.gettempdir(), os.environ.get("TMPDIR") or "/tmp"}
    return tuple(sorted(os.path.realpath(folder) + "/" for folder in folders))


class Inside:
    """Tells what belongs to a run from what is the host's."""

    def __init__(self, place: Place, environment: Environment) -> None:
        self.environment = os.path.realpath(environment.folder) + "/"
        caches = [pattern for language in languages.every() for pattern in language.variables.caches]
        self._caches = re.compile("|".join(caches) or r"(?!)")
        self._own = (self.environment, os.path.realpath(place.root) + "/", *temporary_folders(), *_OF_EVERY_HOST)

    def has(self, path: str) -> bool:
        """Whether a file is of the environment, the project, the kernel, or temporary."""
        if path.startswith(self._own) or path in _WHO_AND_WHERE:
            return True
        return bool(_LISTS_OF_NAMES.search(path) or self._caches.search(path))

    def of_environment(self, run: ObservedRun) -> set[str]:
        """What the programs of the environment opened and mapped; what the host's did is theirs."""
        return {path for image, paths in run.by.items() if self.has(image.running) for path in paths}


def _judged(run: ObservedRun, inside: Inside, *, with_hosts: bool) -> Watched:
    """Args: with_hosts: the environment uses the host's libraries, with their loader, which starts everything there."""

    def is_inside(path: str) -> bool:
        return inside.has(path) or (with_hosts and ".so" in os.path.basename(path))

    outside: set[str] = set()
    files: set[str] = set()
    programs: set[str] = set()
    by_programs: set[str] = set()
    own_tools = inside.environment + tools.FOLDER
    for image, paths in run.by.items():
        started = os.path.realpath(os.path.dirname(image.started)) + "/"
        of_environment = started.startswith(inside.environment)
        if not is_inside(image.running):
            # The few lines of shell that start what is in the environment are run by the host's shell.
            if not of_environment and not is_inside(image.started):
                programs.add(image.started)
            continue
        files |= set(paths)
        outside |= (new := {path for path in paths if not is_inside(path)})
        by_programs |= new if image.running.startswith(own_tools) else set()
    utilities = {path for path in programs if os.path.basename(path) in tools.EVERYWHERE}
    return Watched(
        run.code,
        len(files),
        tuple(sorted(outside)),
        tuple(sorted(by_programs)),
        tuple(sorted(programs - utilities)),
        tuple(sorted(utilities)),
    )
