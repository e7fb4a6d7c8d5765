"""The calls of the Python API that have to do with results; their values show themselves in a notebook."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from lapidar.core.cache.store import Cache, default_folder
from lapidar.core.errors import CacheError
from lapidar.core.flows.recording import Recorded, RecordOptions
from lapidar.core.place import Place
from lapidar.core.results.verdict import Compared, Verdict, worst

__all__ = ["Proof", "Results", "compare", "prove", "record", "rerun"]


@dataclass(frozen=True, slots=True)
class Results:
    """Compared results. In a notebook it shows itself as the table of verdicts, with figures of what differs.

    Attributes:
        title: what was compared.
        compared: the verdict on each result.
        varying: of a rerun, the results that vary by themselves, each with what of.
        good: whether nothing differs, as far as that is asked for.
    """

    title: str
    compared: tuple[Compared, ...]
    good: bool
    varying: Mapping[str, str] = field(default_factory=dict)
    files: Mapping[str, tuple[Path, Path]] = field(default_factory=dict, repr=False)
    _kept: object = field(default=None, repr=False, compare=False)  # the files that can be drawn go with it

    @property
    def verdict(self) -> Verdict:
        """The worst of all."""
        return worst(one.verdict for one in self.compared)

    def rows(self) -> list[dict[str, Any]]:
        """A row for each result, for a data frame: path, kind, sizes in bytes, verdict, worst difference."""
        return [
            {
                "path": one.path,
                "kind": one.kind,
                "bytes_before": one.bytes_before,
                "bytes_after": one.bytes_after,
                "verdict": str(one.verdict),
                "worst": one.worst,
            }
            for one in self.compared
        ]

    def draw(self, into: str | Path) -> Path:
        """Draw what differs into a .png or .svg.

        Raises:
            LapidarError: nothing can be drawn here.
        """
        from lapidar.core.results import drawing

        drawing.draw(self.compared, self.files, Path(into))
        return Path(into)

    def _repr_html_(self) -> str:
        from lapidar.core.results import report

        return report.fragment(self.title, self.compared, self.files)


@dataclass(frozen=True, slots=True)
class Proof(Results):
    """What came of a proof.

    Attributes:
        proven: whether the results are the same where nothing of this machine is in sight.
        missing: what it looked for there in vain though this machine has it: path, and the system's package ("": none).
        remedies: what would take that along, a sentence each.
    """

    proven: bool = False
    missing: tuple[tuple[str, str], ...] = ()
    remedies: tuple[str, ...] = ()


def _cache(cache: str | Path | None, *, create: bool = False) -> Cache:
    return Cache(Path(cache) if cache else default_folder(), create=create)


def record(
    command: Sequence[str] = (),
    *,
    name: str = "analysis",
    project: str | Path | None = None,
    cache: str | Path | None = None,
    even_failed: bool = False,
    at_most: float | None = None,
) -> Recorded:
    """Run an analysis in the restored environment and record what it read and wrote.

    Args:
        command: the program and its words; what is declared under `name` unless given.
        even_failed: record a run that fails too.
        at_most: seconds, after which it is ended.

    Raises:
        LapidarError: it failed, or cannot be observed; nothing was recorded.
    """
    from lapidar.core.flows.record import record as flow

    found = Place.find(Path(project) if project else None)
    options = RecordOptions(even_failed=even_failed, at_most=at_most, folder=found.root if project else None)
    return flow(found, _cache(cache, create=True), name, command, options)


def rerun(
    name: str = "analysis",
    *,
    project: str | Path | None = None,
    cache: str | Path | None = None,
    current_files: bool = False,
    times: int = 1,
) -> Results:
    """Run a recorded analysis again in its own environment, and compare.

    Args:
        current_files: with sources and inputs as they are in the project now.
        times: how often; more than once finds what varies by itself.

    Raises:
        LapidarError: it could not be run.
    """
    from lapidar.core.flows.rerun import RerunOptions
    from lapidar.core.flows.rerun import rerun as flow

    found = Place.find(Path(project) if project else None)
    done = flow(found, _cache(cache), name, RerunOptions(current_files=current_files, times=times, draws=True))
    return Results(name, tuple(done.compared), done.is_good, done.varying, done.files, done)


def prove(
    name: str = "analysis",
    *,
    project: str | Path | None = None,
    cache: str | Path | None = None,
    again: bool = False,
) -> Proof:
    """Run a recorded analysis where nothing of this machine is in sight, and compare; a proof stays beside the record.

    Args:
        again: besides with another time zone, another language, and one processor.

    Raises:
        LapidarError: it could not be run, or this kernel lets no such place be made.
    """
    from lapidar.core.flows.prove import ProveOptions
    from lapidar.core.flows.prove import prove as flow
    from lapidar.core.flows.rerun import RerunOptions

    found = Place.find(Path(project) if project else None)
    told = flow(found, _cache(cache), name, ProveOptions(again=again, rerun=RerunOptions(draws=True)))
    missing = tuple((one.path, one.owner.name if one.owner else "") for one in told.missing)
    done = told.rerun
    return Proof(
        name,
        tuple(done.compared),
        done.is_good,
        files=done.files,
        _kept=done,
        proven=told.proof is not None,
        missing=missing,
        remedies=tuple(told.remedies),
    )


def compare(
    before: str | Path,
    after: str | Path,
    *,
    analysis: str = "",
    project: str | Path | None = None,
    cache: str | Path | None = None,
) -> Results:
    """Compare two files, two folders, or what was recorded of an analysis (``"kilns"``, ``"kilns@v1.0"``).

    Args:
        analysis: whose tolerances hold, where neither is a record.

    Raises:
        LapidarError: one of them is nothing.
    """
    from lapidar.core.flows.compare_results import compare_two

    try:
        store = _cache(cache)
    except CacheError:
        store = None
    done = compare_two(Place.find(Path(project) if project else None), store, str(before), str(after), analysis)
    good = worst(one.verdict for one in done.compared).is_good
    return Results(f"{before} and {after}", done.compared, good, {}, done.files)
