"""RECORD: the list of a distribution's installed files.

Recording installed projects, https://packaging.python.org/en/latest/specifications/recording-installed-packages/
"""

from __future__ import annotations

import base64
import csv
import io
from collections.abc import Iterable
from typing import NamedTuple

__all__ = ["RecordedFile", "parse", "render"]


class RecordedFile(NamedTuple):
    """One file: its path as written, its sha256 in hex (empty where none is given), its size if given."""

    path: str
    sha256: str
    bytes: int | None


def parse(text: str) -> list[RecordedFile]:
    """Read a RECORD file.

    Raises:
        ValueError: it is no such table.
    """
    rows = []
    try:
        for fields in csv.reader(io.StringIO(text, newline="")):
            if fields and fields[0]:
                rows.append(_row(fields))
    except csv.Error as error:
        raise ValueError(str(error)) from error
    return rows


def _row(fields: list[str]) -> RecordedFile:
    path, algorithm_and_hash, size = (*fields, "", "")[:3]
    sha256 = ""
    if algorithm_and_hash.startswith("sha256="):
        try:
            sha256 = base64.urlsafe_b64decode(algorithm_and_hash[7:] + "=").hex()
        except ValueError:
            sha256 = ""
    return RecordedFile(path, sha256, int(size) if size.isdigit() else None)


def render(rows: Iterable[RecordedFile]) -> str:
    """Write a RECORD file, sorted by path."""
    lines = _Lines()
    csv.writer(lines, lineterminator="\r\n").writerows(map(_fields, sorted(rows)))
    return "".join(lines.found)


class _Lines:
    """Lines of a table, each ended by a line feed alone. The writer is to end them by both characters, for it quotes
    what holds a character that ends a line."""

    def __init__(self) -> None:
        self.found: list[str] = []

    def write(self, line: str) -> None:
        """Take the next."""
        self.found.append(line.removesuffix("\r\n") + "\n")


def _fields(row: RecordedFile) -> tuple[str, str, int | str]:
    if not row.sha256:
        return row.path, "", ""
    encoded = base64.urlsafe_b64encode(bytes.fromhex(row.sha256)).rstrip(b"=").decode("ascii")
    return row.path, f"sha256={encoded}", "" if row.bytes is None else row.bytes
