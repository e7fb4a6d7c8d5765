"""What lies in an environment of Python; see `lapidar.core.languages.protocol.Checking`. A light module."""

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

_METADATA = ".dist-info/METADATA"


def made_by_running(path: str) -> bool:
    """Whether it is a byte-code cache."""
    return "__pycache__/" in path


def strays(runtime: Runtime, extra: Iterable[str]) -> Iterator[Stray]:
    """The packages among files that are in no snapshot."""
    site = package_folder(runtime)
    for path in extra:
        folder = posixpath.dirname(path)
        if path.endswith(_METADATA) and posixpath.dirname(folder) == site:
            name, _, version = posixpath.basename(folder).removesuffix(".dist-info").partition("-")
            yield Stray(name, version)


def is_metadata(path: str) -> bool:
    """Whether it is of a package's metadata."""
    return ".dist-info/" in path or ".egg-info" in path


def package_folder(runtime: Runtime) -> str:
    """The folder of packages."""
    from lapidar.core.languages.python.placing import SITE

    return runtime.places[SITE]


def load_test(snapshot: Snapshot, cache: Cache, environment: Path) -> LoadTest:
    """How to import everything."""
    from lapidar.core.languages.python import load_test

    return load_test.of(snapshot, cache, environment)
