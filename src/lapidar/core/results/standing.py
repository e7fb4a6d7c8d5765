"""How recorded results stand to what lies in the project, and to its lockfile."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Iterator

from lapidar.core.cache.digest import sha256_of
from lapidar.core.cache.store import Cache
from lapidar.core.errors import LapidarError
from lapidar.core.place import Place
from lapidar.core.records import results, words
from lapidar.core.records.findings import Finding, Problem
from lapidar.core.records.owner import Layer
from lapidar.core.records.results import Analysis, RecordedFile
from lapidar.core.records.snapshot import Snapshot
from lapidar.core.results import listing

__all__ = ["judge"]


def judge(place: Place, snapshot: Snapshot, cache: Cache) -> Iterator[Finding]:
    """What of the recorded results is not as recorded.

    Args:
        cache: has the lists that are too long for the record.
        snapshot: that of the lockfile.
    """
    file = place.records
    if not file.is_file():
        return
    try:
        recorded = results.read(file)
    except LapidarError as error:
        yield Finding(Layer.RESULTS, Problem.RECORD_BROKEN, name=file.name, details=(error.why or str(error),))
        return
    for analysis in recorded.analysis:
        if analysis.snapshot != snapshot.snapshot:
            details = (words.short(analysis.snapshot), words.short(snapshot.snapshot))
            yield Finding(Layer.RESULTS, Problem.RECORD_OF_OTHER_SNAPSHOT, name=analysis.name, details=details)
        try:
            yield from _files(place, listing.whole(analysis, cache))
        except LapidarError:  # the list is lost, or this cache never had it
            yield Finding(Layer.RESULTS, Problem.RECORD_UNLISTED, name=analysis.name)


def _files(place: Place, analysis: Analysis) -> Iterator[Finding]:
    gone = tuple(one.path for one in analysis.result if not os.path.lexists(place.root / one.name))
    there = [one for one in analysis.result if one.path not in gone]
    altered = tuple(one.path for one in there if not _is_same(place, one))
    if gone:
        yield Finding(Layer.RESULTS, Problem.RESULTS_GONE, name=analysis.name, paths=gone)
    if altered:
        yield Finding(Layer.RESULTS, Problem.RESULTS_ALTERED, name=analysis.name, paths=altered)


def _is_same(place: Place, one: RecordedFile) -> bool:
    path = place.root / one.name
    try:
        if one.link:
            return path.is_symlink() and hashlib.sha256(os.fsencode(os.readlink(path))).hexdigest() == one.sha256
        return path.stat().st_size == one.bytes and sha256_of(str(path)) == one.sha256
    except OSError:
        return False
