"""Tables in files of columns and sheets: Parquet and Feather (Apache Arrow), Excel workbooks (ECMA-376), read by the
libraries that know them."""

from __future__ import annotations

import re
from typing import Any

from lapidar.core.results.differences import Differences
from lapidar.core.results.tolerances import Rules
from lapidar.core.results.verdict import BeyondLimit, Found, Pair, Unreadable

__all__ = ["compare_feather", "compare_parquet", "compare_workbook"]

_BESIDE = re.compile(r"xl/(charts|chartsheets|drawings|media|comments|threadedComments|pivot\w*)(/|\d)(?!.*\.rels$)")
_ROWS = 200_000  # at a time
_MOST_CELLS = 5_000_000


def compare_parquet(pair: Pair, rules: Rules) -> Found:
    """Compare two Parquet files, batch by batch."""
    parquet = _arrow("pyarrow.parquet")
    differences = Differences(rules)
    try:
        before, after = parquet.ParquetFile(pair.before), parquet.ParquetFile(pair.after)
        batches = [one.iter_batches(batch_size=_ROWS) for one in (before, after)]
        _schemas(before.schema_arrow, after.schema_arrow, differences)
        _rows(before.metadata.num_rows, after.metadata.num_rows, batches, differences)
    except Exception as error:  # whatever a damaged file makes of the reader
        raise Unreadable(str(error)[:200] or type(error).__name__) from error
    return differences.found()


def compare_feather(pair: Pair, rules: Rules) -> Found:
    """Compare two Feather files of version 2."""
    feather = _arrow("pyarrow.feather")
    differences = Differences(rules)
    try:
        before, after = feather.read_table(pair.before), feather.read_table(pair.after)
        batches = [iter(one.combine_chunks().to_batches(max_chunksize=_ROWS)) for one in (before, after)]
        _schemas(before.schema, after.schema, differences)
        _rows(before.num_rows, after.num_rows, batches, differences)
    except Exception as error:
        raise Unreadable(str(error)[:200] or type(error).__name__) from error
    return differences.found()


def _arrow(name: str) -> Any:
    import importlib

    try:
        return importlib.import_module(name)
    except ImportError as error:
        raise Unreadable("install lapidar[compare] to read Parquet and Feather") from error


def _schemas(before: Any, after: Any, into: Differences) -> None:
    ones, others = ({field.name: str(field.type) for field in schema} for schema in (before, after))
    into.meet((*ones, *others))
    for name in [*ones, *(name for name in others if name not in ones)]:
        if name not in others or name not in ones:
            into.say(f"column {name}: {'gone' if name in ones else 'new'}")
        elif ones[name] != others[name]:
            into.other(f"column {name} type", ones[name], others[name])
    if [name for name in ones if name in others] != [name for name in others if name in ones]:
        into.say("the columns stand in another order")
    keyed = [_index(schema) for schema in (before, after)]
    if keyed[0] != keyed[1]:
        into.other("the index", keyed[0], keyed[1])


def _index(schema: Any) -> str:
    """What is the index of a data frame, as its writer says: columns, or a count from one number to another."""
    facts = schema.pandas_metadata or {}
    return ", ".join(
        index
        if isinstance(index, str)
        else f"{index.get('name') or 'rows'} {index.get('start')} to {index.get('stop')}"
        for index in facts.get("index_columns", ())
    )


def _rows(before: int, after: int, batches: list[Any], into: Differences) -> None:
    if before != after:
        into.say(f"{before:,} rows -> {after:,}")
        return
    first = 1
    for one, other in zip(*batches, strict=False):
        for name in one.schema.names:
            if name in other.schema.names and not into.rules.ignores(name):
                _column(name, first, one.column(name), other.column(name), into)
        first += one.num_rows


def _column(name: str, first: int, before: Any, after: Any, into: Differences) -> None:
    arrow = _arrow("pyarrow")
    if before.equals(after) and not arrow.types.is_floating(before.type) and not _holds_floats(arrow, before.type):
        into.numbers.compared += len(before)
        return
    if arrow.types.is_temporal(before.type) and before.type == after.type:
        # A time to the nanosecond is no value of the language: as the integer that it is.
        _integers(name, first, before, after, into)
        return
    for row, (one, other) in enumerate(zip(before.to_pylist(), after.to_pylist(), strict=False), first):
        if one != other or repr(one) != repr(other):
            into.value(f"row {row}, {name}", name, one, other)
        else:
            into.numbers.compared += 1


def _holds_floats(arrow: Any, kind: Any) -> bool:
    """Whether it is of lists or records with doubles, of which -0 and +0 are taken for equal."""
    return kind.num_fields > 0 and ("float" in str(kind) or "double" in str(kind))


def _integers(name: str, first: int, before: Any, after: Any, into: Differences) -> None:
    arrow = _arrow("pyarrow")
    kind = arrow.int32() if before.type.bit_width == 32 else arrow.int64()
    ones, others = (column.cast(kind).to_pylist() for column in (before, after))
    shown = zip(before.cast(arrow.string()).to_pylist(), after.cast(arrow.string()).to_pylist(), strict=False)
    for row, (one, other, (was, is_now)) in enumerate(zip(ones, others, shown, strict=False), first):
        if one != other:
            into.other(f"row {row}, {name}", was, is_now)


def compare_workbook(pair: Pair, rules: Rules) -> Found:
    """Compare two Excel workbooks: the values that were saved in their cells, the formats of numbers, the formulas;
    which sheets are hidden; comments, charts and pictures. Fonts, colours and widths are passed over."""
    try:
        import openpyxl
    except ImportError as error:
        raise Unreadable("install lapidar[compare] to read workbooks") from error
    differences = Differences(rules)
    # Given as streams: of a path the reader goes by the ending, and what a cache keeps has none.
    for what, values in (("", True), (" (formula)", False)):
        try:
            with pair.before.open("rb") as before, pair.after.open("rb") as after:
                books = [openpyxl.load_workbook(one, read_only=True, data_only=values) for one in (before, after)]
                _sheets(what, books[0], books[1], differences)
        except Unreadable:
            raise
        except Exception as error:
            raise Unreadable(str(error)[:200] or type(error).__name__) from error
        if differences.is_different or differences.numbers.differing:
            break
    _beside_cells(pair, differences)
    differences.set_aside["fonts, colours and widths"] = None
    return differences.found()


def _beside_cells(pair: Pair, into: Differences) -> None:
    """What a workbook holds beside its cells: parts of the package (ECMA-376, part 2) of their own."""
    from lapidar.core.results.kinds import archive

    archive.compare_members(pair, into, lambda name: _BESIDE.match(name) is not None)


def _sheets(what: str, before: Any, after: Any, into: Differences) -> None:
    for name in [*before.sheetnames, *(name for name in after.sheetnames if name not in before.sheetnames)]:
        if name not in after.sheetnames or name not in before.sheetnames:
            into.say(f"sheet {name}: {'gone' if name in before.sheetnames else 'new'}")
            continue
        from itertools import zip_longest

        states = before[name].sheet_state, after[name].sheet_state
        if states[0] != states[1]:
            into.other(f"sheet {name}", states[0], states[1])
        cells = 0
        rows = zip_longest(before[name].iter_rows(), after[name].iter_rows(), fillvalue=())
        for number, (one, other) in enumerate(rows, 1):
            for column, pair in enumerate(zip_longest(one, other), 1):
                was, is_now = (cell.value if cell is not None else None for cell in pair)
                formats = [cell.number_format if cell is not None else "General" for cell in pair]
                if formats[0] != formats[1]:
                    into.other(f"{name}, row {number}, column {column}, format of numbers", formats[0], formats[1])
                cells += 1
                if cells > _MOST_CELLS:
                    raise BeyondLimit(f"a sheet has more than {_MOST_CELLS:,} cells")
                if was != is_now or repr(was) != repr(is_now):
                    into.value(f"{name}, row {number}, column {column}{what}", name, was, is_now)
