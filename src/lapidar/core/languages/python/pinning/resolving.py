"""The resolver over Python's indexes: what is asked for, and what comes of it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from packaging.version import InvalidVersion, Version

from lapidar.core.languages.python.pinning.candidates import Candidates
from lapidar.core.languages.python.requirements import requirement_of
from lapidar.core.pinning import explain
from lapidar.core.pinning.solver import Solver, Unsolvable, Wish
from lapidar.core.records.declaration import Need

__all__ = ["exact", "solve", "solve_at_once"]


def solve(candidates: Candidates, roots: Sequence[Wish], limits: Sequence[Wish]) -> dict[str, Version]:
    """The answer to wishes.

    Raises:
        Conflict: there is none; it says why.
    """
    if roots and not candidates.has_indexes and not candidates.policy.pinned and not candidates.policy.settled:
        candidates.indexes.require_any()
    return explain.solved(Solver(candidates, roots, limits), candidates, roots, limits)


def solve_at_once(candidates: Candidates, roots: Sequence[Wish], limits: Sequence[Wish]) -> dict[str, Version] | None:
    """The answer to wishes where nothing has to be taken back on the way to it; None otherwise."""
    solver = Solver(candidates, roots, limits)
    try:
        answer = solver.solve()
    except Unsolvable:
        return None
    explain.note_lacking(solver, answer, candidates)
    return None if solver.conflicts else answer


def exact(needs: Iterable[Need]) -> dict[str, set[Version]]:
    """The versions that needs pin exactly; only these may be withdrawn ones."""
    found: dict[str, set[Version]] = {}
    for need in needs:
        for one in requirement_of(need).specifier:
            if one.operator in ("==", "===") and not one.version.endswith(".*"):
                try:
                    found.setdefault(need.name, set()).add(Version(one.version))
                except InvalidVersion:
                    continue
    return found
