"""Runs of the team: what others ran, as the parcels of its stores have it.

Digests prove what was sent, and not who ran it: only what somebody signed counts whom the user's own configuration
trusts.
"""

from __future__ import annotations

import threading
from collections.abc import Iterator, Sequence
from functools import cached_property

from lapidar.core.cache import sweeps
from lapidar.core.cache.store import Cache
from lapidar.core.cache.taking import take
from lapidar.core.declaring.trust import trust
from lapidar.core.errors import CacheError, LapidarError
from lapidar.core.flows.parcel import trusted_signer
from lapidar.core.parcels.parcel import Parcel, Parcels
from lapidar.core.progress import Silent
from lapidar.core.records.results import Analysis
from lapidar.core.steps.earlier import OtherRun

__all__ = ["TeamRuns"]


class TeamRuns:
    """See `lapidar.core.steps.earlier.OtherRuns`.

    Args:
        stores: looked through once, when the first run is asked for.

    Attributes:
        notes: what the user should know, a sentence each.
    """

    def __init__(self, cache: Cache, stores: Sequence[Parcels]) -> None:
        self._cache, self._stores = cache, stores
        self.notes: list[str] = []
        self._lock = threading.Lock()  # steps are looked at in threads

    def of(self, command: tuple[str, ...]) -> Iterator[OtherRun]:
        """Those of a command."""
        with self._lock:
            every = self._all
        for analysis, parcel, who in every:
            if analysis.command == command:
                yield OtherRun(analysis, who, parcel)

    def bring(self, run: OtherRun, digests: Sequence[str]) -> bool:
        """Have trees of one in the cache; whether they are there."""
        try:
            with self._cache.in_use():
                take(digests, run.store, self._cache, Silent())
        except (LapidarError, OSError) as error:
            self.notes.append(f"what {run.who} signed in {run.store.called} cannot be taken: {error}")
        return all(map(self._cache.is_whole, digests))

    @cached_property
    def _all(self) -> list[tuple[Analysis, Parcel, str]]:
        if trust().signers is None:
            if self._stores:
                self.notes.append(
                    "no run of a store is taken: your configuration names nobody whom you trust ([trust] signers)"
                )
            return []
        return [one for store in self._stores for parcel in store.parcels() for one in self._of_parcel(parcel)]

    def _of_parcel(self, parcel: Parcel) -> Iterator[tuple[Analysis, Parcel, str]]:
        try:
            if not (parcel.records_text and (who := trusted_signer(parcel))):
                return
            analyses = list(parcel.records.analysis)
            for sweep in parcel.records.sweep:
                with self._cache.in_use():
                    take([sweep.listing], parcel, self._cache, Silent())
                analyses += sweeps.runs_of(sweep, self._cache)
        except (LapidarError, CacheError, OSError) as error:
            self.notes.append(f"{parcel.called} is passed over: {error}")
            return
        yield from ((analysis, parcel, who) for analysis in analyses)
