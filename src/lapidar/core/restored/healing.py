"""Healing the cache: bytes that it lost, or that were altered through a hard link of a restored environment, are taken
from wherever on this machine the right ones still are; and whose environment they were altered in is told."""

from __future__ import annotations

import os
import posixpath
from collections.abc import Collection, Iterable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

from lapidar.core.cache.contents import Flaw
from lapidar.core.cache.history import History
from lapidar.core.cache.seen import known_paths
from lapidar.core.cache.store import Cache, FileFlaw
from lapidar.core.cache.stowing import put_back
from lapidar.core.cache.trees import EXECUTABLE, FILE, Entry
from lapidar.core.environment.folder import Environment
from lapidar.core.place import Place
from lapidar.core.records import words

__all__ = ["Healed", "heal"]


@dataclass(slots=True)
class Healed:
    """What came of it.

    Attributes:
        left: what could not be healed.
        notes: a sentence for each file that was altered or healed.
    """

    left: list[Flaw] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)


def heal(cache: Cache, flaws: Iterable[Flaw]) -> Healed:
    """Heal what can be, without any host."""
    result = Healed()
    found = list(flaws)
    entries = {flaw.entry.content: flaw.entry for flaw in found if flaw.entry is not None}
    if not entries:
        result.left = found
        return result
    damaged = {inode: entry.content for entry in entries.values() if (inode := _inode(cache.entry_path(entry)))}
    altered: dict[str, list[Path]] = {}
    sources: dict[str, list[str]] = {}
    for place, content, inode in _placed(cache, entries.values()):
        if damaged.get(inode) == content:
            altered.setdefault(content, []).append(place)
        else:
            sources.setdefault(content, []).append(str(place))
    for content, path in known_paths(cache.short_cuts, set(entries)):
        sources.setdefault(content, []).append(path)
    for flaw in found:
        if flaw.entry is None or not cache.writable:
            result.left.append(flaw)
            continue
        _heal_one(cache, flaw, flaw.entry, altered.get(flaw.entry.content, []), sources, result)
    return result


def _heal_one(
    cache: Cache, flaw: Flaw, entry: Entry, altered: list[Path], sources: dict[str, list[str]], result: Healed
) -> None:
    what = f"{words.owner(flaw.owner)}: {flaw.path}"
    how = f" was altered through {altered[0]}" if altered else f" ({flaw.kind})"
    if cache.flaw(entry) is None and flaw.kind is not FileFlaw.BYTES:
        return  # another flaw of the same bytes was healed
    for source in _candidates(cache, entry, sources.get(entry.content, [])):
        if put_back(cache, entry, source):
            result.notes.append(f"The cache's file of {what}{how}; its bytes were taken from {source}")
            return
    if altered:
        result.notes.append(f"The cache's file of {what}{how}, and its bytes are nowhere else on this machine")
    result.left.append(flaw)


def _candidates(cache: Cache, entry: Entry, known: list[str]) -> Iterator[str]:
    """The same bytes as a program, or as a plain file; then wherever they were placed or read."""
    other = Entry(entry.path, FILE if entry.kind == EXECUTABLE else EXECUTABLE, entry.content, entry.bytes)
    yield cache.entry_path(other)
    yield from known


def _placed(cache: Cache, wanted: Collection[Entry]) -> Iterator[tuple[Path, str, int]]:
    """Where restored environments of known projects have files that may be certain ones, by name and size, which of
    these, and their inodes."""
    by_name: dict[tuple[str, int], list[str]] = {}
    for entry in wanted:
        by_name.setdefault((posixpath.basename(entry.path), entry.bytes), []).append(entry.content)
    history = History(cache)
    folders = dict.fromkeys(Place.of_lockfile(Path(moment.lockfile)).environment for moment in history.moments())
    for folder in folders:
        listed = Environment(folder).manifest
        for row in listed.listing.rows() if listed else ():
            path, _, _, _, size = row
            contents = by_name.get((posixpath.basename(path), size))
            if contents and (inode := _inode(f"{folder}/{path}")):
                yield from ((folder / path, content, inode) for content in contents)


def _inode(path: str) -> int | None:
    try:
        return os.lstat(path).st_ino
    except OSError:
        return None
