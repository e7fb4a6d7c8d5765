"""What an environment is to consist of: a list that languages and layers add to, and what they need for that."""

from __future__ import annotations

import hashlib
import posixpath
from collections.abc import Collection, Iterable, Mapping
from types import MappingProxyType
from typing import NamedTuple

from msgspec import Struct, field

from lapidar.core.cache.store import Cache
from lapidar.core.cache.trees import EXECUTABLE, FILE, LINK, Entry, Tree
from lapidar.core.environment import launchers, manifest, marker, reserved
from lapidar.core.environment.listing import Assembled, Listing, PlacedRow
from lapidar.core.records.owner import LAPIDAR, Owner, PackageName
from lapidar.core.records.snapshot import Snapshot

__all__ = ["Item", "Layout", "Placing", "ToProject"]

_OWN = frozenset((marker.FILE_NAME, manifest.FILE_NAME))


class Item(NamedTuple):
    """One thing to place: a cached file, a link, or (with `data`) a generated file.

    Attributes:
        derived: it can be made again, so that an environment may lack it.
    """

    entry: Entry
    owner: Owner
    data: bytes | None = None
    derived: bool = False


class ToProject(NamedTuple):
    """The way from an environment to its project's files.

    Attributes:
        way: from the environment's folder to the project's, a relative path.
        live: of packages of the project's own: path in the tree -> path in the project of the file that stands for it.
    """

    way: str
    live: Mapping[PackageName, Mapping[str, str]] = MappingProxyType({})

    def link_to(self, path: str, target: str) -> str:
        """What a link at a path below the environment says, to lead to a path below the project."""
        return "../" * path.count("/") + posixpath.normpath(f"{self.way}/{target}")


class Layout(Struct):
    """Everything a restored environment holds: path below it -> item. What was added first at a path stands.

    Attributes:
        live: the paths of links to files of the project.
        earlier: of files that earlier versions wrote otherwise, what they wrote; None: no such file.
    """

    items: dict[str, Item] = field(default_factory=dict)
    live: set[str] = field(default_factory=set)
    earlier: dict[str, bytes | None] = field(default_factory=dict)

    def add(self, owner: Owner, placed: Iterable[tuple[Entry, str]], *, derived: bool = False) -> None:
        """Files of a tree, each with its path. Where two packages brought the same path it was one file when it was
        captured."""
        for entry, path in placed:
            if path in _OWN:
                reserved.refuse("The snapshot", path)
            self.items.setdefault(path, Item(entry, owner, None, derived))

    def generate(self, owner: Owner, path: str, data: bytes, *, executable: bool = False) -> None:
        """A file that is written for this environment."""
        entry = Entry(path, EXECUTABLE if executable else FILE, hashlib.sha256(data).hexdigest(), len(data))
        self.items.setdefault(path, Item(entry, owner, data))

    def as_placed(self, paths: Collection[str]) -> None:
        """Have it as the version had it that placed an environment.

        Args:
            paths: what it placed.
        """
        if all(data is not None or path in paths for path, data in self.earlier.items()):
            return
        for path, data in self.earlier.items():
            item = self.items.pop(path)
            if data is not None:
                self.generate(item.owner, path, data)

    def add_live(self, owner: Owner, path: str, target: str) -> None:
        """A link to a file of the project, which may be edited."""
        self.items.setdefault(path, Item(Entry(path, LINK, target, 0), owner))
        self.live.add(path)

    def command(self, name: str, data: bytes, owner: Owner = LAPIDAR) -> None:
        """A generated command in bin/."""
        self.generate(owner, f"bin/{name}", data, executable=True)

    def assembled(self, snapshot: Snapshot) -> Assembled:
        """The layout as a list, in the order in which things were added."""
        owners: dict[Owner, int] = {}
        rows: list[PlacedRow] = []
        written = {}
        for path, (entry, owner, data, _) in self.items.items():
            kind = entry.kind
            if data is not None:
                written[path] = data
                kind = kind.upper()
            rows.append((path, owners.setdefault(owner, len(owners)), kind, entry.content, entry.bytes))
        wanted: dict[str, list[str]] = {}
        for package in snapshot.packages:
            if package.asked_for:
                wanted.setdefault(package.language, []).append(package.name)
        return Assembled(Listing.of(rows, list(owners), wanted), written)


class Placing(Struct, frozen=True):
    """What the parts of a snapshot are placed with.

    Attributes:
        trees: by their digests.
        cache: holds the bytes that generated files follow from.
        project: the way to the project's files.
        private: how programs are started with the environment's own libraries; None where they run with the host's.
        data: the paths of what these libraries come with, below the private folder.
        closed_loader: the bytes of the loader that finds nothing of the host, where one could be made.
        late: the names of libraries that are looked for last.
        drivers: libraries of this host's device drivers, where the snapshot was captured with such: name -> path.
        folders: where runtimes have their own shared libraries, below the environment.
        declared: the variables that the snapshot holds, with their values.
    """

    trees: Mapping[str, Tree]
    cache: Cache
    project: ToProject
    private: launchers.Private | None = None
    data: tuple[str, ...] = ()
    closed_loader: bytes | None = None
    late: frozenset[str] = frozenset()
    drivers: Mapping[str, str] = field(default_factory=dict)
    folders: tuple[str, ...] = ("lib",)
    declared: Mapping[str, str] = field(default_factory=dict)

    def loader_of(self, tree: Tree, executable: str) -> launchers.Private | launchers.Host:
        """How a compiled program of a tree is started: through the environment's own loader, or through the host's.

        Args:
            executable: its path in the tree.
        """
        if self.private:
            return self.private
        entry = next((entry for entry in tree if entry.path == executable), None)
        return launchers.Host.of(self.cache.entry_path(entry) if entry else None, self.folders)
