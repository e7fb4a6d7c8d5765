"""What there is to choose from, as the resolver's neighbours see it: versions with the reasons against them."""

from __future__ import annotations

import enum
import fnmatch
from collections.abc import Collection, Sequence
from typing import Protocol

from msgspec import Struct

from lapidar.core.pinning.solver import Universe, Version, Wish
from lapidar.core.records.declaration import Index

__all__ = ["Against", "Market", "Reason", "Release", "assigned"]


def assigned(indexes: Sequence[Index], name: str) -> list[Index]:
    """The indexes that a name is looked for in: those that it is assigned to, and only there; else all those where not
    only certain names are looked for."""
    found = [index for index in indexes if any(fnmatch.fnmatchcase(name, one) for one in (*index.only, *index.claims))]
    return found or [index for index in indexes if not index.only]


class Against(enum.StrEnum):
    """Why a version cannot be chosen."""

    CAME_LATER = "came later"
    WITHDRAWN = "withdrawn"
    DIGESTS = "digests"
    RUNTIME = "runtime"
    NOTHING_BUILT = "nothing built"
    ONLY_SOURCE = "only source"
    PRE_RELEASE = "pre-release"
    UNUSABLE = "unusable"


_WORDS = {
    Against.CAME_LATER: "came after {}",
    Against.WITHDRAWN: "withdrawn{}",
    Against.DIGESTS: "none of its files has a digest that the project allows",
    Against.RUNTIME: "needs {}",
    Against.NOTHING_BUILT: "has no {}",
    Against.ONLY_SOURCE: "has no {}, only its source",
    Against.PRE_RELEASE: "a pre-release",
    Against.UNUSABLE: "{}",
}


class Reason(Struct, frozen=True):
    """A reason against a version.

    Attributes:
        detail: what its words have a place for.
    """

    against: Against
    detail: str = ""

    def __str__(self) -> str:
        """In words, to follow "it cannot be chosen:"."""
        return _WORDS[self.against].format(self.detail)


class Release(Struct, frozen=True):
    """A version of a package, as far as the indexes know it.

    Attributes:
        reason: why it cannot be chosen; None where it can.
        uploaded: when its first file came, ISO 8601; "" where the index does not tell.
        file: the name of the file that would be used here; "" where none fits.
        is_built: whether that file needs no building.
    """

    version: Version
    reason: Reason | None
    uploaded: str = ""
    is_withdrawn: bool = False
    is_prerelease: bool = False
    file: str = ""
    is_built: bool = False


class Market(Universe, Protocol):
    """A universe that also knows what cannot be chosen."""

    @property
    def has_indexes(self) -> bool:
        """Whether there is any index to ask."""

    @property
    def settled(self) -> Collection[str]:
        """The names whose version is settled from elsewhere than an index."""

    def fits(self, wish: Wish, version: Version) -> bool:
        """Whether a version is in a wish's range."""

    def knows(self, name: str) -> bool:
        """Whether there is such a package at all."""

    def releases(self, name: str) -> Sequence[Release]:
        """Every version of a name, the newest first."""

    def near(self, name: str) -> list[str]:
        """Names like one that no index has."""

    def wish_for(self, name: str, version: Version) -> Wish:
        """The wish for exactly a version."""

    def exactly(self, name: str, version: Version) -> str:
        """How one writes that exactly a version is asked for."""

    def at_least(self, name: str, version: Version) -> str:
        """How one writes that a version or a newer one is asked for."""

    def below(self, name: str, version: Version) -> str:
        """How one writes that only what is older than a version is asked for."""
