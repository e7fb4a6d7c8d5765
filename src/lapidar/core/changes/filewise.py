"""Which of many files do it, where files go together: tried with what they need as long as nothing is found, and what
is found then without that."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from contextlib import suppress

from msgspec import Struct

from lapidar.core.changes.narrowing import Outcome, narrow, narrow_within, ring, units_in_order

__all__ = ["FilesFound", "narrow_files"]

_MOST_APART = 16  # files of which it is tried whether some do it without those that they need
_MOST_ALONE = 64  # files that are left out one by one

Probe = Callable[[frozenset[int]], Outcome]
Needs = Mapping[int, Collection[int]]


class FilesFound(Struct, frozen=True):
    """What was found; nothing where that could not be told.

    Attributes:
        named: the files that do it: without any of them the result is good, as far as that can be told.
        goes_with: those that these need to work.
    """

    named: tuple[str, ...] = ()
    goes_with: tuple[str, ...] = ()


def narrow_files(
    paths: Sequence[str],
    probe: Callable[[frozenset[str]], Outcome],
    needs: Mapping[str, Collection[str]],
    together: Sequence[str],
    *,
    jobs: int = 1,
    announce: Callable[[int, int], None] = lambda done, left: None,
) -> FilesFound:
    """Find the files. All of them are known to be bad, and none of them good.

    Args:
        paths: of the files that differ.
        probe: tries some of them.
        needs, together: by a path, those that it likely needs; those that likely need one another.
    """
    at = {path: number for number, path in enumerate(paths)}
    known = {at[one]: {at[other] for other in others if other in at} for one, others in needs.items() if one in at}
    made = [at[path] for path in together if path in at]

    def tried(taken: frozenset[int]) -> Outcome:
        return probe(frozenset(paths[number] for number in taken))

    search = _Search(tried, known, made, jobs, announce)
    wide = _with_ring(known, made)
    found = search.apart(narrow(len(paths), tried, wide, jobs=jobs, announce=announce).guilty, wide)
    named = search.decisive(found) or (_heads(found, wide) if len(found) > _MOST_APART else found)
    return FilesFound(*(tuple(paths[number] for number in sorted(some)) for some in (named, found - named)))


class _Search(Struct, frozen=True):
    probe: Probe
    known: Needs
    made: Sequence[int]  # together
    jobs: int
    announce: Callable[[int, int], None]

    def apart(self, found: frozenset[int], wide: Needs) -> frozenset[int]:
        """What was found, without what is likely made together; and then without any needs, where that is not too much
        to try; as long as it leads anywhere."""
        steps: list[tuple[Needs, Needs]] = [(wide, self.known), (self.known, {})]
        for held, looser in steps:
            if held != looser and len(found) > 1 and (looser or len(found) <= _MOST_APART):
                with suppress(_Enough):
                    patient = _Patient(self.probe, 2 * len(found).bit_length() + 8)
                    found = (
                        narrow_within(found, patient, looser, jobs=self.jobs, announce=self.announce).guilty or found
                    )
        return found

    def decisive(self, found: frozenset[int]) -> frozenset[int]:
        """Of files that only together do it, those without which alone the result is good. Without the others it cannot
        be told: they are there that these work."""
        if len(found) < 2:
            return found
        alone = sorted(found.difference(self.made) if len(found) > _MOST_APART else found)
        return frozenset(one for one in alone[:_MOST_ALONE] if self.probe(found - {one}) is Outcome.GOOD)


class _Enough(Exception):
    """So many trials in a row could not be told that the next will not be either."""


class _Patient:
    """A probe that gives up."""

    def __init__(self, probe: Probe, most: int) -> None:
        self._probe, self._most, self._dark = probe, most, 0

    def __call__(self, taken: frozenset[int]) -> Outcome:
        outcome = self._probe(taken)
        self._dark = self._dark + 1 if outcome is Outcome.UNKNOWN else 0
        if self._dark > self._most:
            raise _Enough
        return outcome


def _with_ring(needs: Needs, together: Sequence[int]) -> dict[int, set[int]]:
    """Needs, and those that need one another."""
    wide = {one: set(others) for one, others in needs.items()}
    for one, other in ring(together):
        wide.setdefault(one, set()).add(other)
    return wide


def _heads(found: frozenset[int], needs: Needs) -> frozenset[int]:
    """Those that none of the others needs; where some of these stand alone, only they."""
    within = {one: found.intersection(needs.get(one, ())) for one in found}
    units = [unit for unit in units_in_order(max(found) + 1, within) if found.issuperset(unit)]
    needed = {other for unit in units for one in unit for other in within[one] if other not in unit}
    first = [unit for unit in units if not needed.intersection(unit)]
    alone = [unit for unit in first if len(unit) == 1]
    return frozenset(one for unit in alone or first for one in unit)
