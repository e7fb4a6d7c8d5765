"""Runs that were made before with the same of everything: their results need not be made again."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import Protocol

from msgspec import Struct, structs

from lapidar.core.cache.digest import sha256_of
from lapidar.core.cache.runs import RunNote, Runs
from lapidar.core.cache.store import Cache
from lapidar.core.errors import CacheError, LapidarError
from lapidar.core.records.results import Analysis
from lapidar.core.results import listing, scratch
from lapidar.core.steps import used
from lapidar.core.steps.graph import Step
from lapidar.core.steps.standing import Present, reasons
from lapidar.core.steps.used import Used
from lapidar.core.stores.protocol import Store
from lapidar.core.system import processor

__all__ = ["Earlier", "EarlierRuns", "OtherRun", "OtherRuns", "laid_out"]


class Earlier(Struct, frozen=True):
    """A run that was made before.

    Attributes:
        analysis: its record, with all of its files.
        written: the same as it is written.
        note: when it was made, and how long it took; of what others ran, when it came.
        by: whoever signed it, where others ran it.
    """

    analysis: Analysis
    written: Analysis
    used: Used
    note: RunNote
    by: str = ""


class OtherRun(Struct, frozen=True):
    """A run that somebody else made.

    Attributes:
        written: its record as it is written. who: signed it. store: has its trees.
    """

    written: Analysis
    who: str
    store: Store


class OtherRuns(Protocol):
    """Runs that others made, as far as the user trusts them."""

    def of(self, command: tuple[str, ...]) -> Iterable[OtherRun]:
        """Those of a command."""

    def bring(self, run: OtherRun, digests: Sequence[str]) -> bool:
        """Have trees of one in the cache; whether they are there."""


class EarlierRuns:
    """The runs that a cache has, each looked at once.

    Args:
        others: asked where it has none that fits.
    """

    def __init__(self, cache: Cache, others: OtherRuns | None = None) -> None:
        self._others = others
        self._runs = Runs(cache)
        self._cache = cache
        self._known: dict[str, list[Analysis]] = {}  # by the text of a command
        self._read: set[str] = set()
        self._lock = threading.Lock()

    def find(self, step: Step, present: Present, made: frozenset[str]) -> Earlier | None:
        """The last run of the same command, in the same folder, by the same of everything that it stood on; None
        without.

        Args:
            made: the results of steps that come after it.
        """
        folder = step.analysis.folder if step.analysis else "."
        values = step.declared.values
        with self._lock:
            candidates = [one for one in self._of(step.command) if one.folder == folder and one.values == values]
        notes = {note.record: note for note in self._runs.notes() if not note.is_proof} if candidates else {}
        candidates = [one for one in candidates if one.record in notes]
        for written in sorted(candidates, key=lambda one: -notes[one.record].time):
            earlier = _read(written, notes[written.record], self._cache)
            if earlier is None or written.exit_code or not _may_stand(earlier):
                continue
            if not any(True for _ in reasons(earlier.analysis, earlier.used, present, step.declared, made)):
                return earlier
        return self._of_others(step, present, made, folder)

    def _of_others(self, step: Step, present: Present, made: frozenset[str], folder: str) -> Earlier | None:
        for run in self._others.of(step.command) if self._others else ():
            written = run.written
            if (written.folder, written.values) != (folder, step.declared.values) or written.exit_code:
                continue
            # Of what processor another machine had nobody knows here.
            if written.numerics == "native" or not self._brought(run, [written.lists]):
                continue
            note = RunNote(time.time(), written.record, "", 0.0, 0, "")
            earlier = _read(written, note, self._cache)
            if earlier is None or not _may_stand(earlier):
                continue
            if any(True for _ in reasons(earlier.analysis, earlier.used, present, step.declared, made)):
                continue
            if self._brought(run, [written.made, written.given]):
                return structs.replace(earlier, by=run.who)
        return None

    def _brought(self, run: OtherRun, digests: Sequence[str]) -> bool:
        assert self._others is not None
        return all(digests) and self._others.bring(run, digests)

    def _of(self, command: tuple[str, ...]) -> list[Analysis]:
        """Those of a command; what came into the cache since the last time is read now."""
        for analysis in self._runs.since(self._read):
            self._known.setdefault(repr(analysis.command), []).append(analysis)
        return self._known.get(repr(command), [])


def _read(written: Analysis, note: RunNote, cache: Cache) -> Earlier | None:
    try:
        whole = listing.whole(written, cache)
    except LapidarError:
        return None
    found = used.read(listing.stood_on(written, cache))
    return Earlier(whole, written, found, note) if found is not None else None


def _may_stand(earlier: Earlier) -> bool:
    """Whether its results would be those of a run here: native numerics follow from the processor, what came from
    elsewhere or was typed from nobody knows what; what it read outside of the project is as it was; and all of its
    results are kept."""
    if earlier.analysis.numerics == "native" and earlier.note.features != " ".join(processor.features()):
        return False
    if earlier.analysis.typed or earlier.used.partners or len(earlier.used.outside) < len(earlier.analysis.outside):
        return False
    if any(_digest(path) != digest for path, digest in earlier.used.outside.items()):
        return False
    return all(file.kept for file in earlier.analysis.result)


def _digest(path: str) -> str:
    try:
        return sha256_of(path)
    except OSError:
        return ""


def laid_out(analysis: Analysis, cache: Cache, into: Path) -> bool:
    """Lay the results of a run out, each checked by its digest; whether the cache has all of them.

    Args:
        into: an empty folder.
    """
    try:
        entries = {entry.path: entry for entry in cache.tree(analysis.made)}
        results = [(file, entries[f"{scratch.RESULTS}/{file.path}"]) for file in analysis.result]
        as_recorded = all(file.link or entry.content == file.sha256 for file, entry in results)
        return as_recorded and all(scratch.laid_out(entry, cache, into / file.name) for file, entry in results)
    except (CacheError, KeyError, FileNotFoundError):
        return False
