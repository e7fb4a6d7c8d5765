"""What a restored environment consists of: the files of the snapshot's trees, and those generated for them. Each
language and each layer adds its own."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from lapidar.core import languages
from lapidar.core.cache.store import Cache
from lapidar.core.cache.trees import Tree
from lapidar.core.environment import activation, launchers
from lapidar.core.environment.folder import PRIVATE
from lapidar.core.environment.layout import Layout, Placing
from lapidar.core.languages.protocol import Deriver
from lapidar.core.layers import conditions, libraries, tools
from lapidar.core.progress import Progress
from lapidar.core.records.owner import LAPIDAR
from lapidar.core.records.snapshot import LanguageParts, Snapshot
from lapidar.core.system import companions
from lapidar.core.system.loader import options_of

__all__ = ["Derived", "assemble", "derive"]


def assemble(
    snapshot: Snapshot, trees: Mapping[str, Tree], cache: Cache, way_to_project: str, whose_libraries: str
) -> Layout:
    """Lay out a restored environment, but for what is derived.

    Args:
        snapshot: what is to be restored.
        trees: its trees by their digests.
        cache: holds the bytes that generated files follow from.
        way_to_project: relative path from the environment's folder to the project's.
        whose_libraries: the system libraries it is to run with: its own (``private``) or the ``host``'s.
    """
    layout = Layout()
    at = _placing(snapshot, trees, cache, way_to_project, whose_libraries)
    for parts in snapshot.of_languages():
        languages.of(parts.runtime.language).lay_out(parts, layout, at)
    for layer in (libraries, tools, conditions):
        layer.place(snapshot, layout, at)
    homes = [variable for name in snapshot.languages for variable in languages.of(name).variables.homes]
    for path, data in activation.files(homes).items():
        layout.generate(LAPIDAR, path, data)
    return layout


def _placing(
    snapshot: Snapshot, trees: Mapping[str, Tree], cache: Cache, way_to_project: str, whose_libraries: str
) -> Placing:
    layer = snapshot.library_layer
    if whose_libraries != PRIVATE or layer is None:
        return Placing(trees, cache, way_to_project)
    tree = trees[layer.tree]
    data = tuple(entry.path for entry in tree)
    early = {name: path for one, name, path in companions.variables(data) if not one.use}
    loader = next((entry for entry in tree if entry.path == layer.loader), None)
    options = options_of(cache.entry_path(loader)) if loader else frozenset()
    private = launchers.Private(layer.loader, early, layer.absolute, options)
    return Placing(trees, cache, way_to_project, private, data)


@dataclass(slots=True)
class Derived:
    """A layout with all that the cache has of what is derived from trees.

    Attributes:
        missing: what is still to be derived: for a language its part of the snapshot, what derives it, and the trees.
    """

    layout: Layout
    missing: list[tuple[LanguageParts, Deriver, dict[str, Tree]]] = field(default_factory=list)

    @property
    def missing_trees(self) -> int:
        """From how many trees something is still to be derived."""
        return sum(len(trees) for _, _, trees in self.missing)

    def complete(self, environment: Path, reporter: Progress) -> None:
        """Derive the rest, with the runtimes that were just placed.

        Args:
            environment: where they were placed.
        """
        for parts, deriver, trees in self.missing:
            made = deriver.derive(trees, environment, reporter)
            languages.of(parts.runtime.language).lay_out_derived(parts, self.layout, made)
        self.missing = []


def derive(
    snapshot: Snapshot, trees: Mapping[str, Tree], cache: Cache, way_to_project: str, whose_libraries: str
) -> Derived:
    """Lay out a restored environment with what the cache has of what is derived; see `assemble`."""
    derived = Derived(assemble(snapshot, trees, cache, way_to_project, whose_libraries))
    for parts in snapshot.of_languages():
        language = languages.of(parts.runtime.language)
        deriver = language.deriver(cache, parts.runtime)
        if deriver is None:
            continue
        sources = {one.tree: trees[one.tree] for one in parts.every}
        known = {digest: deriver.known(digest) for digest in sources}
        there = {digest: tree for digest, tree in known.items() if tree is not None}
        language.lay_out_derived(parts, derived.layout, there)
        missing = {digest: tree for digest, tree in sources.items() if digest not in there}
        if missing:
            derived.missing.append((parts, deriver, missing))
    return derived
