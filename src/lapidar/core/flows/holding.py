"""Who holds something: the snapshots and projects that have a package, a library, or a file, as after a notice that it
is not to be used."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from pathlib import Path

import msgspec

from lapidar.core import languages
from lapidar.core.cache.history import History, Moment
from lapidar.core.cache.store import Cache
from lapidar.core.cache.trees import LINK
from lapidar.core.errors import CacheError, LapidarError
from lapidar.core.records import lockfile, words
from lapidar.core.records.snapshot import Snapshot

__all__ = ["Holder", "holders"]

_DIGEST = re.compile(r"(?:sha256:)?([0-9a-f]{8,64})")
_ASKED = re.compile(r"\s*([A-Za-z0-9][A-Za-z0-9._+-]*?)\s*((?:[(<>=!~].*)?)")


class Holder(msgspec.Struct, frozen=True):
    """A snapshot that has it.

    Attributes:
        what: what of it, with its version.
        lockfiles: where the snapshot was written or restored, by the history; those that hold it now first.
        current: how many of these hold it now.
    """

    snapshot: str
    what: str
    lockfiles: tuple[str, ...]
    current: int


def holders(cache: Cache, asked: str) -> list[Holder]:
    """The snapshots of the history that have something, the newest first.

    Args:
        asked: the name of a package, a library or a program, with a range of versions as its language writes it or
            without; or the first digits of the sha256 of a tree or a file.

    Raises:
        LapidarError: it is neither.
    """
    history = History(cache)
    moments = history.moments()
    by_snapshot: dict[str, list[Moment]] = {}
    for one in moments:
        by_snapshot.setdefault(one.snapshot, []).append(one)
    found = []
    with cache.remembering():
        for identity, snapshot in history.copies():
            if not isinstance(snapshot, Snapshot):
                continue
            if what := list(dict.fromkeys(_matches(snapshot, cache, asked))):
                locks, current = _places(by_snapshot.get(identity, ()), snapshot.snapshot)
                found.append(Holder(snapshot.snapshot, words.some(what, 3), locks, current))
    order = {identity: number for number, identity in enumerate(by_snapshot)}
    return sorted(found, key=lambda one: -order.get(one.snapshot, -1))


def _places(moments: Iterable[Moment], identity: str) -> tuple[tuple[str, ...], int]:
    paths = list(dict.fromkeys(one.lockfile for one in moments if one.is_change))
    current = [one for one in paths if lockfile.identity_in(Path(one)) == identity]
    return (*current, *(one for one in paths if one not in current)), len(current)


def _matches(snapshot: Snapshot, cache: Cache, asked: str) -> Iterator[str]:
    """What of a snapshot is meant, for people."""
    if told := _DIGEST.fullmatch(asked):
        yield from _by_digest(snapshot, cache, told[1])
        return
    parts = _ASKED.fullmatch(asked)
    if not parts:
        raise LapidarError(
            f"{asked!r} is no name, no range and no digest", remedy="lapidar cache holds NAME, 'NAME<2.1', or DIGEST"
        )
    name, range_ = parts.groups()
    for one in snapshot.packages:
        versions = languages.of(one.language).versions
        if versions.normalised(name) == versions.normalised(one.name) and (
            not range_ or versions.allows(f"{name} {range_}" if range_.startswith("(") else name + range_, one.version)
        ):
            yield f"{one.name} {one.version}"
    if range_:
        return  # versions of system packages are compared by their own system alone
    for library in snapshot.libraries:
        if name in (library.soname, library.soname.partition(".so")[0], library.owner):
            yield f"{library.soname} ({library.owner} {library.owner_version})" if library.owner else library.soname
    for tool in snapshot.tools:
        if name in (tool.name, tool.owner):
            yield f"{tool.name} ({tool.owner} {tool.owner_version})" if tool.owner else tool.name
    for runtime in snapshot.runtimes:
        if name in (runtime.implementation, runtime.language):
            yield f"{runtime.implementation} {runtime.version}"


def _by_digest(snapshot: Snapshot, cache: Cache, digits: str) -> Iterator[str]:
    for part in snapshot.parts():
        if part.tree.removeprefix("sha256:").startswith(digits):
            yield words.owner(part.owner)
            continue
        try:
            tree = cache.tree(part.tree)
        except CacheError:
            continue
        for entry in tree:
            if entry.kind != LINK and entry.content.startswith(digits):
                yield f"{entry.path} of {words.owner(part.owner)}"
                break
