"""A parcel as a store: its trees are read through from their beginning to their end, each file verified as it comes."""

from __future__ import annotations

import hashlib
import io
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from functools import cached_property
from typing import IO

from lapidar.core.cache.trees import LINK, Entry, Tree
from lapidar.core.errors import LockfileError, MissingFromCache
from lapidar.core.foreign import MOST_TEXT_BYTES
from lapidar.core.parcels.blobs import BlobMissing, Blobs, whole
from lapidar.core.parcels.form import (
    LOCKFILE,
    PROJECT,
    RECORDS,
    Descriptor,
    Manifest,
    ParcelBroken,
    manifest_of,
)
from lapidar.core.parcels.packing import files_in, tree_in
from lapidar.core.records import lockfile, results, words
from lapidar.core.records.results import Results
from lapidar.core.records.snapshot import Snapshot

__all__ = ["Parcel", "Parcels"]

_MOST_PARCELS = 200


class Parcel:
    """The parcel in a layout, or in a registry.

    Args:
        blobs: where it lies.
        name: its tag or digest there; "" for the only one.

    Attributes:
        manifest, manifest_text: what it consists of.
        signed_by: who signed it, of those whom the user trusts, where that was asked.

    Raises:
        ParcelBroken: it is none, or it is not clear which is meant.
    """

    def __init__(self, blobs: Blobs, name: str = "") -> None:
        self.blobs = blobs
        self.called = blobs.called
        self.manifest_text = blobs.manifest(name)
        self.manifest: Manifest = manifest_of(self.manifest_text, self.called)
        self.signed_by = ""
        self._trees: dict[str, Tree] = {}

    # ---- what it says

    @cached_property
    def lockfile_text(self) -> bytes:
        """The text of its lockfile."""
        found = self.manifest.of_type(LOCKFILE)
        assert found is not None
        return whole(self.blobs, found, MOST_TEXT_BYTES)

    @cached_property
    def snapshot(self) -> Snapshot:
        """What its lockfile says.

        Raises:
            ParcelBroken: that is another snapshot than its manifest says, or a tree of it is not listed.
        """
        try:
            found = lockfile.parse(self.lockfile_text.decode("utf-8"), f"the lockfile in {self.called}")
        except (UnicodeDecodeError, LockfileError) as error:
            raise ParcelBroken(f"{self.called} has no lockfile that can be read", why=str(error)) from error
        if found.snapshot != self.manifest.snapshot:
            raise ParcelBroken(
                f"{self.called} names another snapshot than its lockfile has",
                why=f"{self.manifest.snapshot} and {found.snapshot}",
                remedy="Do not use it. Nothing of it was used.",
            )
        lost = [part for part in found.parts() if part.tree not in self.trees]
        if lost:
            raise ParcelBroken(f"{self.called} does not list all that its lockfile needs", why=lost[0].tree)
        return found

    @cached_property
    def records(self) -> Results:
        """The records in it; none where it has none."""
        text = self.records_text
        return results.parse(text.decode("utf-8", "replace")) if text else Results()

    @cached_property
    def records_text(self) -> bytes:
        found = self.manifest.of_type(RECORDS)
        return whole(self.blobs, found, MOST_TEXT_BYTES) if found else b""

    @cached_property
    def trees(self) -> dict[str, Descriptor]:
        """The blobs of its trees, by the digests of these: every question for a tree looks here."""
        return self.manifest.trees

    @property
    def project(self) -> Descriptor | None:
        """The blob of the project's files."""
        return self.manifest.of_type(PROJECT)

    @cached_property
    def lacking(self) -> list[Descriptor]:
        """The blobs that it lists and has not, where that can be told."""
        return [one for one in self.manifest.layers if self.blobs.lacks(one)]

    @cached_property
    def _lacking(self) -> frozenset[str]:
        return frozenset(one.digest for one in self.lacking)

    # ---- as a store

    def has_tree(self, digest: str) -> bool:
        found = self._of_tree(digest)
        return found is not None and found.digest not in self._lacking

    def _of_tree(self, digest: str) -> Descriptor | None:
        project = self.project
        return self.trees.get(digest) or (project if project and project.tree == digest else None)

    def _blob(self, digest: str) -> Descriptor:
        found = self._of_tree(digest)
        if found is None:
            raise MissingFromCache(f"{self.called} has no tree {digest}")
        return found

    def tree(self, digest: str) -> Tree:
        if digest not in self._trees:
            one = self._blob(digest)
            with self.blobs.open(one) as stream:
                self._trees[digest] = tree_in(stream, one.size, digest, self._named(one))
        return self._trees[digest]

    def read_through(self, digest: str) -> Iterator[tuple[Entry, IO[bytes]]]:
        """See `lapidar.core.stores.protocol.SequentialStore`."""
        one = self._blob(digest)
        with self.blobs.open(one) as stream:
            yield from files_in(stream, one.size, digest, one.digest, self._named(one))

    def open_blob(self, digest: str) -> IO[bytes]:
        for tree in self.trees:
            if self.has_tree(tree) and any(one.content == digest and one.kind != LINK for one in self.tree(tree)):
                for entry, stream in self.read_through(tree):
                    if entry.content == digest:
                        return io.BytesIO(stream.read())
        raise FileNotFoundError(digest)

    def references(self) -> list[str]:
        return [self.manifest.snapshot]

    @contextmanager
    def in_use(self) -> Iterator[None]:
        yield  # nothing is ever removed from it

    def _named(self, one: Descriptor) -> str:
        return f"blob {words.short(one.digest)} of {self.called}"

    # ---- all of it

    def verify(self) -> Iterator[Descriptor]:
        """Read every blob that is there, and every file in it; each is yielded once it was found right.

        Raises:
            ParcelBroken: something is not what it must be.
        """
        _ = self.snapshot, self.records, whole(self.blobs, self.manifest.config)
        for one in self.manifest.layers:
            if one.digest in self._lacking:
                continue
            if one.tree:
                self._verify_files(one)
            else:
                whole(self.blobs, one, MOST_TEXT_BYTES)
            yield one

    def _verify_files(self, one: Descriptor) -> None:
        with self.blobs.open(one) as stream:
            for entry, data in files_in(stream, one.size, one.tree, one.digest, self._named(one)):
                digest = hashlib.sha256()
                while piece := data.read(1 << 20):
                    digest.update(piece)
                if digest.hexdigest() != entry.content:
                    raise ParcelBroken(f"{self._named(one)} is damaged", why=f"{entry.path} has other bytes")


class Parcels:
    """All parcels that are kept in one place, as a store: a tree is taken out of any that has it.

    Args:
        blobs: where they lie.
        first: the tags that are looked at before all others, as far as they are there.
    """

    def __init__(self, blobs: Blobs, first: Sequence[str] = ()) -> None:
        self.blobs = blobs
        self.called = blobs.called
        tags = blobs.tags()
        self._waiting = [tag for tag in first if tag in tags] + [tag for tag in reversed(tags) if tag not in first]
        self._opened: list[Parcel] = []

    def _with_tree(self, digest: str) -> Parcel | None:
        return next((one for one in self._each() if one.has_tree(digest)), None)

    def parcels(self) -> Iterator[Parcel]:
        """All of them, as far as they can be read."""
        yield from self._each()

    def _each(self) -> Iterator[Parcel]:
        """Those that were read already, then the others, each read once; what is no parcel is passed over."""
        yield from list(self._opened)
        while self._waiting and len(self._opened) < _MOST_PARCELS:
            try:
                one = Parcel(self.blobs, self._waiting.pop(0))
            except (ParcelBroken, BlobMissing):
                continue
            self._opened.append(one)
            yield one

    def _having(self, digest: str) -> Parcel:
        found = self._with_tree(digest)
        if found is None:
            raise MissingFromCache(f"{self.called} has no tree {digest}")
        return found

    def has_tree(self, digest: str) -> bool:
        return self._with_tree(digest) is not None

    def tree(self, digest: str) -> Tree:
        return self._having(digest).tree(digest)

    def read_through(self, digest: str) -> Iterator[tuple[Entry, IO[bytes]]]:
        """See `lapidar.core.stores.protocol.SequentialStore`."""
        return self._having(digest).read_through(digest)

    def open_blob(self, digest: str) -> IO[bytes]:
        for one in self._each():
            try:
                return one.open_blob(digest)
            except FileNotFoundError:
                continue
        raise FileNotFoundError(digest)

    def references(self) -> list[str]:
        return sorted({one.manifest.snapshot for one in self._each()})

    @contextmanager
    def in_use(self) -> Iterator[None]:
        yield
