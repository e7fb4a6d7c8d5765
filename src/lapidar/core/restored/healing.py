"""Healing the cache: bytes that it lost, or that were altered through a hard link of a restored environment, are taken
from wherever on this machine the right ones still are; and whose environment they were altered in is told."""

from __future__ import annotations

import os
import posixpath
import stat
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from pathlib import Path

from msgspec import Struct, field

from lapidar.core import atomic
from lapidar.core.cache.contents import Flaw
from lapidar.core.cache.files import FILE_TIME_SECONDS, FileFlaw
from lapidar.core.cache.history import History
from lapidar.core.cache.seen import known_paths
from lapidar.core.cache.store import Cache
from lapidar.core.cache.stowing import put_back
from lapidar.core.cache.trees import EXECUTABLE, FILE, Entry
from lapidar.core.environment.folder import Environment
from lapidar.core.place import Place
from lapidar.core.records import words

__all__ = ["Healed", "damaged_links", "heal", "mend_links"]

_NAMED = 4  # environments


class Healed(Struct):
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
    altered, sources = _links_and_others(cache, entries.values())
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
    how = f" was altered through one of its links: {_named(altered)}" if altered else f" ({flaw.kind})"
    if cache.flaw(entry) is None and flaw.kind is not FileFlaw.BYTES:
        return  # another flaw of the same bytes was healed
    for source in _candidates(cache, entry, sources.get(entry.content, [])):
        if put_back(cache, entry, source):
            mended = ", and are right again in all of these" if mend_links(cache, {entry: altered}) else ""
            result.notes.append(f"The cache's file of {what}{how}; its bytes were taken from {source}{mended}")
            return
    if altered:
        result.notes.append(f"The cache's file of {what}{how}, and its bytes are nowhere else on this machine")
    result.left.append(flaw)


def damaged_links(cache: Cache, entries: Iterable[Entry]) -> dict[Entry, list[Path]]:
    """Of files of the cache, those that are damaged and that environments of known projects are linked to, each with
    the links; for `mend_links`, once the cache has the right bytes."""
    damaged = {entry.content: entry for entry in entries if cache.flaw(entry)}
    links, _ = _links_and_others(cache, damaged.values()) if damaged else ({}, {})
    return {damaged[content]: places for content, places in links.items()}


def mend_links(cache: Cache, links: Mapping[Entry, Sequence[Path]]) -> int:
    """Give what environments are still linked to its right bytes again, in place: all that share it have them at once.

    Returns:
        How many files were mended.
    """
    mended = 0
    for entry, places in links.items():
        good = cache.entry_path(entry)
        for place in places[:1]:  # they are one file
            try:
                if cache.flaw(entry) is None and _inode(str(place)) != _inode(good):
                    _keep_what_was_written(cache, place)
                    _write_in_place(place, Path(good).read_bytes())
                    mended += 1
            except OSError:
                continue  # it is somebody else's: their own check tells
    return mended


def _keep_what_was_written(cache: Cache, place: Path) -> None:
    """The damaged file was set aside for somebody to look at, and is the same file: a copy of it lies there now."""
    inode, data = place.stat().st_ino, place.read_bytes()
    aside = cache.aside
    for path in aside.iterdir() if aside.is_dir() else ():
        if path.stat().st_ino == inode:
            path.unlink()
            atomic.write_file(path, data)


def _write_in_place(place: Path, data: bytes) -> None:
    mode = stat.S_IMODE(place.stat().st_mode)
    place.chmod(mode | stat.S_IWUSR)
    try:
        with place.open("r+b") as stream:
            stream.write(data)
            stream.truncate()
    finally:
        place.chmod(mode)
    os.utime(place, (FILE_TIME_SECONDS, FILE_TIME_SECONDS))


def _links_and_others(cache: Cache, entries: Iterable[Entry]) -> tuple[dict[str, list[Path]], dict[str, list[str]]]:
    """By contents: where environments are linked to the cache's own file, and where they have one besides."""
    several = list(entries)
    damaged = {inode: entry.content for entry in several if (inode := _inode(cache.entry_path(entry)))}
    links: dict[str, list[Path]] = {}
    others: dict[str, list[str]] = {}
    for place, content, inode in _placed(cache, several):
        if damaged.get(inode) == content:
            links.setdefault(content, []).append(place)
        else:
            others.setdefault(content, []).append(str(place))
    return links, others


def _named(links: Sequence[Path]) -> str:
    """The projects that share a file; which of them it was altered in nobody can tell: it is one file."""
    projects = dict.fromkeys(str(place) for place in links)
    return words.some(projects, _NAMED)


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
