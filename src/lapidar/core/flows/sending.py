"""Send: a parcel to a store, only what that lacks; and what a store has."""

from __future__ import annotations

import io
import tempfile
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from threading import Lock
from typing import IO

from msgspec import Struct

from lapidar.core import progress
from lapidar.core.flows.parcel import Gathered
from lapidar.core.parcels import leasing, places, writing
from lapidar.core.parcels.blobs import BlobMissing, Blobs, WritableBlobs
from lapidar.core.parcels.form import EMPTY, EMPTY_BLOB, Descriptor, Manifest, ParcelBroken, written
from lapidar.core.parcels.parcel import Parcel
from lapidar.core.records import words

__all__ = ["Sent", "listed", "send"]

_AT_ONCE = 8
_MOST_LOOKED_THROUGH = 20  # manifests that are asked for what is there already


class Sent(Struct):
    """What was sent.

    Attributes:
        tag: the name that it has there.
        blobs, bytes: what the store lacked.
    """

    tag: str
    manifest: Manifest | None = None
    blobs: int = 0
    bytes: int = 0


def send(
    gathered: Gathered,
    address: str,
    reporter: progress.Progress,
    *,
    lease: leasing.Lease | None = None,
    with_credentials: bool = True,
) -> Sent:
    """Bring a parcel to a store. What is there is not packed again where a manifest there tells which blob it is; the
    manifest comes last, so that nobody finds half of it.

    Args:
        gathered: what it consists of; the cache is in use by the caller.
        address: of a folder or a registry, with a tag or without: then the snapshot's first digits are it.
        lease: that somebody needs it; renewed where it is there.
        with_credentials: whether the user's own are for it: not where a project alone names it.

    Raises:
        LapidarError: the store cannot be used. What it was given stays, and is not sent again.
    """
    target, tag = places.writable_at(address, with_credentials=with_credentials)
    sent, lock = Sent(tag or words.short(gathered.snapshot.snapshot)), Lock()

    def sink(one: Descriptor, stream: IO[bytes]) -> None:
        if target.put(one, stream):
            with lock:
                sent.blobs, sent.bytes = sent.blobs + 1, sent.bytes + one.size

    with tempfile.TemporaryDirectory(prefix="lapidar-parcel-") as folder:
        known = _known(target, sent.tag)
        sent.manifest = writing.hand_over(gathered.content, known, sink, Path(folder), reporter, at_once=target.at_once)
    sink(EMPTY, io.BytesIO(EMPTY_BLOB))
    text = written(sent.manifest)
    target.put_manifest(text, sent.tag)
    if lease:
        leasing.leave(target, text, lease)
    return sent


def _known(target: WritableBlobs, tag: str) -> dict[str, Descriptor]:
    """The blobs of trees that a store has, as far as its manifests tell."""
    tags = target.tags()
    found: dict[str, Descriptor] = {}
    for name in [tag] * (tag in tags) + [one for one in reversed(tags) if one != tag][:_MOST_LOOKED_THROUGH]:
        try:
            found = {**Parcel(target, name).manifest.trees, **found}
        except (ParcelBroken, BlobMissing):
            continue
    with ThreadPoolExecutor(_AT_ONCE) as pool:
        there = list(pool.map(target.has, found.values()))
    return {digest: one for (digest, one), is_there in zip(found.items(), there, strict=True) if is_there}


def listed(blobs: Blobs) -> Iterator[tuple[str, Parcel | None]]:
    """The tags of a store, each with its parcel; None for something else."""
    for tag in blobs.tags():
        try:
            yield tag, Parcel(blobs, tag)
        except (ParcelBroken, BlobMissing):
            yield tag, None
