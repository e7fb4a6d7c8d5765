"""The runs that were recorded with a cache: a copy of each record, and a log of when, how long, and where.

Copies are what a prune goes by: it keeps the trees and the snapshot of every record that a known project holds, and of
every other one until it is told that it is old.
"""

from __future__ import annotations

import os
import time
from collections.abc import Iterable, Iterator
from pathlib import Path

import msgspec
from msgspec import Struct

from lapidar.core import atomic, decoding, foreign
from lapidar.core.cache import sweeps
from lapidar.core.cache.store import Cache
from lapidar.core.errors import CacheError, LapidarError
from lapidar.core.place import Place
from lapidar.core.records import results
from lapidar.core.records.results import Analysis, Results

__all__ = ["FOLDER", "RunNote", "Runs"]

FOLDER = "runs"
_DAY_SECONDS = 86_400
_CAME = ".came"  # at the end of the name of a copy that came with a parcel


class RunNote(msgspec.Struct, frozen=True):
    """When and how a record came about. None of it is in the record.

    Attributes:
        time: seconds since 1970.
        results: the file that the record was written into.
        seconds: how long the run took.
        memory: the most that one of its processes had, in bytes.
        machine: the kind of processor.
        is_proof: whether it was run to prove the record.
        features: the instruction sets of its processor, with blanks between; "" where that was not noted yet.
    """

    time: float
    record: str
    results: str
    seconds: float
    memory: int
    machine: str
    is_proof: bool = False
    features: str = ""


class Runs(Struct, frozen=True):
    """The runs of a cache."""

    cache: Cache

    @property
    def _folder(self) -> Path:
        return self.cache.root / FOLDER

    def _path(self, record: str) -> Path:
        return self._folder / f"{record}.results"

    def knows(self, analysis: Analysis) -> bool:
        """Whether a record was made with this cache, or somebody agreed to run it: what only came with a parcel is a
        stranger's still."""
        return self._path(analysis.record).is_file()

    def add(self, analysis: Analysis, note: RunNote) -> None:
        """Keep a copy of a record, and note the moment."""
        self.keep(analysis)
        atomic.append_line(self._folder / "log.jsonl", msgspec.json.encode(note))

    def keep(self, analysis: Analysis, *, came: bool = False) -> None:
        """Keep a copy of a record as it is written.

        Args:
            came: it came with a parcel: its trees are kept like those of others, and nobody here has agreed to run it.
        """
        atomic.make_folder(self._folder)
        text = results.render(Results(analysis=(analysis,))).encode("utf-8")
        path = self._path(analysis.record + _CAME if came else analysis.record)
        if not path.is_file() or path.read_bytes() != text:
            atomic.write_file(path, text)

    def notes(self) -> list[RunNote]:
        """What is noted of runs, oldest first; lines that cannot be read are passed over: nothing hangs on them."""
        try:
            lines = foreign.read(self._folder / "log.jsonl").splitlines()
        except FileNotFoundError:
            return []
        found = []
        for line in lines:
            try:
                found.append(decoding.from_json(line, RunNote))
            except msgspec.MsgspecError:
                continue
        return found

    def since(self, read: set[str]) -> Iterator[Analysis]:
        """The records that were made with this cache, as they are written.

        Args:
            read: the names of their files that were read before; those that are read now are added.
        """
        names = os.listdir(self._folder) if self._folder.is_dir() else []
        for name in sorted(names):
            if name in read or not name.endswith(".results") or name.endswith(f"{_CAME}.results"):
                continue
            read.add(name)
            found = _read(self._folder / name)
            if found is not None:
                yield found

    def copy_of(self, record: str) -> Analysis | None:
        """A record that was made with this cache, as it is written; None where there is none that can be read."""
        found = _read(self._path(record))
        return found if found is not None and found.record == record else None

    def copies(self) -> Iterator[tuple[Path, Analysis | LapidarError]]:
        """Every copy of a record: its file, and the record, or why it is none."""
        for path in sorted(self._folder.glob("*.results")) if self._folder.is_dir() else ():
            try:
                (analysis,) = results.read(path).analysis
            except LapidarError as error:
                yield path, error
                continue
            except ValueError:
                yield path, CacheError(f"{path} is no copy of one record")
                continue
            wrong = CacheError(f"{path} holds another record than its name says")
            yield path, analysis if self.record_of(path) == analysis.record else wrong

    def in_projects(self) -> Iterator[Analysis | LapidarError]:
        """The records in the files that runs were written into, as far as they are here; of one that cannot be read,
        why."""
        for path in sorted({note.results for note in self.notes()}):
            try:
                recorded = results.read(Path(path))
                yield from recorded.analysis
                for sweep in recorded.sweep:
                    # Where the list is another cache's, nothing of it is needed here.
                    if self.cache.has_tree(sweep.listing):
                        yield from sweeps.runs_of(sweep, self.cache)
            except LapidarError as error:
                yield error

    def listings_in_projects(self) -> Iterator[str]:
        """The trees that have the records of sweeps, of the same files."""
        for path in sorted({note.results for note in self.notes()}):
            try:
                listings = (sweep.listing for sweep in results.read(Path(path)).sweep)
                yield from (one for one in listings if self.cache.has_tree(one))
            except LapidarError:
                continue  # told by `in_projects`

    def old(self, days: float) -> set[str]:
        """The records that were last made longer ago, and that no project known to this cache holds; one whose file
        cannot be read is taken to be held."""
        limit = time.time() - days * _DAY_SECONDS
        last: dict[str, RunNote] = {}
        for note in self.notes():
            last[note.record] = note
        held = self._held_by({note.results for note in last.values() if note.time < limit})
        old = {one for one, note in last.items() if note.time < limit and not _may_hold(held[note.results], one)}
        return old | {record for record in self._came_before(limit) if record not in last}

    def _came_before(self, limit: float) -> Iterator[str]:
        """The records that came with parcels before a time, and that no project known to this cache holds."""
        from lapidar.core.cache.history import History  # which most of what looks at runs does not ask

        known = {str(Place.of_lockfile(Path(one.lockfile)).records) for one in History(self.cache).moments()}
        came = sorted(self._folder.glob(f"*{_CAME}.results")) if self._folder.is_dir() else []
        held = self._held_by(known) if came else {}
        for path in came:
            record = self.record_of(path)
            if path.stat().st_mtime < limit and not any(_may_hold(one, record) for one in held.values()):
                yield record

    def _held_by(self, files: Iterable[str]) -> dict[str, frozenset[str] | None]:
        """By files of records, the records that each holds; None where that cannot be known: it may hold any."""
        return {file: self._held_in(Path(file)) for file in files}

    def _held_in(self, path: Path) -> frozenset[str] | None:
        if not path.parent.is_dir():
            return None  # on a disk that is not here, or moved
        try:
            recorded = results.read(path)
            of_sweeps = (one for sweep in recorded.sweep for one in sweeps.runs_of(sweep, self.cache))
            return frozenset(one.record for one in (*recorded.analysis, *of_sweeps))
        except LapidarError:
            return None

    @staticmethod
    def record_of(copy: Path) -> str:
        """The record that a copy is of, by its name."""
        return copy.stem.removesuffix(_CAME)

    def drop(self, record: str) -> None:
        """Forget a record's copies."""
        for name in (record, record + _CAME):
            self._path(name).unlink(missing_ok=True)


def _may_hold(held: frozenset[str] | None, record: str) -> bool:
    """Whether a file of records holds a record, or may."""
    return held is None or record in held


def _read(copy: Path) -> Analysis | None:
    """The one record in a file; None where there is none that can be read."""
    try:
        (found,) = results.read(copy).analysis
    except (LapidarError, ValueError):
        return None
    return found
