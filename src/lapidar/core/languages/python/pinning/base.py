"""What is pinned for: the runtime of the lockfile that there is, or one that is found on this machine."""

from __future__ import annotations

from pathlib import Path

from packaging.version import Version

from lapidar.core.errors import Conflict
from lapidar.core.languages.protocol import Located
from lapidar.core.languages.python import locate, probe, runtimes
from lapidar.core.languages.python.pinning.target import Target
from lapidar.core.languages.python.probe import Answer
from lapidar.core.pinning.session import PinRequest
from lapidar.core.place import Place
from lapidar.core.records.snapshot import Platform

__all__ = ["find", "located"]


def located(place: Place, named: Path | None) -> Located:
    """The interpreter that is meant.

    Raises:
        EnvironmentUnusable: there is none.
    """
    found = locate.locate(place, named)
    if found is None:
        raise locate.refuse(place, named)
    return found


def find(request: PinRequest) -> Target:
    """The target of a pin. A runtime that is found on this machine is stowed.

    The lockfile's runtime stays if the declaration allows it; the option `runtime` is an interpreter, or a version
    (``3.12``), of which one is looked for.

    Raises:
        Conflict: the runtime is not one that the project declares.
        EnvironmentUnusable: there is none.
    """
    place, cache, declaration = request.place, request.cache, request.declaration
    previous, interpreter, reporter = request.previous, request.options.runtime, request.reporter
    known = previous.runtime_of("python") if previous else None
    if previous and known and interpreter is None and declaration.allows_runtime("python", known.version):
        if not cache.has_tree(known.tree):
            runtimes.refill(known, place, cache, reporter)
        return Target(known, previous.platform)
    if request.options.version:
        return _of_version(request)
    at = located(place, interpreter)
    answer = probe.ask(at.interpreter)
    if not declaration.allows_runtime("python", answer.version):
        if interpreter is not None:
            asked = declaration.runtimes["python"]
            raise Conflict(
                f"The project needs Python {asked}, and {at.interpreter} is {answer.version}",
                why=f"it is {at.why}",
                remedy="Name another with --runtime.",
            )
        return _of_version(request)
    return _here(answer, request)


def _here(answer: Answer, request: PinRequest) -> Target:
    platform = Platform(answer.markers["platform_system"].lower(), answer.markers["platform_machine"], answer.libc)
    return Target(runtimes.stowed(answer, request.place, request.cache, request.reporter), platform)


def _of_version(request: PinRequest) -> Target:
    """The newest runtime of the version that is asked for and that the declaration allows: of this machine, else of the
    cache.

    Raises:
        Conflict: there is none.
    """
    options, declaration = request.options, request.declaration

    def fits(version: str) -> bool:
        return options.is_meant(version) and declaration.allows_runtime("python", version)

    there = runtimes.on_machine()
    for one in there:
        if fits(one.version):
            return _here(probe.ask(one.interpreter), request)
    kept = [one for one in runtimes.in_cache(request.cache) if fits(one.runtime.version)]
    if kept:
        newest = max(kept, key=lambda one: Version(one.runtime.version))
        return Target(newest.runtime, newest.platform)
    asked = declaration.runtimes.get("python")
    needs = f"the project needs Python {asked}" if asked else f"Python {options.version} is asked for"
    found = [f"{one.version} ({one.interpreter})" for one in there]
    raise Conflict(
        f"There is no runtime that fits: {needs}",
        why=f"on this machine are {', '.join(found)}" if found else "there is none on this machine",
        remedy="Install one, or name another with --runtime; `lapidar runtimes` shows all that are at hand.",
    )
