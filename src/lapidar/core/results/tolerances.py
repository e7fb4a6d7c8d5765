"""What is tolerated, and what is set aside, for which file and which place in it: as ``lapidar.toml`` says it."""

from __future__ import annotations

import functools
import math
import re
from collections.abc import Collection, Mapping, Sequence
from fnmatch import fnmatchcase
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from lapidar.core.errors import DeclarationError
from lapidar.core.records.declaration import DeclaredAnalysis
from lapidar.core.results.numbers import EXACT, Tolerance
from lapidar.core.results.reading import FOUND, Reading

__all__ = ["KINDS", "NONE", "Rules", "Tolerances", "of", "parse"]


# What a file can be declared to be: the kinds of `results/kinds`.
KINDS = (
    "text", "log", "table", "values", "lines of values", "notebook", "markup", "drawing", "picture", "PDF", "array",
    "HDF5", "netCDF", "MATLAB", "Parquet", "Feather", "workbook", "archive", "compressed", "database", "pickle",
    "R values", "FITS", "DICOM", "NIfTI", "bytes",
)  # fmt: skip


class Rules(Struct, frozen=True):
    """What holds in one file.

    Attributes:
        fields: patterns of columns, keys or paths in the file ("" for all of it), with what is tolerated there; the
            last one that fits counts.
        ignored: patterns of what is not compared.
        key: columns of a table by which its rows are matched; empty: they are found.
        reading: what is declared of how it is read.
    """

    fields: tuple[tuple[str, Tolerance], ...] = ()
    ignored: tuple[str, ...] = ()
    key: tuple[str, ...] = ()
    reading: Reading = FOUND

    def is_text(self, column: str) -> bool:
        """Whether the cells of a column are texts, whatever they look like."""
        return any(_fits(column, pattern) for pattern in self.reading.text)

    def of(self, place: str) -> Tolerance:
        """What is tolerated at a column, a key or a path."""
        found = EXACT
        for pattern, tolerance in self.fields:
            if not pattern or _fits(place, pattern):
                found = tolerance
        return found

    def ignores(self, place: str) -> bool:
        """Whether a column, a key or a path is not compared."""
        return any(_fits(place, pattern) for pattern in self.ignored)

    @property
    def has_places(self) -> bool:
        """Whether any rule is for a place in the file."""
        return bool(self._places())

    def _places(self) -> list[str]:
        return [*(pattern for pattern, _ in self.fields if pattern), *self.ignored, *self.key, *self.reading.text]

    def idle(self, places: Collection[str]) -> list[str]:
        """The patterns of places that fit none of these."""
        return [one for one in dict.fromkeys(self._places()) if not any(_fits(place, one) for place in places)]

    @property
    def told(self) -> str:
        """All of it, in a few words; "" where nothing is tolerated."""
        parts = [f"{pattern}: {tolerance}" if pattern else str(tolerance) for pattern, tolerance in self.fields]
        return "; ".join(part for part in parts if part)


def _fits(place: str, pattern: str) -> bool:
    """Whether a pattern is of a place, or of its last part."""
    literal = _literal(pattern)
    return fnmatchcase(place, literal) or fnmatchcase(place.rpartition(".")[2], literal)


@functools.cache
def _literal(pattern: str) -> str:
    """A pattern in which brackets with a number, a name or a star are places of a list: ``fit.n[0]``, ``fit.n[*]``."""
    return re.sub(r"\[(\d+|[*?]+)\]", r"[[]\1]", pattern)


NONE = Rules()


class Tolerances(Struct, frozen=True):
    """All rules of an analysis, in the order of the declaration: patterns of files, of places, and what holds there."""

    tolerated: tuple[tuple[str, str, Tolerance], ...] = ()
    ignored: tuple[tuple[str, str], ...] = ()
    keys: tuple[tuple[str, tuple[str, ...]], ...] = ()
    readings: tuple[tuple[str, Reading], ...] = ()

    def idle(self, paths: Collection[str]) -> list[str]:
        """The patterns of files that fit none of these results."""
        rules: tuple[tuple[str, Any], ...] = (*self.ignored, *self.keys, *self.readings)
        patterns = [file for file, _, _ in self.tolerated] + [file for file, _ in rules]
        return [one for one in dict.fromkeys(patterns) if not any(fnmatchcase(path, one) for path in paths)]

    def for_file(self, path: str) -> Rules:
        """What holds in a result."""
        return Rules(
            tuple((place, tolerance) for file, place, tolerance in self.tolerated if fnmatchcase(path, file)),
            tuple(place for file, place in self.ignored if place and fnmatchcase(path, file)),
            next((key for file, key in reversed(self.keys) if fnmatchcase(path, file)), ()),
            next((reading for file, reading in reversed(self.readings) if fnmatchcase(path, file)), FOUND),
        )


def of(told: DeclaredAnalysis) -> Tolerances:
    """The rules that an analysis declares.

    Raises:
        DeclarationError: one makes no sense.
    """
    where = f"lapidar.toml, [analysis.{told.name}]"
    rules = parse(told.tolerance, told.ignore, where)
    if empty := [file for file, key in told.matched_by.items() if not file or not key]:
        raise DeclarationError(
            f"{where}: matched-by of {empty[0]!r} makes no sense", remedy='Write "results/*.csv" = ["sherd"].'
        )
    keys = {
        **told.matched_by,
        **{file: tuple(fields["key"]) for file, fields in told.reading.items() if fields.get("key")},
    }
    readings = tuple(
        (file, _reading(fields, f"{where}: the reading of {file!r}")) for file, fields in told.reading.items()
    )
    return replace(rules, keys=tuple(keys.items()), readings=readings)


def _reading(fields: Mapping[str, Any], where: str) -> Reading:
    told = {name: value for name, value in fields.items() if name != "key"}
    reading = Reading(**{**told, "text": tuple(told.get("text", ()))})
    why = ""
    if reading.kind and reading.kind not in KINDS:
        why = f"{reading.kind!r} is no kind; there are: {', '.join(KINDS)}"
    elif len(reading.delimiter) > 1:
        why = f"the delimiter {reading.delimiter!r} is not one character"
    elif reading.decimal not in ("", ".", ","):
        why = f"the decimal sign {reading.decimal!r} is neither a point nor a comma"
    elif reading.decimal and reading.decimal == reading.delimiter:
        why = "one sign cannot part cells and come before decimals"
    elif reading.encoding and not _is_encoding(reading.encoding):
        why = f"{reading.encoding!r} is no encoding of text that is known"
    if why:
        raise DeclarationError(
            f"{where} makes no sense", why=why, remedy='Write for example { delimiter = ";", decimal = "," }.'
        )
    return reading


def _is_encoding(name: str) -> bool:
    try:
        "".encode(name)
    except (LookupError, ValueError):
        return False
    return True


def parse(tolerated: Mapping[str, Mapping[str, float]], ignored: Sequence[str], where: str) -> Tolerances:
    """The rules as declared: ``"results/*.csv"`` or ``"results/*.csv:column"``.

    Raises:
        DeclarationError: one makes no sense.
    """
    rules = []
    for key, measures in tolerated.items():
        file, _, place = key.partition(":")
        if unknown := sorted(set(measures) - {"absolute", "relative", "ulps"}):
            raise DeclarationError(
                f"{where}: tolerance of {key!r} has a key that means nothing: {unknown[0]}",
                remedy="Known are absolute, relative, ulps.",
            )
        bad = [name for name, value in measures.items() if not (math.isfinite(value) and value >= 0)]
        if bad or not measures or not file:
            raise DeclarationError(
                f"{where}: the tolerance of {key!r} makes no sense",
                why=f"{bad[0]} is {measures[bad[0]]}" if bad else "it says nothing",
                remedy='Write a number, 0 for exact: "results/*.csv" = { relative = 1e-9 }.',
            )
        if measures.get("relative", 0) >= 1:
            raise DeclarationError(
                f"{where}: the tolerance of {key!r} makes no sense",
                why=f"a relative difference of {measures['relative']:g} allows anything",
                remedy="Write a number below 1.",
            )
        rules.append((file, place, Tolerance(**measures)))
    places = []
    for text in ignored:
        file, _, place = text.partition(":")
        if not file or not place:
            raise DeclarationError(
                f"{where}: ignore has {text!r}, which names no column, key or path",
                remedy='Write "FILE:NAME"; a whole file is left out with leave = ["FILE"].',
            )
        places.append((file, place))
    return Tolerances(tuple(rules), tuple(places))
