"""A cache over others, that are only read: what it lacks and is asked for is taken out of them first, so that all else
knows of one cache alone."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from pathlib import Path

from lapidar.core import progress
from lapidar.core.cache.store import Cache
from lapidar.core.cache.taking import take
from lapidar.core.cache.trees import Tree
from lapidar.core.stores.protocol import Store

__all__ = ["LayeredCache"]


class LayeredCache(Cache):
    """See `Cache`; a store that is written (`lapidar.core.stores.protocol.WritableStore`).

    Args:
        below: the others, in the order in which they are asked.
    """

    def __init__(self, root: Path, *, create: bool = False, below: Sequence[Cache] = ()) -> None:
        super().__init__(root, create=create)
        self.below = tuple(one for one in below if one.root != self.root)

    def tree(self, digest: str) -> Tree:
        """See `Cache.tree`."""
        if self.below and digest not in self._remembered and not self.has_tree(digest):
            self._take_from_below(digest)
        return super().tree(digest)

    def derived(self, tree_digest: str, key: str) -> Tree | None:
        """See `Cache.derived`."""
        if self.noted_derived(self.derived_path(tree_digest, key)) is None:
            for one in self.below:
                if (found := one.derived(tree_digest, key)) and one.has_files(found):
                    self._take_from_below(found.digest)
                    self.put_derived(tree_digest, key, found)
                    return found
        return super().derived(tree_digest, key)

    def take(self, digests: Iterable[str], source: Store, reporter: progress.Progress) -> list[str]:
        """Bring trees in from another store; see `lapidar.core.cache.taking.take`."""
        return take(digests, source, self, reporter)

    def _take_from_below(self, digest: str) -> None:
        """Take a tree out of a cache below that has it; nothing where none has."""
        one = next((one for one in self.below if one.is_whole(digest)), None)
        if one:
            take([digest], one, Cache(self.root), progress.Silent())  # into one that looks into none below
