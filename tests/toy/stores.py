"""Two more stores: one in memory, that the tests hold against the cache, and a folder served over HTTP, as docs/stores.md
tells to write one."""

from __future__ import annotations

import hashlib
import io
import urllib.error
import urllib.request
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import IO

from lapidar.core.cache.trees import LINK, Tree
from lapidar.core.errors import CacheError, MissingFromCache
from lapidar.core.progress import Progress
from lapidar.core.stores.protocol import Store


class Memory:
    """A store in memory."""

    called = "the memory"

    def __init__(self) -> None:
        self.blobs: dict[str, bytes] = {}
        self.listings: dict[str, bytes] = {}
        self.snapshots: dict[str, bytes] = {}
        self.users = 0

    def has_tree(self, digest: str) -> bool:
        return digest in self.listings

    def tree(self, digest: str) -> Tree:
        if digest not in self.listings:
            raise MissingFromCache(f"{self.called} has no tree {digest}")
        return Tree.parse(self.listings[digest], digest)

    def open_blob(self, digest: str) -> IO[bytes]:
        if digest not in self.blobs:
            raise FileNotFoundError(digest)
        return io.BytesIO(self.blobs[digest])

    def references(self) -> list[str]:
        return sorted(self.snapshots)

    @contextmanager
    def in_use(self) -> Iterator[None]:
        self.users += 1
        try:
            yield
        finally:
            self.users -= 1

    def take(self, digests: Iterable[str], source: Store, reporter: Progress) -> list[str]:
        brought = []
        with source.in_use():
            for digest in dict.fromkeys(digests):
                if self.is_whole(digest) or not source.has_tree(digest):
                    continue
                tree = source.tree(digest)
                found = {}
                for entry in tree:
                    if entry.kind != LINK and entry.content not in self.blobs:
                        with source.open_blob(entry.content) as stream:
                            data = found[entry.content] = stream.read()
                        if hashlib.sha256(data).hexdigest() != entry.content:
                            raise CacheError(f"{source.called} does not hold what it says: {entry.path}")
                self.blobs |= found
                self.listings[digest] = tree.listing()
                brought.append(digest)
        return brought

    def is_whole(self, digest: str) -> bool:
        if digest not in self.listings:
            return False
        return all(entry.kind == LINK or entry.content in self.blobs for entry in self.tree(digest))

    def refer(self, snapshot: str, text: bytes) -> None:
        self.snapshots[snapshot] = text


def write_folder(cache_files: Iterable[tuple[str, bytes]], trees: Iterable[Tree], folder: Path) -> None:
    """Lay a store out as files, for any host to serve: ``blobs/HEX`` and ``trees/HEX``."""
    for name in ("blobs", "trees"):
        (folder / name).mkdir(parents=True, exist_ok=True)
    for digest, data in cache_files:
        (folder / "blobs" / digest).write_bytes(data)
    for tree in trees:
        (folder / "trees" / tree.digest.removeprefix("sha256:")).write_bytes(tree.listing())
    (folder / "snapshots").write_text("")


class OverHTTP:
    """A folder of files that some host serves; it is only read."""

    def __init__(self, address: str) -> None:
        self.address = address.rstrip("/")
        self.called = f"the store at {self.address}"

    def has_tree(self, digest: str) -> bool:
        try:
            self._get(f"trees/{digest.removeprefix('sha256:')}").close()
        except OSError:
            return False
        return True

    def tree(self, digest: str) -> Tree:
        try:
            with self._get(f"trees/{digest.removeprefix('sha256:')}") as answer:
                return Tree.parse(answer.read(), digest)
        except urllib.error.HTTPError as error:
            raise MissingFromCache(f"{self.called} has no tree {digest}") from error

    def open_blob(self, digest: str) -> IO[bytes]:
        return self._get(f"blobs/{digest}")

    def references(self) -> list[str]:
        with self._get("snapshots") as answer:
            return answer.read().decode().split()

    @contextmanager
    def in_use(self) -> Iterator[None]:
        yield  # nothing is ever removed there

    def _get(self, path: str) -> IO[bytes]:
        return urllib.request.urlopen(f"{self.address}/{path}", timeout=20)  # type: ignore[no-any-return]
