"""What Python is asked to import for the memory-map test: every top-level module of the packages, and every extension
module of the runtime."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

from lapidar.core.cache.store import Cache
from lapidar.core.cache.trees import Tree
from lapidar.core.errors import LapidarError
from lapidar.core.languages.protocol import LoadTest
from lapidar.core.records.snapshot import Snapshot

__all__ = ["of"]

_IMPORTABLE = re.compile(r"^[A-Za-z_]\w*$")
_EXTENSION = re.compile(r"^(\w+)\.(?:cpython-[\w-]+|abi3)?\.?so$")
_NOT_IMPORTED = re.compile(r"^(_?_test|_xx|xx|test$|tests$|conftest$|_ctypes_test|_remote_debugging)")


def of(snapshot: Snapshot, cache: Cache, environment: Path) -> LoadTest:
    """The test of an environment; what the cache lacks is not asked for."""
    script = Path(__file__).with_name("_live.py").read_text("utf-8")
    names = tuple(sorted(set(_modules(snapshot, cache))))
    return LoadTest(names, (str(environment / "bin" / "python"), "-I", "-B", "-c", script))


def _modules(snapshot: Snapshot, cache: Cache) -> Iterator[str]:
    parts = [part for part in snapshot.parts() if part.owner.language == "python"]
    for part in parts:
        try:
            tree = cache.tree(part.tree)
        except LapidarError:
            continue  # the judgement of the cache tells of it
        for name in _top_level(tree):
            if _IMPORTABLE.match(name) and not _NOT_IMPORTED.match(name):
                yield name


def _top_level(tree: Tree) -> Iterator[str]:
    for entry in tree:
        parts = entry.path.split("/")
        if parts[0] == "site" and len(parts) == 2:
            extension = _EXTENSION.match(parts[1])
            if extension or parts[1].endswith(".py"):
                yield extension[1] if extension else parts[1][:-3]
        elif parts[0] == "site" and len(parts) == 3 and parts[2] == "__init__.py":
            yield parts[1]
        elif len(parts) > 1 and parts[-2] == "lib-dynload" and (extension := _EXTENSION.match(parts[-1])):
            yield extension[1]
