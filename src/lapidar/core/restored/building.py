"""From a snapshot and the cache to the files of an environment."""

from __future__ import annotations

import hashlib
from typing import TYPE_CHECKING

from lapidar.core.environment import assemblies
from lapidar.core.environment.build import EnvironmentBuilder
from lapidar.core.environment.layout import ToProject
from lapidar.core.environment.listing import Assembled
from lapidar.core.environment.marker import WhoseLibraries
from lapidar.core.errors import MissingFromCache
from lapidar.core.progress import Silent
from lapidar.core.records.snapshot import Snapshot

if TYPE_CHECKING:
    from lapidar.core.cache.contents import Contents

__all__ = ["Building"]


class Building:
    """Builds the environment of a snapshot: as it was kept from an earlier time, or derived from the trees.

    Args:
        builder: places it.
        project: the way from the environment to the project's files.
        libraries: whose system libraries it runs with.
        contents: what was verified already: then nothing that was kept is taken.
    """

    def __init__(
        self,
        snapshot: Snapshot,
        builder: EnvironmentBuilder,
        project: ToProject,
        libraries: WhoseLibraries,
        contents: Contents | None,
    ) -> None:
        self.cache = builder.cache
        self.snapshot = snapshot
        self.builder = builder
        self.project = project
        self.libraries = libraries
        self.contents = contents
        self.warnings: list[str] = []
        self.compiled = 0

    def run(self) -> Assembled:
        """Place all of it but what it says of itself.

        Raises:
            MissingFromCache: the cache has not all of it, or changed meanwhile.
        """
        key = self._key()
        assembled = None if self.contents else assemblies.kept(self.cache, self.snapshot.snapshot, key)
        if assembled is None or not self.builder.place(assembled):
            assembled = self._derived()
            if self.cache.writable:
                assemblies.keep(self.cache, self.snapshot.snapshot, key, assembled)
        return assembled

    def _key(self) -> str:
        """What the files of the environment follow from beside the snapshot."""
        local = self.project.live or any(package.origin.folders for package in self.snapshot.packages)
        live = sorted((*name, *sorted(files.items())) for name, files in self.project.live.items())
        told = hashlib.sha256(repr(live).encode("utf-8", "surrogateescape")).hexdigest() if live else ""
        own = self.libraries is WhoseLibraries.PRIVATE
        held_to = self.snapshot.conditions
        drivers = own and held_to is not None and held_to.host
        of_host = _hosts_drivers() if drivers else "" if own else _hosts_options()
        return "\n".join([_FORM, self.libraries, self.project.way if local else "", of_host, *([told] if told else [])])

    def _derived(self) -> Assembled:
        from lapidar.core.cache.contents import Contents
        from lapidar.core.restored import assemble
        from lapidar.core.restored.whole import heal, require_something

        contents = self.contents
        if contents is None:
            contents = Contents(self.cache, self.snapshot)
            require_something(contents)
            self.warnings += heal(self.cache, list(contents.flaws(deep=False, reporter=Silent())))
        derived = assemble.derive(
            self.snapshot,
            contents.trees,
            self.cache,
            self.project,
            self.libraries,
            there=self.contents.has_read if self.contents else self.cache.has_files,
        )
        assembled = derived.layout.assembled(self.snapshot)
        self._place(assembled)
        if derived.missing and not self.cache.writable:
            self.warnings.append("The cache is read-only: byte-code was not placed, so first imports take longer")
        elif derived.missing:
            self.compiled = derived.missing_trees
            derived.complete(self.builder.work, self.builder.reporter)
            assembled = derived.layout.assembled(self.snapshot)
            self._place(assembled)
        return assembled

    def _place(self, assembled: Assembled) -> None:
        if not self.builder.place(assembled):
            raise MissingFromCache(
                "The cache changed while it was read", remedy="Run the same command again, or `lapidar cache audit`."
            )


_FORM = "2"  # of what is generated: an assembly that an earlier version kept is another


def _hosts_drivers() -> str:
    """The libraries of device drivers, which the environment has links to."""
    from lapidar.core.layers.libraries import drivers_here

    return " ".join(f"{name}={path}" for name, path in sorted(drivers_here().items()))


def _hosts_options() -> str:
    """With the host's libraries, the launchers follow from what the host's loader can do."""
    from lapidar.core.environment.launchers import LOADER
    from lapidar.core.system.loader import options_of

    return " ".join(sorted(options_of(LOADER)))
