"""What is tolerated, and what is set aside, for which file and which place in it: as ``lapidar.toml`` says it."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from fnmatch import fnmatchcase

from lapidar.core.errors import DeclarationError
from lapidar.core.records.declaration import DeclaredAnalysis
from lapidar.core.results.numbers import EXACT, Tolerance

__all__ = ["NONE", "Rules", "Tolerances", "of", "parse"]


@dataclass(frozen=True, slots=True)
class Rules:
    """What holds in one file.

    Attributes:
        fields: patterns of columns, keys or paths in the file ("" for all of it), with what is tolerated there; the
            last one that fits counts.
        ignored: patterns of what is not compared.
        key: columns of a table by which its rows are matched; empty: they are found.
    """

    fields: tuple[tuple[str, Tolerance], ...] = ()
    ignored: tuple[str, ...] = ()
    key: tuple[str, ...] = ()

    def of(self, place: str) -> Tolerance:
        """What is tolerated at a column, a key or a path."""
        found = EXACT
        for pattern, tolerance in self.fields:
            if not pattern or fnmatchcase(place, pattern) or fnmatchcase(place.rpartition(".")[2], pattern):
                found = tolerance
        return found

    def ignores(self, place: str) -> bool:
        """Whether a column, a key or a path is not compared."""
        last = place.rpartition(".")[2]
        return any(fnmatchcase(place, pattern) or fnmatchcase(last, pattern) for pattern in self.ignored)

    @property
    def told(self) -> str:
        """All of it, in a few words; "" where nothing is tolerated."""
        parts = [f"{pattern}: {tolerance}" if pattern else str(tolerance) for pattern, tolerance in self.fields]
        return "; ".join(part for part in parts if part)


NONE = Rules()


@dataclass(frozen=True, slots=True)
class Tolerances:
    """All rules of an analysis, in the order of the declaration: patterns of files, of places, and what holds there."""

    tolerated: tuple[tuple[str, str, Tolerance], ...] = ()
    ignored: tuple[tuple[str, str], ...] = ()
    keys: tuple[tuple[str, tuple[str, ...]], ...] = ()

    def for_file(self, path: str) -> Rules:
        """What holds in a result."""
        return Rules(
            tuple((place, tolerance) for file, place, tolerance in self.tolerated if fnmatchcase(path, file)),
            tuple(place for file, place in self.ignored if place and fnmatchcase(path, file)),
            next((key for file, key in reversed(self.keys) if fnmatchcase(path, file)), ()),
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
    return replace(rules, keys=tuple(told.matched_by.items()))


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
        bad = [name for name, value in measures.items() if not (math.isfinite(value) and value > 0)]
        if bad or not measures or not file:
            raise DeclarationError(
                f"{where}: the tolerance of {key!r} makes no sense",
                why=f"{bad[0]} is {measures[bad[0]]}" if bad else "it says nothing",
                remedy='Write a number above 0: "results/*.csv" = { relative = 1e-9 }.',
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
