"""What comparing one result says."""

from __future__ import annotations

import enum
from collections.abc import Iterable
from pathlib import Path

from msgspec import Struct, field

from lapidar.core.results.numbers import Numbers

__all__ = ["PRINTED", "BeyondLimit", "Compared", "Extent", "Found", "Pair", "Unreadable", "Verdict", "worst"]

PRINTED = "(what it printed)"  # as a result is called


class Verdict(enum.StrEnum):
    """Worst last. `SAME`: the bytes differ, and nothing that a reader could tell does."""

    IDENTICAL = "identical"
    SAME = "same content"
    WITHIN = "within tolerance"
    DIFFERENT = "different"
    GONE = "gone"
    NEW = "new"
    UNREADABLE = "unreadable"

    @property
    def is_good(self) -> bool:
        """Whether the result is what it was, as far as was asked for."""
        return self in (Verdict.IDENTICAL, Verdict.SAME, Verdict.WITHIN)


_ORDER = list(Verdict)


def worst(verdicts: Iterable[Verdict]) -> Verdict:
    """The worst of several; of none, that nothing differs."""
    return max(verdicts, key=_ORDER.index, default=Verdict.IDENTICAL)


class Unreadable(Exception):
    """A file cannot be read as what it is; says why. Its bytes can be compared."""


class BeyondLimit(Unreadable):
    """What it takes to compare a file goes beyond a limit: whether the same is in it cannot be told."""


class Pair(Struct, frozen=True):
    """Two files that are compared: how it was, and how it is.

    Attributes:
        path: what the result is called.
    """

    path: str
    before: Path
    after: Path


class Extent(Struct, frozen=True):
    """How large a table is: its rows, as an editor counts lines, and what its columns are called."""

    rows: int
    columns: tuple[str, ...]


class Found(Struct):
    """What a kind finds.

    Attributes:
        verdict: of the contents; never `IDENTICAL`.
        worst: the worst difference, in a few words.
        details: what differs, a line each, the first ones.
        more: how many further differences there are.
        numbers: how the numbers in it differ.
        places: for a figure, the rows and columns of differing cells, or the pixels; each a pair.
        set_aside: what was not compared, in a few words.
        taken: how it was read where that was found and not declared, and what is written otherwise and taken for equal.
        extent: of a table, for a figure.
    """

    verdict: Verdict
    worst: str = ""
    details: list[str] = field(default_factory=list)
    more: int = 0
    numbers: Numbers | None = None
    places: list[tuple[int, int]] = field(default_factory=list)
    set_aside: list[str] = field(default_factory=list)
    taken: list[str] = field(default_factory=list)
    extent: Extent | None = None


class Compared(Struct, frozen=True):
    """The verdict on one result.

    Attributes:
        kind: what it was compared as.
        bytes_before, bytes_after: sizes; None where it is not there.
        tolerance: what was tolerated, in a few words; "" where nothing was.
        set_aside, taken: as in `Found`; they are said beside a good verdict too.
        note: what would have let it be compared better.
    """

    path: str
    verdict: Verdict
    kind: str = ""
    bytes_before: int | None = None
    bytes_after: int | None = None
    worst: str = ""
    details: tuple[str, ...] = ()
    more: int = 0
    numbers: Numbers | None = None
    places: tuple[tuple[int, int], ...] = ()
    tolerance: str = ""
    set_aside: tuple[str, ...] = ()
    taken: tuple[str, ...] = ()
    note: str = ""
    extent: Extent | None = None
