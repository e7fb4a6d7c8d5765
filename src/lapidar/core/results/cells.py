"""The cells of a column, many at a time: as a list of texts, or, where the library for it is at hand, as an array that
is taken apart, compared and read as numbers at once. Both say the same."""

from __future__ import annotations

import importlib
import io
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import Any, Protocol

__all__ = ["Cells", "Listed", "columns"]

_WORTH_AN_ARRAY = 50


class Cells(Protocol):
    """The cells of one column in a block of rows."""

    def __len__(self) -> int: ...

    def __getitem__(self, row: int, /) -> str: ...

    def unlike(self, other: Any) -> Sequence[int]:
        """The rows, from 0, in which another column of this sort and length is written otherwise."""
        ...

    def texts(self, rows: Sequence[int]) -> list[str]:
        """The cells of some rows."""
        ...

    def floats(self, rows: Sequence[int]) -> Any:
        """The cells of some rows as an array of doubles; None where they are few, or one is no finite number."""
        ...

    def decimals(self, rows: Sequence[int]) -> Any:
        """Of the cells of some rows, which are numbers: how many decimals each shows, as an array; -1: it has an
        exponent. None where that is to be looked at one by one."""
        ...


class Listed:
    """Cells as a sequence of texts."""

    def __init__(self, cells: Sequence[str]) -> None:
        self.cells = cells

    def __len__(self) -> int:
        return len(self.cells)

    def __getitem__(self, row: int) -> str:
        return self.cells[row]

    def texts(self, rows: Sequence[int]) -> list[str]:
        return [self.cells[row] for row in rows]

    def unlike(self, other: Listed) -> Sequence[int]:
        return [row for row, (one, two) in enumerate(zip(self.cells, other.cells, strict=True)) if one != two]

    def floats(self, rows: Sequence[int]) -> Any:
        numpy = _library("numpy")
        if len(rows) < _WORTH_AN_ARRAY or numpy is None:
            return None
        try:
            found = numpy.fromiter((float(text) for text in self.texts(rows)), numpy.float64, len(rows))
        except ValueError:
            return None
        return found if numpy.isfinite(found).all() else None

    def decimals(self, rows: Sequence[int]) -> Any:
        return None


class _Array:
    """Cells as an array of Apache Arrow."""

    def __init__(self, array: Any) -> None:
        self.array = array

    def __len__(self) -> int:
        return len(self.array)

    def __getitem__(self, row: int) -> str:
        return str(self.array[row])

    def unlike(self, other: _Array) -> Any:
        compute = importlib.import_module("pyarrow.compute")
        return compute.not_equal(self.array, other.array).to_numpy(zero_copy_only=False).nonzero()[0]

    def texts(self, rows: Any) -> list[str]:
        arrow = importlib.import_module("pyarrow")
        return list(self.array.take(arrow.array(rows, arrow.int64())).to_pylist())

    def floats(self, rows: Any) -> Any:
        numpy, arrow = importlib.import_module("numpy"), importlib.import_module("pyarrow")
        if len(rows) < _WORTH_AN_ARRAY:
            return None
        some = self.array if len(rows) == len(self.array) else self.array.take(arrow.array(rows))
        try:
            found = some.cast(arrow.float64()).to_numpy(zero_copy_only=False)
        except arrow.ArrowInvalid:
            return None
        return found if numpy.isfinite(found).all() else None

    def decimals(self, rows: Any) -> Any:
        numpy, arrow = importlib.import_module("numpy"), importlib.import_module("pyarrow")
        some = self.array if len(rows) == len(self.array) else self.array.take(arrow.array(rows))
        # Of all cells' bytes at once: a search in each cell takes ten times as long.
        _, ends, data = some.buffers()
        ends = numpy.frombuffer(ends, numpy.int32)[some.offset :][: len(some) + 1]
        data = numpy.frombuffer(data or b"", numpy.uint8)[: ends[-1]]
        points = (data == ord(".")).nonzero()[0]
        points = points[points >= ends[0]]
        if len(points) == len(some) and bool(((ends[:-1] <= points) & (points < ends[1:])).all()):
            return self._with_exponents(ends[1:] - points - 1, data, ends)
        shown = numpy.zeros(len(some), numpy.int64)
        of = numpy.searchsorted(ends, points, side="right") - 1
        shown[of[::-1]] = (ends[of + 1] - points - 1)[::-1]
        return self._with_exponents(shown, data, ends)

    @staticmethod
    def _with_exponents(shown: Any, data: Any, ends: Any) -> Any:
        numpy = importlib.import_module("numpy")
        found = ((data | 0x20) == ord("e")).nonzero()[0]
        if len(found):
            shown[numpy.searchsorted(ends, found[found >= ends[0]], side="right") - 1] = -1
        return shown


def columns(ones: Sequence[str], others: Sequence[str], delimiter: str) -> list[tuple[Cells, Cells]] | None:
    """The columns of two blocks of as many lines, in which no cell is quoted.

    Returns:
        Of each column, the cells of both; None where not all lines have as many cells.
    """
    with ThreadPoolExecutor(1) as beside:  # it is parsed without the interpreter
        taken_apart = beside.submit(_arrays, ones, delimiter)
        other = _arrays(others, delimiter)
        one = taken_apart.result()
    if one is not None and other is not None:
        return list(zip(one, other, strict=True)) if len(one) == len(other) else None
    rows = [[line.rstrip("\r\n").split(delimiter) for line in lines] for lines in (ones, others)]
    if len({len(row) for block in rows for row in block}) != 1:
        return None
    listed = [[Listed(column) for column in zip(*block, strict=True)] for block in rows]
    return list(zip(*listed, strict=True))


def _arrays(lines: Sequence[str], delimiter: str) -> list[Cells] | None:
    arrow = _library("pyarrow.csv")
    if arrow is None or len(lines) < _WORTH_AN_ARRAY:
        return None
    pyarrow = importlib.import_module("pyarrow")
    names = [str(at) for at in range(lines[0].count(delimiter) + 1)]
    try:
        data = "".join(lines).encode("utf-8")
        table = arrow.read_csv(
            io.BytesIO(data),
            read_options=arrow.ReadOptions(column_names=names, use_threads=False, block_size=len(data) + 1),
            parse_options=arrow.ParseOptions(delimiter=delimiter, quote_char=False, ignore_empty_lines=False),
            convert_options=arrow.ConvertOptions(column_types=dict.fromkeys(names, pyarrow.string())),
        )
    except (UnicodeEncodeError, pyarrow.ArrowInvalid):
        return None
    if table.num_rows != len(lines):
        return None
    return [_Array(column.combine_chunks()) for column in table.columns]


def _library(name: str) -> Any:
    try:
        return importlib.import_module(name)
    except ImportError:
        return None
