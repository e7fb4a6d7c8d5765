"""How likely a change alters results, for the order in which changes are told, and why."""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import NamedTuple

from lapidar.core import languages
from lapidar.core.records.difference import Change, Kind
from lapidar.core.records.owner import Layer

__all__ = ["Weight", "ordered", "weigh"]

_MATHEMATICS = re.compile(r"^libm\.so|^libmvec\.so")
_ALGEBRA = re.compile(r"^lib(blas|cblas|lapack|openblas|mkl|blis|atlas|gslcblas|gsl|fftw3|Rblas|Rlapack)[\w.-]*\.so")
_THREADING = re.compile(r"^lib(gomp|omp|iomp5|tbb)[\w.-]*\.so")
_COUNTS = re.compile(r"THREADS|CORES|CORETYPE|CPU|TUNABLES|SEED")
_FIRST_NUMBERS = re.compile(r"\d+")
_YEARS = range(1970, 2200)


class Weight(NamedTuple):
    """How much a change weighs; less is earlier.

    Attributes:
        rank: of what it is a change.
        size: of versions, which of their numbers differs first.
        reason: a few words; "" where nothing speaks for it.
    """

    rank: int
    size: int
    reason: str


def ordered(changes: Iterable[Change]) -> list[tuple[Change, Weight]]:
    """Changes, those first that most likely alter results; each with why."""
    weighed = [(change, weigh(change)) for change in changes]
    return sorted(weighed, key=lambda one: (one[1].rank, one[1].size, one[0].owner.layer, one[0].owner.name.lower()))


def weigh(change: Change) -> Weight:
    """How likely one change alters results."""
    if change.kind is Kind.CHANGED and change.owner.layer is not Layer.CONDITIONS:
        return Weight(9, 9, "")  # the bytes are the same
    rank, reason = _of_owner(change)
    size = _size(change)
    if size == 0 and _is_dated(change):
        size = 1
    if size == 0 and change.kind in (Kind.NEWER, Kind.OLDER):
        reason = f"{reason}, another major version" if reason else "another major version"
    return Weight(rank, size, reason)


def _of_owner(change: Change) -> tuple[int, str]:
    owner = change.owner
    match owner.layer:
        case Layer.RUNTIME:
            return 0, "the runtime"
        case Layer.PACKAGES:
            variables = languages.of(owner.language).variables
            if owner.name in variables.numeric:
                return 1, "it computes"
            data = dict(variables.data)
            return (2, data[owner.name]) if owner.name in data else (3, "")
        case Layer.LIBRARIES:
            return _of_library(owner.name)
        case Layer.CONDITIONS:
            name = owner.name
            if name in ("numerics", "baseline"):
                return 0, "the profile of numbers"
            return (0, "how numbers are summed up") if _COUNTS.search(name) else (6, "")
        case Layer.TOOLS:
            return 4, "an outside program"
    return 7, ""


def _of_library(name: str) -> tuple[int, str]:
    if _MATHEMATICS.match(name):
        return 1, "the C library's mathematics"
    if _ALGEBRA.match(name):
        return 1, "linear algebra"
    if _THREADING.match(name):
        return 2, "threads that compute"
    return 5, ""


def _is_dated(change: Change) -> bool:
    """Whether its versions are dates, of which the first number is a year and tells of no break."""
    years = [int(found[0]) for text in (change.old, change.new) if (found := _FIRST_NUMBERS.match(text))]
    owner = change.owner
    dated = languages.of(owner.language).variables.dated if owner.language else ()
    return owner.name in dated or (bool(years) and all(year in _YEARS for year in years))


def _size(change: Change) -> int:
    """Which number of two versions differs first: 0 for the major one; 3 where one is none, or they are the same."""
    if change.kind in (Kind.ADDED, Kind.REMOVED):
        return 3
    old, new = (_FIRST_NUMBERS.findall(text)[:3] for text in (change.old, change.new))
    for at, (one, other) in enumerate(zip(old, new, strict=False)):
        if one != other:
            return at
    return 3
