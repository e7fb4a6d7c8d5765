"""Compare results: two files, two folders, a folder and a record, two records."""

from __future__ import annotations

import os
from collections.abc import Mapping
from pathlib import Path

from msgspec import Struct, field

from lapidar.core.cache.store import Cache
from lapidar.core.errors import LapidarError
from lapidar.core.flows.choose import of_revision
from lapidar.core.flows.record import declared
from lapidar.core.flows.rerun import idle_rules
from lapidar.core.place import RECORDS_NAME, Place
from lapidar.core.records import results
from lapidar.core.records.results import Analysis
from lapidar.core.results import listing, scratch, tolerances
from lapidar.core.results.comparing import Was, compare_all, files_below, of_file
from lapidar.core.results.tolerances import Tolerances
from lapidar.core.results.verdict import Compared

__all__ = ["Compare", "compare_two"]


class Compare(Struct, frozen=True):
    """What came of it.

    Attributes:
        before, after: what the two are called.
        files: of each result that both have, the two files.
        notes: what the user should know, a sentence each.
    """

    before: str
    after: str
    compared: tuple[Compared, ...]
    files: dict[str, tuple[Path, Path]] = field(default_factory=dict)
    notes: tuple[str, ...] = ()


class _Side(Struct, frozen=True):
    """One of the two.

    Attributes:
        files: its results; those of a record as they were.
        analysis: whose record it is; "" for files.
    """

    called: str
    files: Mapping[str, Was]
    analysis: str = ""
    is_file: bool = False


def compare_two(place: Place, cache: Cache | None, before: str, after: str, analysis: str = "") -> Compare:
    """Compare two sides, each a path, or the name of a record, with ``@REVISION`` for that of another revision.

    Args:
        cache: has the bytes of recorded results; None where there is no cache.
        analysis: whose tolerances hold, where neither is a record.

    Raises:
        LapidarError: one of them is nothing.
    """
    one, other = (_side(place, cache, text) for text in (before, after))
    name = one.analysis or other.analysis or analysis
    rules = tolerances.of(declared(place, name)) if name else Tolerances()
    ones: Mapping[str, Was]
    others: Mapping[str, Was]
    if one.is_file and other.is_file:
        ones, others = ({other.called: side} for files in (one.files, other.files) for side in files.values())
    else:
        ones, others = _aligned(one, other)
    compared = compare_all(ones, others, rules)
    pairs = {path: (ones[path].file, others[path].file) for path in ones.keys() & others.keys()}
    files = {path: (was, now) for path, (was, now) in pairs.items() if was is not None and now is not None}
    notes = tuple(idle_rules(name, rules, [each.path for each in compared])) if name else ()
    return Compare(one.called, other.called, tuple(compared), files, notes)


def _side(place: Place, cache: Cache | None, text: str) -> _Side:
    path = Path(text)
    if path.is_dir():
        return _Side(text, {name: of_file(file) for name, file in files_below(path).items()})
    if os.path.lexists(path):
        return _Side(text, {path.name: Was(path, bytes=path.stat().st_size)}, is_file=True)
    name, _, revision = text.partition("@")
    analysis = _records(place, revision).named(name)
    if analysis is None:
        raise LapidarError(
            f"{text!r} is neither a file, nor a folder, nor a recorded analysis",
            remedy="Name a path, or an analysis of lapidar.results: kilns, or kilns@REVISION.",
        )
    return _Side(text, _recorded(analysis, cache), analysis.name)


def _recorded(analysis: Analysis, cache: Cache | None) -> Mapping[str, Was]:
    if cache is None:
        if analysis.listed:
            raise LapidarError(
                f"The results of {analysis.name} are listed in the cache, and there is none here",
                remedy="Name the cache that the analysis was recorded with (--cache).",
            )
        return {one.name: Was(None, one.sha256, one.bytes) for one in analysis.result}
    return scratch.recorded_results(listing.whole(analysis, cache), cache)


def _records(place: Place, revision: str) -> results.Results:
    """The records of the project, as they are, or as version control has them in a revision."""
    if not revision:
        return results.read(place.records)
    data = of_revision(place, revision, RECORDS_NAME)
    return results.parse(data.decode("utf-8", "surrogateescape"), f"{RECORDS_NAME} of {revision}")


def _aligned(one: _Side, other: _Side) -> tuple[Mapping[str, Was], Mapping[str, Was]]:
    """The files of a record lie below the project, those of a folder below that: where more of them meet without the
    record's common folder, it is left out."""
    ones, others = one.files, other.files
    if bool(one.analysis) == bool(other.analysis):
        return ones, others
    recorded, files = (ones, others) if one.analysis else (others, ones)
    common = os.path.commonpath([os.path.dirname(path) for path in recorded]) if recorded else ""
    short = {os.path.relpath(path, common) if common else path: was for path, was in recorded.items()}
    best = short if len(short.keys() & files.keys()) > len(recorded.keys() & files.keys()) else recorded
    # Of a folder that holds more than results, only those count.
    kept = {path: was for path, was in files.items() if path in best or best is short}
    return (best, kept) if one.analysis else (kept, best)
