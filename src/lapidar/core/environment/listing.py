"""A restored environment as a list: every file and link in it, and whom it belongs to.

Kept column by column: thirty thousand rows are read from JSON in a third of the time that way.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import msgspec
from msgspec.structs import replace

from lapidar.core.records.owner import Owner

__all__ = ["CACHED", "EXECUTABLE_KINDS", "LINK", "WRITTEN", "Assembled", "Listing", "PlacedRow"]

# The kinds: "f" a file and "x" an executable file that the cache has; "F" and "X" the same written for this
# environment (launchers, RECORD ...); "l" a symbolic link.
CACHED, WRITTEN, LINK = "fx", "FX", "l"
EXECUTABLE_KINDS = "xX"

# Path; index into the owners; kind; sha256 in hex ("" where it is left out), or the target of a link; size in bytes.
PlacedRow = tuple[str, int, str, str, int]


class Listing(msgspec.Struct, frozen=True):
    """All files of an environment.

    Attributes:
        owners: whose the files are; what is written for one environment is Lapidar's.
        paths, owner_of, kinds, contents, sizes: the columns.
        wanted: by language, the names of the packages that were asked for. Old kinds of package metadata have no place
            to note that, nor which files they own; capturing a restored environment reads both from here.
    """

    owners: list[Owner]
    paths: list[str]
    owner_of: list[int]
    kinds: str
    contents: list[str]
    sizes: list[int]
    wanted: dict[str, list[str]]

    @classmethod
    def of(cls, rows: Iterable[PlacedRow], owners: list[Owner], wanted: dict[str, list[str]]) -> Listing:
        """A listing of rows."""
        paths, owner_of, kinds, contents, sizes = zip(*rows, strict=True)  # an environment is never empty
        return cls(owners, list(paths), list(owner_of), "".join(kinds), list(contents), list(sizes), wanted)

    def rows(self) -> Iterator[PlacedRow]:
        """All rows, in order."""
        return zip(self.paths, self.owner_of, self.kinds, self.contents, self.sizes, strict=True)

    def row(self, at: int) -> PlacedRow:
        """The row at an index."""
        return self.paths[at], self.owner_of[at], self.kinds[at], self.contents[at], self.sizes[at]

    def without_digests(self) -> Listing:
        """The same with the contents of links only: half the size, and all that a quick check needs."""
        contents = [content if kind == LINK else "" for kind, content in zip(self.kinds, self.contents, strict=True)]
        return replace(self, contents=contents)

    def __len__(self) -> int:
        return len(self.paths)

    @property
    def total_bytes(self) -> int:
        return sum(self.sizes)

    def paths_of(self, owner: Owner) -> list[str]:
        """The paths that belong to an owner, relative to the environment."""
        if owner not in self.owners:
            return []
        index = self.owners.index(owner)
        return [path for path, own in zip(self.paths, self.owner_of, strict=True) if own == index]


class Assembled(msgspec.Struct, frozen=True):
    """A listing with the bytes of the files that are written for it: all that placing needs beside the cache."""

    listing: Listing
    written: dict[str, bytes]
