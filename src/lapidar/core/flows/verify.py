"""Verify: a record is run again at once, from the record and the cache alone, in an empty folder."""

from __future__ import annotations

import os
import shutil
import tempfile
from pathlib import Path

from lapidar.core.cache.store import Cache
from lapidar.core.flows.rerun import Rerun, RerunOptions, rerun
from lapidar.core.place import Place
from lapidar.core.progress import Progress
from lapidar.core.records import results
from lapidar.core.records.results import Analysis, Results

__all__ = ["verify"]

_SHOWN = 3


def verify(place: Place, cache: Cache, analysis: Analysis, environment: Path, reporter: Progress) -> Rerun:
    """Run a record again where nothing of the project is, and compare.

    Args:
        place: the project that it was recorded in: whatever is opened there is told.
        environment: that which it was recorded in.

    Raises:
        LapidarError: what it needs is in the project alone, and not in the record.
    """
    root = os.path.realpath(place.root) + "/"
    with tempfile.TemporaryDirectory(prefix="lapidar-verify-") as folder:
        elsewhere = Place.of_project(Path(folder))
        if place.declaration.is_file():
            shutil.copy(place.declaration, elsewhere.declaration)  # tolerances are declared there
        results.write(Results(analysis=(analysis,)), elsewhere.records)
        options = RerunOptions(environment=environment, watches=True, trusted=True)
        done = rerun(elsewhere, cache, analysis.name, options, reporter)
    own = os.path.realpath(environment) + "/"
    seen = [path[len(root) :] for path in done.observed.opened if path.startswith(root) and not path.startswith(own)]
    if seen:
        more = f" and {len(seen) - _SHOWN} more" if len(seen) > _SHOWN else ""
        done.notes.append(f"it opened files of the project by where they lie here: {', '.join(seen[:_SHOWN])}{more}")
    return done
