"""Long lists of files of a record: in the cache, a tree with a file for each list, and in each a line of JSON a file.

A record is for version control and is read by every `check`; a run of 100,000 files would make it tens of megabytes.
Beside the lists lies what the run stood on (`core/steps/used.py`).
"""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
from msgspec.structs import replace

from lapidar.core.cache.lists import as_lines, of_lines, read_texts, stow_texts
from lapidar.core.cache.store import Cache
from lapidar.core.errors import CacheError, LapidarError
from lapidar.core.records.results import PARTS, Analysis, Listed, RecordBroken, RecordedFile, leads_out

__all__ = ["packed", "stood_on", "whole"]

STOOD_ON = "stood-on"  # beside the lists

MOST_HERE = 300  # files of one part that a record names itself


def packed(analysis: Analysis, cache: Cache, stood_on: bytes = b"") -> Analysis:
    """A record as it is written: its long lists are in the cache.

    Args:
        cache: in use by the caller.
        stood_on: what is kept beside them.
    """
    long = {part: files for part in PARTS if len(files := analysis.files(part)) > MOST_HERE}
    if not long and not stood_on:
        return analysis
    texts: dict[str, bytes] = {STOOD_ON: stood_on} if stood_on else {}
    texts |= {part: as_lines(files) for part, files in long.items()}
    lists = stow_texts(cache, texts)
    listed = {part: _amount(files) for part, files in long.items()}
    return replace(analysis, lists=lists, listed=listed, **dict.fromkeys(long, ()))


def stood_on(analysis: Analysis, cache: Cache) -> bytes:
    """What is kept beside the lists of a record; nothing where there is none, or it is damaged."""
    try:
        return read_texts(cache, analysis.lists, [STOOD_ON])[STOOD_ON] if analysis.lists else b""
    except CacheError:
        return b""


def whole(analysis: Analysis, cache: Cache) -> Analysis:
    """A record with all of its files in it; its digest stays that of what is written.

    Raises:
        LapidarError: the cache has not got a list, or one of them is not what it must be.
    """
    if not analysis.listed:
        return analysis
    try:
        texts = read_texts(cache, analysis.lists, analysis.listed)
    except CacheError as error:
        many = ", ".join(f"{listed.files:,} of the part {part}" for part, listed in analysis.listed.items())
        raise LapidarError(
            f"The list of the files of {analysis.name} is not in this cache",
            why=f"it is too long to stand in the record ({many})",
            remedy="Name the cache that the analysis was recorded with (--cache), or record it again.",
        ) from error
    parts = {part: _read(analysis, texts[part]) for part in analysis.listed}
    return replace(analysis, lists="", listed={}, **parts)


def _read(analysis: Analysis, text: bytes) -> tuple[RecordedFile, ...]:
    try:
        files = of_lines(text, RecordedFile)
    except msgspec.MsgspecError as error:
        raise RecordBroken(f"A list of the files of {analysis.name} is not valid", why=str(error)) from error
    for file in files:
        if leads_out(file.name):
            raise RecordBroken(
                f"A list of the files of {analysis.name} is not valid", why=f"{file.path!r} leads out of the project"
            )
    return files


def _amount(files: Sequence[RecordedFile]) -> Listed:
    return Listed(len(files), sum(file.bytes for file in files))
