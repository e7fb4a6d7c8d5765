"""A tree as a blob, and back: a canonical tar of its listing and its files, packed with Zstandard (RFC 8878).

``tree`` is the listing; ``files/PATH`` each file, in the listing's order; one that has the bytes and the kind of one
before it is a hard link to that. So the listing tells what every byte of the tar must be, and that is what is asked of
one that comes from elsewhere: no path climbs, no device is made, nothing is unpacked that was not announced.
"""

from __future__ import annotations

import hashlib
import os
from collections.abc import Callable, Iterator
from typing import IO, TYPE_CHECKING

import zstandard

from lapidar.core.cache.trees import EXECUTABLE, LINK, Entry, Tree
from lapidar.core.errors import MissingFromCache
from lapidar.core.parcels import tar
from lapidar.core.parcels.form import ParcelBroken, digest_of

if TYPE_CHECKING:
    from hashlib import _Hash

__all__ = ["Packed", "files_in", "pack", "tree_in"]

_LEVEL = 3
_PIECE_BYTES = 1 << 20
_SMALL_BYTES = 1 << 18  # what is smaller is read whole, and handed on together
_LISTING = "tree"
_MOST_LISTING_BYTES = 1 << 28
_LARGE_TREE_BYTES = 1 << 25  # from here on several threads pack one tree: other bytes, so the size alone decides
_MOST_WINDOW_BYTES = 1 << 27
_REMEDY = "Have it sent again, or made again where it came from. Nothing of this tree was kept."

Opener = Callable[[Entry], IO[bytes]]


def _headers(tree: Tree) -> Iterator[tuple[Entry, bytes, bool]]:
    """Each entry, what stands before it, and whether its bytes follow."""
    first: dict[tuple[str, str], str] = {}
    for entry in tree:
        path = f"files/{entry.path}"
        if entry.kind == LINK:
            yield entry, tar.header(path, 0, 0o777, tar.LINK, entry.content), False
            continue
        mode = 0o755 if entry.kind == EXECUTABLE else 0o644
        known = first.setdefault((entry.content, entry.kind), path)
        if known is not path and entry.bytes:
            yield entry, tar.header(path, 0, mode, tar.HARD_LINK, known), False
        else:
            yield entry, tar.header(path, entry.bytes, mode), True


def _pieces(tree: Tree, opened: Opener) -> Iterator[bytes]:
    """The bytes of the tar."""
    listing = tree.listing()
    yield tar.header(_LISTING, len(listing), 0o644) + listing + tar.padding(len(listing))
    for entry, head, follows in _headers(tree):
        if not follows:
            yield head
        elif entry.bytes <= _SMALL_BYTES:
            with opened(entry) as stream:
                data = stream.read()
            _require(hashlib.sha256(data), len(data), entry)
            yield head + data + tar.padding(entry.bytes)
        else:
            yield head
            yield from _large(entry, opened)
            yield tar.padding(entry.bytes)
    yield tar.END


def _large(entry: Entry, opened: Opener) -> Iterator[bytes]:
    digest, size = hashlib.sha256(), 0
    with opened(entry) as stream:
        while piece := stream.read(_PIECE_BYTES):
            digest.update(piece)
            size += len(piece)
            yield piece
    _require(digest, size, entry)


def _require(digest: _Hash, size: int, entry: Entry) -> None:
    """Raises: MissingFromCache: a file has other bytes than its digest says."""
    if size != entry.bytes or digest.hexdigest() != entry.content:
        raise MissingFromCache(
            f"A file is not what it must be: {entry.path}",
            why=f"its sha256 is to be {entry.content}",
            remedy="Mend the cache: lapidar cache audit, then capture or restore --fetch. Nothing was written.",
        )


class Packed:
    """What is written through it goes on to a stream; it knows the digest and the size of that.

    Attributes:
        size: in bytes.
    """

    def __init__(self, out: IO[bytes]) -> None:
        self._out = out
        self._digest = hashlib.sha256()
        self.size = 0

    def write(self, data: bytes) -> int:
        self._digest.update(data)
        self.size += len(data)
        self._out.write(data)
        return len(data)

    @property
    def digest(self) -> str:
        return f"sha256:{self._digest.hexdigest()}"


def pack(tree: Tree, opened: Opener, out: IO[bytes]) -> Packed:
    """Write a tree as a blob. Its bytes follow from the tree and the version of the compressor.

    Args:
        opened: opens the bytes of a file.

    Returns:
        What the blob is known by.

    Raises:
        MissingFromCache: a file has other bytes than its digest says.
    """
    packed = Packed(out)
    threads = (os.cpu_count() or 1) if tree.total_bytes >= _LARGE_TREE_BYTES else 0
    # One thread, several, how many pieces it comes in: no number of threads from 1 on changes the bytes, and no cut.
    squeezing = zstandard.ZstdCompressor(level=_LEVEL, threads=threads, write_checksum=False).compressobj()
    waiting: list[bytes] = []
    size = 0
    for piece in _pieces(tree, opened):
        waiting.append(piece)
        size += len(piece)
        if size >= _PIECE_BYTES:
            packed.write(squeezing.compress(b"".join(waiting)))
            waiting, size = [], 0
    packed.write(squeezing.compress(b"".join(waiting)) + squeezing.flush())
    return packed


# ---- back


class _Measured:
    """A stream that is read to a size and not beyond, and knows the digest of what was read."""

    def __init__(self, stream: IO[bytes], size: int) -> None:
        self._stream = stream
        self._left = size
        self._digest = hashlib.sha256()

    def read(self, most: int = -1) -> bytes:
        data = self._stream.read(self._left if most < 0 else min(most, self._left))
        self._digest.update(data)
        self._left -= len(data)
        return data

    def digest(self) -> str:
        while self.read(_PIECE_BYTES):
            pass
        return f"sha256:{self._digest.hexdigest()}"


class _Piece:
    """The bytes of one file of a tar, as a stream; what is left of it is passed over by whoever reads on."""

    def __init__(self, reader: _Reader, size: int) -> None:
        self._reader = reader
        self.left = size

    def read(self, most: int = -1) -> bytes:
        size = self.left if most < 0 else min(most, self.left)
        data = self._reader.exactly(size)
        self.left -= size
        return data

    def __enter__(self) -> _Piece:
        return self

    def __exit__(self, *error: object) -> None:
        pass


class _Reader:
    """Reads a packed tar, and knows what must come."""

    def __init__(self, stream: IO[bytes], size: int, called: str) -> None:
        self._measured = _Measured(stream, size)
        self._called = called
        squeezed = zstandard.ZstdDecompressor(max_window_size=_MOST_WINDOW_BYTES)
        self._plain = squeezed.stream_reader(self._measured, read_size=_PIECE_BYTES)  # type: ignore[arg-type]

    def exactly(self, size: int) -> bytes:
        try:
            data = self._plain.read(size)
            while len(data) < size:
                more = self._plain.read(size - len(data))
                if not more:
                    raise self.broken("it ends in the middle")
                data += more
        except zstandard.ZstdError as error:
            raise self.broken(str(error)) from error
        return data

    def expect(self, wanted: bytes, what: str) -> None:
        if self.exactly(len(wanted)) != wanted:
            raise self.broken(f"{what} is not as the listing says")

    def end(self, digest: str) -> None:
        """Nothing comes after it, and all of it has the digest that it must have."""
        try:
            if self._plain.read(1):
                raise self.broken("there is more in it than its listing says")
        except zstandard.ZstdError as error:
            raise self.broken(str(error)) from error
        if self._measured.digest() != digest:
            raise self.broken(f"its sha256 is not {digest}")

    def broken(self, why: str) -> ParcelBroken:
        return ParcelBroken(f"{self._called} is damaged", why=why, remedy=_REMEDY)


def _listing(reader: _Reader, digest: str) -> Tree:
    head = reader.exactly(tar.BLOCK)
    try:
        size = int(head[124:135], 8)
    except ValueError:
        size = -1
    if not 0 <= size <= _MOST_LISTING_BYTES or head != tar.header(_LISTING, size, 0o644):
        raise reader.broken("it does not begin with a listing")
    listing = reader.exactly(size)
    if digest_of(listing) != digest:
        raise reader.broken(f"its listing is not that of tree {digest}")
    reader.exactly(-size % tar.BLOCK)
    return Tree.parse(listing, digest)


def tree_in(stream: IO[bytes], size: int, digest: str, called: str) -> Tree:
    """The listing at the beginning of a blob.

    Args:
        digest: of the tree.
        called: what the blob is, for people.

    Raises:
        ParcelBroken: it is that of another tree, or none.
    """
    return _listing(_Reader(stream, size, called), digest)


def files_in(
    stream: IO[bytes], size: int, tree_digest: str, digest: str, called: str
) -> Iterator[tuple[Entry, IO[bytes]]]:
    """The files of a blob in their order, each with its bytes, to be read before the next is asked for. Whether the
    bytes are right is for the reader to find; that nothing else is in the blob is known once all was read.

    Args:
        digest: of the blob.

    Raises:
        ParcelBroken: the blob is not what its listing says, or is not all there.
    """
    reader = _Reader(stream, size, called)
    tree = _listing(reader, tree_digest)
    for entry, head, follows in _headers(tree):
        reader.expect(head, entry.path)
        if follows:
            piece = _Piece(reader, entry.bytes)
            yield entry, piece  # type: ignore[misc]
            while piece.left:
                piece.read(_PIECE_BYTES)
            reader.exactly(-entry.bytes % tar.BLOCK)
    reader.expect(tar.END, "its end")
    reader.end(digest)
