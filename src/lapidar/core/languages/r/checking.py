"""What lies in an environment of R; see `lapidar.core.languages.protocol.Checking`. A light module."""

from __future__ import annotations

import posixpath
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from lapidar.core.languages.protocol import LoadTest, Stray

if TYPE_CHECKING:
    from lapidar.core.cache.store import Cache
    from lapidar.core.records.snapshot import Runtime, Snapshot

__all__ = ["is_metadata", "load_test", "made_by_running", "package_folder", "strays"]

_LIBRARY = "lib/R/site-library"


def made_by_running(path: str) -> bool:
    """Nothing is."""
    return False


def strays(runtime: Runtime, extra: Iterable[str]) -> Iterator[Stray]:
    """The packages among files that are in no snapshot."""
    for path in extra:
        folder = posixpath.dirname(path)
        if posixpath.basename(path) == "DESCRIPTION" and posixpath.dirname(folder) == _LIBRARY:
            yield Stray(posixpath.basename(folder), "")


def is_metadata(path: str) -> bool:
    """Whether it describes a package."""
    return path in ("DESCRIPTION", "INDEX") or path.startswith(("Meta/", "html/", "help/"))


def package_folder(runtime: Runtime) -> str:
    """The folder of packages."""
    return _LIBRARY


def load_test(snapshot: Snapshot, cache: Cache, environment: Path) -> LoadTest | None:
    """How to load everything."""
    from lapidar.core.languages.r import load_test

    return load_test.of(snapshot, environment)
