"""What differs between two contents, gathered as it is found."""

from __future__ import annotations

from collections.abc import Container, Iterable, Sequence
from itertools import count
from typing import Any

from lapidar.core.results.cells import Cells
from lapidar.core.results.numbers import DATE, DIGITS_OF_TEXTS, NUMBER, Numbers, last_place
from lapidar.core.results.tolerances import Rules
from lapidar.core.results.verdict import Extent, Found, Verdict

__all__ = ["MOST_DETAILS", "Differences", "numbered"]

MOST_DETAILS = 200
_MOST_PLACES = 20_000
_MOST_MET = 100_000
_MOST_EQUATED = 3  # that are named
_SHOWN = 60  # characters of a value


class Differences:
    """Gathers differences.

    Args:
        rules: what is tolerated and ignored.
    """

    def __init__(self, rules: Rules) -> None:
        self.rules = rules
        self.numbers = Numbers()
        self.is_different = False
        self.details: list[str] = []
        self.more = 0
        self.first = ""
        self.places: list[tuple[int, int]] = []
        self.set_aside: dict[str, None] = {}
        self.taken: dict[str, None] = {}
        self.met: set[str] = set()  # the columns, keys and paths that there are, as far as they were looked at
        self.extent: Extent | None = None
        self.equated = 0
        self._first_equated: list[str] = []

    def meet(self, places: Iterable[str]) -> None:
        """There are these columns, keys or paths; only rules for places ask for that."""
        if self.rules.has_places and len(self.met) < _MOST_MET:
            self.met.update(places)

    @property
    def differs(self) -> bool:
        """Whether something differs by more than is tolerated."""
        return self.is_different or self.numbers.beyond > 0

    def tell(self, line: str) -> None:
        """A line of detail."""
        if len(self.details) < MOST_DETAILS:
            self.details.append(line)
        else:
            self.more += 1

    def other(self, where: str, before: Any, after: Any, at: tuple[int, int] | None = None) -> None:
        """Two values that are no two numbers differ."""
        self.is_different = True
        if at and len(self.places) < _MOST_PLACES:
            self.places.append(at)
        line = f"{where}: {shown(before)} -> {shown(after)}"
        self.first = self.first or line
        self.tell(line)

    def say(self, line: str) -> None:
        """Something differs that is no value."""
        self.is_different = True
        self.first = self.first or line
        self.tell(line)

    def values(self, where: str, field: str, before: float, after: float, at: tuple[int, int] | None = None) -> None:
        """Two numbers; integers of any size are exact."""
        if isinstance(before, int) and isinstance(after, int):
            self.texts(where, field, str(before), str(after), at)
            return
        before_count = self.numbers.differing
        allowed = self.numbers.values(float(before), float(after), where, self.rules.of(field))
        self._told(where, repr(before), repr(after), allowed, before_count, at)

    def equate(self, where: str, before: Any, after: Any) -> None:
        """Two that are written otherwise were taken for equal; that is said."""
        self.equated += 1
        if len(self._first_equated) < _MOST_EQUATED:
            self._first_equated.append(f"{where}: {shown(before)} = {shown(after)}")

    def texts(self, where: str, field: str, before: str, after: str, at: tuple[int, int] | None = None) -> None:
        """Two texts that may be numbers."""
        if before == after:
            self.numbers.compared += 1
            return
        if self.rules.is_text(field):
            self.other(where, before, after, at)
            return
        count = self.numbers.differing
        allowed = self.numbers.texts(before, after, where, self.rules.of(field))
        if allowed is None:
            self._line(where, field, before, after, at)
        elif self.numbers.differing == count:
            self.equate(where, before, after)
        else:
            self._told(where, before, after, allowed, count, at)

    def _told(self, where: str, before: str, after: str, allowed: bool, count: int, at: tuple[int, int] | None) -> None:
        if self.numbers.differing > count:
            self.tell(f"{where}: {shown(before)} -> {shown(after)}" + ("" if not allowed else " (tolerated)"))
            if at and len(self.places) < _MOST_PLACES:
                self.places.append(at)

    def _line(self, where: str, field: str, before: str, after: str, at: tuple[int, int] | None) -> None:
        """Two texts with numbers in them: what is between these must be the same."""
        if NUMBER.sub("\0", before) != NUMBER.sub("\0", after) or DATE.findall(before) != DATE.findall(after):
            self.other(where, before, after, at)
            return
        for one, other in zip(NUMBER.findall(before), NUMBER.findall(after), strict=True):
            if one != other:
                count = self.numbers.differing
                allowed = self.numbers.texts(one, other, where, self.rules.of(field))
                if allowed is None:
                    self.other(where, before, after, at)
                elif self.numbers.differing == count:
                    self.equate(where, one, other)
                else:
                    self._told(where, one, other, allowed, count, at)

    def value(self, where: str, field: str, before: Any, after: Any) -> None:
        """Two values of whatever type: numbers, texts, or something else."""
        if _is_number(before) and _is_number(after):
            if type(before) is type(after):
                self.values(where, field, before, after)
            else:
                self.texts(where, field, repr(before), repr(after))
        elif type(before) is not type(after):
            self.other(where, before, after)
        elif isinstance(before, str):
            self.line(where, field, before, after)
        elif before != after:
            self.other(where, before, after)

    def column(self, name: str, number: int, rows: Sequence[int], before: Cells, after: Cells) -> None:
        """A column of a block of rows: where it is all numbers, they are compared at once.

        Args:
            number: of the column, from 0.
            rows: the numbers of the rows.
        """
        unlike = before.unlike(after)
        self.numbers.compared += len(before) - len(unlike)
        is_text = self.rules.is_text(name)
        one, other = (None, None) if is_text else (before.floats(unlike), after.floats(unlike))
        if one is None or other is None:
            for at in unlike:
                self._cell(name, number, rows, before, after, int(at))
            return
        # Texts that differ and name one double are compared by their exact values, and so are the integers.
        equal = one == other
        for index in equal.nonzero()[0].tolist():
            self._cell(name, number, rows, before, after, int(unlike[index]))
        apart = (~equal).nonzero()[0]
        if not len(apart):
            return
        self.numbers.compared += len(apart)
        one, other = one[apart], other[apart]
        there = unlike[apart] if hasattr(unlike, "dtype") else [unlike[at] for at in apart]
        allowed = self.numbers.differing_floats(
            one,
            other,
            lambda index: f"row {rows[int(unlike[apart[index]])]}, {name}",
            self.rules.of(name),
            _last_places((before, after), there, (one, other)),
        )
        self.numbers.keep(one[:200].tolist(), other[:200].tolist())
        room = MOST_DETAILS - len(self.details)
        for index, is_allowed in zip(apart[:room].tolist(), allowed[:room].tolist(), strict=True):
            at = int(unlike[index])
            said = f"row {rows[at]}, {name}: {shown(before[at])} -> {shown(after[at])}"
            self.tell(said + (" (tolerated)" if is_allowed else ""))
        self.more += max(0, len(apart) - room)
        left = max(0, _MOST_PLACES - len(self.places))
        self.places += [(rows[int(unlike[index])], number) for index in apart[:left].tolist()]

    def _cell(self, name: str, number: int, rows: Sequence[int], before: Cells, after: Cells, at: int) -> None:
        self.texts(f"row {rows[at]}, {name}", name, before[at], after[at], (rows[at], number))

    def line(self, where: str, field: str, before: str, after: str) -> None:
        """Two lines of text."""
        if before != after:
            self._line(where, field, before, after, None)

    def found(self) -> Found:
        """What came of it all."""
        unlike = Verdict.WITHIN if self.numbers.differing else Verdict.SAME
        verdict = Verdict.DIFFERENT if self.differs else unlike
        worst = self.first if self.is_different and not self.numbers.beyond else self.numbers.told or self.first
        return Found(
            verdict,
            worst,
            self.details,
            self.more,
            self.numbers if self.numbers.compared else None,
            self.places,
            list(self.set_aside),
            [*self.taken, *self._told_equated(), *self._told_idle()],
            self.extent,
        )

    def _told_idle(self) -> list[str]:
        """Rules that nothing in the file fits."""
        if not self.met:
            return []
        return [f"the rule for {place!r} fits nothing in it" for place in self.rules.idle(self.met)]

    def _told_equated(self) -> list[str]:
        if not self.equated:
            return []
        more = f", and {self.equated - len(self._first_equated):,} more" if self.equated > _MOST_EQUATED else ""
        return [f"written otherwise, and equal as numbers: {'; '.join(self._first_equated)}{more}"]


def _last_places(cells: tuple[Cells, Cells], rows: Any, numbers: tuple[Any, Any]) -> Any:
    """Of pairs of cells that are numbers, what a unit in the last place is: of the digits shown, or of a double where
    a text shows as many digits as only these have."""
    import numpy

    before, after = cells
    decimals = before.decimals(rows), after.decimals(rows)
    if decimals[0] is None or decimals[1] is None:
        pairs = zip(before.texts(rows), after.texts(rows), strict=True)
        return numpy.fromiter((last_place(one, other) for one, other in pairs), numpy.float64, len(rows))
    # The digits of a number are its decimals and what stands before them, less the zeros that it begins with.
    many = numpy.zeros(len(rows))
    with numpy.errstate(all="ignore"):
        for shows, number in zip(decimals, numbers, strict=True):
            many = numpy.maximum(many, shows + numpy.floor(numpy.log10(numpy.abs(number))) + 1)
    largest = numpy.maximum(*map(numpy.abs, numbers))
    shown = numpy.power(10.0, -numpy.maximum(*decimals).astype(numpy.float64))
    last = numpy.where(many > DIGITS_OF_TEXTS, numpy.spacing(largest), shown)
    exponents = (numpy.minimum(*decimals) < 0).nonzero()[0]
    some = [rows[at] for at in exponents.tolist()]
    last[exponents] = list(map(last_place, before.texts(some), after.texts(some)))
    return last


def numbered(name: str, taken: Container[str]) -> str:
    """A name for what is called as something that stands there already: its own with a number."""
    if name not in taken:
        return name
    return next(other for number in count(1) if (other := f"{name} ({number})") not in taken)


def _is_number(value: Any) -> bool:
    return isinstance(value, (int, float)) and not isinstance(value, bool)


def shown(value: Any) -> str:
    """A value in a line of detail."""
    text = value if isinstance(value, str) else repr(value)
    text = text.replace("\n", "\\n")
    return text if len(text) <= _SHOWN else text[: _SHOWN - 1] + "…"
