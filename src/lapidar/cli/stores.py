"""The stores that a command may look in: what is named on its command line, by the user, and by the project."""

from __future__ import annotations

from typing import TYPE_CHECKING

from lapidar.cli.main import Session

if TYPE_CHECKING:
    from lapidar.core.parcels.parcel import Parcels

__all__ = ["agreed_stores"]


def agreed_stores(session: Session, first: str) -> list[Parcels]:
    """The stores that the user and the project name, as far as they may be asked and answer.

    Args:
        first: the tag that is looked at first.
    """
    from lapidar.core.declaring.stores import agree, is_agreed, named_stores
    from lapidar.core.errors import LapidarError
    from lapidar.core.parcels.parcel import Parcels
    from lapidar.core.parcels.places import place_at

    view, found = session.view, []
    for one in named_stores(session.place):
        if not one.by_user and not is_agreed(one.host):
            if not view.asks(f"Ask {one.host}, which only this project names as its store?"):
                view.warn(
                    f"{one.host} was not asked: only this project names it. LAPIDAR_STORE={one.address}, or [store] in "
                    "your own configuration, lets it be"
                )
                continue
            agree(one.host)
        try:
            blobs, tag = place_at(one.address, with_credentials=one.by_user)
            found.append(Parcels(blobs, [tag or first]))
        except LapidarError as error:
            view.warn(f"{error}: it is passed over")
    return found
