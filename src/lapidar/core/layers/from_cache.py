"""The layers below packages that lie in the cache and in no environment: those of the lockfile that there is stay, and
what new packages need besides comes from this machine."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from msgspec.structs import replace

from lapidar.core import languages
from lapidar.core.cache.store import Cache
from lapidar.core.cache.trees import LINK
from lapidar.core.environment import marker
from lapidar.core.errors import CacheError
from lapidar.core.languages.protocol import ObjectFile
from lapidar.core.layers import conditions, libraries, lower, tools
from lapidar.core.layers.protocol import HeldLibraries, Subject
from lapidar.core.progress import Progress
from lapidar.core.records import lockfile
from lapidar.core.records.declaration import Declaration
from lapidar.core.records.layers import LowerLayers
from lapidar.core.records.snapshot import Snapshot
from lapidar.core.system.memory import ElfMemory

__all__ = ["with_lower_layers"]


def with_lower_layers(
    cache: Cache,
    declaration: Declaration,
    snapshot: Snapshot,
    previous: Snapshot | None,
    reporter: Progress,
    renews: str | None = None,
) -> tuple[Snapshot, tuple[str, ...]]:
    """Add the layers below to a snapshot of runtimes and packages.

    Args:
        renews: outside programs that this machine has in another version now are taken anew; the folder of the
            environment's own commands, which are none of these. None: all stay as they are.
        snapshot: runtimes and packages, all of the latter in the cache.
        previous: the lockfile that there is: what it has stays.

    Returns:
        The snapshot, and what the user should know, a sentence each.
    """
    system = os.uname()
    if (snapshot.platform.system, snapshot.platform.machine) != (system.sysname.lower(), system.machine):
        return snapshot, ()
    held = LowerLayers.of(previous) if previous else LowerLayers()
    memory = ElfMemory(cache.short_cuts if cache.writable else None, "files of this cache")
    if previous and renews is None and _asks_nothing_new(cache, snapshot, previous, declaration):
        return _unchanged(snapshot, Subject(None, None, (), declaration, memory, held)), ()
    if not all(cache.has_tree(runtime.tree) for runtime in snapshot.runtimes):
        # Another cache than the one that the runtime was captured into: there is nothing to look at.
        unseen = Subject(None, None, (), declaration, memory, held)
        return (_unchanged(snapshot, unseen) if previous else snapshot), ()
    objects = [*_objects(cache, snapshot), *_objects_of_tools(cache, held)]
    programs = _programs(cache, snapshot, objects)
    with cache.work_folder() as work, _held(cache, work.path, previous) as held_libraries:
        found = lower.of_subject(
            Subject(
                environment=None,
                program=programs[0] if programs else None,
                programs_of={one.user.language: one.source for one in programs},
                objects=objects,
                declaration=declaration,
                memory=memory,
                held=held,
                held_libraries=held_libraries,
                renewed=() if renews is None else list(tools.newer(held.tools, renews)),
            )
        )
        records = found.records(found.stow(cache, reporter))
    memory.save()
    notes = [*found.tools.warnings, *found.libraries.warnings, *found.conditions.warnings]
    return _with(snapshot, records), tuple(notes)


def _asks_nothing_new(cache: Cache, snapshot: Snapshot, previous: Snapshot, declaration: Declaration) -> bool:
    """Whether runtimes and packages are those of the earlier lockfile, nothing of the machine is declared that it may
    not have, and the cache has all that is below: then the layers below are as they were."""
    below = [tool.tree for tool in previous.tools]
    below += [previous.library_layer.tree] if previous.library_layer else []
    if not all(map(cache.is_whole, below)):
        return False
    asked = declaration.system
    if asked.packages or asked.files or asked.libraries or asked.fonts or asked.locales or not previous.libraries:
        return False
    if {os.path.basename(name) for name in asked.tools} - {tool.name for tool in previous.tools}:
        return False
    return (snapshot.runtimes, snapshot.remainders) == (previous.runtimes, previous.remainders) and {
        (one.key, one.tree) for one in snapshot.packages
    } == {(one.key, one.tree) for one in previous.packages}


def _with(snapshot: Snapshot, lower_layers: LowerLayers) -> Snapshot:
    return lockfile.identified(
        snapshot.platform, snapshot.runtimes, snapshot.packages, snapshot.remainders, lower_layers
    )


def _unchanged(snapshot: Snapshot, subject: Subject) -> Snapshot:
    """The layers below as they are in the earlier lockfile, but for the conditions that are declared."""
    held = subject.held
    here = conditions.observe(subject).record if held.library_layer else held.conditions
    return _with(snapshot, replace(held, conditions=here))


@contextmanager
def _held(cache: Cache, work: Path, previous: Snapshot | None) -> Iterator[HeldLibraries | None]:
    """The libraries of the earlier lockfile under their names, as links into the cache: the loader's rules, for which a
    library is a name in a folder, find them first as they do in a restored environment."""
    try:
        tree = cache.tree(previous.library_layer.tree) if previous and previous.library_layer else None
    except CacheError:
        tree = None  # it is taken from this machine anew
    if tree is None or previous is None:
        yield None
        return
    folder = work / marker.PRIVATE
    for entry in tree:
        path = folder / entry.path
        path.parent.mkdir(parents=True, exist_ok=True)
        path.symlink_to(entry.content if entry.kind == LINK else cache.entry_path(entry))
    left = previous.library_layer.left if previous.library_layer else ()
    yield HeldLibraries(folder, libraries.held_records(previous.libraries), left)


def _programs(cache: Cache, snapshot: Snapshot, objects: list[ObjectFile]) -> list[ObjectFile]:
    """The executables of the runtimes, as far as they are compiled programs."""
    found = []
    for runtime in snapshot.runtimes:
        entries = {entry.path: entry for entry in cache.tree(runtime.tree)}
        lies = cache.entry_path(entries[runtime.executable]) if runtime.executable in entries else ""
        found += [one for one in objects if one.source == lies and one.user == runtime.owner]
    return found


def _objects(cache: Cache, snapshot: Snapshot) -> Iterator[ObjectFile]:
    """All files of runtimes and packages, out of the cache."""
    for parts in snapshot.of_languages():
        yield from languages.of(parts.runtime.language).capturing.files_of(parts, cache)


def _objects_of_tools(cache: Cache, held: LowerLayers) -> Iterator[ObjectFile]:
    for tool in held.tools:
        if cache.has_tree(tool.tree):
            tree = cache.tree(tool.tree)
            yield from tools.files_of(tool, tree, {one.path: cache.entry_path(one) for one in tree if one.kind != LINK})
