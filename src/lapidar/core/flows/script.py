"""Script: a single file that states its needs, run in an environment of its own. The snapshot lies beside it, or in the
cache alone; the environment in the cache, shared by all scripts with the same snapshot."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import NamedTuple

from lapidar.core import atomic, foreign
from lapidar.core.cache.store import Cache
from lapidar.core.declaring import editing, judge, reading, script
from lapidar.core.declaring.script import Script
from lapidar.core.errors import DeclarationError
from lapidar.core.flows.inline import own_folder
from lapidar.core.flows.near import in_cache
from lapidar.core.flows.pin import Pinned, pin, unasked
from lapidar.core.pinning.session import PinRequest
from lapidar.core.place import DECLARATION_NAME, Place, lock_of
from lapidar.core.progress import Progress
from lapidar.core.records import lockfile
from lapidar.core.records.snapshot import Snapshot

__all__ = ["FILE_NAME", "Ready", "drop", "known", "need", "place_of", "ready"]


FILE_NAME = "file"
"""What, in the folder that the cache has of a script, says where that lies."""


class Ready(NamedTuple):
    """A script whose environment is there.

    Attributes:
        environment: held by this process, and what it becomes.
        pinned: what was pinned for it just now; None where its snapshot was there.
    """

    place: Place
    environment: Path
    pinned: Pinned | None = None


def known(root: Path) -> Iterator[tuple[Path, Path]]:
    """The scripts that were run with the cache in a folder: what it keeps of each, and where each lies, or lay."""
    for own in sorted((in_cache(root).folder / "of").glob("*")):
        try:
            yield own, Path(foreign.read_text(own / FILE_NAME).rstrip("\n"))
        except (OSError, ValueError):
            continue


def place_of(file: Path, cache: Cache, *, beside: bool = True) -> Place:
    """The place of a script: its declaration follows from its block, its snapshot and records lie beside it.

    Args:
        beside: else all of it lies in the cache.

    Raises:
        DeclarationError: it states nothing that can be meant.
    """
    file = file.absolute()
    own = own_folder(file, cache.root)
    atomic.make_folder(own)
    text = script.read(file).declaration().encode("utf-8", "surrogateescape")
    if not (own / FILE_NAME).is_file():
        atomic.write_file(own / FILE_NAME, os.fsencode(f"{file}\n"), flush=False)
    declaration = own / DECLARATION_NAME
    if not declaration.is_file() or declaration.read_bytes() != text:
        atomic.write_file(declaration, text, flush=False)
    lock = lock_of(file)
    if not beside or not (lock.exists() or os.access(file.parent, os.W_OK)):
        lock = own / "lapidar.lock"
    records = file.with_name(f"{file.name}.lapidar.results")
    found = lockfile.identity_in(lock) if lock.is_file() else ""
    environment = in_cache(cache.root).environment(found) if found else own / "env"
    place = Place(own, declaration, lock, records, environment, own / ".lapidar", name=file.name)
    place.make_own_folder()
    return place


def ready(file: Path, cache: Cache, reporter: Progress, *, beside: bool = True) -> Ready:
    """Have the environment of a script: pinned where it has no snapshot, or another is stated; placed once.

    Args:
        beside: whether its snapshot is to lie beside it.

    Raises:
        DeclarationError: its block is broken.
        LapidarError: it cannot be pinned, or the cache lacks something of its snapshot.
    """
    near = in_cache(cache.root)
    place = place_of(file, cache, beside=beside)
    snapshot, pinned = _snapshot(place, cache, script.read(file).language.name, reporter)
    found = near.restored(place, lambda: cache, snapshot, reporter, place.lockfile)
    near.remember(snapshot.snapshot, file, place.lockfile)
    return Ready(place_of(file, cache, beside=beside), found, pinned)


def _snapshot(place: Place, cache: Cache, language: str, reporter: Progress) -> tuple[Snapshot, Pinned | None]:
    """The snapshot that a script has, where it is what its block states; else a new one."""
    declaration = reading.read(place)
    locked = lockfile.read_if_there(place.lockfile)
    if locked and not list(judge.drift(declaration, locked)):
        return locked, None
    request = PinRequest(place, cache, declaration, locked, reporter=reporter)
    done = pin(request, unasked, only="" if declaration.needs else language)
    assert done.snapshot is not None
    return done.snapshot, done


def _edited(file: Path, change: Callable[[editing.NeedsFile, Script], None]) -> bytes:
    """A script with another list of needs.

    Args:
        change: changes the list.

    Raises:
        DeclarationError: its block is broken, or what is to be needed is no need.
    """
    found = script.read(file)
    needs = found.needs()
    change(needs, found)
    return found.with_block(needs.text)


def need(file: Path, texts: Sequence[str]) -> bytes:
    """A script with more needs, or others of the same names."""

    def change(needs: editing.NeedsFile, found: Script) -> None:
        parse = found.language.versions.parse_need
        editing.added(needs, [parse(text, "the command line", "") for text in texts])

    return _edited(file, change)


def drop(file: Path, names: Sequence[str]) -> bytes:
    """A script with fewer needs.

    Raises:
        DeclarationError: one is not stated.
    """

    def change(needs: editing.NeedsFile, found: Script) -> None:
        if needs.array("", create=False) is None:
            raise DeclarationError(f"{file.name} states no needs", remedy=f"lapidar need --script {file.name} NAME")
        editing.dropped(needs, names, "")

    return _edited(file, change)
