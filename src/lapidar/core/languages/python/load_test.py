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
from lapidar.core.records.owner import Layer, Owner
from lapidar.core.records.snapshot import Snapshot

__all__ = ["of"]

_IMPORTABLE = re.compile(r"^[A-Za-z_]\w*$")
_EXTENSION = re.compile(r"^(\w+)\.(?:cpython-[\w-]+|abi3)?\.?so$")
_NOT_IMPORTED = re.compile(r"^(_?_test|_xx|xx|test$|tests$|conftest$|_ctypes_test|_remote_debugging)")


def of(snapshot: Snapshot, cache: Cache, environment: Path) -> LoadTest:
    """The test of an environment; what the cache lacks is not asked for."""
    script = Path(__file__).with_name("_live.py").read_text("utf-8")
    by_owner = dict(_modules(snapshot, cache))
    names = tuple(sorted({name for several in by_owner.values() for name in several}))
    own = {owner.name: several for owner, several in by_owner.items() if owner.layer is Layer.PACKAGES}
    return LoadTest(names, (str(environment / "bin" / "python"), "-I", "-B", "-c", script), own)


def _modules(snapshot: Snapshot, cache: Cache) -> Iterator[tuple[Owner, tuple[str, ...]]]:
    parts = [part for part in snapshot.parts() if part.owner.language == "python"]
    for part in parts:
        try:
            tree = cache.tree(part.tree)
        except LapidarError:
            continue  # the judgement of the cache tells of it
        names = dict.fromkeys(_top_level(tree))
        yield part.owner, tuple(name for name in names if _IMPORTABLE.match(name) and not _NOT_IMPORTED.match(name))


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
