"""From an environment of R to an inventory; see `lapidar.core.languages.protocol.Capturing`."""

from __future__ import annotations

from collections.abc import Iterator

from lapidar.core.cache.store import Cache
from lapidar.core.cache.trees import LINK, Tree
from lapidar.core.languages.protocol import Located, ObjectFile, ObserveOptions
from lapidar.core.languages.r import description, inventory, placing, probe
from lapidar.core.languages.r.inventory import RInventory
from lapidar.core.languages.r.locate import locate, refuse
from lapidar.core.languages.r.scope import choose_used
from lapidar.core.place import Place
from lapidar.core.records.snapshot import LanguageParts

__all__ = ["choose_used", "files_of", "licence_of", "locate", "observe", "refuse"]

_LICENCE = b"GNU GENERAL PUBLIC LICENSE Version 2"


def observe(located: Located, place: Place, options: ObserveOptions) -> RInventory:
    """What is there."""
    return inventory.observe(probe.ask(located.interpreter, place.root), place, full_runtime=options.full_runtime)


def licence_of(tree: Tree, cache: Cache) -> str:
    """What a package says of its licence, or R by its own file; the file that a package refers to is not read."""
    for entry in tree:
        if entry.path == "COPYING" and _LICENCE in b" ".join(cache.read(entry)[:200].split()):
            return "GPL-2"
        if entry.path == description.FILE_NAME:
            return " ".join(description.parse(cache.read(entry)).fields.get("License", "").split())
    return ""


def files_of(parts: LanguageParts, cache: Cache) -> Iterator[ObjectFile]:
    """The files of records that may need system libraries."""
    several = [(parts.runtime.owner, placing.runtime_entries(cache.tree(parts.runtime.tree)))]
    several += [(one.owner, placing.package_entries(one, cache.tree(one.tree))) for one in parts.packages]
    for owner, entries in several:
        for entry, path in entries:
            if entry.kind != LINK:
                yield ObjectFile(owner, cache.entry_path(entry), path)
