"""What a restored environment consists of: the files of the snapshot's trees, and those generated for them. Each
language and each layer adds its own."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import Struct, field

from lapidar.core import languages
from lapidar.core.cache.store import Cache
from lapidar.core.cache.trees import Tree
from lapidar.core.environment import activation, launchers
from lapidar.core.environment.layout import Layout, Placing, ToProject
from lapidar.core.environment.marker import WhoseLibraries
from lapidar.core.languages.protocol import Deriver
from lapidar.core.layers import conditions, libraries, tools
from lapidar.core.progress import Progress
from lapidar.core.records.owner import LAPIDAR
from lapidar.core.records.snapshot import LanguageParts, Snapshot
from lapidar.core.system import companions
from lapidar.core.system.loader import VARIABLES, closed, options_of

if TYPE_CHECKING:
    from lapidar.core.cache.contents import Contents, Flaw

__all__ = [
    "Derived",
    "assemble",
    "derive",
    "derivers",
    "flaws_of_derived",
    "forget_damaged",
    "library_folders",
    "share_derived",
]

_C_LIBRARY = ("libc.so.6", "libm.so.6", "libpthread.so.0", "libdl.so.2", "librt.so.1", "libutil.so.1")


def assemble(
    snapshot: Snapshot, trees: Mapping[str, Tree], cache: Cache, project: ToProject, whose_libraries: WhoseLibraries
) -> Layout:
    """Lay out a restored environment, but for what is derived.

    Args:
        snapshot: what is to be restored.
        trees: its trees by their digests.
        cache: holds the bytes that generated files follow from.
        project: the way from the environment to the project's files.
        whose_libraries: the system libraries that it is to run with.
    """
    layout = Layout()
    at = _placing(snapshot, trees, cache, project, whose_libraries)
    for parts in snapshot.of_languages():
        languages.of(parts.runtime.language).laying_out.lay_out(parts, layout, at)
    for layer in (libraries, tools, conditions):
        layer.place(snapshot, layout, at)
    homes = [variable for name in snapshot.languages for variable in languages.of(name).variables.homes]
    for path, data in activation.files(homes).items():
        layout.generate(LAPIDAR, path, data)
    return layout


def _placing(
    snapshot: Snapshot, trees: Mapping[str, Tree], cache: Cache, project: ToProject, whose_libraries: WhoseLibraries
) -> Placing:
    layer = snapshot.library_layer
    held_to = snapshot.conditions
    declared = held_to.variables if held_to else {}
    folders = library_folders(snapshot)
    if whose_libraries is not WhoseLibraries.PRIVATE or layer is None:
        return Placing(trees, cache, project, folders=folders, declared=declared)
    tree = trees[layer.tree]
    data = tuple(entry.path for entry in tree)
    early = {name: path for one, name, path in companions.variables(data) if not one.use}
    loader = next((entry for entry in tree if entry.path == layer.loader), None)
    options = options_of(cache.entry_path(loader)) if loader else frozenset()
    late = _brought_by_packages(snapshot, trees)
    closed_loader = closed(cache.read(loader), launchers.AT_LATE if late else "") if loader else None
    late = late if closed_loader and launchers.AT_LATE.encode() in closed_loader else frozenset()
    drivers = libraries.drivers_here() if held_to and held_to.host else {}
    private = launchers.Private(
        layer.loader,
        early,
        layer.absolute,
        options,
        closed=closed_loader is not None,
        late=bool(late),
        drivers=bool(drivers),
        keeps=[name for name in VARIABLES if name in declared],
        folders=folders,
    )
    return Placing(trees, cache, project, private, data, closed_loader, late, drivers, folders, declared)


def library_folders(snapshot: Snapshot) -> tuple[str, ...]:
    """Where runtimes have their own shared libraries, below the environment; the last is where all may have some."""
    own = (runtime.places.get(launchers.LIBRARIES_PLACE) for runtime in snapshot.runtimes)
    return tuple(dict.fromkeys((*filter(None, own), "lib")))


def flaws_of_derived(snapshot: Snapshot, contents: Contents, *, deep: bool, reporter: Progress) -> Iterator[Flaw]:
    """What is lost or altered of what is derived from the trees of a snapshot, by whose the trees are. What was never
    derived, or noted wrongly, is no flaw: it can be derived again.

    Args:
        deep: read every byte; otherwise sizes and times vouch for them.
    """
    for parts, deriver in derivers(snapshot, contents.cache):
        for one in parts.every:
            tree = deriver.known(one.tree)
            if tree:
                yield from contents.flaws_of(one.owner, tree, deep=deep, reporter=reporter)


def forget_damaged(snapshot: Snapshot, contents: Contents, reporter: Progress) -> int:
    """Read all that is derived from the trees of a snapshot; what is damaged is set aside, to be derived anew.

    Returns:
        From how many trees.
    """
    damaged = 0
    for parts, deriver in derivers(snapshot, contents.cache):
        for one in parts.every:
            tree = deriver.known(one.tree)
            if tree is None:
                continue
            bad = {flaw.path for flaw in contents.flaws_of(one.owner, tree, deep=True, reporter=reporter)}
            if bad and contents.cache.writable:
                damaged += 1
                for entry in tree:
                    if entry.path in bad:
                        contents.cache.set_aside(contents.cache.entry_path(entry))
                deriver.forget(one.tree)
    return damaged


def _brought_by_packages(snapshot: Snapshot, trees: Mapping[str, Tree]) -> frozenset[str]:
    """The names of system libraries that packages have files of their own for. A package finds its own by what its
    files say of their places (DT_RUNPATH), which comes after the private folder and before the default ones."""
    names = {library.soname for library in snapshot.libraries}
    above = [one.tree for parts in snapshot.of_languages() for one in parts.above_runtime]
    brought = {entry.path.rpartition("/")[2] for tree in above for entry in trees[tree]}
    layer = snapshot.library_layer
    # What the C library is made of, and opens itself whenever it likes, must not hang on an open descriptor.
    always = {*_C_LIBRARY, *companions.opened_by(_C_LIBRARY), *([layer.loader] if layer else [])}
    return frozenset(names & brought - always)


class Derived(Struct):
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
            languages.of(parts.runtime.language).laying_out.lay_out_derived(parts, self.layout, made)
        self.missing = []


def derivers(snapshot: Snapshot, cache: Cache) -> Iterator[tuple[LanguageParts, Deriver]]:
    """For each language from whose trees something is derived: its parts of the snapshot, and what derives it."""
    for parts in snapshot.of_languages():
        deriver = languages.of(parts.runtime.language).laying_out.deriver(cache, parts.runtime)
        if deriver is not None:
            yield parts, deriver


def share_derived(snapshot: Snapshot, cache: Cache, tree: Tree, relatives: Collection[Tree]) -> None:
    """Take over for a tree what was derived from others that it shares files with; see `Deriver.share`."""
    for _, deriver in derivers(snapshot, cache):
        deriver.share(tree, relatives)


def derive(
    snapshot: Snapshot,
    trees: Mapping[str, Tree],
    cache: Cache,
    project: ToProject,
    whose_libraries: WhoseLibraries,
    *,
    there: Callable[[Tree], bool],
) -> Derived:
    """Lay out a restored environment with what the cache has of what is derived; see `assemble`.

    Args:
        there: whether the files of what was derived are to be counted as there.
    """
    derived = Derived(assemble(snapshot, trees, cache, project, whose_libraries))
    for parts, deriver in derivers(snapshot, cache):
        language = languages.of(parts.runtime.language)
        sources = {one.tree: trees[one.tree] for one in parts.every}
        known = {digest: deriver.known(digest) for digest in sources}
        usable = {digest: tree for digest, tree in known.items() if tree and there(tree)}
        language.laying_out.lay_out_derived(parts, derived.layout, usable)
        missing = {digest: tree for digest, tree in sources.items() if digest not in usable}
        if missing:
            derived.missing.append((parts, deriver, missing))
    return derived
