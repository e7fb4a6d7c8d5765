"""The history: every lockfile ever written with a cache, of which project, when, and why."""

from __future__ import annotations

import enum
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

__all__ = ["Cause", "History", "Moment"]


class Cause(enum.StrEnum):
    """What brought a snapshot about."""

    CAPTURED = "captured"
    PINNED = "pinned"
    NEEDED = "needed"
    DROPPED = "dropped"
    RESTORED = "restored"  # it was there before, and was built again


class Moment(msgspec.Struct, frozen=True):
    """A snapshot at one time.

    Attributes:
        time: seconds since 1970.
        lockfile: where its lockfile was written, or read.
        project: the identity of its project; "" where it has none, as before there were identities.
        parent: the snapshot that the lockfile held before; "" for none.
    """

    time: float
    snapshot: str
    lockfile: str
    project: str = ""
    cause: Cause = Cause.CAPTURED
    parent: str = ""


@dataclass(frozen=True, slots=True)
class History:
    """The history of a cache."""

    cache: Cache

    @property
    def _log(self) -> Path:
        return self.cache.root / "snapshots" / "log.jsonl"

    def path(self, snapshot_id: str) -> Path:
        return self.cache.root / "snapshots" / f"{snapshot_id.removeprefix('sha256:')}.lock"

    def add(self, snapshot: Snapshot, written_to: Path, *, project: str, cause: Cause, parent: str = "") -> None:
        """Keep a copy of a lockfile, and note the moment.

        Args:
            project: the project's identity.
            parent: the snapshot that the lockfile held before.
        """
        copy = self.path(snapshot.snapshot)
        if not copy.exists():
            copy.parent.mkdir(exist_ok=True)
            lockfile.write(snapshot, copy)
        before = parent if parent != snapshot.snapshot else ""
        self._note(Moment(time.time(), snapshot.snapshot, str(written_to.absolute()), project, cause, before))

    def _note(self, moment: Moment) -> None:
        # One short line, appended in one call: lines of several processes do not mix.
        descriptor = os.open(self._log, os.O_WRONLY | os.O_APPEND | os.O_CREAT | os.O_CLOEXEC, 0o644)
        try:
            os.write(descriptor, msgspec.json.encode(moment) + b"\n")
        finally:
            os.close(descriptor)

    def current(self) -> dict[str, Snapshot]:
        """The snapshots that known projects hold now, by their identities.

        A project is where any of its lockfiles is. Where nothing is left of the folders that it was in, it was moved
        and not used since, or lies on a disk that is not here: then its last snapshot counts.
        """
        found: dict[str, Snapshot] = {}
        by_project: dict[str, list[Moment]] = {}
        for moment in self.moments():
            by_project.setdefault(moment.project or moment.lockfile, []).append(moment)
        for moments in by_project.values():
            places = dict.fromkeys(Path(moment.lockfile) for moment in moments)
            here = [place for place in places if place.parent.is_dir()]
            for place in here or [self.path(moments[-1].snapshot)]:
                try:
                    snapshot = lockfile.read(place)
                except LockfileError:
                    continue
                found[snapshot.snapshot] = snapshot
        return found

    def moments(self) -> list[Moment]:
        """All of it, oldest first."""
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
