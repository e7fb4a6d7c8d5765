"""What a store must know: a few questions for one that is read, two more for one that is written."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from contextlib import AbstractContextManager
from typing import IO, TYPE_CHECKING, Protocol, runtime_checkable

if TYPE_CHECKING:
    from lapidar.core.cache.trees import Entry, Tree
    from lapidar.core.progress import Progress

__all__ = ["SequentialStore", "Store", "WritableStore"]


class Store(Protocol):
    """Blobs (the bytes of files), trees and snapshots, each by its digest. Nothing that a store says is believed:
    whoever takes something from it reads the digest of what came.

    Attributes:
        called: what it is, for people: "the parcel kilns.parcel".
    """

    @property
    def called(self) -> str: ...

    def has_tree(self, digest: str) -> bool:
        """Whether it has the listing of a tree (``sha256:...``)."""

    def tree(self, digest: str) -> Tree:
        """The listing of a tree.

        Raises:
            MissingFromCache: it is not there.
            CacheError: it cannot be read, or is another one's.
        """

    def open_blob(self, digest: str) -> IO[bytes]:
        """The bytes of a file (hex digits of their sha256), to be closed by the caller. Called from several threads.

        Raises:
            OSError: they are not there, or cannot be read.
        """

    def references(self) -> Iterable[str]:
        """The identities of the snapshots that it stands for."""

    def in_use(self) -> AbstractContextManager[None]:
        """A lease: while it lasts, nothing that is there is removed."""


@runtime_checkable
class SequentialStore(Store, Protocol):
    """One whose trees are best read from their beginning to their end: each file of its own would be slow there."""

    def read_through(self, digest: str) -> Iterator[tuple[Entry, IO[bytes]]]:
        """The files of a tree, each content once, with their bytes: these are to be read before the next is asked for.
        Nothing but what the listing of the tree announces comes, in that order."""


class WritableStore(Store, Protocol):
    """One that trees can be brought into. What has a name there is never rewritten."""

    def take(self, digests: Iterable[str], source: Store, reporter: Progress) -> list[str]:
        """Bring trees in from another store, as far as that has them; of the files only those that are lacking.

        Args:
            digests: of trees; those that are there whole are passed over.

        Returns:
            The digests of those that were brought.

        Raises:
            CacheError: what came is not what its digest says; nothing was kept under that.
            OSError: it cannot be written.
        """

    def refer(self, snapshot: str, text: bytes) -> None:
        """Keep a snapshot: its identity, and the text of its lockfile."""
