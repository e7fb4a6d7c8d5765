"""Where the blobs of an OCI layout lie: in a tar file, or in a folder (image-spec 1.1, image layout)."""

from __future__ import annotations

import io
import json
import os
import re
import shutil
import stat
import tarfile
import time
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import IO, Protocol

from msgspec.structs import replace

from lapidar.core import atomic, foreign
from lapidar.core.errors import LapidarError
from lapidar.core.parcels.form import (
    EMPTY,
    EMPTY_BLOB,
    INDEX,
    MANIFEST,
    MOST_BYTES,
    PARCEL,
    Descriptor,
    Index,
    Manifest,
    ParcelBroken,
    described,
    digest_of,
    name_of,
    named,
    parsed,
    written,
)
from lapidar.core.parcels.signing import MOST_BYTES as MOST_SIGNATURE_BYTES
from lapidar.core.parcels.signing import SIGNATURE, beside

__all__ = [
    "INDEX_NAME",
    "LAYOUT",
    "LAYOUT_NAME",
    "BlobMissing",
    "Blobs",
    "InFolder",
    "InTar",
    "OfIndex",
    "WritableBlobs",
    "at",
    "blob_name",
    "chosen",
    "index_in",
    "missing",
    "put_referring",
    "referring",
    "tags_in",
    "whole",
]

LAYOUT_NAME, INDEX_NAME = "oci-layout", "index.json"
LAYOUT = json.dumps({"imageLayoutVersion": "1.0.0"}).encode()
_KINDS = {"application/vnd.oci.image.config.v1+json": "a runnable image"}
_BLOB = re.compile(r"(?:\./)?blobs/sha256/([0-9a-f]{64})")
_MOST_MEMBERS = 100_000
_MAY_BE_COMING_SECONDS = 3600
_MOST_REFERRING = 1_000  # of what is said to refer to a manifest


class BlobMissing(LapidarError):
    """A blob is not where it should be."""


class Blobs(Protocol):
    """Where blobs and manifests lie.

    Attributes:
        called: what it is, for people.
    """

    @property
    def called(self) -> str: ...

    def lacks(self, one: Descriptor) -> bool:
        """Whether it is known, without asking a host, that a blob is not there."""

    def open(self, one: Descriptor) -> IO[bytes]:
        """The bytes of a blob, not verified. Called from several threads.

        Raises:
            BlobMissing: it is not there.
            OSError: it cannot be read.
        """

    def tags(self) -> list[str]:
        """The names of what is there, sorted."""

    def manifest(self, name: str = "") -> bytes:
        """The text of a manifest, by its tag or its digest; "" for the only one.

        Raises:
            BlobMissing: there is none of that name, or it is not clear which is meant.
            ParcelBroken: what is there cannot be read.
        """

    def attached(self, manifest: bytes, kind: str) -> list[bytes]:
        """What is kept as referring to a manifest: signatures, leases; what they are worth is not asked.

        Args:
            kind: the type of the artifact.
        """


class WritableBlobs(Blobs, Protocol):
    """One that can be written. What has a name by its digest is never written twice.

    Attributes:
        at_once: whether several may be brought at a time.
    """

    @property
    def at_once(self) -> bool: ...

    def has(self, one: Descriptor) -> bool:
        """Whether a blob is there."""

    def put(self, one: Descriptor, stream: IO[bytes]) -> bool:
        """Bring a blob there, unless it is there; whether it was not."""

    def put_manifest(self, data: bytes, name: str) -> None:
        """Keep a manifest under a tag."""

    def attach(self, manifest: bytes, kind: str, data: bytes) -> None:
        """Keep something as referring to a manifest."""

    def forget(self, tags: Sequence[str]) -> int:
        """Forget parcels, what refers to them, and blobs that nothing else lists.

        Args:
            tags: of each manifest all that it has.

        Returns:
            The bytes that became free; 0 where the place frees them itself, some time.
        """


def blob_name(digest: str) -> str:
    """Where a blob lies in a layout."""
    return f"blobs/sha256/{digest.removeprefix('sha256:')}"


class _Section(io.RawIOBase):
    """A part of a file, from a place on and so many bytes of it."""

    def __init__(self, descriptor: int, at: int, size: int) -> None:
        self._descriptor, self._at, self._left = descriptor, at, size

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: memoryview) -> int:  # type: ignore[override]
        size = os.preadv(self._descriptor, [buffer[: min(len(buffer), self._left)]], self._at)
        self._at += size
        self._left -= size
        return size


class OfIndex:
    """What an index tells of a place: see `Blobs`."""

    called = ""

    def _index(self) -> Index:
        raise NotImplementedError

    def lacks(self, one: Descriptor) -> bool:
        return False  # where a host has to be asked it is known then

    def open(self, one: Descriptor) -> IO[bytes]:
        raise NotImplementedError

    def tags(self) -> list[str]:
        return tags_in(self._index())

    def manifest(self, name: str = "") -> bytes:
        return whole(self, chosen(self._index(), name, self.called))

    def attached(self, manifest: bytes, kind: str) -> list[bytes]:
        return [data for _, data in referring(self, self._index(), manifest, kind)]


class InTar(OfIndex):
    """The layout in a tar file. What else is in the file is passed over.

    Args:
        path: of the file.

    Attributes:
        beside: what else is in it, with the sizes.

    Raises:
        ParcelBroken: it is none.
        OSError: it cannot be read.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        self.called = f"the parcel {path.name}"
        # A pipe is never waited for, and cannot be gone back in.
        self._file = open(os.open(path, os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK), "rb")  # noqa: SIM115
        if not stat.S_ISREG(os.fstat(self._file.fileno()).st_mode):
            raise self._broken("it is no regular file")
        self._descriptor = self._file.fileno()
        self._blobs: dict[str, tuple[int, int]] = {}
        self._texts: dict[str, tuple[int, int]] = {}
        self.beside: dict[str, int] = {}
        try:
            self._look_through()
        except (tarfile.TarError, EOFError, ValueError) as error:
            raise self._broken(str(error) or "it is cut off") from error
        if LAYOUT_NAME not in self._texts or INDEX_NAME not in self._texts:
            raise self._broken("it ends before its index" if self._blobs else "there is no OCI layout in it")

    def _look_through(self) -> None:
        with tarfile.open(fileobj=self._file, mode="r:") as archive:
            for number, member in enumerate(archive):
                if number > _MOST_MEMBERS:
                    raise ValueError(f"it has more than {_MOST_MEMBERS:,} entries")
                if not member.isreg():
                    continue
                where = (member.offset_data, member.size)
                if found := _BLOB.fullmatch(member.name):
                    self._blobs[f"sha256:{found[1]}"] = where
                elif (name := member.name.removeprefix("./")) in (LAYOUT_NAME, INDEX_NAME):
                    self._texts[name] = where
                else:
                    self.beside[name] = member.size
                archive.members.clear()  # type: ignore[attr-defined]

    def _begins_packed(self) -> bool:
        try:
            return os.pread(self._file.fileno(), 2, 0) == b"\x1f\x8b"
        except OSError:
            return False

    def _broken(self, why: str) -> ParcelBroken:
        remedy = "Name a file that `lapidar parcel make` wrote; have one that is damaged sent again."
        if self._begins_packed():
            remedy = "It is packed. What `parcel make --ready` wrote needs no lapidar: tar xzf FILE; sh NAME/run"
        return ParcelBroken(f"{self.path} is no parcel that can be read", why=why, remedy=remedy)

    def lacks(self, one: Descriptor) -> bool:
        return one.digest not in self._blobs

    def open(self, one: Descriptor) -> IO[bytes]:
        if one.digest not in self._blobs:
            raise missing(self.called, one)
        at, size = self._blobs[one.digest]
        if size != one.size:
            raise ParcelBroken(
                f"{self.called} is damaged", why=f"blob {one.digest} has {size:,} bytes, not {one.size:,}"
            )
        return io.BufferedReader(_Section(self._descriptor, at, size), 1 << 20)

    def attached(self, manifest: bytes, kind: str) -> list[bytes]:
        """The signature in the file beside it."""
        if kind != SIGNATURE:
            return []
        try:
            return [foreign.read(beside(self.path), MOST_SIGNATURE_BYTES)]
        except FileNotFoundError:
            return []

    def sign(self, signature: bytes) -> None:
        """Keep its signature, in a file beside it."""
        atomic.write_file(beside(self.path), signature)

    def _index(self) -> Index:
        at, size = self._texts[INDEX_NAME]
        if size > MOST_BYTES:
            raise self._broken("its index is too large")
        return index_in(os.pread(self._descriptor, size, at), self.called)


class InFolder(OfIndex):
    """The layout in a folder.

    Args:
        path: of the folder.
    """

    at_once = False

    def __init__(self, path: Path) -> None:
        self.path = path
        self.called = f"the store {path}"

    def lacks(self, one: Descriptor) -> bool:
        return not self.has(one)

    def has(self, one: Descriptor) -> bool:
        """Whether a blob is there, of the right size."""
        try:
            return os.stat(self.path / blob_name(one.digest)).st_size == one.size
        except FileNotFoundError:
            return False

    def attach(self, manifest: bytes, kind: str, data: bytes) -> None:
        listed, text = put_referring(self, manifest, kind, data)
        self.put(listed, io.BytesIO(text))
        with atomic.locked(self.path):
            there = self._index().manifests
            if listed.digest not in {other.digest for other in there}:
                atomic.write_file(self.path / INDEX_NAME, written(Index(manifests=(*there, listed))))

    def put(self, one: Descriptor, stream: IO[bytes]) -> bool:
        """Bring a blob there, unless it is there: whole or not at all."""
        if self.has(one):
            return False
        folder = self.path / "blobs" / "sha256"
        atomic.make_folder(folder)
        with atomic.WorkFolder(self.path, ".coming-") as work:
            part = work.path / "blob"
            with part.open("wb") as out:
                shutil.copyfileobj(stream, out, 1 << 20)
            atomic.put_in_place(part, self.path / blob_name(one.digest))
        return True

    def put_manifest(self, data: bytes, name: str) -> None:
        """Keep a manifest under a tag. Several may do so at once: the index has one writer at a time."""
        one = described(data, MANIFEST)
        manifest = parsed(data, Manifest, self.called)
        assert isinstance(manifest, Manifest)
        self.put(one, io.BytesIO(data))
        with atomic.locked(self.path):
            # Whoever forgot parcels in the meantime has the lock before or after.
            for listed in (*manifest.layers, one):
                if not self.has(listed):
                    raise missing(self.called, listed)
            if not (self.path / LAYOUT_NAME).exists():
                atomic.write_file(self.path / LAYOUT_NAME, LAYOUT)
            others = [other for other in self._index().manifests if name_of(other) != name]
            manifests = (*others, named(manifest, name))
            atomic.write_file(self.path / INDEX_NAME, written(Index(manifests=manifests)))

    def forget(self, tags: Sequence[str]) -> int:
        with atomic.locked(self.path):
            left = [one for one in self._index().manifests if name_of(one) not in tags]
            named_still = {one.digest for one in left if name_of(one)}
            kept: list[Descriptor] = []
            manifests: list[Manifest | None] = []
            for one in left:
                found = self._manifest_of(one)
                if name_of(one) or found is None or found.subject is None or found.subject.digest in named_still:
                    kept.append(one)
                    manifests.append(found)
            atomic.write_file(self.path / INDEX_NAME, written(Index(manifests=tuple(kept))))
            if None in manifests:
                return 0  # of one it is not known what it lists
            blobs = {listed.digest for found in manifests if found for listed in (found.config, *found.layers)}
            return self._drop_but(blobs | {one.digest for one in kept})

    def _manifest_of(self, one: Descriptor) -> Manifest | None:
        """A manifest that the index lists; None where it cannot be read."""
        try:
            found = parsed(whole(self, one), Manifest, self.called)
        except (ParcelBroken, BlobMissing):
            return None
        assert isinstance(found, Manifest)
        return found

    def _drop_but(self, kept: set[str]) -> int:
        """Remove blobs that nothing lists; one that came lately may be listed yet.

        Returns:
            Their bytes.
        """
        size, now = 0, time.time()
        for entry in os.scandir(self.path / "blobs" / "sha256"):
            status = entry.stat(follow_symlinks=False)
            if f"sha256:{entry.name}" not in kept and now - status.st_mtime > _MAY_BE_COMING_SECONDS:
                os.unlink(entry.path)
                size += status.st_size
        return size

    def open(self, one: Descriptor) -> IO[bytes]:
        try:
            return open(self.path / blob_name(one.digest), "rb", buffering=1 << 20)
        except FileNotFoundError as error:
            raise missing(self.called, one) from error

    def _index(self) -> Index:
        try:
            return index_in(foreign.read(self.path / INDEX_NAME, MOST_BYTES), self.called)
        except FileNotFoundError:
            return Index()


def index_in(data: bytes, called: str) -> Index:
    """An index that somebody wrote.

    Raises:
        ParcelBroken: it is none, or of another version.
    """
    found = parsed(data, Index, called)
    assert isinstance(found, Index)
    if found.schema_version != 2 or found.media_type not in ("", INDEX):
        raise ParcelBroken(
            f"{called} has an index of another version", why=f"{found.schema_version}, {found.media_type}"
        )
    return found


def tags_in(index: Index) -> list[str]:
    """The names of the manifests in an index, sorted."""
    return sorted({name_of(one) for one in index.manifests if one.media_type == MANIFEST} - {""})


def chosen(index: Index, name: str, called: str) -> Descriptor:
    """The manifest of a name (a tag, or a digest), or the only one.

    Raises:
        BlobMissing: there is none, or it is not clear which is meant.
    """
    manifests = [one for one in index.manifests if one.media_type == MANIFEST and one.artifact_type in ("", PARCEL)]
    found = [one for one in manifests if name in ("", name_of(one), one.digest)]
    found = found or [one for one in index.manifests if name and name == one.digest]
    if len(found) == 1:
        return found[0]
    if not name and not manifests and index.manifests:
        raise BlobMissing(
            f"{called} holds something else than a parcel",
            why=", ".join(
                sorted({_KINDS.get(one.artifact_type, one.artifact_type or "an image") for one in index.manifests})
            ),
            remedy="`lapidar parcel make` writes parcels.",
        )
    raise BlobMissing(
        f"{called} has no parcel {name}" if name else f"{called} holds {len(found) or 'no'} parcels",
        why=", ".join(tags_in(index)[:6]),
        remedy="Name one: lapidar parcel list shows what there is." if manifests else "Send one: lapidar parcel send.",
    )


def missing(called: str, one: Descriptor) -> BlobMissing:
    """The error for a blob that is not where its manifest says."""
    return BlobMissing(
        f"{called} lacks a blob that it names: {one.title or one.tree or one.digest}",
        why=one.digest,
        remedy="It holds only what another side lacked, or was not written to its end: have the whole one sent.",
    )


def put_referring(to: WritableBlobs, manifest: bytes, kind: str, data: bytes) -> tuple[Descriptor, bytes]:
    """Bring the blobs of what refers to a manifest there.

    Returns:
        The manifest by which it refers to that: as an index lists it, and its text.
    """
    one = described(data, kind)
    to.put(one, io.BytesIO(data))
    to.put(EMPTY, io.BytesIO(EMPTY_BLOB))
    text = written(Manifest(artifact_type=kind, layers=(one,), subject=described(manifest, MANIFEST)))
    return replace(described(text, MANIFEST), artifact_type=kind), text


def referring(blobs: Blobs, index: Index, manifest: bytes, kind: str) -> Iterator[tuple[Descriptor, bytes]]:
    """What in a list of manifests refers to one: its manifest, and its bytes; what cannot be read does not.

    Args:
        kind: the type of the artifact; "" for any.
    """
    digest = described(manifest, MANIFEST).digest
    meant = [one for one in index.manifests if one.artifact_type and kind in ("", one.artifact_type)]
    for listed in meant[:_MOST_REFERRING]:
        try:
            found = parsed(blobs.manifest(listed.digest), Manifest, blobs.called)
            if isinstance(found, Manifest) and found.subject and found.subject.digest == digest and found.layers:
                yield listed, whole(blobs, found.layers[0], MOST_SIGNATURE_BYTES)
        except (ParcelBroken, BlobMissing):
            continue


def at(path: Path) -> InTar | InFolder:
    """The layout at a path.

    Raises:
        LapidarError: there is none.
    """
    if path.is_dir() and (path / LAYOUT_NAME).is_file():
        return InFolder(path)
    try:
        return InTar(path)
    except OSError as error:
        raise LapidarError(
            f"{path} cannot be read",
            why=error.strerror or str(error),
            remedy="Name a parcel: a file that `lapidar parcel make` wrote.",
        ) from error


def whole(blobs: Blobs, one: Descriptor, most: int = MOST_BYTES) -> bytes:
    """A small blob, verified.

    Raises:
        ParcelBroken: it has other bytes than its digest and size say, or too many.
        BlobMissing: it is not there.
    """
    if one.size > most:
        raise ParcelBroken(f"{blobs.called} has a text of {one.size:,} bytes", why=f"at most {most:,} are read")
    with blobs.open(one) as stream:
        data = stream.read(one.size + 1)
    if len(data) != one.size or digest_of(data) != one.digest:
        raise ParcelBroken(
            f"{blobs.called} is damaged",
            why=f"blob {one.digest} has other bytes",
        )
    return data
