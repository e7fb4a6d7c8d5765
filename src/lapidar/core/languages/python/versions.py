"""Versions as Python has them (Version specifiers specification)."""

from __future__ import annotations

from packaging.requirements import Requirement
from packaging.version import InvalidVersion, Version

__all__ = ["allows", "is_same", "require", "standing"]


def standing(one: str, other: str) -> int | None:
    """The order of two versions: below zero where the first is older; None where one is no version of the standard."""
    try:
        first, second = Version(one), Version(other)
    except InvalidVersion:
        return None
    return (first > second) - (first < second)


def is_same(one: str, other: str) -> bool:
    """Whether two texts are the same version."""
    order = standing(one, other)
    return one == other if order is None else order == 0


def require(text: str) -> None:
    """Raises: ValueError: a text is no version."""
    Version(text)


def allows(need: str, version: str) -> bool:
    """Whether a version is in the range of a need; that of an address is empty, and allows all."""
    return Requirement(need).specifier.contains(version, prereleases=True)
