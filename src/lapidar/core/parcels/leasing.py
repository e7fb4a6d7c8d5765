"""Leases: that a project needs a parcel which a store keeps, until a day. A lease is an artifact that refers to the
manifest of the parcel; whoever keeps the store may forget a parcel that nobody has a lease on."""

from __future__ import annotations

import datetime
from collections.abc import Iterator

import msgspec

from lapidar.core import decoding
from lapidar.core.parcels.blobs import Blobs, WritableBlobs

__all__ = ["DAYS", "LEASE", "Lease", "lasting", "leases", "leave"]

LEASE = "application/vnd.lapidar.lease.v1+json"  # of the artifact, and of its one blob
DAYS = 400
_ENOUGH_DAYS = 30  # one that lasts nearly as long is not written again


class Lease(msgspec.Struct, frozen=True):
    """That somebody needs something.

    Attributes:
        project: the identity of the project.
        name: what it is called.
        until: the last day.
    """

    project: str
    name: str
    until: datetime.date


def lasting(project: str, name: str, days: int) -> Lease:
    """A lease from today on."""
    return Lease(project, name, datetime.date.today() + datetime.timedelta(days=days))


def leases(blobs: Blobs, manifest: bytes) -> Iterator[Lease]:
    """The leases on a parcel, also those that ran out; what cannot be read is none.

    Args:
        manifest: its text.
    """
    for data in blobs.attached(manifest, LEASE):
        try:
            yield decoding.from_json(data, Lease)
        except (msgspec.MsgspecError, ValueError, RecursionError):
            continue


def leave(target: WritableBlobs, manifest: bytes, lease: Lease) -> None:
    """Leave a lease on a parcel, unless the same project has one that lasts about as long."""
    enough = lease.until - datetime.timedelta(days=_ENOUGH_DAYS)
    if not any(one.project == lease.project and one.until >= enough for one in leases(target, manifest)):
        target.attach(manifest, LEASE, msgspec.json.encode(lease))
