"""Elsewhere: functions of another snapshot are called, in a process of its environment."""

from __future__ import annotations

import os
import re
import threading
from contextlib import suppress
from pathlib import Path
from types import TracebackType
from typing import IO, Any

from lapidar.core import languages
from lapidar.core.cache.store import Cache
from lapidar.core.elsewhere import wire
from lapidar.core.elsewhere.calling import Other
from lapidar.core.environment.folder import Environment
from lapidar.core.errors import LapidarError
from lapidar.core.flows.choose import named_snapshot
from lapidar.core.flows.near import in_cache
from lapidar.core.place import Place
from lapidar.core.progress import Progress, Silent
from lapidar.core.records import lockfile, words
from lapidar.core.records.snapshot import Snapshot
from lapidar.core.restored import running

__all__ = ["Elsewhere", "opened"]


class Elsewhere:
    """A snapshot whose functions can be called; its process is started with the first call, and ended with the block.

    Args:
        environment: of the snapshot; held by this process.
        place: whose conditions hold, and where it runs.
        language: whose functions are called; needed where the snapshot has several.
        output: the descriptor that its standard output goes to; this process's own unless given.

    Raises:
        LapidarError: the snapshot has no such language, or several and none is named.
    """

    def __init__(
        self, snapshot: Snapshot, environment: Path, place: Place, language: str = "", output: int | None = None
    ) -> None:
        self.snapshot = snapshot.snapshot
        self._command = _command(snapshot, environment, language)
        self._environment, self._place = environment, place
        self._output = output
        self._starting = threading.Lock()
        self._other: Other | None = None

    def call(self, name: str, *args: Any, timeout: float | None = None, **named: Any) -> Any:
        """Call a function there, and have what it gives.

        Args:
            name: ``module:function``, as it is imported there; in R ``package:function`` or ``file.R:function``.
            args, named: what it is given: scalars, lists, tables of names, dates, bytes, paths, and arrays and data
                frames of NumPy and pandas.
            timeout: seconds, after which its process is ended.

        Returns:
            The same kinds; an array or a frame as lists where its package is not here.

        Raises:
            CalledFailed: it failed there, ended, or took too long.
            LapidarError: an argument cannot travel.
        """
        if not all(name.rpartition(":")):
            raise LapidarError(f"{name!r} names no function", remedy="Write module:function.")
        return self._running().call(name, args, named, timeout)

    def relay(self, asked: IO[bytes], answers: IO[bytes]) -> None:
        """Answer what another program asks, until it asks no more.

        Args:
            asked, answers: the streams of both.
        """
        with suppress(wire.Cut, BrokenPipeError):
            while True:
                self._running().relay(asked, answers)

    def close(self) -> None:
        """End its process; another call starts one again."""
        if self._other:
            self._other.close()
            self._other = None

    def __enter__(self) -> Elsewhere:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def _running(self) -> Other:
        with self._starting:
            if self._other is None or self._other.is_closed:
                prepared = running.prepare(self._place, Environment(self._environment), os.environ)
                called = f"snapshot {words.short(self.snapshot)}"
                self._other = Other(self._command, prepared.variables, self._place.root, called, self._output)
            return self._other


def _command(snapshot: Snapshot, environment: Path, named: str) -> list[str]:
    able = {one: one.calling for one in languages.every() if one.name in snapshot.languages and one.calling}
    for language, calling in able.items():
        if language.name == named.lower() or (not named and len(able) == 1):
            return [str(environment / "bin" / language.interpreters[0]), *calling.answering()]
    has = " and ".join(one.title for one in able) or "nothing that this lapidar can call"
    raise LapidarError(
        f"Snapshot {words.short(snapshot.snapshot)} has {has}" + (f", not {named}" if named else ""),
        remedy="Say whose function it is: language=..., --language."
        if able
        else "lapidar run, with files for what goes there and comes back.",
    )


def opened(
    what: str,
    place: Place,
    cache: Cache,
    reporter: Progress | None = None,
    *,
    language: str = "",
    output: int | None = None,
) -> Elsewhere:
    """Have the environment of another snapshot.

    Args:
        what: a snapshot of the history by the beginning of its identity, a lockfile, ``REVISION:``, the folder of
            another project, or a parcel.
        place: the project, whose history is meant, and where the other side runs but for another project's.
        language, output: see `Elsewhere`.

    Raises:
        LapidarError: there is no such snapshot, or the cache lacks something of it.
    """
    reporter = reporter or Silent()
    if not what:
        raise LapidarError("No snapshot was named", remedy="`lapidar history` tells which there are.")
    path = Path(what)
    if not path.exists() and re.search(r"/|\.(lock|tar)$", what) and ":" not in what:
        raise LapidarError(f"There is no {what}", remedy="Name a lockfile, a folder, a parcel, or a snapshot.")
    if path.is_dir():
        place = Place.of_project(path.resolve())
        snapshot = lockfile.read(place.lockfile)
    elif path.is_file() and not lockfile.identity_in(path):
        snapshot = _of_parcel(what, cache, reporter)
    else:
        snapshot = named_snapshot(place, cache, what)
    environment = in_cache(cache.root).restored(place, lambda: cache, snapshot, reporter)
    return Elsewhere(snapshot, environment, place, language, output)


def _of_parcel(what: str, cache: Cache, reporter: Progress) -> Snapshot:
    from lapidar.core.flows.parcel import bring_trees, opened_at

    parcel = opened_at(what)
    snapshot = parcel.snapshot
    with cache.in_use():
        bring_trees(parcel, cache, [part.tree for part in snapshot.parts()], reporter)
    return snapshot
