"""From raw: a recorded analysis and all that it stands on again, each with what those before it made this time."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path

from msgspec import structs

from lapidar.core import atomic
from lapidar.core.cache import sweeps
from lapidar.core.cache.runs import Runs
from lapidar.core.cache.store import Cache
from lapidar.core.errors import LapidarError
from lapidar.core.flows.record import RERUN
from lapidar.core.flows.rerun import Rerun, RerunOptions, recorded, rerun_of
from lapidar.core.place import Place
from lapidar.core.progress import Progress
from lapidar.core.records import results
from lapidar.core.records.results import Analysis
from lapidar.core.results import listing
from lapidar.core.results.comparing import files_below
from lapidar.core.steps import used

__all__ = ["chain_of", "rerun_chain", "rerun_from_raw"]


def rerun_from_raw(
    place: Place,
    cache: Cache,
    name: str,
    options: RerunOptions,
    reporter: Progress,
    tell: Callable[[Rerun], None] = lambda done: None,
) -> list[Rerun]:
    """Run everything that an analysis stands on again, from the recorded raw inputs on, and compare each.

    Args:
        tell: called with each, in their order; the analysis itself comes last.

    Raises:
        LapidarError: there is no such record, or the steps go in a circle.
    """
    chain = chain_of(place, cache, recorded(place, name, cache))
    return list(rerun_chain(place, cache, chain, options, reporter, tell))


def rerun_chain(
    place: Place,
    cache: Cache,
    chain: Sequence[Analysis],
    options: RerunOptions,
    reporter: Progress,
    tell: Callable[[Rerun], None] = lambda done: None,
) -> Iterator[Rerun]:
    """Run analyses again one after the other, each with what those before it made this time; see `chain_of`."""
    made: dict[str, Path | None] = {}
    place.make_own_folder()
    with atomic.WorkFolder(place.own_folder, RERUN) as work:
        for number, one in enumerate(chain):
            kept = Path(work.path) / str(number)
            is_last = number == len(chain) - 1
            how = structs.replace(options, keep=kept, instead=dict(made), draws=options.draws and is_last)
            again = rerun_of(place, cache, one, how, reporter)
            made |= dict.fromkeys(file.name for file in listing.whole(one, cache).result)  # what it makes no more
            made |= {name: file for name, file in files_below(kept).items() if name != "printed.txt"}
            tell(again)
            yield again


# ---- what an analysis stands on


def chain_of(place: Place, cache: Cache, last: Analysis) -> list[Analysis]:
    """The records of all that an analysis reads from, in order, and its own; as they are written.

    Who made a file that was read is known by its path and bytes: of the project's present records, else of those
    that were made here before; where nobody made these bytes, whoever makes a file of that path now.

    Raises:
        LapidarError: they go in a circle.
    """
    makers = _Makers(place, cache)
    chain: dict[str, Analysis] = {}
    going: list[str] = []

    def follow(one: Analysis) -> None:
        if one.name in chain:
            return
        if one.name in going:
            circle = ", ".join(going[going.index(one.name) :])
            raise LapidarError(f"{last.name} cannot be run from raw: {circle} read what each other made, in a circle")
        going.append(one.name)
        for earlier in makers.of(one):
            follow(earlier)
        going.pop()
        chain[one.name] = one

    follow(last)
    return list(chain.values())


class _Makers:
    """Who made what an analysis read."""

    def __init__(self, place: Place, cache: Cache) -> None:
        self.place, self.cache = place, cache
        self.by_path: dict[str, Analysis] = {}
        self.by_bytes: dict[tuple[str, str], Analysis] = {}
        self.has_earlier = False
        every = results.read(place.records)
        runs = (one for sweep in every.sweep if cache.has_tree(sweep.listing) for one in sweeps.runs_of(sweep, cache))
        for one in (*every.analysis, *runs):
            self._add(one)

    def _add(self, one: Analysis, *, is_present: bool = True) -> None:
        try:
            made = listing.whole(one, self.cache).result
        except LapidarError:
            return  # what it made is not known here
        for file in made:
            self.by_bytes.setdefault((file.name, file.sha256), one)
            if is_present:
                self.by_path.setdefault(file.name, one)

    def of(self, analysis: Analysis) -> Iterator[Analysis]:
        """Who made the files that an analysis read; a file may be named more than once."""
        stood_on = used.read(listing.stood_on(analysis, self.cache))
        unread = frozenset(stood_on.unread) if stood_on else frozenset()
        whole = listing.whole(analysis, self.cache)
        for file in (*whole.source, *whole.input):
            if file.name not in self.by_path or file.name in unread:
                continue
            key = (file.name, file.sha256)
            if key not in self.by_bytes:
                self._look_earlier()
            maker = self.by_bytes.get(key)
            if maker is None and key not in self._read_by(self.by_path[file.name]):
                maker = self.by_path[file.name]
            if maker is not None and maker.name != analysis.name:
                yield maker

    def _read_by(self, one: Analysis) -> set[tuple[str, str]]:
        """What an analysis read, by paths and bytes: where it changes that, who read the same read what was before."""
        whole = listing.whole(one, self.cache)
        return {(file.name, file.sha256) for file in (*whole.source, *whole.input)}

    def _look_earlier(self) -> None:
        """The records that were made here before, the newest first."""
        if self.has_earlier:
            return
        self.has_earlier = True
        runs = Runs(self.cache)
        copies: Mapping[str, Analysis] = {one.record: one for _, one in runs.copies() if isinstance(one, Analysis)}
        for note in reversed(runs.notes()):
            if note.results == str(self.place.records) and note.record in copies:
                self._add(copies[note.record], is_present=False)
