"""The stores that a command may look in: what is named on its command line, by the user, and by the project."""

from __future__ import annotations

from typing import TYPE_CHECKING

from lapidar.cli.main import Session

if TYPE_CHECKING:
    from lapidar.core.cache.store import Cache
    from lapidar.core.declaring.stores import Named
    from lapidar.core.parcels.parcel import Parcels
    from lapidar.core.records.snapshot import Snapshot

__all__ = ["agreed_stores", "chosen_store", "require_may_be_passed_on"]


def _may_be_asked(session: Session, one: Named) -> bool:
    """Whether a store may be asked: a host that only the project names, after the user has agreed, once."""
    from lapidar.core.declaring.stores import agree, is_agreed

    if one.by_user or is_agreed(one.host):
        return True
    if session.view.asks(f"Ask {one.host}, which only this project names as its store?"):
        agree(one.host)
        return True
    session.view.warn(
        f"{one.host} was not asked: only this project names it. LAPIDAR_STORE={one.address}, or [store] in "
        "your own configuration, lets it be"
    )
    return False


def chosen_store(session: Session) -> Named:
    """The store that is meant where a command names none: the first that may be asked.

    Raises:
        LapidarError: there is none.
    """
    from lapidar.core.declaring.stores import named_stores
    from lapidar.core.errors import LapidarError

    for one in named_stores(session.place):
        if _may_be_asked(session, one):
            return one
    raise LapidarError(
        "No store is named",
        remedy=f"lapidar parcel {session.options.action} ADDRESS; or [store] address = ... in lapidar.toml.",
    )


def agreed_stores(session: Session, first: str) -> list[Parcels]:
    """The stores that the user and the project name, as far as they may be asked and answer.

    Args:
        first: the tag that is looked at first.
    """
    from lapidar.core.declaring.stores import named_stores
    from lapidar.core.errors import LapidarError
    from lapidar.core.parcels.parcel import Parcels
    from lapidar.core.parcels.places import place_at

    view, found = session.view, []
    for one in named_stores(session.place):
        if not _may_be_asked(session, one):
            continue
        try:
            blobs, tag = place_at(one.address, with_credentials=one.by_user)
            found.append(Parcels(blobs, [tag or first]))
        except LapidarError as error:
            view.warn(f"{error}: it is passed over")
    return found


def require_may_be_passed_on(session: Session, cache: Cache, snapshot: Snapshot) -> None:
    """Before something goes to a store: what says by its licence that it is not for everybody.

    Raises:
        LapidarError: nobody agreed.
    """
    from lapidar.core.errors import LapidarError
    from lapidar.core.exchange.licences import not_to_be_passed_on
    from lapidar.core.records import words

    found = [] if session.options.yes else not_to_be_passed_on(snapshot, cache)
    for sentence in found:
        session.view.warn(sentence)
    if found and not session.view.asks("Send it all the same? Whoever reads the store gets it."):
        raise LapidarError(
            "Nothing was sent: a licence may forbid that it is passed on",
            why=words.some(found, 3),
            remedy="Send with --yes where you may; or capture without it (lapidar show licences).",
        )
