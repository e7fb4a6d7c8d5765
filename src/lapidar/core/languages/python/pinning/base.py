"""What is pinned for: the runtime of the lockfile that there is, or one that is found on this machine."""

from __future__ import annotations

from pathlib import Path

from lapidar.core.cache.seen import seen_files
from lapidar.core.cache.store import Cache
from lapidar.core.cache.stowing import stow
from lapidar.core.errors import Conflict
from lapidar.core.languages.protocol import Located
from lapidar.core.languages.python import inventory, locate, probe
from lapidar.core.languages.python.pinning.target import Target
from lapidar.core.progress import Progress
from lapidar.core.project import Project
from lapidar.core.records import words
from lapidar.core.records.declaration import Declaration
from lapidar.core.records.snapshot import Platform, Snapshot

__all__ = ["find", "located"]


def located(project: Project, named: Path | None) -> Located:
    """The interpreter that is meant.

    Raises:
        EnvironmentUnusable: there is none.
    """
    found = locate.locate(project, named)
    if found is None:
        raise locate.refuse(project, named)
    return found


def find(
    project: Project,
    cache: Cache,
    declaration: Declaration,
    previous: Snapshot | None,
    interpreter: Path | None,
    reporter: Progress,
) -> Target:
    """The target of a pin. A runtime that is found on this machine is stowed.

    Args:
        previous: the lockfile that there is; its runtime stays if the declaration allows it.
        interpreter: take this one's.

    Raises:
        Conflict: the runtime is not one that the project declares.
        EnvironmentUnusable: there is none.
    """
    known = previous.runtime_of("python") if previous else None
    if previous and known and interpreter is None and declaration.allows_runtime("python", known.version):
        return Target(known, previous.platform)
    at = located(project, interpreter)
    answer = probe.ask(at.interpreter)
    # C headers of packages lie among those of the runtime, and are not its own.
    base = inventory.observe(answer, project, full_runtime=False, skip_outside=True).base
    with cache.in_use():
        seen = seen_files(cache.root / "seen", answer.base_prefix)
        stowed = stow(cache, {base.owner: base.drafts}, seen, reporter)
        seen.save()
    found = base.record(stowed[base.owner])
    if not declaration.allows_runtime("python", found.version):
        asked = declaration.runtimes["python"]
        raise Conflict(
            f"The project needs Python {asked}, and {at.interpreter} is {words.owner(found.owner)}",
            why=f"it is {at.why}",
            remedy="Name another with --runtime INTERPRETER.",
        )
    platform = Platform(answer.markers["platform_system"].lower(), answer.markers["platform_machine"], answer.libc)
    return Target(found, platform)
