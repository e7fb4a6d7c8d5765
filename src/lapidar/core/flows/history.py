"""History: the snapshots of a project, each with its cause, what it changed, and what became of results."""

from __future__ import annotations

import functools
import re
from collections.abc import Sequence
from pathlib import Path

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from lapidar.core import decoding, languages, sealed
from lapidar.core.cache.history import Cause, History, Moment
from lapidar.core.cache.runs import Runs
from lapidar.core.cache.store import Cache
from lapidar.core.changes import influence
from lapidar.core.errors import LapidarError, LockfileError
from lapidar.core.place import Place
from lapidar.core.records import difference, lockfile, words
from lapidar.core.records.difference import Change
from lapidar.core.records.results import Analysis
from lapidar.core.records.snapshot import Snapshot
from lapidar.core.results import listing
from lapidar.core.results.verdict import PRINTED

__all__ = ["Entry", "ResultsThen", "changes_between", "history", "in_short", "note"]


class ResultsThen(Struct, frozen=True):
    """What an analysis gave that was recorded with a snapshot.

    Attributes:
        same: whether all results have the digests of the record before it; None where there was none.
        differing: the results that have not.
        proved: when the record was proven last, in seconds since 1970; None: never with this cache.
    """

    analysis: str
    same: bool | None
    differing: tuple[str, ...] = ()
    proved: float | None = None


class Entry(Struct, frozen=True):
    """One line of the history.

    Attributes:
        changed: what it changed against its parent, the most telling first; None where the parent is lost, or there
            was none.
        lockfile: where it was written, where that is another place than this project's now.
        note: what somebody said that it is.
        current: whether the project's lockfile holds it.
        who: whoever did it.
    """

    time: float
    snapshot: str
    cause: Cause
    about: str
    parent: str
    changed: tuple[str, ...] | None
    results: tuple[ResultsThen, ...] = ()
    lockfile: str = ""
    note: str = ""
    current: bool = False
    who: str = ""


def changes_between(before: Snapshot, after: Snapshot) -> list[tuple[Change, influence.Weight]]:
    """Everything that is different, what most likely alters results first."""
    return influence.ordered(difference.difference(before, after, standing))


def standing(language: str, one: str, other: str) -> int | None:
    """The order of two versions: as their language has it; of what has none, as their numbers tell."""
    return languages.of(language).versions.standing(one, other) if language else _as_numbers(one, other)


def _as_numbers(one: str, other: str) -> int | None:
    """The order of two versions of the operating system's packages, as far as their numbers tell."""
    first, second = ([int(part) for part in re.findall(r"\d+", text)] for text in (one, other))
    return None if first == second else (first > second) - (first < second)


def history(place: Place, cache: Cache, most: int | None = None) -> list[Entry]:
    """The history of a project, the newest first.

    Args:
        most: how many entries at most.

    Raises:
        LapidarError: the history cannot be read.
    """
    kept = History(cache)
    moments = kept.of_project(_identity(place), place.lockfile)
    changes = [moment for moment in moments if moment.is_change]
    told = _Summaries(kept)
    notes = kept.noted()
    recorded = _recorded(cache, {moment.lockfile for moment in changes})
    current = lockfile.identity_in(place.lockfile) if place.lockfile.exists() else ""
    here = str(place.lockfile.absolute())
    entries: list[Entry] = []
    shown: set[str] = set()
    for moment in reversed(changes):
        if most is not None and len(entries) >= most:
            break
        first = moment.snapshot not in shown
        shown.add(moment.snapshot)
        entries.append(
            Entry(
                time=moment.time,
                snapshot=moment.snapshot,
                cause=moment.cause,
                about=moment.about,
                parent=moment.parent,
                changed=told.of(moment),
                results=recorded.get(moment.snapshot, ()) if first else (),
                lockfile="" if moment.lockfile == here else moment.lockfile,
                note=notes.get(moment.snapshot, "") if first else "",
                current=moment.snapshot == current and first,
                who=moment.who,
            )
        )
    told.keep()
    return entries


def _identity(place: Place) -> str:
    """The project's identity where it has one; none is made for a look."""
    return place.identity() if place.has_identity else ""


class _Summaries:
    """What changed between two snapshots, in words; kept, for it never changes."""

    def __init__(self, kept: History) -> None:
        self._history = kept
        self._path = kept.cache.short_cuts / "changes"
        self._known: dict[str, list[str]] = {}
        self._is_new = False
        try:
            self._known = decoding.from_json(sealed.read(self._path) or b"{}", dict[str, list[str]])
        except msgspec.MsgspecError:
            pass

    def of(self, moment: Moment) -> tuple[str, ...] | None:
        """What a moment changed; None where that cannot be known."""
        if not moment.parent:
            return None
        key = f"{moment.parent[7:39]} {moment.snapshot[7:39]}"
        if key not in self._known:
            try:
                before, after = (lockfile.read(self._history.path(one)) for one in (moment.parent, moment.snapshot))
            except LockfileError:
                return None
            names = words.names_in(before, after)
            self._known[key] = [words.change_in_short(change, names) for change, _ in changes_between(before, after)]
            self._is_new = True
        return tuple(self._known[key])

    def keep(self) -> None:
        """Remember it for the next time."""
        if self._is_new:
            sealed.keep(self._path, functools.partial(msgspec.json.encode, self._known))


def _recorded(cache: Cache, lockfiles: set[str]) -> dict[str, tuple[ResultsThen, ...]]:
    """By snapshot, what was recorded with it: the last record of each analysis, against the one before it."""
    folders = {str(Path(one).parent) for one in lockfiles}
    runs = Runs(cache)
    copies = {runs.record_of(path): copy for path, copy in runs.copies() if isinstance(copy, Analysis)}
    before: dict[str, Analysis] = {}
    found: dict[str, dict[str, ResultsThen]] = {}
    for one in runs.notes():
        analysis = copies.get(one.record)
        if analysis is None or str(Path(one.results).parent) not in folders:
            continue
        if one.is_proof:
            if then := found.get(analysis.snapshot, {}).get(analysis.name):
                found[analysis.snapshot][analysis.name] = replace(then, proved=one.time)
            continue
        found.setdefault(analysis.snapshot, {})[analysis.name] = _against(before.get(analysis.name), analysis, cache)
        before[analysis.name] = analysis
    return {snapshot: tuple(several.values()) for snapshot, several in found.items()}


def _against(before: Analysis | None, now: Analysis, cache: Cache) -> ResultsThen:
    if before is None:
        return ResultsThen(now.name, None)
    old, new = ({one.name: one.sha256 for one in _whole(side, cache).result} for side in (before, now))
    old[PRINTED], new[PRINTED] = before.printed, now.printed
    differing = tuple(sorted(path for path in old.keys() | new.keys() if old.get(path) != new.get(path)))
    return ResultsThen(now.name, not differing, differing)


def _whole(analysis: Analysis, cache: Cache) -> Analysis:
    """A record with its long lists, where these are there: without them the history tells what stands in it."""
    try:
        return listing.whole(analysis, cache)
    except LapidarError:
        return analysis


def note(place: Place, cache: Cache, prefix: str, text: str) -> Snapshot:
    """Say what a snapshot is. It is pruned then only where it is named.

    Args:
        text: "" takes a note back.

    Raises:
        LapidarError: there is no such snapshot, or the text is no line.
    """
    if not text.isprintable():
        raise LapidarError("A note is one line of text", remedy="Leave line ends and other control characters out.")
    cache.require_writable()
    found = History(cache).find(prefix)
    History(cache).say(found.snapshot, place, text)
    return found


def in_short(changed: Sequence[str], most: int = 2) -> str:
    """Changes on one line."""
    more = len(changed) - most
    return ", ".join(changed[:most]) + (f", and {more} more" if more > 0 else "")
