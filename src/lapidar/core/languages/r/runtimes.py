"""The R runtimes of this machine."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path

from lapidar.core.cache.seen import seen_by_all
from lapidar.core.cache.store import Cache
from lapidar.core.cache.stowing import stow
from lapidar.core.environment import marker
from lapidar.core.errors import EnvironmentUnusable
from lapidar.core.languages import refilling
from lapidar.core.languages.protocol import Located, RuntimeHere
from lapidar.core.languages.r import inventory, placing, probe, versions
from lapidar.core.languages.r.runtime import IMPLEMENTATION
from lapidar.core.place import Place
from lapidar.core.progress import Progress
from lapidar.core.records.snapshot import Runtime

__all__ = ["on_machine", "refill", "stowed", "version_of"]

_PLACES = ("usr/bin", "usr/local/bin", "opt/R/*/bin", "opt/*/bin")


def on_machine() -> list[RuntimeHere]:
    """Those on PATH and in the usual folders, each once, the newest first; that of a restored environment is in the
    cache, and not counted."""
    found: dict[str, RuntimeHere] = {}
    for front_end in _candidates():
        try:
            answer = probe.ask(front_end)
        except EnvironmentUnusable:
            continue
        if not marker.read(Path(answer.home.removesuffix(f"/{placing.HOME}"))):
            found.setdefault(answer.home, RuntimeHere("r", IMPLEMENTATION, answer.version, front_end))
    return sorted(found.values(), key=lambda one: versions.key(one.version), reverse=True)


def _candidates() -> Iterator[Path]:
    folders = [Path(folder) for folder in os.environ.get("PATH", os.defpath).split(os.pathsep) if folder]
    folders += [place for pattern in _PLACES for place in sorted(Path("/").glob(pattern))]
    met: set[str] = set()
    for folder in folders:
        path = folder / "Rscript"
        real = os.path.realpath(path)
        if real not in met and os.access(path, os.X_OK):
            met.add(real)
            yield path


def stowed(front_end: Path, place: Place, cache: Cache, reporter: Progress) -> Runtime:
    """Stow a runtime of this machine; its record.

    Raises:
        EnvironmentUnusable: it is no R that works.
    """
    base = inventory.runtime_of(probe.ask(front_end), place)
    with cache.in_use():
        seen = seen_by_all(cache.short_cuts, base.answer.home)
        done = stow(cache, {base.owner: base.drafts}, seen, reporter)
        seen.save()
    return base.record(done[base.owner])


def refill(runtime: Runtime, place: Place, cache: Cache, reporter: Progress) -> tuple[bool, str]:
    """Bring a runtime that the cache lacks into it again, from one of this machine that has the same bytes."""

    def stow_it(one: RuntimeHere) -> Runtime:
        return stowed(one.interpreter, place, cache, reporter)

    return refilling.refill("R", runtime, on_machine(), stow_it)


def version_of(located: Located) -> str:
    """The version of the runtime of an environment."""
    return probe.ask(located.interpreter).version
