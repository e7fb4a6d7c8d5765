"""Take trees out of a store into the cache."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from functools import partial
from typing import IO

from lapidar.core import atomic, foreign, progress
from lapidar.core.cache.store import Cache
from lapidar.core.cache.stowing import StreamDraft, stow, stow_in_turn
from lapidar.core.cache.trees import EXECUTABLE, LINK, Entry, Tree
from lapidar.core.errors import CacheError, MissingFromCache
from lapidar.core.stores.protocol import SequentialStore, Store

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
        NoSpace: the disk has not room for what a store says that it has.
        OSError: the cache cannot be written.
    """
    lacking = []
    for digest in dict.fromkeys(digests):
        if not cache.is_whole(digest):
            lacking += [digest] if store.has_tree(digest) else []
        elif cache.writable:
            cache.put_tree(cache.tree(digest))  # whoever brought it may have been killed between its two listings
    with store.in_use():
        trees = {digest: _listing(store, digest) for digest in lacking}
        missing = {digest: _missing(cache, tree) for digest, tree in trees.items()}
        _require_room(cache, missing)
        if isinstance(store, SequentialStore):
            _through(trees, missing, store, cache, reporter)
        else:
            _at_random(missing, store, cache, reporter)
    for tree in trees.values():
        cache.put_tree(tree)
    return list(trees)


def _at_random(missing: Mapping[str, list[Entry]], store: Store, cache: Cache, reporter: progress.Progress) -> None:
    """The files that are missing, each by its digest."""
    drafts = {
        digest: [
            StreamDraft(entry.path, partial(_opened, store, entry), entry.bytes, entry.kind == EXECUTABLE)
            for entry in entries
        ]
        for digest, entries in missing.items()
    }
    stowed = stow(cache, drafts, None, reporter)
    for digest, entries in missing.items():
        _require_right(store, digest, entries, {entry.path: entry for entry in stowed[digest].tree})


def _through(
    trees: Mapping[str, Tree],
    missing: Mapping[str, list[Entry]],
    store: SequentialStore,
    cache: Cache,
    reporter: progress.Progress,
) -> None:
    """The files that are missing, as they come."""
    with progress.task(reporter, "Unpacking", sum(tree.total_bytes for tree in trees.values()), "bytes"):
        for digest, entries in missing.items():
            wanted = {(entry.content, entry.kind) for entry in entries}
            if wanted:
                came = stow_in_turn(cache, _drafts(store, digest, wanted), reporter)
                _require_right(store, digest, entries, came)
            reporter.advance(trees[digest].total_bytes - sum(entry.bytes for entry in entries))
        atomic.flush_file_system(cache.root)  # the names of all files, before any tree speaks of them


def _drafts(store: SequentialStore, digest: str, wanted: set[tuple[str, str]]) -> Iterator[StreamDraft]:
    for entry, stream in store.read_through(digest):
        if (entry.content, entry.kind) in wanted:
            yield StreamDraft(entry.path, partial(_same, stream), entry.bytes, entry.kind == EXECUTABLE)


def _same(stream: IO[bytes]) -> IO[bytes]:
    return stream


def _require_right(store: Store, digest: str, wanted: Iterable[Entry], came: Mapping[str, Entry]) -> None:
    """What came is what was announced.

    Args:
        came: by its path; what has the content of another comes once.
    """
    contents = {(entry.content, entry.kind) for entry in came.values()}
    for entry in wanted:
        if (entry.content, entry.kind) not in contents:
            found = came[entry.path].content if entry.path in came else "nothing"
            raise CacheError(
                f"{store.called} does not hold what it says: {entry.path} of tree {digest}",
                why=f"its sha256 is to be {entry.content}, and is {found}",
                remedy="Do not use it. Nothing of it was placed.",
            )


def _require_room(cache: Cache, missing: Mapping[str, list[Entry]]) -> None:
    """Before anything is written: a small file may announce more than any disk has."""
    sizes = {(entry.content, entry.kind): entry.bytes for entries in missing.values() for entry in entries}
    foreign.require_room(cache.root, sum(sizes.values()), "name a cache on another disk with --cache")


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
