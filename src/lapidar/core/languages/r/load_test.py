"""What R is asked to load for the memory-map test: every package of the snapshot, and those that are R itself."""

from __future__ import annotations

from pathlib import Path

from lapidar.core.languages.protocol import LoadTest
from lapidar.core.languages.r import placing
from lapidar.core.languages.r.requirements import BASE
from lapidar.core.records.snapshot import Snapshot

__all__ = ["of"]

# Loading it opens a window, or fails where there is none.
_NOT_LOADED = frozenset(("tcltk",))


def of(snapshot: Snapshot, environment: Path) -> LoadTest:
    """The test of an environment."""
    own = {package.name: (package.name,) for package in snapshot.packages if package.language == "r"}
    script = Path(__file__).with_name("_loaded.R")
    names = tuple(sorted((BASE - _NOT_LOADED) | own.keys()))
    rscript = str(environment / placing.HOME / "bin" / "Rscript")
    return LoadTest(names, (rscript, "--vanilla", str(script)), own)
