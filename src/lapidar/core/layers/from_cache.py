"""What lies below pinned packages: the system libraries of the lockfile that there is, with those of this machine that
new packages need besides; outside programs; conditions."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import msgspec

from lapidar.core.cache.store import Cache
from lapidar.core.cache.trees import LINK
from lapidar.core.declaring.records import Declaration
from lapidar.core.environment import marker
from lapidar.core.errors import CacheError
from lapidar.core.languages.python import packages, runtime
from lapidar.core.layers import conditions, libraries, tools
from lapidar.core.layers.libraries import Object
from lapidar.core.layers.lower import Below
from lapidar.core.progress import Progress
from lapidar.core.records import lockfile
from lapidar.core.records.snapshot import Conditions, Snapshot, Tool
from lapidar.core.system import companions, locales
from lapidar.core.system.memory import ElfMemory

__all__ = ["below"]


def below(
    cache: Cache,
    declaration: Declaration,
    snapshot: Snapshot,
    previous: Snapshot | None,
    reporter: Progress,
) -> tuple[Snapshot, tuple[str, ...]]:
    """Add the layers below to a snapshot of packages.

    Args:
        snapshot: runtime and packages, all of them in the cache.
        previous: the lockfile that there is: what it has stays.

    Returns:
        The snapshot, and what the user should know.
    """
    system = os.uname()
    if (snapshot.platform.system, snapshot.platform.machine) != (system.sysname.lower(), system.machine):
        return snapshot, ()
    here = conditions.observe(declaration.conditions, previous.conditions if previous else None)
    if not cache.has_tree(snapshot.only_runtime.tree):
        # Another cache than the one that the runtime was captured into: there is nothing to look at.
        return (_unchanged(snapshot, previous, here) if previous else snapshot), ()
    notes: list[str] = []
    held = list(previous.tool) if previous else []
    new = tools.observe(
        [name for name in declaration.tools if name not in {tool.name for tool in held}], (), Path("/nowhere")
    )
    notes += new.warnings
    with cache.work_folder() as work, _as_restored(cache, work.path, previous) as prefix:
        found = libraries.observe(
            _program(cache, snapshot),
            str(prefix),
            [*_objects(cache, snapshot, held), *(one for tool in new.tools for one in tool.objects())],
            ElfMemory(None, ""),
            data=locales.drafts(locales.named(here.variables), companions.LOCALES),
            at_their_place=False,
        )
        notes += found.notes
        notes += [f"{one.name} is nowhere on this machine, and a package needs it" for one in found.missing]
        layers = Below(found, new, here)
        records = layers.records(layers.stow(cache, reporter))
    records["tools"] = sorted([*held, *records["tools"]], key=lambda tool: tool.name)
    packages_and_runtime = (snapshot.platform, snapshot.only_runtime, snapshot.package, snapshot.remainder)
    return lockfile.identified(*packages_and_runtime, **records), tuple(notes)


def _unchanged(snapshot: Snapshot, previous: Snapshot, here: Conditions) -> Snapshot:
    """The layers below as they are in the previous lockfile."""
    return lockfile.identify(
        msgspec.structs.replace(
            snapshot,
            libraries=previous.libraries,
            library=previous.library,
            tool=previous.tool,
            conditions=here if previous.libraries else previous.conditions,
        )
    )


@contextmanager
def _as_restored(cache: Cache, work: Path, previous: Snapshot | None) -> Iterator[Path]:
    """A folder that looks like an environment restored from the previous lockfile, as far as its libraries go: links
    into the cache. So what it has is found first, by the same rules as anywhere."""
    try:
        tree = cache.tree(previous.libraries.tree) if previous and previous.libraries else None
    except CacheError:
        tree = None  # it is taken from this machine anew
    if tree is not None and previous is not None:
        for entry in tree:
            path = work / marker.PRIVATE / entry.path
            path.parent.mkdir(parents=True, exist_ok=True)
            path.symlink_to(entry.content if entry.kind == LINK else cache.entry_path(entry))
        (work / libraries.KEPT).write_bytes(libraries.keep(previous.library))
    yield work


def _program(cache: Cache, snapshot: Snapshot) -> str:
    base = snapshot.only_runtime
    entries = {entry.path: entry for entry in cache.tree(base.tree)}
    return cache.entry_path(entries[base.executable])


def _objects(cache: Cache, snapshot: Snapshot, held: list[Tool]) -> Iterator[Object]:
    """All files of the snapshot, out of the cache."""
    base = snapshot.only_runtime
    for entry, path in runtime.place(base, cache.tree(base.tree)):
        if entry.kind != LINK:
            yield Object(libraries.RUNTIME, cache.entry_path(entry), path)
    for package in snapshot.package:
        for entry, path in packages.place(base, cache.tree(package.tree)):
            if entry.kind != LINK:
                yield Object(package.name, cache.entry_path(entry), path)
    for tool in held:
        if not cache.has_tree(tool.tree):
            continue
        for entry, path in tools.place(tool, cache.tree(tool.tree)):
            if entry.kind != LINK:
                yield Object(f"tool {tool.name}", cache.entry_path(entry), path)
