"""The Python runtimes that are at hand: on this machine, and in the cache."""

from __future__ import annotations

import os
import re
import shutil
import sys
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import NamedTuple

from lapidar.core.cache.history import History
from lapidar.core.cache.seen import seen_by_all
from lapidar.core.cache.store import Cache
from lapidar.core.cache.stowing import stow
from lapidar.core.environment import marker
from lapidar.core.errors import EnvironmentUnusable, LapidarError
from lapidar.core.languages import refilling
from lapidar.core.languages.protocol import Located, RuntimeHere
from lapidar.core.languages.python import inventory, probe
from lapidar.core.languages.python.probe import Answer
from lapidar.core.place import Place
from lapidar.core.progress import Progress
from lapidar.core.records.snapshot import Platform, Runtime

__all__ = ["Kept", "in_cache", "on_machine", "refill", "stowed", "version_of"]

_NAMED = re.compile(r"^python3(\.\d+)?$")
_PLACES = ("/usr/bin", "/usr/local/bin", "/opt/*/bin")


class Kept(NamedTuple):
    """A runtime that the cache has whole, and the platform of a snapshot that has it."""

    runtime: Runtime
    platform: Platform


def on_machine() -> list[RuntimeHere]:
    """Those of this machine, each once, the newest first: on PATH, in the usual folders, and beside the runtime that
    runs this program."""
    with ThreadPoolExecutor(os.cpu_count()) as pool:
        answers = [answer for answer in pool.map(_asked, _candidates()) if answer]
    found: dict[str, RuntimeHere] = {}
    for answer in answers:
        found.setdefault(
            os.path.realpath(answer.process),
            RuntimeHere("python", answer.implementation, answer.version, Path(answer.base_executable)),
        )
    return sorted(found.values(), key=lambda one: _order(one.version), reverse=True)


def _candidates() -> list[Path]:
    folders = [Path(folder) for folder in os.environ.get("PATH", os.defpath).split(os.pathsep) if folder]
    folders += [place for pattern in _PLACES for place in Path("/").glob(pattern.lstrip("/"))]
    folders += sorted(Path(sys.base_prefix).parent.glob("*/bin"))
    found: dict[str, Path] = {}
    for folder in folders:
        try:
            names = sorted(name for name in os.listdir(folder) if _NAMED.match(name))
        except OSError:
            continue
        for name in names:
            path = folder / name
            found.setdefault(os.path.realpath(path), path)
    # Of a command that starts others by what stands beside it, only asking tells which it is.
    return list(found.values())


def _asked(path: Path) -> Answer | None:
    if shutil.which(str(path)) is None:
        return None
    try:
        answer = probe.ask(path)
    except EnvironmentUnusable:
        return None
    # That of a restored environment is in the cache.
    return None if marker.read(Path(answer.base_prefix)) else answer


def in_cache(cache: Cache) -> Iterator[Kept]:
    """Those that the cache has whole, each once."""
    met: set[str] = set()
    for _, snapshot in History(cache).copies():
        if isinstance(snapshot, LapidarError):
            continue
        runtime = snapshot.runtime_of("python")
        if runtime and runtime.tree not in met:
            met.add(runtime.tree)
            if cache.is_whole(runtime.tree):
                yield Kept(runtime, snapshot.platform)


def stowed(answer: Answer, place: Place, cache: Cache, reporter: Progress) -> Runtime:
    """Stow the runtime below an environment; its record."""
    # C headers of packages lie among those of the runtime, and are not its own.
    base = inventory.observe(answer, place, full_runtime=False, skip_outside=True, short_cuts=cache.short_cuts).base
    with cache.in_use():
        seen = seen_by_all(cache.short_cuts, answer.base_prefix)
        done = stow(cache, {base.owner: base.drafts}, seen, reporter)
        seen.save()
    return base.record(done[base.owner])


def refill(runtime: Runtime, place: Place, cache: Cache, reporter: Progress) -> tuple[bool, str]:
    """Bring a runtime that the cache lacks into it again, from one of this machine that has the same bytes."""

    def stow_it(one: RuntimeHere) -> Runtime:
        return stowed(probe.ask(one.interpreter), place, cache, reporter)

    return refilling.refill("Python", runtime, on_machine(), stow_it)


def version_of(located: Located) -> str:
    """The version of the runtime of an environment."""
    return ".".join(map(str, probe.ask(located.interpreter).python))


def _order(version: str) -> tuple[int, ...]:
    return tuple(int(part) for part in re.findall(r"\d+", version))
