"""Rows of two tables that are not in step: matched by a key, declared or found, or aligned as lines of a text are. What
both begin and end with is cut off first, so that of a table with a row more or less only that row is looked at."""

from __future__ import annotations

import csv
import io
import mmap
import os
from array import array
from bisect import bisect_left
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from difflib import SequenceMatcher
from itertools import accumulate, islice, pairwise
from operator import methodcaller, ne
from pathlib import Path
from typing import IO, Any, NamedTuple, overload

from lapidar.core.results import cells
from lapidar.core.results.differences import Differences, shown
from lapidar.core.results.kinds.binary import first_difference
from lapidar.core.results.reading import opened, plain_number
from lapidar.core.results.verdict import BeyondLimit

__all__ = [
    "Form",
    "Side",
    "compare_columns",
    "compare_rows",
    "count_of_lines",
    "is_header",
    "is_number",
    "match",
]

_MOST_MATCHED = 2_000_000  # rows that are matched where some came or went
_MOST_KEYS = 3  # columns of a key that is found
_MOST_ALIGNED = 400  # rows between two that are alike, which are aligned by all their cells
_PIECE = 1 << 22
_BLOCK = 20_000  # rows that belong together and differ, at a time
_WORTH_COLUMNS = 50  # of them are compared column by column


class Form(NamedTuple):
    """How a table is written."""

    delimiter: str
    decimal: str
    encoding: str

    def __str__(self) -> str:
        names = {"\t": "tabs", ",": "commas", ";": "semicolons", "|": "bars"}
        parts = [f"cells parted by {names.get(self.delimiter, repr(self.delimiter))}"]
        parts += ["decimal commas"] if self.decimal == "," else []
        parts += [self.encoding] if self.encoding != "utf-8" else []
        return ", ".join(parts)


class Side(NamedTuple):
    """One of two tables: its file, and how it is written."""

    path: Path
    form: Form

    def lines(self) -> IO[str]:
        return opened(self.path, self.form.encoding, newline="")

    def head(self) -> list[str]:
        """The first row."""
        with self.lines() as stream:
            return next(self.rows(stream), [])

    def rows(self, lines: Iterable[str]) -> Iterator[list[str]]:
        """The rows of lines, with decimal points."""
        rows = csv.reader(lines, delimiter=self.form.delimiter)
        return ([plain_number(cell) for cell in row] for row in rows) if self.form.decimal == "," else rows


def is_header(row: list[str]) -> bool:
    """Whether a first row names columns: no cell is a number, and all are different."""
    return len(set(row)) == len(row) and not any(is_number(cell) for cell in row)


def is_number(text: str) -> bool:
    try:
        float(text)
    except ValueError:
        return False
    return True


def compare_rows(
    number: int, names: Sequence[str], before: Sequence[str], after: Sequence[str], into: Differences
) -> None:
    """Compare the cells of two rows."""
    for column, (one, other) in enumerate(zip(before, after, strict=False)):
        name = names[column] if column < len(names) else f"column {column + 1}"
        if into.rules.ignores(name):
            into.set_aside[f"column {name}"] = None
        elif one != other:
            into.texts(f"row {number}, {name}", name, one, other, (number, column))
        else:
            into.numbers.compared += 1


def compare_columns(
    names: Sequence[str],
    numbers: Sequence[int],
    columns: Sequence[tuple[cells.Cells, cells.Cells]],
    into: Differences,
) -> None:
    """Compare rows that belong to one another, column by column.

    Args:
        numbers: of the rows.
        columns: of each, the cells before and after.
    """
    for at, (before, after) in enumerate(columns):
        name = names[at] if at < len(names) else f"column {at + 1}"
        if into.rules.ignores(name):
            into.set_aside[f"column {name}"] = None
        else:
            into.column(name, at, numbers, before, after)


class _Rows:
    """A table that is matched with another: its columns, and those of its rows that are looked at.

    Attributes:
        rows: each as one text.
        end: what parts the cells in them.
        first: the number of the first row, as an editor counts lines.
    """

    def __init__(self, side: Side, head: list[str], part: _Part | None, *, are_lines: bool) -> None:
        self.has_header = bool(head) and is_header(head)
        self.names = head if self.has_header else [f"column {at}" for at in range(1, len(head) + 1)]
        self.first = part.row if part else 1
        skipped = int(self.has_header and self.first == 1)
        self.end = side.form.delimiter if are_lines else _END
        self.rows: Sequence[str]
        if are_lines:
            self.rows = _Lines(side.path, part, skipped)
        else:
            with side.lines() if part is None else part.lines(side) as stream:
                # A row as one text takes a fifth of the memory that its cells do.
                rows = (_END.join(row) for row in side.rows(stream))
                self.rows = list(islice(rows, skipped, _MOST_MATCHED + 2))
        if len(self.rows) > _MOST_MATCHED:
            raise BeyondLimit(f"rows came or went among more than {_MOST_MATCHED:,}")
        self.first += skipped
        self._keys: tuple[list[str], list[str]] = ([], [])

    def within(self, columns: Sequence[str]) -> Sequence[str]:
        """All rows, each as one text, with certain columns alone; "" where a row has no such cell."""
        if list(columns) == self.names:
            return self.rows
        at = [self.names.index(name) for name in columns]
        if at == [0]:
            return [row.partition(self.end)[0] for row in self.rows]
        return [self.end.join(_some(row.split(self.end, max(at) + 1), at)) for row in self.rows]

    def keys(self, columns: list[str]) -> list[str]:
        """As `within`; what was asked for last is kept."""
        if self._keys[0] != columns:
            self._keys = columns, list(self.within(columns))
        return self._keys[1]


class _Lines(Sequence[str]):
    """Rows that are lines of a file, read where they are asked for: so they take no memory.

    Args:
        part: of the file; all of it unless given.
        skipped: how many lines at its beginning are left out.
    """

    def __init__(self, path: Path, part: _Part | None, skipped: int) -> None:
        self.path = path
        self._start, self._end = (part.start, part.end) if part else (0, path.stat().st_size)
        for _ in range(skipped):
            self._start += len(next(self.raws(), b""))
        self._ends = array("q", accumulate(map(len, self.raws()), initial=self._start))
        with path.open("rb") as stream:
            self._map = mmap.mmap(stream.fileno(), 0, access=mmap.ACCESS_READ)

    def raws(self) -> Iterator[bytes]:
        """The lines as they stand there."""
        with self.path.open("rb") as stream:
            stream.seek(self._start)
            left = self._end - self._start
            if self._end == os.fstat(stream.fileno()).st_size:
                yield from stream
                return
            for line in stream if left else ():
                yield line
                left -= len(line)
                if left <= 0:
                    return

    def raw(self, row: int) -> bytes:
        """A line as it stands there."""
        return self._map[self._ends[row] : self._ends[row + 1]]

    def __len__(self) -> int:
        return len(self._ends) - 1

    @overload
    def __getitem__(self, row: int) -> str: ...

    @overload
    def __getitem__(self, row: slice) -> list[str]: ...

    def __getitem__(self, row: int | slice) -> str | list[str]:
        if isinstance(row, slice):
            return [self[at] for at in range(*row.indices(len(self)))]
        return self.raw(row).removesuffix(b"\n").decode("utf-8", "surrogateescape")

    def __iter__(self) -> Iterator[str]:
        with self.path.open("rb") as stream:
            stream.seek(self._start)
            text = io.TextIOWrapper(stream, "utf-8", "surrogateescape", newline="\n")
            yield from map(_WITHOUT_END, islice(text, len(self)))


_END = "\0"  # of a cell, where rows are no lines
_WITHOUT_END = methodcaller("removesuffix", "\n")


def _some(cells: list[str], at: Sequence[int]) -> list[str]:
    return [cells[place] if place < len(cells) else "" for place in at]


class _Part(NamedTuple):
    """A part of a file: from a byte to another, and the number of its first row."""

    start: int
    end: int
    row: int

    def lines(self, side: Side) -> IO[str]:
        with side.path.open("rb") as stream:
            stream.seek(self.start)
            data = stream.read(self.end - self.start)
        return io.TextIOWrapper(io.BytesIO(data), encoding="utf-8", errors="surrogateescape", newline="")


def count_of_lines(path: Path) -> int:
    """How many lines a file has."""
    with path.open("rb") as stream:
        return sum(piece.count(b"\n") for piece in iter(lambda: stream.read(_PIECE), b""))


def match(sides: tuple[Side, Side], into: Differences) -> None:
    """Compare two tables row by row that belongs to it, wherever it stands."""
    heads = [side.head() for side in sides]
    are_lines = sides[0].form == sides[1].form and all(map(_has_plain_lines, sides))
    parts, cut = (
        _unlike_parts(sides) if are_lines and heads[0] == heads[1] and not into.rules.key else ((None, None), 0)
    )
    before, after = (
        _Rows(side, head, part, are_lines=are_lines) for side, head, part in zip(sides, heads, parts, strict=True)
    )
    renamed = _renamed(before, after)
    for old, new in renamed.items():
        into.say(f"column {old}: it is called {new} now")
    after.names = [next((old for old, new in renamed.items() if new == name), name) for name in after.names]
    into.meet((*before.names, *after.names))
    names = [name for name in before.names if name in after.names]
    into.numbers.compared += max(0, cut - before.has_header) * len(names)
    for name in before.names:
        if name not in names:
            into.say(f"column {name}: gone")
    for name in after.names:
        if name not in names:
            into.say(f"column {name}: new")
    if names != [name for name in after.names if name in names]:
        into.say("the columns stand in another order")
    key = list(into.rules.key)
    if why := _unfit(key, before, after, names):
        into.set_aside[f"rows are not matched by {', '.join(key)}: {why}"] = None
        key = []
    key = key or _key(before, after, names)
    pair = _Matched(names, (before, after), into)
    if key:
        pair.by_key(key)
    else:
        pair.by_place()


def _has_plain_lines(side: Side) -> bool:
    """Whether each row is a line, with its cells as they stand there: none is quoted, and may hold the end of one."""
    if side.form.encoding != "utf-8" or side.form.decimal == "," or not side.path.stat().st_size:
        return False
    with side.path.open("rb") as stream:
        return not any(b'"' in piece or b"\r" in piece for piece in iter(lambda: stream.read(_PIECE), b""))


def _unlike_parts(sides: tuple[Side, Side]) -> tuple[tuple[_Part, _Part], int]:
    """What is left of two files of plain lines without those that both begin with and those that both end with; and
    how many these are."""
    with sides[0].path.open("rb") as one, sides[1].path.open("rb") as other:
        before, after = (mmap.mmap(stream.fileno(), 0, access=mmap.ACCESS_READ) for stream in (one, other))
        with before, after:
            start, row = _common_head(before, after)
            most = min(len(before), len(after)) - start
            tail, rows = _common_tail(before, after, most)
            return (_Part(start, len(before) - tail, row), _Part(start, len(after) - tail, row)), row - 1 + rows


def _common_head(one: mmap.mmap, other: mmap.mmap) -> tuple[int, int]:
    """How many bytes of whole lines two files begin with alike, and the number of the line after them."""
    at, row, most = 0, 1, min(len(one), len(other))
    while at < most:
        size = min(_PIECE, most - at)
        first, second = one[at : at + size], other[at : at + size]
        alike = size if first == second else first_difference(first, second)
        row += first.count(b"\n", 0, alike)
        at += alike
        if alike < size:
            break
    return one.rfind(b"\n", 0, at) + 1, row


def _common_tail(one: mmap.mmap, other: mmap.mmap, most: int) -> tuple[int, int]:
    """How many bytes of whole lines two files end with alike, of so many at most; and how many lines."""
    at, rows = 0, 0
    while at < most:
        size = min(_PIECE, most - at)
        first, second = (side[len(side) - at - size : len(side) - at] for side in (one, other))
        alike = size if first == second else first_difference(first[::-1], second[::-1])
        rows += first.count(b"\n", size - alike)
        at += alike
        if alike < size:
            break
    rows += int(at > 0 and one[-1:] != b"\n")
    if all(_begins_a_line(side, len(side) - at) for side in (one, other)):
        return at, rows
    end = one.find(b"\n", len(one) - at)
    return (len(one) - end - 1, rows - 1) if end >= 0 else (0, 0)


def _begins_a_line(side: mmap.mmap, at: int) -> bool:
    return at == 0 or side[at - 1 : at] == b"\n"


def _renamed(before: _Rows, after: _Rows) -> dict[str, str]:
    """Columns that have another name and the same cells: the old names, with the new ones."""
    gone = [name for name in before.names if name not in after.names]
    new = [name for name in after.names if name not in before.names]
    if not gone or not new or not before.rows or len(before.rows) != len(after.rows):
        return {}
    there = {name: after.within([name]) for name in new}
    found: dict[str, str] = {}
    for old in gone:
        cells = before.within([old])
        same = [name for name, others in there.items() if others == cells and name not in found.values()]
        if same:
            found[old] = same[0]
    return found


def _unfit(key: list[str], before: _Rows, after: _Rows, names: list[str]) -> str:
    """Why rows cannot be matched by the declared columns; "" where they can."""
    missing = [name for name in key if name not in names]
    if missing:
        return f"not both have a column {missing[0]}"
    for rows in (before, after) if key else ():
        keys = rows.keys(key)
        if len(set(keys)) < len(keys):
            twice, _ = Counter(keys).most_common(1)[0]
            return f"{_called(key, twice.split(rows.end))} stands there twice"
    return ""


def _key(before: _Rows, after: _Rows, names: list[str]) -> list[str]:
    """The first columns whose cells together are unique on both sides; none where there are no such."""
    for many in range(1, min(_MOST_KEYS, len(names)) + 1):
        for columns in ([names[at]] for at in range(len(names))) if many == 1 else [names[:many]]:
            if all(_is_unique(rows, columns) for rows in (before, after)):
                return columns
    return []


def _is_unique(rows: _Rows, columns: list[str]) -> bool:
    at = [rows.names.index(name) for name in columns]
    first = (_some(row.split(rows.end), at) for row in islice(rows.rows, 100))
    # A measured number makes no key: it differs where the row is the same.
    if any("." in cell and is_number(cell) for some in first for cell in some):
        return False
    keys = rows.keys(columns)
    if not keys or len(set(keys)) < len(keys):
        return False
    return not any("." in cell and is_number(cell) for key in keys if "." in key for cell in key.split(rows.end))


class _Matched:
    """Rows of two tables, by the columns that both have."""

    def __init__(self, names: list[str], sides: tuple[_Rows, _Rows], into: Differences) -> None:
        self.names, self.sides, self.into = names, sides, into
        self.before, self.after = (side.within(names) for side in sides)
        self.first, self.end = tuple(side.first for side in sides), sides[0].end
        self._unlike: list[tuple[int, str, str]] = []

    def _compare(self, number: int, before: str, after: str) -> None:
        """Two rows that belong to one another; those that differ are compared many at a time."""
        if before == after:
            self.into.numbers.compared += len(self.names)
            return
        self._unlike.append((self.first[0] + number, before, after))
        if len(self._unlike) == _BLOCK:
            self._compare_unlike()

    def _compare_unlike(self) -> None:
        several, self._unlike = self._unlike, []
        columns = None
        if len(several) >= _WORTH_COLUMNS and self.end != _END:
            ones, others = ([f"{row[side]}\n" for row in several] for side in (1, 2))
            columns = cells.columns(ones, others, self.end)
        if columns is not None:
            compare_columns(self.names, [row[0] for row in several], columns, self.into)
            return
        for number, before, after in several:
            compare_rows(number, self.names, before.split(self.end), after.split(self.end), self.into)

    def _tell(self, side: int, row: int, key: Sequence[str] = ()) -> None:
        cells = (self.before, self.after)[side][row].split(self.end)
        named = key or self.names
        some = [(name, cell) for name, cell in zip(self.names, cells, strict=False) if name in named][:3]
        called = ", ".join(f"{name} {shown(cell)}" for name, cell in some)
        self.into.say(f"row {self.first[side] + row} ({called}): {'new' if side else 'gone'}")

    def by_key(self, key: list[str]) -> None:
        """Rows whose cells in some columns are the same belong to one another."""
        keys = [side.keys(key) for side in self.sides]
        places = {name: number for number, name in enumerate(keys[1])}
        met = array("q")
        for number, name in enumerate(keys[0]):
            place = places.pop(name, -1)
            met.append(place)
            if place < 0:
                self._tell(0, number, key)
        for number in self._unlike_ones(met):
            self._compare(number, self.before[number], self.after[met[number]])
        self._compare_unlike()
        met = array("q", (place for place in met if place >= 0))
        for place in places.values():
            self._tell(1, place, key)
        moved = sum(one > other for one, other in pairwise(met))
        if moved:
            many = f"{moved:,} places where it breaks"
            self.into.say(f"rows stand in another order (matched by {', '.join(key)}; {many})")

    def _unlike_ones(self, places: Sequence[int]) -> Iterator[int]:
        """The rows that another belongs to, and that may be written otherwise; of those that are lines, those that
        are, which their bytes tell."""
        if not (isinstance(self.before, _Lines) and isinstance(self.after, _Lines)):
            yield from (number for number, place in enumerate(places) if place >= 0)
            return
        alike = 0
        raw = self.after.raw
        for number, (place, line) in enumerate(zip(places, self.before.raws(), strict=True)):
            if place >= 0 and line == raw(place):
                alike += 1
            elif place >= 0:
                yield number
        self.into.numbers.compared += alike * len(self.names)

    def by_place(self) -> None:
        """No column tells which row is which: those that are alike, in their order, are the same; between them, rows
        changed, came or went."""
        counts = Counter(self.before), Counter(self.after)
        if counts[0] == counts[1]:
            if any(map(ne, self.before, self.after)):
                self.into.say("the same rows stand in another order")
            return
        twice = sum(many > 1 for many in (counts[0] | counts[1]).values())
        if twice:
            self.into.taken[f"{twice:,} rows stand there more than once"] = None
        for start, end, begin, stop in _between(self.before, self.after):
            if end - start == stop - begin:
                for step in range(end - start):
                    self._compare(start + step, self.before[start + step], self.after[begin + step])
                self._compare_unlike()
                continue
            for row in range(start, end):
                self._tell(0, row)
            for row in range(begin, stop):
                self._tell(1, row)


def _called(key: Sequence[str], cells: Iterable[str]) -> str:
    return ", ".join(f"{column} {shown(cell)}" for column, cell in zip(key, cells, strict=True))


def _between(before: Sequence[Any], after: Sequence[Any]) -> Iterator[tuple[int, int, int, int]]:
    """What stands between the rows that are alike: from where to where before, and after."""
    anchors = [(-1, -1), *_anchors(before, after), (len(before), len(after))]
    for (one, other), (next_one, next_other) in pairwise(anchors):
        start, end, begin, stop = one + 1, next_one, other + 1, next_other
        if start == end and begin == stop:
            continue
        if max(end - start, stop - begin) > _MOST_ALIGNED:
            yield start, end, begin, stop
            continue
        for kind, a, b, c, d in SequenceMatcher(
            None, before[start:end], after[begin:stop], autojunk=False
        ).get_opcodes():
            if kind != "equal":
                yield start + a, start + b, begin + c, begin + d


def _anchors(before: Sequence[Any], after: Sequence[Any]) -> list[tuple[int, int]]:
    """Rows that stand once on each side, as many as stand in the same order (the longest rising sequence)."""
    once = [{row for row, many in Counter(rows).items() if many == 1} for rows in (before, after)]
    shared = once[0] & once[1]
    places = {row: at for at, row in enumerate(after) if row in shared}
    pairs = [(at, places[row]) for at, row in enumerate(before) if row in shared]
    ends: list[int] = []  # of the rising sequences of each length, the lowest end
    last: list[int] = []  # which pair that is
    before_it = [-1] * len(pairs)
    for number, (_, place) in enumerate(pairs):
        length = bisect_left(ends, place)
        before_it[number] = last[length - 1] if length else -1
        if length == len(ends):
            ends.append(place)
            last.append(number)
        else:
            ends[length], last[length] = place, number
    found = []
    at = last[-1] if last else -1
    while at >= 0:
        found.append(pairs[at])
        at = before_it[at]
    return found[::-1]
