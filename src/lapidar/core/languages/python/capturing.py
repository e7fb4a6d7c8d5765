"""From an environment of Python to an inventory; see `lapidar.core.languages.protocol.Capturing`."""

from __future__ import annotations

from collections.abc import Iterator

from lapidar.core.cache.store import Cache
from lapidar.core.cache.trees import LINK, Tree
from lapidar.core.languages.protocol import Located, ObjectFile, ObserveOptions
from lapidar.core.languages.python import inventory, placing, probe
from lapidar.core.languages.python.inventory import PythonInventory
from lapidar.core.languages.python.locate import locate, refuse
from lapidar.core.languages.python.scope import choose_used
from lapidar.core.languages.python.standards import layout, metadata
from lapidar.core.place import Place
from lapidar.core.records.snapshot import LanguageParts

__all__ = ["choose_used", "files_of", "licence_of", "locate", "observe", "refuse"]

_LICENCE = b"PYTHON SOFTWARE FOUNDATION LICENSE VERSION 2"


def observe(located: Located, place: Place, options: ObserveOptions) -> PythonInventory:
    """What is there."""
    return inventory.observe(
        probe.ask(located.interpreter),
        place,
        full_runtime=options.full_runtime,
        skip_outside=options.skip_outside,
        short_cuts=options.short_cuts,
    )


def licence_of(tree: Tree, cache: Cache) -> str:
    """What a distribution says of its licence, or a runtime by its own file."""
    for entry in tree:
        if (
            entry.path.startswith("lib/python")
            and entry.path.endswith("/LICENSE.txt")
            and _LICENCE in cache.read(entry)
        ):
            return "PSF-2.0"
        if layout.is_metadata(entry.path) and entry.path.endswith(("/METADATA", "/PKG-INFO")):
            return metadata.licence(cache.read(entry).decode("utf-8", "replace"))
    return ""


def files_of(parts: LanguageParts, cache: Cache) -> Iterator[ObjectFile]:
    """The files of records that may need system libraries."""
    runtime = parts.runtime
    several = [(runtime.owner, placing.runtime_entries(runtime, cache.tree(runtime.tree)))]
    several += [(one.owner, placing.package_entries(runtime, cache.tree(one.tree))) for one in parts.above_runtime]
    for owner, entries in several:
        for entry, path in entries:
            if entry.kind != LINK:
                yield ObjectFile(owner, cache.entry_path(entry), path)
