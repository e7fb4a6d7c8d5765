"""Tables as text: CSV (RFC 4180) and what is written like it with tabs, semicolons or bars, in any encoding, with
decimal points or commas.

Rows are compared in step, and only cells whose text differs are looked at as numbers, so that two files of any size are
compared as they are read. Where rows came, went or changed places, they are matched by the columns that are unique on
both sides, the first ones, as a table's key is.
"""

from __future__ import annotations

import csv
import re
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from itertools import chain, islice
from pathlib import Path
from typing import IO, Any, NamedTuple, TypeGuard

from lapidar.core.results import cells
from lapidar.core.results.differences import Differences
from lapidar.core.results.kinds.rows import Form, Side, compare_columns, compare_rows, count_of_lines, is_header, match
from lapidar.core.results.reading import decimal_of, encoding_in, opened
from lapidar.core.results.tolerances import Rules
from lapidar.core.results.verdict import Extent, Found, Pair, Unreadable

__all__ = ["compare", "delimiter_of"]


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


def compare(pair: Pair, rules: Rules) -> Found:
    """Compare two tables."""
    csv.field_size_limit(_LONGEST_FIELD)
    differences = Differences(rules)
    try:
        sides = Side(pair.before, _form(pair.before, rules)), Side(pair.after, _form(pair.after, rules))
        # Where it is declared by what rows are matched, or there are not as many, they are not compared in step.
        lines = count_of_lines(pair.before)
        in_step = not rules.key and lines == count_of_lines(pair.after)
        whole, strangers = _in_step(sides, differences) if in_step else (False, 0)
        if not whole or strangers:
            matched = Differences(rules)
            match(sides, matched)
            if not whole or _told(matched) < _told(differences):
                differences = matched
        elif differences.numbers.beyond and _is_another_order(sides):
            differences = Differences(rules)
            differences.say("the same rows stand in another order")
    except (csv.Error, UnicodeError) as error:
        raise Unreadable(str(error)) from error
    _tell_forms(sides, differences)
    head = sides[0].head()
    names = head if is_header(head) else [str(at) for at in range(1, len(head) + 1)]
    differences.extent = Extent(lines, tuple(names))
    return differences.found()


def _form(path: Path, rules: Rules) -> Form:
    told = rules.reading
    encoding = told.encoding or encoding_in(path)
    with opened(path, encoding, newline="") as stream:
        lines = list(islice(stream, _SNIFFED))
    delimiter = told.delimiter or delimiter_of(lines)
    if delimiter is None:
        raise Unreadable("its lines have not all as many cells")
    cells_there = (cell for row in csv.reader(lines, delimiter=delimiter) for cell in row)
    return Form(delimiter, told.decimal or decimal_of(cells_there), encoding)


def _tell_forms(sides: tuple[Side, Side], into: Differences) -> None:
    """Say how they were read, where that was found and is not what anybody would take for granted."""
    before, after = (side.form for side in sides)
    if before != after:
        into.taken[f"the one has {before}; the other {after}"] = None
    elif before.decimal == "," and not into.rules.reading.decimal:
        into.taken["read with decimal commas"] = None
    if not (into.differs or into.equated or into.set_aside or into.taken):
        into.set_aside["how lines end and cells are quoted"] = None


def _is_another_order(sides: tuple[Side, Side]) -> bool:
    """Whether two tables of measured numbers, not too large, have the same rows."""
    rows = []
    for side in sides:
        with side.lines() as stream:
            rows.append(Counter(line.rstrip("\r\n") for line in islice(stream, _MOST_ORDERED + 1)))
    return rows[0] == rows[1] and rows[0].total() <= _MOST_ORDERED


def _told(differences: Differences) -> int:
    return len(differences.details) + differences.more


def _in_step(sides: tuple[Side, Side], into: Differences) -> tuple[bool, int]:
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
        has_header = is_header(before)
        if len(before) != len(after) or (has_header and before != after):
            return False, 0
        into.meet(before if has_header else ())
        names = before if has_header else [f"column {at}" for at in range(1, len(before) + 1)]
        rest = _Block(first.numbers[1:], first.before[1:], first.after[1:]) if has_header else first
        for block in chain([rest], blocks):
            found = _block(names, block, delimiter, into)
            strangers += found or 0
            if found is None or strangers > _MOST_STRANGERS:
                return False, strangers  # rows may have come, gone or changed places
    return True, strangers


def _differing(sides: tuple[Side, Side], one: IO[str], other: IO[str], into: Differences) -> Iterator[_Block]:
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


def _parsed(number: int, sides: tuple[Side, Side], one: Iterable[str], other: Iterable[str]) -> Iterator[_Block]:
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
    compare_columns(names, numbers, columns, into)
    if not columns:
        return 0
    before, after = columns[0]
    unlike = before.unlike(after)
    decimals = before.decimals(unlike), after.decimals(unlike)
    if decimals[0] is None or decimals[1] is None:
        return sum(map(_is_stranger, before.texts(unlike), after.texts(unlike)))
    return int(((decimals[0] == 0) | (decimals[1] == 0)).sum())


def _are_lines(rows: list[str] | list[list[str]]) -> TypeGuard[list[str]]:
    return isinstance(rows[0], str)


def _is_stranger(before: str, after: str) -> bool:
    """Whether a row begins with another name; a measured number may differ in the same row."""
    return before != after and not ("." in before and "." in after)
