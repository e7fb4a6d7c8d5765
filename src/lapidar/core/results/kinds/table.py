"""Tables as text: CSV (RFC 4180) and what is written like it with tabs, semicolons or bars, in any encoding, with
decimal points or commas.

Rows are compared in step, and only cells whose text differs are looked at as numbers, so that two files of any size are
compared as they are read. Where rows came, went or changed places, they are matched by the columns that are unique on
both sides, the first ones, as a table's key is.
"""

from __future__ import annotations

import csv
import hashlib
import re
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from itertools import chain, islice, pairwise
from pathlib import Path
from typing import IO, Any, NamedTuple, TypeGuard

from lapidar.core.results import cells
from lapidar.core.results.differences import Differences, shown
from lapidar.core.results.reading import decimal_of, encoding_of, opened, plain_number
from lapidar.core.results.tolerances import Rules
from lapidar.core.results.verdict import BeyondLimit, Found, Pair, Unreadable

__all__ = ["compare", "compare_rows", "delimiter_of"]


class _Block(NamedTuple):
    """Rows that are not written alike: their numbers, and how they are before and after; each as its line, or, where
    cells are quoted, as its cells."""

    numbers: list[int]
    before: list[str] | list[list[str]]
    after: list[str] | list[list[str]]


_DELIMITERS = ",\t;|"
_FRACTION = re.compile(r"(?<=\d\d:\d\d:\d\d),(?=\d{3}[ \])])")
_SNIFFED = 50  # lines
_MOST_ORDERED = 100_000  # rows of which it is asked whether they only changed places
_BLOCK = 20_000  # rows at a time
_MOST_STRANGERS = 1000  # rows that begin with another cell
_MOST_MATCHED = 2_000_000  # rows that are matched where some came or went
_MOST_KEYS = 3  # columns of a key that is found
_LONGEST_FIELD = 1 << 20


def delimiter_of(lines: Sequence[str], *, prose: bool = False) -> str | None:
    """What separates the cells of a table, by its first lines; None where they are no table.

    Args:
        prose: they may be sentences: a comma with a blank after it separates no cells then.
    """
    # A comma in the fraction of a time stamp parts no cells.
    lines = [_FRACTION.sub(".", line) for line in lines if line.strip()]
    if len(lines) < 2:
        return None
    for delimiter in _DELIMITERS:
        try:
            counts = Counter(len(row) for row in csv.reader(lines, delimiter=delimiter))
        except csv.Error:
            continue
        if prose and any(f"{delimiter} " in line for line in lines):
            continue
        if len(counts) == 1 and min(counts) > 1:
            return delimiter
    return None


class _Form(NamedTuple):
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


class _Side(NamedTuple):
    """One of two tables: its file, and how it is written."""

    path: Path
    form: _Form

    def lines(self) -> IO[str]:
        return opened(self.path, self.form.encoding, newline="")

    def rows(self, lines: Iterable[str]) -> Iterator[list[str]]:
        """The rows of lines, with decimal points."""
        rows = csv.reader(lines, delimiter=self.form.delimiter)
        return ([plain_number(cell) for cell in row] for row in rows) if self.form.decimal == "," else rows


def compare(pair: Pair, rules: Rules) -> Found:
    """Compare two tables."""
    csv.field_size_limit(_LONGEST_FIELD)
    differences = Differences(rules)
    try:
        sides = _Side(pair.before, _form(pair.before, rules)), _Side(pair.after, _form(pair.after, rules))
        # Where it is declared by what rows are matched, they are not compared in step.
        whole, strangers = (False, 0) if rules.key else _in_step(sides, differences)
        if not whole or strangers:
            matched = Differences(rules)
            _matched(sides, matched)
            if not whole or _told(matched) < _told(differences):
                differences = matched
        elif differences.numbers.beyond and _is_another_order(sides):
            differences = Differences(rules)
            differences.say("the same rows stand in another order")
    except (csv.Error, UnicodeError) as error:
        raise Unreadable(str(error)) from error
    _tell_forms(sides, differences)
    return differences.found()


def _form(path: Path, rules: Rules) -> _Form:
    told = rules.reading
    with path.open("rb") as stream:
        encoding = told.encoding or encoding_of(stream.read(4))
    with opened(path, encoding, newline="") as stream:
        lines = list(islice(stream, _SNIFFED))
    delimiter = told.delimiter or delimiter_of(lines)
    if delimiter is None:
        raise Unreadable("its lines have not all as many cells")
    cells_there = (cell for row in csv.reader(lines, delimiter=delimiter) for cell in row)
    return _Form(delimiter, told.decimal or decimal_of(cells_there), encoding)


def _tell_forms(sides: tuple[_Side, _Side], into: Differences) -> None:
    """Say how they were read, where that was found and is not what anybody would take for granted."""
    before, after = (side.form for side in sides)
    if before != after:
        into.taken[f"the one has {before}; the other {after}"] = None
    elif before.decimal == "," and not into.rules.reading.decimal:
        into.taken["read with decimal commas"] = None
    if not (into.differs or into.equated or into.set_aside or into.taken):
        into.set_aside["how lines end and cells are quoted"] = None


def _header(row: list[str]) -> bool:
    """Whether a first row names columns: no cell is a number, and all are different."""
    return len(set(row)) == len(row) and not any(_is_number(cell) for cell in row)


def _is_number(text: str) -> bool:
    try:
        float(text)
    except ValueError:
        return False
    return True


def _is_another_order(sides: tuple[_Side, _Side]) -> bool:
    """Whether two tables of measured numbers, not too large, have the same rows."""
    rows = []
    for side in sides:
        with side.lines() as stream:
            rows.append(Counter(line.rstrip("\r\n") for line in islice(stream, _MOST_ORDERED + 1)))
    return rows[0] == rows[1] and rows[0].total() <= _MOST_ORDERED


def _told(differences: Differences) -> int:
    return len(differences.details) + differences.more


def _in_step(sides: tuple[_Side, _Side], into: Differences) -> tuple[bool, int]:
    """Compare row by row.

    Returns:
        Whether it went through: not where columns or rows came or went, or very many rows begin with another cell; and
        how many do.
    """
    strangers = 0
    delimiter = sides[0].form.delimiter
    with sides[0].lines() as one, sides[1].lines() as other:
        blocks = _differing(sides, one, other, into)
        first = next(blocks, None)
        if first is None or not first.before or not first.after:
            return False, 0
        before, after = _cells(first.before[0], delimiter), _cells(first.after[0], delimiter)
        has_header = _header(before)
        if len(before) != len(after) or (has_header and before != after):
            return False, 0
        names = before if has_header else [f"column {at}" for at in range(1, len(before) + 1)]
        rest = _Block(first.numbers[1:], first.before[1:], first.after[1:]) if has_header else first
        for block in chain([rest], blocks):
            found = _block(names, block, delimiter, into)
            strangers += found or 0
            if found is None or strangers > _MOST_STRANGERS:
                return False, strangers  # rows may have come, gone or changed places
    return True, strangers


def _differing(sides: tuple[_Side, _Side], one: IO[str], other: IO[str], into: Differences) -> Iterator[_Block]:
    """The first row, and all that are not written alike.

    Lines are compared as text first: a row is a line, as long as no quoted cell holds the end of one.
    """
    number = 0
    delimiter = sides[0].form.delimiter
    if sides[0].form != sides[1].form or sides[0].form.decimal == ",":
        yield from _parsed(number, sides, one, other)
        return
    while True:
        ones, others = list(islice(one, _BLOCK)), list(islice(other, _BLOCK))
        if not ones and not others:
            return
        if ones != others or number == 0:
            if '"' in "".join(ones) or '"' in "".join(others):
                yield from _parsed(number, sides, chain(ones, one), chain(others, other))
                return
            yield _unlike(number, ones, others)
            # Of the rows that are alike no cell is looked at.
            into.numbers.compared += sum(map(str.__eq__, ones, others)) * (ones[0].count(delimiter) + 1 if ones else 0)
        else:
            into.numbers.compared += len(ones) * (ones[0].count(delimiter) + 1)
        number += len(ones)


def _parsed(number: int, sides: tuple[_Side, _Side], one: Iterable[str], other: Iterable[str]) -> Iterator[_Block]:
    """As `_differing`, with every row taken apart."""
    readers = [side.rows(lines) for side, lines in zip(sides, (one, other), strict=True)]
    while True:
        ones, others = (list(islice(reader, _BLOCK)) for reader in readers)
        if not ones and not others:
            return
        yield _unlike(number, ones, others)
        number += len(ones)


def _unlike(number: int, ones: list[Any], others: list[Any]) -> _Block:
    """Of blocks of rows that begin after a row, those that differ; all of them where they are not as many."""
    if len(ones) != len(others):
        return _Block([*range(number + 1, number + 1 + len(ones))], ones, others)
    unlike = [at for at, (before, after) in enumerate(zip(ones, others, strict=True)) if before != after]
    if number == 0 and unlike[:1] != [0]:
        unlike.insert(0, 0)
    if len(unlike) == len(ones):
        return _Block([*range(number + 1, number + 1 + len(ones))], ones, others)
    return _Block([number + 1 + at for at in unlike], [ones[at] for at in unlike], [others[at] for at in unlike])


def _cells(row: str | Sequence[str], delimiter: str) -> list[str]:
    return row.rstrip("\r\n").split(delimiter) if isinstance(row, str) else list(row)


def _block(names: Sequence[str], block: _Block, delimiter: str, into: Differences) -> int | None:
    """Compare a block of rows in step, column by column where all have as many cells.

    Returns:
        How many of them begin with another cell; None where rows or cells came or went.
    """
    numbers, ones, others = block
    if not ones or len(ones) != len(others):
        return None if ones or others else 0
    columns = cells.columns(ones, others, delimiter) if _are_lines(ones) and _are_lines(others) else None
    if columns is None:
        pairs = [(_cells(one, delimiter), _cells(other, delimiter)) for one, other in zip(ones, others, strict=True)]
        if any(len(one) != len(other) for one, other in pairs):
            return None
        if len({len(one) for one, _ in pairs}) > 1:
            for number, (one, other) in zip(numbers, pairs, strict=True):
                compare_rows(number, names, one, other, into)
            return sum(_is_stranger(one[0], other[0]) for one, other in pairs if one and other)
        sides = [map(cells.Listed, zip(*(pair[side] for pair in pairs), strict=True)) for side in (0, 1)]
        columns = list(zip(*sides, strict=True))
    for at, (before, after) in enumerate(columns):
        name = names[at] if at < len(names) else f"column {at + 1}"
        if into.rules.ignores(name):
            into.set_aside[f"column {name}"] = None
        else:
            into.column(name, at, numbers, before, after)
    if not columns:
        return 0
    before, after = columns[0]
    unlike = before.unlike(after)
    return sum(map(_is_stranger, before.texts(unlike), after.texts(unlike)))


def _are_lines(rows: list[str] | list[list[str]]) -> TypeGuard[list[str]]:
    return isinstance(rows[0], str)


def _is_stranger(before: str, after: str) -> bool:
    """Whether a row begins with another name; a measured number may differ in the same row."""
    return before != after and not ("." in before and "." in after)


def compare_rows(number: int, names: Sequence[str], before: list[str], after: list[str], into: Differences) -> None:
    """Compare the cells of two rows."""
    for column, (one, other) in enumerate(zip(before, after, strict=False)):
        name = names[column] if column < len(names) else f"column {column + 1}"
        if into.rules.ignores(name):
            into.set_aside[f"column {name}"] = None
        elif one != other:
            into.texts(f"row {number}, {name}", name, one, other, (number, column))
        else:
            into.numbers.compared += 1


class _Rows:
    """A table that is matched with another: its columns, and its rows by their keys."""

    def __init__(self, side: _Side) -> None:
        with side.lines() as stream:
            rows = list(islice(side.rows(stream), _MOST_MATCHED + 1))
        if len(rows) > _MOST_MATCHED:
            raise BeyondLimit(f"rows came or went among more than {_MOST_MATCHED:,}: compared as bytes")
        self.has_header = bool(rows) and _header(rows[0])
        self.names = (
            rows[0] if self.has_header else [f"column {at}" for at in range(1, len(rows[0]) + 1)] if rows else []
        )
        self.rows = rows[1:] if self.has_header else rows
        self.first = 2 if self.has_header else 1

    def cells(self, row: list[str], columns: Sequence[str]) -> list[str]:
        """A row's cells in certain columns."""
        at = {name: place for place, name in enumerate(self.names)}
        return [row[at[name]] if at[name] < len(row) else "" for name in columns]


def _matched(sides: tuple[_Side, _Side], into: Differences) -> None:
    before, after = _Rows(sides[0]), _Rows(sides[1])
    shared = [name for name in before.names if name in after.names]
    for name in before.names:
        if name not in after.names:
            into.say(f"column {name}: gone")
    for name in after.names:
        if name not in before.names:
            into.say(f"column {name}: new")
    if shared == [name for name in before.names if name in shared] and shared != [
        n for n in after.names if n in shared
    ]:
        into.say("the columns stand in another order")
    key = list(into.rules.key)
    if why := _unfit(key, before, after, shared):
        into.set_aside[f"rows are not matched by {', '.join(key)}: {why}"] = None
        key = []
    key = key or _key(before, after, shared)
    if key:
        _by_key(before, after, shared, key, into)
    else:
        _by_position(before, after, shared, into)


def _unfit(key: list[str], before: _Rows, after: _Rows, shared: list[str]) -> str:
    """Why rows cannot be matched by the declared columns; "" where they can."""
    missing = [name for name in key if name not in shared]
    if missing:
        return f"not both have a column {missing[0]}"
    cells = [Counter(tuple(rows.cells(row, key)) for row in rows.rows) for rows in (before, after)]
    twice = next((name for counts in cells for name, count in counts.items() if count > 1), None) if key else None
    return f"{_called(key, twice)} stands there twice" if twice else ""


def _key(before: _Rows, after: _Rows, shared: list[str]) -> list[str]:
    """The first columns whose cells together are unique on both sides; none where there are no such."""
    for many in range(1, min(_MOST_KEYS, len(shared)) + 1):
        for columns in ([shared[at]] for at in range(len(shared))) if many == 1 else [shared[:many]]:
            if all(_is_unique(rows, columns) for rows in (before, after)):
                return columns
    return []


def _is_unique(rows: _Rows, columns: list[str]) -> bool:
    seen = set()
    for row in rows.rows:
        key = tuple(rows.cells(row, columns))
        # A measured number makes no key: it differs where the row is the same.
        if key in seen or any("." in cell and _is_number(cell) for cell in key):
            return False
        seen.add(key)
    return bool(seen)


def _by_key(before: _Rows, after: _Rows, shared: list[str], key: list[str], into: Differences) -> None:
    places = {tuple(after.cells(row, key)): number for number, row in enumerate(after.rows)}
    met: list[int] = []
    for number, row in enumerate(before.rows, before.first):
        name = tuple(before.cells(row, key))
        place = places.pop(name, None)
        if place is None:
            into.say(f"row {number} ({_called(key, name)}): gone")
            continue
        met.append(place)
        compare_rows(number, shared, before.cells(row, shared), after.cells(after.rows[place], shared), into)
    for name, place in places.items():
        into.say(f"row {place + after.first} ({_called(key, name)}): new")
    if met != sorted(met):
        moved = sum(one > other for one, other in pairwise(met))
        into.say(f"rows stand in another order (matched by {', '.join(key)}; {moved:,} places where it breaks)")


def _called(key: Sequence[str], name: Sequence[str]) -> str:
    return ", ".join(f"{column} {shown(cell)}" for column, cell in zip(key, name, strict=True))


def _by_position(before: _Rows, after: _Rows, shared: list[str], into: Differences) -> None:
    if len(before.rows) != len(after.rows):
        into.say(f"{len(before.rows):,} rows -> {len(after.rows):,}")
    elif _digests(before, shared) == _digests(after, shared):
        into.say("the same rows stand in another order")
        return
    for number, (one, other) in enumerate(zip(before.rows, after.rows, strict=False), before.first):
        compare_rows(number, shared, before.cells(one, shared), after.cells(other, shared), into)


def _digests(rows: _Rows, columns: list[str]) -> Counter[bytes]:
    def digest(row: list[str]) -> bytes:
        text = "\0".join(rows.cells(row, columns))
        return hashlib.blake2b(text.encode("utf-8", "surrogateescape"), digest_size=12).digest()

    return Counter(_each(rows, digest))


def _each(rows: _Rows, digest) -> Iterator[bytes]:  # type: ignore[no-untyped-def]
    yield from map(digest, rows.rows)
