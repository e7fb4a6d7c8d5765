"""The stores that a project and its user name: ``[store] address`` in lapidar.toml, in the user's own configuration,
and `LAPIDAR_STORE`.

What the user names may be asked, with her credentials. A host that only a project names is asked after she has agreed,
once, and without credentials.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple
from urllib.parse import urlsplit

from lapidar.core import atomic, foreign
from lapidar.core.declaring.files import user_file
from lapidar.core.declaring.project import load
from lapidar.core.declaring.reading import address_of
from lapidar.core.errors import DeclarationError
from lapidar.core.net.addresses import without_credentials
from lapidar.core.place import DECLARATION_NAME, Place

__all__ = ["Named", "agree", "is_agreed", "named_stores"]


class Named(NamedTuple):
    """A store that is named.

    Attributes:
        by_user: whether she names it herself.
    """

    address: str
    by_user: bool

    @property
    def host(self) -> str:
        """The host that would be asked; "" for a folder."""
        return urlsplit(self.address).netloc if "://" in self.address else ""


def named_stores(place: Place) -> list[Named]:
    """The stores that are looked in, in order: the user's, then the project's.

    Raises:
        DeclarationError: what is named is no address.
    """
    own = list(_of_user())
    hosts = {one.host for one in own if one.host}
    found = dict.fromkeys(own)
    for address in _in_file(place.declaration, DECLARATION_NAME, place.root):
        if without_credentials(address) != address:
            raise DeclarationError(
                f"{DECLARATION_NAME}: the address of the store holds a name, a password or a query",
                why="what is written there is committed and copied",
                remedy="Put name and password into ~/.netrc.",
            )
        one = Named(address, urlsplit(address).netloc in hosts if "://" in address else True)
        found.setdefault(one)
    return list(found)


def _of_user() -> Iterator[Named]:
    named = os.environ.get("LAPIDAR_STORE", "").split()
    if named:
        yield from (Named(address_of(one, Path.cwd()), by_user=True) for one in named)
        return
    for address in _in_file(user_file(), str(user_file()), user_file().parent):
        yield Named(address, by_user=True)


def _in_file(path: Path, where: str, base: Path) -> Iterator[str]:
    if not path.is_file():
        return
    table = load(path, where).get("store", {})
    told = table.get("address") if isinstance(table, dict) and set(table) == {"address"} else None
    several = [told] if isinstance(told, str) else told
    if table and (not isinstance(several, list) or not all(isinstance(one, str) and one for one in several)):
        raise DeclarationError(
            f"{where}: [store] has one key, address",
            remedy='Write address = "oci://HOST/NAME", or the path of a folder; several as a list.',
        )
    yield from (address_of(one, base) for one in several or ())


# ---- what she agreed to


def _agreed_file() -> Path:
    """Where it is kept (XDG Base Directory Specification)."""
    state = os.environ.get("XDG_STATE_HOME") or "~/.local/state"
    return Path(os.path.expanduser(state)) / "lapidar" / "hosts"


def is_agreed(host: str) -> bool:
    """Whether the user has agreed that a host is asked because a project names it."""
    try:
        return host in foreign.read_text(_agreed_file()).split()
    except (OSError, UnicodeDecodeError):
        return False


def agree(host: str) -> None:
    """Keep that she has."""
    path = _agreed_file()
    atomic.make_folder(path.parent)
    atomic.append_line(path, host.encode("ascii", "replace"))
