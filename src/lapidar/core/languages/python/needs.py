"""Names, needs and versions as Python has them; see `lapidar.core.languages.protocol.Versions`."""

from __future__ import annotations

from packaging.utils import canonicalize_name

from lapidar.core.languages.python.requirements import parse as parse_need
from lapidar.core.languages.python.versions import allows, is_same, require, standing
from lapidar.core.records.declaration import VersionRange

__all__ = ["allows", "is_same", "normalised", "parse_need", "parse_range", "require", "standing"]


def normalised(name: str) -> str:
    """A name in its normalised form (Names and normalization)."""
    return canonicalize_name(name)


def parse_range(text: str, where: str, before: VersionRange | None = None) -> VersionRange:
    """A range of runtimes."""
    from lapidar.core.languages.python.declaring import standard  # which reads all the standard files

    return standard.parse_range(text, where, before)
