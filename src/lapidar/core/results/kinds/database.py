"""SQLite databases, table by table: the schema, and the rows in the order of their key, or sorted. Opened for reading
only; triggers, views and extensions are not run."""

from __future__ import annotations

import sqlite3
import time
from collections.abc import Iterator
from contextlib import closing
from itertools import zip_longest
from typing import Any
from urllib.parse import quote

from lapidar.core.results.differences import Differences
from lapidar.core.results.tolerances import Rules
from lapidar.core.results.verdict import Found, Pair, Unreadable

__all__ = ["compare"]

_SECONDS = 120.0


def compare(pair: Pair, rules: Rules) -> Found:
    """Compare two databases."""
    differences = Differences(rules)
    try:
        with closing(_opened(pair.before)) as before, closing(_opened(pair.after)) as after:
            schemas = _schema(before), _schema(after)
            for name in sorted(schemas[0].keys() ^ schemas[1].keys()):
                differences.say(f"{name}: {'gone' if name in schemas[0] else 'new'}")
            for name in sorted(schemas[0].keys() & schemas[1].keys()):
                if schemas[0][name] != schemas[1][name]:
                    differences.other(f"{name}", schemas[0][name][1], schemas[1][name][1])
                elif schemas[0][name][0] == "table" and not rules.ignores(name):
                    _table(name, before, after, differences)
    except (sqlite3.Error, OverflowError, UnicodeError) as error:
        raise Unreadable(str(error)[:200]) from error
    return differences.found()


def _opened(path: Any) -> sqlite3.Connection:
    # Immutable: nothing is written beside it, and a journal that lies there is not played.
    connection = sqlite3.connect(f"file:{quote(str(path))}?mode=ro&immutable=1", uri=True)
    connection.text_factory = lambda data: data.decode("utf-8", "surrogateescape")
    connection.execute("PRAGMA trusted_schema = OFF")
    ends = time.monotonic() + _SECONDS
    connection.set_progress_handler(lambda: time.monotonic() > ends, 100_000)
    return connection


def _schema(connection: sqlite3.Connection) -> dict[str, tuple[str, str]]:
    rows = connection.execute("SELECT name, type, coalesce(sql, '') FROM sqlite_master WHERE name NOT LIKE 'sqlite_%'")
    return {name: (kind, " ".join(sql.split())) for name, kind, sql in rows}


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def _rows(connection: sqlite3.Connection, table: str, columns: list[str], key: list[str]) -> Iterator[tuple[Any, ...]]:
    order = ", ".join(map(_quoted, key or columns))
    return connection.execute(f"SELECT {', '.join(map(_quoted, columns))} FROM {_quoted(table)} ORDER BY {order}")


def _table(name: str, before: sqlite3.Connection, after: sqlite3.Connection, into: Differences) -> None:
    told = list(before.execute(f"PRAGMA table_info({_quoted(name)})"))
    columns = [row[1] for row in told]
    key = [row[1] for row in sorted((row for row in told if row[5]), key=lambda row: row[5])]
    if not columns:
        raise Unreadable(f"the table {name} has no columns that can be read")
    for number, (one, other) in enumerate(
        zip_longest(_rows(before, name, columns, key), _rows(after, name, columns, key)), 1
    ):
        if one is None or other is None:
            counts = [_count(connection, name) for connection in (before, after)]
            into.say(f"{name}: {counts[0]:,} rows -> {counts[1]:,}")
            return
        for column, was, is_now in zip(columns, one, other, strict=True):
            _cell(f"{name} row {number}, {column}", f"{name}.{column}", was, is_now, into)


def _count(connection: sqlite3.Connection, table: str) -> int:
    return int(connection.execute(f"SELECT count(*) FROM {_quoted(table)}").fetchone()[0])


# When a file of the standard itself says that it was changed (OGC GeoPackage).
_OWN_STAMPS = frozenset(("gpkg_contents.last_change", "gpkg_metadata_reference.timestamp"))


def _cell(where: str, field: str, before: Any, after: Any, into: Differences) -> None:
    if into.rules.ignores(field) or (field in _OWN_STAMPS and before != after):
        into.set_aside[field] = None
    else:
        into.value(where, field, before, after)
