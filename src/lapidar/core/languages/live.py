"""Which files of a package that was built from a folder are files of that folder, byte for byte: in an environment of
the project these are links to them, so that an edit shows at the next start."""

from __future__ import annotations

import posixpath
from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import NamedTuple

from lapidar.core.cache.digest import sha256_of
from lapidar.core.cache.trees import LINK, Entry, Tree
from lapidar.core.records.snapshot import Origin

__all__ = ["Live", "files", "found"]

_IMPORTED = "site/"  # where trees of some languages have what is imported; others have it at their top


class Live(NamedTuple):
    """See `lapidar.core.records.snapshot.Origin`."""

    folders: tuple[str, ...] = ()
    made: tuple[str, ...] = ()


def found(tree: Tree, source: Path, names: Iterable[str]) -> Live:
    """Compare what was built with what it was built from.

    Args:
        source: the folder.
        names: its files, as they were before the build.
    """
    by_name: dict[str, list[str]] = defaultdict(list)
    for name in names:
        by_name[posixpath.basename(name)].append(name)
    same: dict[str, list[str]] = {}
    other: dict[str, list[str]] = {}
    for path, entry in _of(tree):
        for candidate in by_name.get(posixpath.basename(path), ()):
            if candidate != path and not candidate.endswith(f"/{path}"):
                continue
            folder = candidate[: -len(path)].rstrip("/") or "."
            kind = same if _is_same(source / candidate, entry) else other
            kind.setdefault(path, []).append(folder)
    counted = Counter(folder for several in same.values() for folder in several)
    order = [folder for folder, _ in sorted(counted.items(), key=lambda one: (-one[1], one[0]))]
    used, made = set(), []
    for path in sorted({*same, *other}):
        first = next((one for one in order if one in (*same.get(path, ()), *other.get(path, ()))), None)
        if first in same.get(path, ()):
            used.add(first)
        elif first is not None:
            made.append(path)
    return Live(tuple(one for one in order if one in used), tuple(made))


def files(tree: Tree, origin: Origin, root: Path) -> dict[str, str]:
    """The live files of a package, as they are there now.

    Args:
        root: the project's folder.

    Returns:
        Path in the tree -> path in the project.
    """
    if not origin.live or origin.path is None or not (root / origin.path).is_dir():
        return {}
    made, found = set(origin.made or ()), {}
    for path, entry in _of(tree):
        for folder in origin.live if path not in made else ():
            place = posixpath.normpath(f"{origin.path}/{folder}/{path}")
            if (root / place).is_file():
                found[entry.path] = place
                break
    return found


def _of(tree: Tree) -> Iterator[tuple[str, Entry]]:
    for entry in tree:
        if entry.kind != LINK:
            yield entry.path.removeprefix(_IMPORTED), entry


def _is_same(path: Path, entry: Entry) -> bool:
    return path.is_file() and path.stat().st_size == entry.bytes and sha256_of(str(path)) == entry.content
