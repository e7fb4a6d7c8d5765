"""The Python API: the same core as the command line, with paths in and plain values out."""

from __future__ import annotations

import datetime
from collections.abc import Sequence
from enum import StrEnum
from os import PathLike
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

from lapidar.core.cache.placing import Placement
from lapidar.core.cache.store import Cache, default_folder
from lapidar.core.environment.marker import WhoseLibraries
from lapidar.core.errors import Conflict, LapidarError
from lapidar.core.flows import capture as _capture
from lapidar.core.flows import check as _check
from lapidar.core.flows import restore as _restore
from lapidar.core.flows.capture import Captured, CaptureOptions
from lapidar.core.flows.check import Checked, CheckOptions
from lapidar.core.flows.choose import read_snapshot
from lapidar.core.flows.restore import Restored, RestoreOptions
from lapidar.core.place import Place

if TYPE_CHECKING:
    from lapidar.core.flows.elsewhere import Elsewhere
    from lapidar.core.flows.pin import Pinned

__all__ = [
    "Captured",
    "Checked",
    "Conflict",
    "LapidarError",
    "Restored",
    "capture",
    "check",
    "elsewhere",
    "pin",
    "restore",
]

Name = str | PathLike[str]
Kind = TypeVar("Kind", bound=StrEnum)


def _path(name: Name | None) -> Path | None:
    return None if name is None else Path(name)


def _cache(name: Name | None, *, create: bool = False) -> Cache:
    return Cache(_path(name) or default_folder(), create=create)


def _one_of(kind: type[Kind], text: str) -> Kind:
    """Raises: LapidarError: it is none."""
    try:
        return kind(text)
    except ValueError:
        raise LapidarError(f"There is no {text!r}", remedy=f"Known are: {', '.join(kind)}.") from None


def capture(
    environment: Name | None = None,
    *,
    project: Name | None = None,
    cache: Name | None = None,
    lock: Name | None = None,
    command: Sequence[str] | None = None,
) -> Captured:
    """Capture an environment into the cache and write the project's lockfile.

    Args:
        environment: a folder or an interpreter; found as by ``lapidar capture`` where it is not given.
        project: the project's folder; the one the current folder is in where it is not given.
        cache: the cache's folder; the user's own where it is not given.
        lock: where to write the lockfile instead.
        command: runs this once in the environment, and captures also what it was seen to use.

    Returns:
        What was captured: the snapshot, the layers' counts and sizes (bytes), edited files, warnings.

    Raises:
        LapidarError: it could not be done; says what, why and what to do next.
    """
    return _capture.capture(
        Place.find(_path(project)),
        _cache(cache, create=True),
        CaptureOptions(environment=_path(environment), lock=_path(lock), command=command),
    )


def pin(
    *,
    project: Name | None = None,
    cache: Name | None = None,
    renew: bool = False,
    as_of: datetime.date | None = None,
    wheels_only: bool = False,
    runtime: Name | None = None,
) -> Pinned:
    """Resolve the project's declared needs to exact packages, bring them into the cache, and write the lockfile.

    Args:
        renew: choose all anew; otherwise what is pinned stays where it may.
        as_of: as the indexes stood at the end of this day.
        wheels_only: nothing that would have to be built.
        runtime: the interpreter whose runtime is meant, where not the lockfile's.

    Returns:
        The snapshot, and whether it is another than before.

    Raises:
        Conflict: the needs cannot be met together; its `why` is the derivation.
        LapidarError: it could not be done, and nothing was changed.
    """
    from lapidar.core.declaring import reading
    from lapidar.core.flows.pin import pin, unasked
    from lapidar.core.pinning.session import PinOptions, PinRequest

    found, store = Place.find(_path(project)), _cache(cache, create=True)
    options = PinOptions(renew_all=renew, as_of=as_of, no_builds=wheels_only, runtime=_path(runtime))
    return pin(PinRequest(found, store, reading.read(found), options=options), unasked)


def restore(
    *,
    project: Name | None = None,
    cache: Name | None = None,
    into: Name | None = None,
    lock: Name | None = None,
    snapshot: str | None = None,
    placement: str = "auto",
    libraries: str = "auto",
) -> Restored:
    """Build the environment of a lockfile from the cache alone, with no network call.

    Args:
        into: the folder to make; the project's ``.lapidar/env`` where it is not given.
        lock: another lockfile than the project's.
        snapshot: the beginning of a snapshot's identity, to take it from the history instead.
        placement: ``auto``, ``share``, ``link`` or ``copy``.
        libraries: whose system libraries it runs with: ``auto``, ``private`` or ``host``.

    Raises:
        LapidarError: it could not be done, and nothing was changed.
    """
    found, store = Place.find(_path(project)), _cache(cache)
    wanted = read_snapshot(found, store, _path(lock), snapshot)
    held_by = None if snapshot else _path(lock) or found.lockfile
    options = RestoreOptions(
        into=_path(into),
        placement=_one_of(Placement, placement),
        libraries=_one_of(WhoseLibraries, libraries),
        lockfile=held_by,
    )
    return _restore.restore(found, store, wanted, options)


def elsewhere(what: Name, *, language: str = "", project: Name | None = None, cache: Name | None = None) -> Elsewhere:
    """Call functions of another snapshot, in a process of its environment that lives for a block:

    >>> with lapidar.elsewhere("3fe0a1") as old:                            # doctest: +SKIP
    ...     slope = old.call("kilns.fit:slope", frame, k=3)

    Args:
        what: a snapshot of the history (the beginning of its identity), a lockfile, another project's folder, a parcel.
        language: whose functions are called, ``"python"`` or ``"r"``; needed where the snapshot has several.
        project: the project's folder; the one the current folder is in where it is not given.
        cache: the cache's folder; the user's own where it is not given.

    Raises:
        LapidarError: there is no such snapshot, it has no such language, or the cache lacks something of it.
    """
    from lapidar.core.flows.elsewhere import opened

    return opened(str(what), Place.find(_path(project)), _cache(cache), language=language)


def check(
    *,
    project: Name | None = None,
    cache: Name | None = None,
    environment: Name | None = None,
    lock: Name | None = None,
    deep: bool = False,
    live: bool = False,
) -> Checked:
    """Compare the lockfile, the restored environment and the cache with each other.

    Args:
        environment: where it was restored; the project's ``.lapidar/env`` where it is not given.
        deep: read every byte.
        live: run the interpreter, import everything, and read its memory map.

    Returns:
        The findings; ``clean`` where there are none.

    Raises:
        LapidarError: there is no lockfile or cache to compare with.
    """
    found, store = Place.find(_path(project)), _cache(cache)
    wanted = read_snapshot(found, store, _path(lock), None)
    return _check.check(found, store, wanted, CheckOptions(environment=_path(environment), deep=deep, live=live))
