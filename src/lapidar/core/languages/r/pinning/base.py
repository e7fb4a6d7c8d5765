"""What is pinned for: the R of the lockfile that there is, or one that is found on this machine."""

from __future__ import annotations

from typing import NamedTuple

from lapidar.core.errors import Conflict
from lapidar.core.languages.protocol import RuntimeHere
from lapidar.core.languages.r import locate, runtimes
from lapidar.core.pinning.session import PinRequest
from lapidar.core.records.declaration import Declaration
from lapidar.core.records.snapshot import Platform, Runtime
from lapidar.core.system.machine import platform_here

__all__ = ["Target", "find"]


class Target(NamedTuple):
    """A runtime on a platform."""

    runtime: Runtime
    platform: Platform

    def __str__(self) -> str:
        return f"R {self.runtime.version} on {self.platform.system} {self.platform.machine}"


def find(request: PinRequest) -> Target:
    """The target of a pin. A runtime that is found on this machine is stowed.

    The lockfile's runtime stays if the declaration allows it; the option `runtime` is a front end, or a version
    (``4.2``), of which one is looked for.

    Raises:
        Conflict: the runtime is not one that the project declares, or there is none.
    """
    place, cache, declaration = request.place, request.cache, request.declaration
    previous, named, reporter = request.previous, request.options.runtime, request.reporter
    known = previous.runtime_of("r") if previous else None
    asked = request.options.version
    front_end = locate.locate(place, named) if named and not asked else None
    if named and not asked and front_end is None:
        raise locate.refuse(place, named)
    if previous and known and named is None and declaration.allows_runtime("r", known.version):
        if not cache.has_tree(known.tree):
            runtimes.refill(known, place, cache, reporter)
        return Target(known, previous.platform)
    platform = previous.platform if previous else platform_here()
    here = [front_end.interpreter] if front_end else [one.interpreter for one in _fitting(request)]
    if not here:
        raise _none(declaration, asked)
    runtime = runtimes.stowed(here[0], place, cache, reporter)
    if not declaration.allows_runtime("r", runtime.version):
        raise Conflict(
            f"The project needs R {declaration.runtimes['r']}, and {here[0]} is {runtime.version}",
            remedy="Name another with --runtime.",
        )
    return Target(runtime, platform)


def _fitting(request: PinRequest) -> list[RuntimeHere]:
    every = [one for one in runtimes.on_machine() if request.options.is_meant(one.version)]
    return [one for one in every if request.declaration.allows_runtime("r", one.version)]


def _none(declaration: Declaration, version: str) -> Conflict:
    there = [f"{one.version} ({one.interpreter})" for one in runtimes.on_machine()]
    declared = declaration.runtimes.get("r")
    asked = version or declared
    who = "what is asked for is" if version else "the project needs"
    return Conflict(
        f"There is no R that fits{f': {who} R {asked}' if asked else ''}",
        why=f"on this machine are {', '.join(there)}" if there else "there is none on this machine",
        remedy="Install one, or name another with --runtime; `lapidar runtimes` shows all that are at hand.",
    )
