"""The history: every lockfile ever captured into a cache, and which project each belonged to."""

from __future__ import annotations

import os
import time
from dataclasses import dataclass
from pathlib import Path

import msgspec

from lapidar.core import atomic
from lapidar.core.cache.store import Cache
from lapidar.core.errors import LockfileError
from lapidar.core.records import lockfile
from lapidar.core.records.snapshot import Snapshot

__all__ = ["History", "Moment"]


class Moment(msgspec.Struct, frozen=True):
    """One capture: when (seconds since 1970), which snapshot, and where its lockfile was written."""

    time: float
    snapshot: str
    lockfile: str


@dataclass(frozen=True, slots=True)
class History:
    """The history of a cache."""

    cache: Cache

    @property
    def _log(self) -> Path:
        return self.cache.root / "snapshots" / "log.jsonl"

    def path(self, snapshot_id: str) -> Path:
        return self.cache.root / "snapshots" / f"{snapshot_id.removeprefix('sha256:')}.lock"

    def add(self, snapshot: Snapshot, written_to: Path) -> None:
        """Keep a copy of a lockfile."""
        copy = self.path(snapshot.snapshot)
        if not copy.exists():
            copy.parent.mkdir(exist_ok=True)
            lockfile.write(snapshot, copy)
        moment = Moment(time.time(), snapshot.snapshot, str(written_to))
        # One short line, appended in one call: lines of several processes do not mix.
        descriptor = os.open(self._log, os.O_WRONLY | os.O_APPEND | os.O_CREAT | os.O_CLOEXEC, 0o644)
        try:
            os.write(descriptor, msgspec.json.encode(moment) + b"\n")
        finally:
            os.close(descriptor)

    def moments(self) -> list[Moment]:
        """All captures, oldest first."""
        try:
            lines = self._log.read_bytes().splitlines()
        except FileNotFoundError:
            return []
        moments = []
        for line in lines:
            try:
                moments.append(msgspec.json.decode(line, type=Moment))
            except msgspec.MsgspecError:
                continue  # the last line, cut by a power failure
        return moments

    def drop(self, snapshot_ids: set[str]) -> None:
        """Drop snapshots from the history."""
        kept = [moment for moment in self.moments() if moment.snapshot not in snapshot_ids]
        atomic.write_file(self._log, b"".join(msgspec.json.encode(moment) + b"\n" for moment in kept))
        for snapshot_id in snapshot_ids:
            self.path(snapshot_id).unlink(missing_ok=True)

    def ids(self) -> list[str]:
        """The identity of every snapshot kept."""
        folder = self.cache.root / "snapshots"
        return sorted("sha256:" + name.removesuffix(".lock") for name in os.listdir(folder) if name.endswith(".lock"))

    def find(self, prefix: str) -> Snapshot:
        """The snapshot whose identity begins with `prefix` (with or without ``sha256:``).

        Raises:
            LockfileError: none does, or more than one.
        """
        plain = prefix.removeprefix("sha256:")
        matching = [found for found in self.ids() if plain and found.removeprefix("sha256:").startswith(plain)]
        if not matching:
            raise LockfileError(
                f"No snapshot in the history begins with {prefix!r}",
                remedy="Run `lapidar cache summary` to see which there are.",
            )
        if len(matching) > 1:
            shown = ", ".join(found.removeprefix("sha256:")[: len(plain) + 6] for found in matching[:4])
            raise LockfileError(
                f"{len(matching)} snapshots in the history begin with {prefix!r}",
                why=shown,
                remedy="Give more of its digits.",
            )
        return lockfile.read(self.path(matching[0]))
