"""What was observed of an environment's packages, for the next time that nothing has changed.

Like the tables of files seen it is only ever a short cut. What packages are follows from what the interpreter says of
itself, from the project's place, and from the files of the packages' folders and those that packages have elsewhere:
all of these are asked for their inodes, sizes and times, and where any differs, everything is observed again. What
follows from more than that (the operating system's own lists, folders elsewhere that a file adds to the path) is not
remembered at all.
"""

from __future__ import annotations

import hashlib
import os
import stat
import time
from collections.abc import Iterable, Iterator
from pathlib import Path

import msgspec

from lapidar._version import VERSION
from lapidar.core import sealed
from lapidar.core.cache.seen import SETTLED_NS
from lapidar.core.cache.stowing import Draft, FileDraft, LinkDraft, RewrittenDraft
from lapidar.core.environment import assemblies
from lapidar.core.languages.python import packages
from lapidar.core.languages.python.packages import PackageFound, PackagesFound
from lapidar.core.languages.python.probe import Answer
from lapidar.core.languages.python.standards.metadata import Metadata
from lapidar.core.place import Place
from lapidar.core.records.snapshot import Origin, PackageFacts

__all__ = ["observe"]


def observe(answer: Answer, place: Place, *, skip_outside: bool, folder: Path | None) -> PackagesFound:
    """As `packages.observe`, or out of what is remembered.

    Args:
        folder: where the cache keeps its short cuts; None to observe in any case.
    """
    if folder is None:
        return packages.observe(answer, place, skip_outside=skip_outside)
    memory = _Memory(folder, answer, place, skip_outside)
    found = memory.recall()
    if found is None:
        found = packages.observe(answer, place, skip_outside=skip_outside)
        memory.keep(found)
    found.statuses = memory.statuses
    return found


class _Package(msgspec.Struct, array_like=True):
    metadata: Metadata
    files: list[FileDraft]
    links: list[LinkDraft]
    rewritten: list[RewrittenDraft]
    origin: Origin
    requested: bool
    facts: PackageFacts
    recorded: dict[str, str]
    gone: list[str]


class _Kept(msgspec.Struct, array_like=True):
    """What is remembered.

    Attributes:
        state: what it follows from, digested.
        elsewhere: the files that packages have outside of the packages' folders, and those that are gone.
    """

    state: str
    elsewhere: list[str]
    packages: list[_Package]
    claimed: list[str]
    remainder_files: list[FileDraft]
    remainder_links: list[LinkDraft]
    warnings: list[str]
    notes: list[str]


_KEPT = msgspec.msgpack.Decoder(_Kept)


class _Memory:
    def __init__(self, folder: Path, answer: Answer, place: Place, skip_outside: bool) -> None:
        told = msgspec.json.encode(
            [VERSION, assemblies.code_state(), msgspec.to_builtins(answer), str(place.root), skip_outside]
        )
        self._key = hashlib.blake2b(told).hexdigest()
        self._file = folder / f"{hashlib.sha256(os.fsencode(answer.prefix)).hexdigest()[:32]}-packages"
        self._began_ns = time.time_ns()
        self._folders = packages.site_paths(answer)
        self._placed = f"{answer.prefix}/lib/lapidar/placed.json"
        self._rows: list[str] = []
        self.statuses: dict[str, os.stat_result] = {}  # those behind links, where they are links
        self._newest = 0
        for site in self._folders:
            self._walk(site)

    def recall(self) -> PackagesFound | None:
        """What is remembered; None where anything has changed."""
        try:
            kept = _KEPT.decode(sealed.read(self._file) or b"")
        except (msgspec.MsgspecError, UnicodeDecodeError):
            return None
        return _found(kept) if kept.state == self._state(kept.elsewhere) else None

    def keep(self, found: PackagesFound) -> None:
        """Remember it, if it follows from nothing else, and nothing changed a moment ago."""
        if found.follows_from_more:
            return
        inside = tuple(f"{site}/" for site in self._folders)
        elsewhere = sorted({path for path in _sources(found) if not path.startswith(inside)})
        state = self._state(elsewhere)
        if state and self._newest < self._began_ns - SETTLED_NS:
            kept = _Kept(
                state,
                elsewhere,
                [_package(one) for one in found.packages],
                list(found.claimed),
                [one for one in found.remainder if isinstance(one, FileDraft)],
                [one for one in found.remainder if isinstance(one, LinkDraft)],
                found.warnings,
                found.notes,
            )
            sealed.keep(self._file, lambda: msgspec.msgpack.encode(kept))

    # ---- the state of files

    def _walk(self, top: str) -> None:
        """All files of a folder of packages; a link to a folder is followed by none who could see it change."""
        waiting = [top]
        while waiting:
            folder = waiting.pop()
            try:
                with os.scandir(folder) as entries:
                    for entry in entries:
                        if entry.is_dir(follow_symlinks=False):
                            if entry.name != "__pycache__":
                                waiting.append(entry.path)
                        else:
                            self._add(entry.path, entry.stat(follow_symlinks=False))
            except OSError:
                self._rows.append(f"{folder} cannot be read")

    def _add(self, path: str, found: os.stat_result) -> None:
        self._rows.append(f"{path}\n{_state_of(found)}")
        self._note(path, found)
        self._newest = max(self._newest, found.st_mtime_ns, found.st_ctime_ns)
        if stat.S_ISLNK(found.st_mode):
            self._follow(path)

    def _follow(self, path: str) -> None:
        try:
            found = os.stat(path)
        except OSError:
            self._rows.append(f"{path} leads nowhere")
            return
        if stat.S_ISDIR(found.st_mode):
            self._newest = time.time_ns()  # what is in there is not looked at: never settled
        self._rows.append(f"{path} leads to\n{_state_of(found)}")
        self._note(path, found)

    def _note(self, path: str, found: os.stat_result) -> None:
        """Only regular files: whoever stows looks at anything else by itself, and refuses it."""
        if stat.S_ISREG(found.st_mode):
            self.statuses[path] = found

    def _state(self, elsewhere: Iterable[str]) -> str:
        before = len(self._rows)
        for path in (self._placed, *elsewhere):
            try:
                self._add(path, os.lstat(path))
            except OSError:
                self._rows.append(f"{path} is not there")
        rows = sorted(self._rows[:before]) + self._rows[before:]
        del self._rows[before:]
        return hashlib.blake2b("\n".join([self._key, *rows]).encode("utf-8", "surrogateescape")).hexdigest()


def _state_of(found: os.stat_result) -> str:
    return f"{found.st_ino} {found.st_mode} {found.st_size} {found.st_mtime_ns} {found.st_ctime_ns}"


def _sources(found: PackagesFound) -> Iterator[str]:
    for package in found.packages:
        yield from (one.source for one in package.drafts if isinstance(one, FileDraft | RewrittenDraft))
        yield from package.gone
    yield from found.claimed


def _package(one: PackageFound) -> _Package:
    return _Package(
        one.metadata,
        [draft for draft in one.drafts if isinstance(draft, FileDraft)],
        [draft for draft in one.drafts if isinstance(draft, LinkDraft)],
        [draft for draft in one.drafts if isinstance(draft, RewrittenDraft)],
        one.origin,
        one.requested,
        one.facts,
        one.recorded,
        one.gone,
    )


def _found(kept: _Kept) -> PackagesFound:
    several = [
        PackageFound(
            one.metadata,
            [*one.files, *one.links, *one.rewritten],
            one.origin,
            one.requested,
            one.facts,
            one.recorded,
            one.gone,
        )
        for one in kept.packages
    ]
    remainder: list[Draft] = [*kept.remainder_files, *kept.remainder_links]
    return PackagesFound(several, set(kept.claimed), remainder, kept.warnings, kept.notes)
