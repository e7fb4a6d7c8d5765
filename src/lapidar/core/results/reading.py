"""How a file that is text is read: what it is, in which encoding, what parts its cells, how its numbers are written.
What is declared holds; the rest is found by its bytes, and what was found is said beside the verdict."""

from __future__ import annotations

import codecs
import re
from collections.abc import Iterable
from pathlib import Path
from typing import IO

from msgspec import Struct

__all__ = ["FOUND", "Reading", "decimal_of", "encoding_in", "encoding_of", "opened", "plain_number"]

# The longer marks first: that of UTF-32 begins as that of UTF-16.
_BY_MARK = (
    (codecs.BOM_UTF32_LE, "utf-32"),
    (codecs.BOM_UTF32_BE, "utf-32"),
    (codecs.BOM_UTF8, "utf-8-sig"),
    (codecs.BOM_UTF16_LE, "utf-16"),
    (codecs.BOM_UTF16_BE, "utf-16"),
)
_COMMA = re.compile(r"[+-]?\d+,\d+(?:[eE][+-]?\d+)?")
_POINT = re.compile(r"[+-]?\d*\.\d+(?:[eE][+-]?\d+)?")


class Reading(Struct, frozen=True):
    """What is declared of how a file is read; "" and nothing where it is to be found.

    Attributes:
        kind: what it is compared as.
        delimiter: what parts the cells of a table.
        decimal: the sign before the decimals, "." or ",".
        encoding: by its usual name: latin-1, cp1252, utf-16.
        text: patterns of columns whose cells are texts and no numbers.
    """

    kind: str = ""
    delimiter: str = ""
    decimal: str = ""
    encoding: str = ""
    text: tuple[str, ...] = ()


FOUND = Reading()  # nothing is declared


def encoding_of(head: bytes) -> str:
    """The encoding that a file's first bytes tell by their mark; UTF-8 without one."""
    return next((name for mark, name in _BY_MARK if head.startswith(mark)), "utf-8")


def encoding_in(path: Path) -> str:
    """The encoding of a file, by its mark."""
    with path.open("rb") as stream:
        return encoding_of(stream.read(4))


def opened(path: Path, encoding: str, *, newline: str | None = None) -> IO[str]:
    """A file as text.

    Args:
        newline: as for `open`.
    """
    errors = "surrogateescape" if encoding.startswith("utf-8") else "strict"
    return path.open(encoding=encoding, errors=errors, newline=newline)


def decimal_of(cells: Iterable[str]) -> str:
    """The sign before the decimals in cells: a comma where some have one as numbers have, and none has a point."""
    commas = False
    for cell in cells:
        text = cell.strip()
        if _POINT.fullmatch(text):
            return "."
        commas = commas or bool(_COMMA.fullmatch(text))
    return "," if commas else "."


def plain_number(cell: str) -> str:
    """A cell with a decimal comma, with a point instead; any other as it is."""
    text = cell.strip()
    return text.replace(",", ".") if _COMMA.fullmatch(text) else cell
