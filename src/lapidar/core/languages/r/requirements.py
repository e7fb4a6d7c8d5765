"""Requirements as R's DESCRIPTION files write them: ``NAME``, ``NAME (>= 2.1)``. In a need of a project several
conditions may stand between the parentheses; a DESCRIPTION names the package again for each."""

from __future__ import annotations

import re

from msgspec import Struct

from lapidar.core import foreign
from lapidar.core.errors import DeclarationError
from lapidar.core.languages.r import versions
from lapidar.core.languages.r.versions import Range
from lapidar.core.records.declaration import Need

__all__ = ["BASE", "NAME", "RECOMMENDED", "Requirement", "field", "of_need", "parse", "parse_need"]

# The packages that are R itself (R FAQ, 5.1.1).
BASE = frozenset(
    "base compiler datasets grDevices graphics grid methods parallel splines stats stats4 tcltk tools utils".split()
)
# Those that binary distributions of R have too (R FAQ, 5.1.2).
RECOMMENDED = frozenset(
    "KernSmooth MASS Matrix boot class cluster codetools foreign lattice mgcv nlme nnet rpart spatial survival".split()
)
NAME = r"[A-Za-z](?:[A-Za-z0-9.]*[A-Za-z0-9])?"
_REQUIREMENT = re.compile(rf"\s*({NAME})\s*(?:\(([^()]*)\))?\s*")


class Requirement(Struct, frozen=True):
    """A package by its name, and the versions of it that will do."""

    name: str
    range: Range = versions.NONE

    def __str__(self) -> str:
        return f"{self.name} ({self.range})" if self.range else self.name


def parse(text: str) -> Requirement:
    """A requirement.

    Raises:
        ValueError: it is none.
    """
    found = _REQUIREMENT.fullmatch(text) if len(text) <= foreign.MOST_NAME else None
    if found is None:
        raise ValueError(f"{text.strip()[:80]!r} is no requirement")
    return Requirement(found[1], versions.parse_range(found[2]) if found[2] is not None else versions.NONE)


def field(text: str) -> list[Requirement]:
    """The requirements of a field of a DESCRIPTION, each name once with all that is said of it; what is none is passed
    over, as R does.

    Raises:
        ValueError: there are more of them than any package has.
    """
    found: dict[str, Range] = {}
    parts = _parts(text)
    if len(parts) > foreign.MOST_NEEDS:
        raise ValueError(f"it needs more than {foreign.MOST_NEEDS:,} packages")
    for part in parts:
        try:
            one = parse(part)
        except ValueError:
            continue
        found[one.name] = found.get(one.name, versions.NONE).and_also(one.range)
    return [Requirement(name, range_) for name, range_ in found.items()]


def _parts(text: str) -> list[str]:
    """The pieces between commas, but for those between parentheses."""
    return [part for part in re.split(r",(?![^()]*\))", text) if part.strip()]


def parse_need(text: str, where: str = "", group: str = "") -> Need:
    """A need as one writes it.

    Raises:
        DeclarationError: it is none.
    """
    try:
        one = parse(text)
    except ValueError as error:
        raise DeclarationError(
            f"{text!r} is not a need of R" + (f" ({where})" if where else ""),
            why=str(error),
            remedy="Write it as NAME, or NAME (>= 1.2), or NAME (>= 1.2, < 2).",
        ) from error
    return Need("r", one.name, str(one), group, where, one)


def of_need(need: Need) -> Requirement:
    """The requirement of a need of R's."""
    assert isinstance(need.parsed, Requirement)
    return need.parsed
