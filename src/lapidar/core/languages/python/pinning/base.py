"""What is pinned for: the runtime of the lockfile that there is, or one that is found on this machine."""

from __future__ import annotations

from pathlib import Path

from lapidar.core.cache.seen import Seen
from lapidar.core.cache.store import Cache
from lapidar.core.cache.stowing import stow
from lapidar.core.declaring.records import Declaration
from lapidar.core.errors import Conflict
from lapidar.core.languages.python import locate, packages, probe, runtime
from lapidar.core.languages.python.pinning.target import Target
from lapidar.core.progress import Progress
from lapidar.core.project import Project
from lapidar.core.records.snapshot import Runtime, Snapshot, runtime_label

__all__ = ["find"]


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
    if previous and interpreter is None and _allows(declaration, previous.only_runtime):
        return Target(previous.only_runtime, previous.platform)
    located = locate.locate(project, interpreter)
    answer = probe.ask(located.interpreter)
    # C headers of packages lie among those of the runtime, and are not its own.
    claimed = packages.observe(answer, project, skip_outside=True).claimed
    base = runtime.observe(answer, claimed)
    with cache.in_use():
        seen = Seen(cache.root / "seen", answer.base_prefix)
        stowed = stow(cache, {base.label: base.drafts}, seen, reporter)
        seen.save()
    found = base.record(stowed[base.label])
    if not _allows(declaration, found):
        raise Conflict(
            f"The project needs Python {declaration.python}, and {located.interpreter} is {runtime_label(found)}",
            why=f"it is {located.why}",
            remedy="Name another with --runtime INTERPRETER.",
        )
    return Target(found, runtime.platform(answer))


def _allows(declaration: Declaration, base: Runtime) -> bool:
    return declaration.python.contains(base.version, prereleases=True)
