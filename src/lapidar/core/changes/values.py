"""What lies between two values of a variable: the numbers between two, the entries of two lists."""

from __future__ import annotations

from collections.abc import Collection, Sequence

from msgspec import Struct

__all__ = ["Lists", "lists", "numbers_between"]

_SEPARATORS = (":", ",", ";", " ")
_MOST_NUMBERS = 1024


def numbers_between(old: str, new: str) -> list[str]:
    """The whole numbers between two, from the one to the other; none where there are too many, or these are no such
    numbers."""
    if not (old.isascii() and old.isdecimal() and new.isascii() and new.isdecimal()):
        return []
    first, last = int(old), int(new)
    if abs(first - last) > _MOST_NUMBERS:
        return []
    step = 1 if first < last else -1
    return [str(number) for number in range(first + step, last, step)]


class Lists(Struct, frozen=True):
    """Two lists with the same separator.

    Attributes:
        differing: the entries that only one of them has.
    """

    separator: str
    old: Sequence[str]
    new: Sequence[str]
    differing: Sequence[str]

    def value(self, taken: Collection[int]) -> str:
        """The old list with some of `differing`, by their numbers, as the new one has it."""
        chosen = {self.differing[number] for number in taken}
        kept = [one for one in self.old if one in self.new or one not in chosen]
        return self.separator.join([*kept, *(one for one in self.new if one not in self.old and one in chosen)])


def lists(old: str, new: str) -> Lists | None:
    """Two values as lists; None where neither is one, or less than two entries differ."""
    separator = next((mark for mark in _SEPARATORS if mark in old or mark in new), "")
    if not separator:
        return None
    before, after = (value.split(separator) if value else [] for value in (old, new))
    differing = [one for one in before if one not in after] + [one for one in after if one not in before]
    return Lists(separator, before, after, tuple(dict.fromkeys(differing))) if len(set(differing)) > 1 else None
