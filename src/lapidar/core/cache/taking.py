"""Take trees out of a store into the cache."""

from __future__ import annotations

from collections.abc import Iterable
from functools import partial
from typing import IO, TYPE_CHECKING

from lapidar.core import progress
from lapidar.core.cache.store import Cache
from lapidar.core.cache.stowing import StreamDraft, stow
from lapidar.core.cache.trees import EXECUTABLE, LINK, Entry, Tree
from lapidar.core.errors import CacheError, MissingFromCache

if TYPE_CHECKING:
    from lapidar.core.stores.protocol import Store

__all__ = ["take"]


def take(digests: Iterable[str], store: Store, cache: Cache, reporter: progress.Progress) -> list[str]:
    """Bring trees into the cache, as far as a store has them; of the files only those that the cache lacks.

    Args:
        digests: of trees; those that the cache has whole are passed over.
        cache: in use by the caller.

    Returns:
        The digests of those that were brought.

    Raises:
        CacheError: what came is not what its digest says; the cache has nothing of it under that.
        OSError: the cache cannot be written.
    """
    lacking = [digest for digest in dict.fromkeys(digests) if not cache.is_whole(digest) and store.has_tree(digest)]
    with store.in_use():
        trees = {digest: _listing(store, digest) for digest in lacking}
        missing = {digest: _missing(cache, tree) for digest, tree in trees.items()}
        drafts = {
            digest: [
                StreamDraft(entry.path, partial(_opened, store, entry), entry.bytes, entry.kind == EXECUTABLE)
                for entry in entries
            ]
            for digest, entries in missing.items()
        }
        stowed = stow(cache, drafts, None, reporter)
    for digest, tree in trees.items():
        came = {entry.path: entry for entry in stowed[digest].tree}
        for entry in missing[digest]:
            if came[entry.path] != entry:
                raise CacheError(
                    f"{store.called} does not hold what it says: {entry.path} of tree {digest}",
                    why=f"its sha256 is to be {entry.content}, and is {came[entry.path].content}",
                    remedy="Do not use it. Nothing of it was placed.",
                )
        cache.put_tree(tree)
    return list(trees)


def _listing(store: Store, digest: str) -> Tree:
    tree = store.tree(digest)
    if tree.digest != digest:
        raise CacheError(f"{store.called} gives tree {tree.digest} for {digest}", remedy="Do not use it.")
    return tree


def _missing(cache: Cache, tree: Tree) -> list[Entry]:
    return [entry for entry in tree if entry.kind != LINK and cache.flaw(entry) is not None]


def _opened(store: Store, entry: Entry) -> IO[bytes]:
    try:
        return store.open_blob(entry.content)
    except OSError as error:
        raise MissingFromCache(
            f"{store.called} lacks a file of a tree that it has: {entry.path}", why=error.strerror or str(error)
        ) from error
