"""Forget: what a store has and nobody has a lease on."""

from __future__ import annotations

import datetime

from msgspec import Struct

from lapidar.core.flows.sending import listed
from lapidar.core.parcels import leasing
from lapidar.core.parcels.blobs import Blobs
from lapidar.core.parcels.leasing import Lease
from lapidar.core.parcels.parcel import Parcel

__all__ = ["Unneeded", "looked_through"]


class Unneeded(Struct, frozen=True):
    """A parcel that nobody has a lease on.

    Attributes:
        lapsed: the leases that ran out.
    """

    tag: str
    parcel: Parcel
    lapsed: tuple[Lease, ...]


def looked_through(blobs: Blobs) -> tuple[list[Unneeded], int]:
    """What of a store nobody needs, by the leases in it.

    Returns:
        The parcels that nobody has a lease on, and how many others there are, of parcels and of other things.
    """
    today = datetime.date.today()
    found, others = [], 0
    for tag, parcel in listed(blobs):
        told = tuple(leasing.leases(blobs, parcel.manifest_text)) if parcel else ()
        if parcel is None or any(lease.until >= today for lease in told):
            others += 1
        else:
            found.append(Unneeded(tag, parcel, told))
    return found, others
