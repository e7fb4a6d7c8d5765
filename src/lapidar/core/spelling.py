"""Names that are near to a misspelled one: what people mean is a letter away, or has two of them swapped."""

from __future__ import annotations

from collections.abc import Iterable

__all__ = ["distance", "hint", "near"]

_LONG = 8  # letters from which on two slips are allowed


def near(name: str, known: Iterable[str], most: int = 3) -> list[str]:
    """The names that may be meant, the nearest first; of these the earlier ones of `known` first."""
    allowed = 2 if len(name) >= _LONG else 1
    found = []
    for at, one in enumerate(dict.fromkeys(known)):
        if one != name and abs(len(one) - len(name)) <= allowed:
            apart = distance(name, one, allowed)
            if apart <= allowed:
                found.append((apart, one[:1] != name[:1], at, one))
    return [one for *_, one in sorted(found)[:most]]


def hint(found: Iterable[str], otherwise: str = "") -> str:
    """What to say of names that are near, as a sentence.

    Args:
        otherwise: what to say where there are none.
    """
    told = ", ".join(found)
    return f"Near to it: {told}." if told else otherwise


def distance(one: str, other: str, most: int) -> int:
    """How many letters must be added, left out, replaced or swapped with the next to get from one to the other
    (the restricted Damerau-Levenshtein distance); anything above `most` is only that."""
    before: list[int] = []
    row = list(range(len(other) + 1))
    for at, letter in enumerate(one, 1):
        two_before, before, row = before, row, [at]
        for place, wanted in enumerate(other, 1):
            cost = min(before[place] + 1, row[-1] + 1, before[place - 1] + (letter != wanted))
            if at > 1 and place > 1 and letter == other[place - 2] and one[at - 2] == wanted:
                cost = min(cost, two_before[place - 2] + 1)
            row.append(cost)
        if min(row) > most:
            return most + 1
    return row[-1]
