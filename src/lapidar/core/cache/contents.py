"""What a snapshot stands for in a cache: its trees, each read once, and the files of these."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Mapping
from typing import NamedTuple

from lapidar.core import progress
from lapidar.core.cache.digest import sha256_of
from lapidar.core.cache.files import FileFlaw
from lapidar.core.cache.store import Cache
from lapidar.core.cache.trees import LINK, Entry, Tree
from lapidar.core.errors import CacheError, MissingFromCache
from lapidar.core.records.owner import Owner
from lapidar.core.records.snapshot import Part, Snapshot

__all__ = ["Contents", "Flaw", "trees_of"]


class Flaw(NamedTuple):
    """Something that the cache lacks of a snapshot, or holds altered.

    Attributes:
        path: of a file in the owner's tree; "" where the tree itself cannot be read.
        kind: what is wrong with the file; None where the tree cannot be read.
        why: the error in words, where the tree cannot be read.
        entry: the file, in its tree.
    """

    owner: Owner
    path: str
    kind: FileFlaw | None
    why: str = ""
    entry: Entry | None = None


class Contents:
    """The trees of a snapshot, as far as a cache has them.

    Attributes:
        trees: by their digests, those that can be read.
        unreadable: the flaws of the others.
        read: the inodes of the files that were read and found right, by their digest and kind.
    """

    def __init__(self, cache: Cache, snapshot: Snapshot) -> None:
        self.cache = cache
        self.snapshot = snapshot
        self.trees: dict[str, Tree] = {}
        self.unreadable: list[Flaw] = []
        self.read: dict[tuple[str, str], int] = {}
        for part in snapshot.parts():
            try:
                self.trees.setdefault(part.tree, cache.tree(part.tree))
            except CacheError as error:
                why = "not in this cache" if isinstance(error, MissingFromCache) else str(error)
                self.unreadable.append(Flaw(part.owner, "", None, why))

    @property
    def has_nothing(self) -> bool:
        """Whether the cache has no part of the snapshot."""
        return not self.trees and bool(self.unreadable)

    @property
    def total_bytes(self) -> int:
        """The size of all files, those that several parts have counted for each."""
        return sum(tree.total_bytes for _, tree in self._parts())

    def _parts(self) -> Iterator[tuple[Owner, Tree]]:
        for part in self.snapshot.parts():
            if part.tree in self.trees:
                yield part.owner, self.trees[part.tree]

    def flaws(self, *, deep: bool, reporter: progress.Progress) -> Iterator[Flaw]:
        """Everything that is lost or altered.

        Args:
            deep: read every byte; otherwise sizes and times vouch for them.
        """
        yield from self.unreadable
        with progress.task(reporter, "Reading the cache", self.total_bytes if deep else 0, "bytes"):
            for owner, tree in self._parts():
                yield from self.flaws_of(owner, tree, deep=deep, reporter=reporter)

    def flaws_of(self, owner: Owner, tree: Tree, *, deep: bool, reporter: progress.Progress) -> Iterator[Flaw]:
        """What is lost or altered of one tree; each file that several trees have is read once."""
        for entry in tree:
            if entry.kind != LINK and (kind := self._flaw(entry, deep)):
                yield Flaw(owner, entry.path, kind, entry=entry)
            if deep:
                reporter.advance(entry.bytes)

    def has_read(self, tree: Tree) -> bool:
        """Whether all files of a tree were read and found right."""
        return all(entry.kind == LINK or (entry.content, entry.kind) in self.read for entry in tree)

    def _flaw(self, entry: Entry, deep: bool) -> FileFlaw | None:
        if not deep:
            return self.cache.flaw(entry)
        if (entry.content, entry.kind) in self.read:
            return None
        flaw = self.cache.flaw(entry)
        if flaw:
            return flaw
        path = self.cache.entry_path(entry)
        try:
            inode = os.stat(path).st_ino
            if sha256_of(path) != entry.content:
                return FileFlaw.BYTES
        except OSError:
            return FileFlaw.UNREADABLE
        self.read[entry.content, entry.kind] = inode
        return None


def lacking(cache: Cache, snapshot: Snapshot) -> list[Part]:
    """The parts of a snapshot of which a cache has not all, by the sizes and times of their files."""
    return [part for part in snapshot.parts() if not cache.is_whole(part.tree)]


def trees_of(snapshots: Iterable[Snapshot]) -> Mapping[str, Owner]:
    """The digests of all trees that snapshots stand for, each with one whose it is."""
    return {part.tree: part.owner for snapshot in snapshots for part in snapshot.parts()}
