"""Versions of R and of its packages, and ranges of them, as DESCRIPTION files write these (Writing R Extensions, 1.1.1
and 1.1.3): whole numbers with ``.`` or ``-`` between. What packages really write is wider, and is read as R reads it:
``(>= 3)``, ``(>1.2)``."""

from __future__ import annotations

import re
from collections.abc import Iterable

from msgspec import Struct

__all__ = ["NONE", "Range", "Version", "key", "parse_range", "require", "standing"]

Version = tuple[int, ...]
_VERSION = re.compile(r"[0-9]+(?:[.-][0-9]+)*")
_LONGEST = 200
_CONDITION = re.compile(r"\s*(>=|<=|==|!=|>|<)\s*([0-9]+(?:[.-][0-9]+)*)\s*")


def key(text: str) -> Version:
    """A version as numbers, which are compared one by one; where all are the same the shorter one is the older.

    Raises:
        ValueError: it is none.
    """
    text = text.strip()
    if len(text) > _LONGEST or not _VERSION.fullmatch(text):
        raise ValueError(f"{text[:_LONGEST]!r} is no version of R or of its packages")
    return tuple(int(part) for part in re.split(r"[.-]", text))


def require(text: str) -> None:
    """Raises: ValueError: a text is no version."""
    key(text)


def standing(one: str, other: str) -> int | None:
    """The order of two versions: below zero where the first is older; None where one is none."""
    try:
        first, second = key(one), key(other)
    except ValueError:
        return None
    return (first > second) - (first < second)


def _holds(version: Version, operator: str, bound: Version) -> bool:
    match operator:
        case ">=":
            return version >= bound
        case "<=":
            return version <= bound
        case ">":
            return version > bound
        case "<":
            return version < bound
        case "==":
            return version == bound
        case _:
            return version != bound


class Range(Struct, frozen=True):
    """Conditions that all must hold; with none, all versions are in it.

    Attributes:
        conditions: operator and version each, in their order.
    """

    conditions: tuple[tuple[str, str], ...] = ()

    def contains(self, version: str) -> bool:
        """Whether a version is in it; what is no version is in the range of all alone."""
        try:
            numbers = key(version)
        except ValueError:
            return not self.conditions
        return all(_holds(numbers, operator, key(bound)) for operator, bound in self.conditions)

    def and_also(self, other: Range) -> Range:
        """The versions that are in both."""
        return Range(tuple(dict.fromkeys((*self.conditions, *other.conditions))))

    def __str__(self) -> str:
        return ", ".join(f"{operator} {version}" for operator, version in self.conditions)

    def __bool__(self) -> bool:
        return bool(self.conditions)


NONE = Range()


def parse_range(text: str) -> Range:
    """A range as one writes it, without its parentheses: ``>= 2.1, < 3``.

    Raises:
        ValueError: it is none.
    """
    return Range(tuple(_conditions(text.split(","))))


def _conditions(texts: Iterable[str]) -> Iterable[tuple[str, str]]:
    for text in texts:
        found = _CONDITION.fullmatch(text) if len(text) <= _LONGEST else None
        if found is None:
            raise ValueError(f"{text.strip()[:_LONGEST]!r} is no condition on a version")
        yield found[1], found[2]
