"""The package database of the systems that use the RPM format: SQLite tables that lead to the packages' headers.

Of an older kind of database (before SQLite, ``/var/lib/rpm/Packages``) nothing is read. The header's form is that of
the RPM file format, version 4: an index of (tag, type, offset, count), and a store.
"""

from __future__ import annotations

import functools
import os
import posixpath
import struct
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

if TYPE_CHECKING:
    import sqlite3

__all__ = ["Rpm"]

PLACES = (Path("/var/lib/rpm"), Path("/usr/lib/sysimage/rpm"))
_NAME, _VERSION, _RELEASE, _EPOCH, _LICENCE, _SOURCE = 1000, 1001, 1002, 1003, 1014, 1044
_STATES, _NEEDS, _FOLDER_OF, _FILES, _FOLDERS, _WANTS = 1029, 1049, 1116, 1117, 1118, 5046
_STEPS = (1023, 1024, 1025, 1026)  # before and after it is installed, and taken away
_NUMBERS = {2: "b", 3: "h", 4: "i"}  # types of the format: 8, 16 and 32 bits, big-endian
_TEXTS = frozenset({6, 8, 9})
_NORMAL = 0  # of a file's states: neither replaced by another package's nor left out
# They serve a system's administration, not the work of a program that depends on them.
_ADMINISTRATION = frozenset("basesystem crypto-policies filesystem rpm setup systemd".split())
_OF_EVERY_SYSTEM = _ADMINISTRATION | frozenset(
    "bash coreutils coreutils-common diffutils findutils glibc glibc-common grep gzip ncurses ncurses-base sed tar"
    " util-linux".split()
)


class _Header(NamedTuple):
    """What is read of an installed package."""

    name: str
    version: str
    source: str
    needs: tuple[str, ...]
    wants: tuple[str, ...]
    steps: tuple[str, ...]
    files: tuple[str, ...]
    licence: str


class Rpm:
    """The database in a folder; see `Database`."""

    def __init__(self, folder: Path | None = None) -> None:
        places = [folder] if folder else [*PLACES]
        self._files = [place / "rpmdb.sqlite" for place in places]
        self._headers: dict[int, _Header | None] = {}

    @functools.cached_property
    def _connection(self) -> sqlite3.Connection | None:
        file = next(filter(os.path.isfile, self._files), None)
        if file is None:
            return None
        try:
            import sqlite3  # where there is such a database only
        except ImportError:  # an interpreter that was built without it
            return None
        # Read as a file that nobody changes meanwhile, nothing is made beside it. Only where changes wait in its log
        # must that be read too, which takes the right to write there.
        alone = "mode=ro&immutable=1"
        log = f"{file}-wal"
        for way in ("mode=ro", alone) if os.path.isfile(log) and os.path.getsize(log) else (alone,):
            try:
                connection = sqlite3.connect(f"{file.absolute().as_uri()}?{way}", uri=True)
                connection.execute("select count(*) from Basenames").fetchone()
                return connection
            except (sqlite3.Error, ValueError):  # what it says of its fault may be no UTF-8
                continue
        return None

    def _rows(self, query: str, *words: str | int) -> list[tuple[Any, ...]]:
        """The rows of a query; none where there is no database, or it is broken."""
        if self._connection is None:
            return []
        try:
            return self._connection.execute(query, words).fetchall()
        except (self._connection.Error, ValueError):  # also a name that is no UTF-8
            return []

    @property
    def is_there(self) -> bool:
        return self._connection is not None

    def _header(self, number: int) -> _Header | None:
        if number not in self._headers:
            rows = self._rows("select blob from Packages where hnum = ?", number)
            try:
                self._headers[number] = _read(rows[0][0])
            except (struct.error, ValueError, IndexError, TypeError):
                self._headers[number] = None
        return self._headers[number]

    def _found(self, table: str, key: str) -> Iterator[_Header]:
        """The packages that a table leads to."""
        rows = self._rows(f"select distinct hnum from {table} where key = ? order by hnum", key)
        return filter(None, (self._header(number) for (number,) in rows))

    def having(self, paths: Iterable[str]) -> Iterator[tuple[str, str, str]]:
        for path in paths:
            for package in self._found("Basenames", posixpath.basename(path)):
                if path in package.files:
                    yield path, package.name, package.version

    def files_of(self, name: str) -> list[str]:
        return [path for package in self._found("Name", name) for path in package.files]

    def works_with(self, name: str) -> Iterator[str]:
        for package in self._found("Name", name):
            for other in (*package.needs, *package.wants):
                for one in self._found("Providename", other):
                    is_part = one.source == package.source or one.name.endswith("-devel")
                    if one.name not in _OF_EVERY_SYSTEM and (other in package.needs or is_part):
                        yield one.name

    def steps_of(self, name: str) -> Iterator[str]:
        for package in self._found("Name", name):
            yield from package.steps

    def needs_of(self, name: str) -> Iterator[str]:
        for package in self._found("Name", name):
            for need in package.needs:
                yield from (one.name for one in self._found("Providename", need))

    def licence_of(self, name: str, version: str) -> str:
        return next((one.licence for one in self._found("Name", name) if one.version == version), "")

    def with_file_named(self, name: str) -> str | None:
        return next((package.name for package in self._found("Basenames", name)), None)

    def lists_having(self, paths: Iterable[str]) -> Iterator[tuple[str, list[str]]]:
        for path in paths:
            for package in self._found("Basenames", posixpath.basename(path)):
                if path in package.files:
                    yield path, list(package.files)


def _read(blob: bytes) -> _Header:
    """A header out of its bytes.

    Raises:
        struct.error, ValueError, IndexError: they are no header.
    """
    count, _ = struct.unpack_from(">II", blob)
    store = 8 + 16 * count
    index = {tag: place for tag, *place in struct.iter_unpack(">iIiI", blob[8:store])}

    def texts(tag: int) -> list[str]:
        kind, offset, many = index.get(tag, (None, 0, 0))
        return _texts(blob, store + offset, many) if kind in _TEXTS else []

    def numbers(tag: int) -> list[int]:
        kind, offset, many = index.get(tag, (None, 0, 0))
        return list(struct.unpack_from(f">{many}{_NUMBERS[kind]}", blob, store + offset)) if kind in _NUMBERS else []

    def text(tag: int) -> str:
        return next(iter(texts(tag)), "")

    epoch = "".join(f"{one}:" for one in numbers(_EPOCH)[:1])
    folders, states = texts(_FOLDERS), numbers(_STATES)
    files = [f"{folders[folder]}{name}" for folder, name in zip(numbers(_FOLDER_OF), texts(_FILES), strict=True)]
    there = [path for at, path in enumerate(files) if at >= len(states) or states[at] == _NORMAL]
    version = f"{epoch}{text(_VERSION)}-{text(_RELEASE)}"
    steps = tuple(map(text, _STEPS))
    wants = tuple(texts(_WANTS))
    return _Header(
        text(_NAME), version, text(_SOURCE), tuple(texts(_NEEDS)), wants, steps, tuple(there), text(_LICENCE)
    )


def _texts(blob: bytes, at: int, count: int) -> list[str]:
    found = []
    for _ in range(count):
        end = blob.index(b"\0", at)
        found.append(blob[at:end].decode("utf-8", "surrogateescape"))
        at = end + 1
    return found
