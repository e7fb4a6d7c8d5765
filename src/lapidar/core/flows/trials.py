"""Trials: hybrids that are placed for a moment and judged, each once. How every run ended is kept, so that the same
search goes on where it was stopped."""

from __future__ import annotations

import hashlib
import shutil
import subprocess
import tempfile
import threading
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from types import TracebackType

import msgspec
from msgspec import Struct, field

from lapidar.core import atomic, decoding
from lapidar.core.cache.store import Cache
from lapidar.core.changes.narrowing import Outcome
from lapidar.core.errors import EnvironmentUnusable, NoSpace
from lapidar.core.flows.judges import Ending, Judge
from lapidar.core.flows.restore import RestoreOptions, restore
from lapidar.core.place import Place
from lapidar.core.records.snapshot import Snapshot

__all__ = ["OutOfTime", "Trial", "Trials"]

_KEPT = "culprit"
_PLACED = "trials-"
_LEAST_FREE = 1 << 20  # bytes: with less, a run may have ended otherwise because of the disk


class OutOfTime(Exception):
    """There was only so much time, and it is over."""


class Trial(Struct, frozen=True):
    """One hybrid that was tried.

    Attributes:
        taken: what of the bad side it had, in short.
        remembered: whether its outcome was known from an earlier search.
        said: where it cannot be told, why; a line each.
    """

    snapshot: str
    taken: tuple[str, ...]
    outcome: Outcome
    seconds: float
    remembered: bool = False
    said: tuple[str, ...] = ()


class _Kept(msgspec.Struct):
    """What was learned: by the identity of a hybrid, how its runs ended."""

    endings: dict[str, list[Ending]] = {}


class Trials(Struct, dict=True):
    """The trials of one search.

    Args:
        times: how often each is run; where these do not agree, it cannot be told.
        told: hears of each, and how many are left at most.
        made: where they are kept, also those that were known.

    Attributes:
        left: how many more there will be at most, as far as whoever searches has said.
        until: when, by the monotonic clock, no more is tried; None: as long as it takes.
    """

    place: Place
    cache: Cache
    judge: Judge
    times: int
    told: Callable[[Trial, int], None]
    made: list[Trial]
    left: int = 0
    until: float | None = None
    _lock: threading.Lock = field(default_factory=threading.Lock)
    _removals: list[subprocess.Popen[bytes]] = field(default_factory=list)
    _written: tuple[Path, ...] = ()

    def __enter__(self) -> Trials:
        self.place.make_own_folder()
        atomic.make_folder(self._file.parent)
        self._kept = self._read()
        self._written = (self.place.root, Path(tempfile.gettempdir()))  # which is another one once it is full
        self._work = atomic.WorkFolder(self.place.own_folder, _PLACED)
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        for removal in self._removals:
            removal.wait()
        self._work.__exit__(kind, error, trace)

    def of(
        self,
        snapshot: Snapshot,
        taken: tuple[str, ...],
        *,
        is_bad: bool = False,
        draws: bool = False,
        least: int = 1,
    ) -> Outcome:
        """What comes of a hybrid. It is run as often as it was not yet.

        Args:
            taken: what of the bad side it has, in short.
            is_bad: it is the bad side, from which the judge learns how a bad run ends.
            least: how often it is run at least.
            draws: keep its results to be drawn: then it is run, also where it was before.

        Raises:
            LapidarError: its environment cannot be made for another reason than that it cannot work.
            NoSpace: the disk is full; what a run said then is not kept.
            OutOfTime: the time is over that there was.
        """
        if self.until is not None and time.monotonic() > self.until:
            raise OutOfTime
        kept = [] if draws else self._kept.endings.get(snapshot.snapshot, [])
        known = [ending for ending in kept if ending.holds(self.judge.at_most)]
        began = time.monotonic()
        lacking = max(self.times, least) - len(known)
        endings = known if lacking <= 0 else [*known, *self._runs(snapshot, lacking, draws=draws)]
        if is_bad:
            self.judge.learn(endings)
        outcomes = {(self.judge.outcome(ending), ending.made) for ending in endings}  # wrong in two ways is no answer
        outcome = outcomes.pop()[0] if len(outcomes) == 1 else Outcome.UNKNOWN
        said = _why(endings, agree=not outcomes) if outcome is Outcome.UNKNOWN else ()
        trial = Trial(snapshot.snapshot, taken, outcome, time.monotonic() - began, lacking <= 0, said)
        with self._lock:
            self.made.append(trial)
            self.left = max(self.left - 1, 0)
            if lacking > 0:
                others = self._read().endings  # another search may run beside this one
                self._kept.endings = {**others, **self._kept.endings, snapshot.snapshot: endings}
                atomic.write_file(self._file, msgspec.json.encode(self._kept))
        self.told(trial, self.left)
        return outcome

    def differing(self, snapshot: Snapshot) -> tuple[str, ...]:
        """Of a hybrid that was tried with a chain, the steps whose results were another; empty where it was not."""
        endings = self._kept.endings.get(snapshot.snapshot, [])
        return endings[-1].differing if endings else ()

    def expect(self, made: int, left: int) -> None:
        """Whoever searches says how many more there will be at most."""
        self.left = left

    def _runs(self, snapshot: Snapshot, times: int, *, draws: bool) -> list[Ending]:
        place = Path(self._work.path, f"{snapshot.snapshot[7:19]}-{atomic.random_name()}")
        try:
            restore(self.place, self.cache, snapshot, RestoreOptions(into=place))
            endings = [self.judge.run(place, draws=draws) for _ in range(times)]
        except EnvironmentUnusable as error:  # a combination that cannot work
            return [Ending(said=tuple(filter(None, (error.what, error.why))))] * times
        finally:
            self._remove(place)
        if any(self.judge.outcome(ending) is not Outcome.GOOD for ending in endings):
            self._require_space()
        return endings

    def _remove(self, place: Path) -> None:
        """Beside the next trial, since it takes as long as placing one; by a process, since a thread would keep the
        next restore from sharing its work out."""
        quiet = subprocess.DEVNULL
        self._removals.append(subprocess.Popen(["rm", "-rf", "--", place], stdout=quiet, stderr=quiet))

    def _require_space(self) -> None:
        """Raises: NoSpace: so little is left that a run may have ended as it did for that."""
        for folder in self._written:
            if shutil.disk_usage(folder).free < _LEAST_FREE:
                raise NoSpace(
                    f"The disk of {folder} is full: what a run says then is no answer",
                    remedy="Free some space, and run the same command again: it goes on from what was learned.",
                )

    # ---- what was learned

    @property
    def _file(self) -> Path:
        key = hashlib.sha256(self.judge.key.encode()).hexdigest()[:24]
        return self.place.own_folder / _KEPT / f"{key}.json"

    def _read(self) -> _Kept:
        try:
            return decoding.from_json(self._file.read_bytes(), _Kept)
        except (OSError, msgspec.MsgspecError):
            return _Kept()


def _why(endings: Sequence[Ending], *, agree: bool) -> tuple[str, ...]:
    """Why it cannot be told from how runs ended."""
    if not agree:
        return ("its runs do not agree with one another",)
    last = endings[-1]
    ended = () if last.code is None else (f"it ended with exit code {last.code}",)
    return (*ended, *last.said)
