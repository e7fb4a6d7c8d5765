"""Where a file comes from, or leads to, as values."""

from __future__ import annotations

from msgspec import Struct

from lapidar.core.records.results import RecordedFile
from lapidar.core.steps.graph import Step

__all__ = ["Lineage", "Made"]


class Made(Struct, frozen=True):
    """A step on the way.

    Attributes:
        when: seconds since 1970 of its last run that is known here; 0 where none is.
        sources, inputs: what it read, each with whether that is still as it was; those of the way alone where it is
            followed on.
        results: those of its results that are on the way, each with whether they are still what it made.
        packages: names and versions of the packages and programs that it used; None where that is not known.
    """

    step: Step
    when: float
    sources: tuple[tuple[RecordedFile, bool], ...]
    inputs: tuple[tuple[RecordedFile, bool], ...]
    results: tuple[tuple[RecordedFile, bool], ...]
    packages: tuple[str, ...] | None


class Lineage(Struct, frozen=True):
    """Where a file comes from, or leads to.

    Attributes:
        file: its path below the project.
        is_there: whether there is such a file; is_same: whether it is what its step made, or what all read who read it.
        made: the steps, the nearest first.
        raw: files that were read as data and that no step makes, each with whether all is as it was read.
    """

    file: str
    is_there: bool
    is_same: bool
    made: tuple[Made, ...]
    raw: tuple[tuple[str, bool], ...]
