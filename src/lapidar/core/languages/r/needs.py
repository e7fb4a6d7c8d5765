"""Names, needs and versions as R has them; see `lapidar.core.languages.protocol.Versions`."""

from __future__ import annotations

from lapidar.core.languages.r.declaring import parse_range
from lapidar.core.languages.r.requirements import parse, parse_need
from lapidar.core.languages.r.versions import require, standing

__all__ = ["allows", "is_same", "normalised", "parse_need", "parse_range", "require", "standing"]


def normalised(name: str) -> str:
    """Names are what they are."""
    return name


def is_same(one: str, other: str) -> bool:
    """Whether two texts are the same version."""
    return one == other or standing(one, other) == 0


def allows(need: str, version: str) -> bool:
    """Whether a version is in the range of a need."""
    return parse(need).range.contains(version)
