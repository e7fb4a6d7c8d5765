"""The history: every lockfile ever written with a cache, of which project, when, and why."""

from __future__ import annotations

import enum
import hashlib
import re
import time
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, suppress
from pathlib import Path

import msgspec
from msgspec import Struct, field

from lapidar.core import atomic, decoding
from lapidar.core.cache.store import Cache
from lapidar.core.errors import LapidarError, LockfileError
from lapidar.core.place import Place
from lapidar.core.records import lockfile
from lapidar.core.records.snapshot import Snapshot

__all__ = ["Cause", "Deed", "HeldByProjects", "History", "Log", "Moment"]

_SEAL = re.compile(rb',"seal":"([0-9a-f]{16})"}')


class Cause(enum.StrEnum):
    """What brought a snapshot about."""

    CAPTURED = "captured"
    PINNED = "pinned"
    NEEDED = "needed"
    DROPPED = "dropped"
    RENEWED = "renewed"  # pinned anew without keeping what was pinned
    RETURNED = "returned"  # an earlier one became the project's again
    RESTORED = "restored"  # it was there before, and was built again
    NOTED = "noted"  # somebody said what it is


class Moment(msgspec.Struct, frozen=True, omit_defaults=True):
    """A snapshot at one time.

    Attributes:
        time: seconds since 1970.
        lockfile: where its lockfile was written, or read.
        project: the identity of its project; "" where it has none, as before there were identities.
        parent: the snapshot that the lockfile held before; "" for none.
        about: what was needed or dropped; what a note says.
        declared: the digest of the declaration as it was, where it is kept.
        who: whoever did it, by the name that version control has for them, else by that of their login.
    """

    time: float
    snapshot: str
    lockfile: str
    project: str = ""
    cause: Cause = Cause.CAPTURED
    parent: str = ""
    about: str = ""
    declared: str = ""
    who: str = ""

    @property
    def is_change(self) -> bool:
        """Whether a lockfile was written, or restored; a note only says something of a snapshot."""
        return self.cause is not Cause.NOTED


class Deed(Struct, frozen=True):
    """What was done that brings a snapshot about.

    Attributes:
        about: what was needed or dropped; what a note says.
        texts: files that declare what the project needs, by their names.
        who: whoever does it; "" where nobody asks.
    """

    cause: Cause
    about: str = ""
    texts: Mapping[str, str] = field(default_factory=dict)
    who: str = ""


class Log(Struct, frozen=True):
    """What the log says.

    Attributes:
        moments: oldest first.
        damaged: the numbers of the lines that cannot be read, or were altered, from 1.
    """

    moments: tuple[Moment, ...] = ()
    damaged: tuple[int, ...] = ()


class HeldByProjects(Struct):
    """What known projects hold.

    Attributes:
        snapshots: those of lockfiles that can be read, by their identities.
        unknown: what cannot be known, and is taken to be held: by the identity of a snapshot, why.
    """

    snapshots: dict[str, Snapshot] = field(default_factory=dict)
    unknown: dict[str, str] = field(default_factory=dict)

    def __contains__(self, snapshot_id: object) -> bool:
        return snapshot_id in self.snapshots or snapshot_id in self.unknown


class History(Struct, frozen=True):
    """The history of a cache."""

    cache: Cache

    @property
    def _log(self) -> Path:
        return self.cache.snapshots / "log.jsonl"

    def path(self, snapshot_id: str) -> Path:
        """Where the copy of a snapshot's lockfile lies."""
        return self.cache.reference_path(snapshot_id)

    def add(self, snapshot: Snapshot, place: Place, deed: Deed, parent: str = "") -> None:
        """Keep a copy of a lockfile, and note the moment, unless it changed nothing: the last one that this lockfile
        had was of the same snapshot and the same declaration.

        Args:
            place: the project whose lockfile it becomes.
            parent: the snapshot that the lockfile held before.
        """
        self.put(snapshot)
        before = parent if parent != snapshot.snapshot else ""
        declared = self._keep_declaration(deed.texts) if deed.texts else ""
        now = _now(snapshot.snapshot, place, deed, parent=before, declared=declared)
        last = next((one for one in reversed(self.moments()) if one.lockfile == now.lockfile), None)
        if (
            before
            or last is None
            or (last.snapshot, last.declared, last.project) != (now.snapshot, now.declared, now.project)
        ):
            self._note(now)

    def say(self, snapshot_id: str, place: Place, about: str) -> None:
        """Note what a snapshot of a project is.

        Args:
            about: "" takes a note back.
        """
        self._note(_now(snapshot_id, place, Deed(Cause.NOTED, about)))

    def _keep_declaration(self, texts: Mapping[str, str]) -> str:
        data = msgspec.json.encode(dict(sorted(texts.items())))
        digest = hashlib.sha256(data).hexdigest()
        path = self._declaration(digest)
        if not path.exists():
            atomic.make_folder(path.parent)
            atomic.write_file(path, data)
        return digest

    def _declaration(self, digest: str) -> Path:
        return self.cache.snapshots / f"{digest}.declaration"

    def declaration(self, digest: str) -> dict[str, str] | None:
        """The texts of a declaration that was kept, by the names of its files; None where they are lost or altered."""
        try:
            data = self._declaration(digest).read_bytes()
            if hashlib.sha256(data).hexdigest() != digest:
                return None
            return decoding.from_json(data, dict[str, str])
        except (OSError, msgspec.MsgspecError):
            return None

    def put(self, snapshot: Snapshot) -> None:
        """Keep a copy of a lockfile; one that is damaged is written anew."""
        self.cache.refer(snapshot.snapshot, lockfile.render(snapshot).encode("utf-8"))

    def note_restored(self, snapshot: Snapshot, place: Place) -> None:
        """Note that a project's lockfile was restored with this cache, so that prune knows the project; once."""
        lock = str(place.lockfile.absolute())
        about = "its own packages as edited" if place.lockfile == place.members_snapshot else ""
        if not any(one.snapshot == snapshot.snapshot and one.lockfile == lock for one in self.moments()):
            self.add(snapshot, place, Deed(Cause.RESTORED, about))

    def _note(self, moment: Moment) -> None:
        with self._writing():
            atomic.append_line(self._log, _line(moment))

    def _writing(self) -> AbstractContextManager[None]:
        """The log has one writer at a time: a line that is added while another writes it anew would be lost."""
        return atomic.locked(self._log.parent)

    def held(self) -> HeldByProjects:
        """The snapshots that known projects hold now.

        A project is where any of its lockfiles is. What cannot be known is taken to be held: what a lockfile that
        cannot be read (merge marks) held at any time, and what one in a folder that is not here held last: it lies on
        a disk that is not here, or was moved and not used since.
        """
        held = HeldByProjects()
        by_project: dict[str, dict[str, list[Moment]]] = {}
        for moment in self.moments():
            by_project.setdefault(moment.project or moment.lockfile, {}).setdefault(moment.lockfile, []).append(moment)
        for places in by_project.values():
            for place, moments in places.items():
                self._hold(held, Path(place), moments, _was_moved(place, places))
        return held

    def _hold(self, held: HeldByProjects, place: Path, moments: list[Moment], moved: bool) -> None:
        try:
            if not place.parent.is_dir():
                if not moved:
                    held.unknown[moments[-1].snapshot] = f"{place.parent} is not here"
                return
            if not place.exists():
                return
            snapshot = lockfile.read(place)
        except LockfileError as error:
            held.unknown |= {one.snapshot: str(error) for one in moments}
            held.unknown |= {one.parent: str(error) for one in moments if one.parent}
        except OSError as error:
            held.unknown |= {one.snapshot: f"{place}: {error.strerror}" for one in moments}
        else:
            held.snapshots[snapshot.snapshot] = snapshot
            for built_with in Place.of_lockfile(place).builds.glob("*.lock"):
                with suppress(LapidarError, OSError):
                    tools = lockfile.read(built_with)
                    # A clone has its lockfile, and what that needs may never have been here.
                    if all(self.cache.has_tree(part.tree) for part in tools.parts()):
                        held.snapshots[tools.snapshot] = tools

    def moments(self) -> tuple[Moment, ...]:
        """When lockfiles were written or restored, as far as that can be read, oldest first."""
        return tuple(moment for moment in self.log().moments if moment.is_change)

    def of_project(self, project: str, lock: Path) -> tuple[Moment, ...]:
        """All that is noted of a project, oldest first.

        Args:
            project: its identity; "" where it has none: then its lockfile tells.
        """
        place = str(lock.absolute())
        return tuple(
            moment
            for moment in self.log().moments
            if (project and moment.project == project) or (not moment.project and moment.lockfile == place)
        )

    def log(self) -> Log:
        """All of it, and which lines cannot be read.

        Raises:
            OSError: none of it can.
        """
        try:
            lines = self._log.read_bytes().split(b"\n")
        except FileNotFoundError:
            return Log()
        if not lines[-1]:
            lines.pop()
        read = [_moment(line) for line in lines]
        damaged = tuple(number for number, moment in enumerate(read, 1) if moment is None)
        return Log(tuple(moment for moment in read if moment), damaged)

    def mend_log(self) -> None:
        """Write the log anew without the lines that cannot be read; a copy of the old one is kept aside. At no instant
        is there none: no log reads as no history, and then prune would know no project."""
        with self._writing():
            moments = self.log().moments
            self.cache.keep_aside(str(self._log))
            self._rewrite(moments)

    def drop(self, snapshot_ids: set[str]) -> None:
        """Drop snapshots from the history."""
        with self._writing():
            every = self.log().moments
            kept = [moment for moment in every if moment.snapshot not in snapshot_ids]
            self._rewrite(kept)
        for snapshot_id in snapshot_ids:
            self.path(snapshot_id).unlink(missing_ok=True)
        for digest in {moment.declared for moment in every} - {moment.declared for moment in kept}:
            self._declaration(digest).unlink(missing_ok=True)

    def noted(self) -> dict[str, str]:
        """What the newest note says of each snapshot that has one; one that was taken back is none."""
        notes = {one.snapshot: one.about for one in self.log().moments if one.cause is Cause.NOTED}
        return {snapshot: text for snapshot, text in notes.items() if text}

    def _rewrite(self, moments: Iterable[Moment]) -> None:
        atomic.write_file(self._log, b"".join(_line(moment) + b"\n" for moment in moments))

    def copies(self) -> Iterator[tuple[str, Snapshot | LockfileError]]:
        """Every copy of a lockfile: the identity that its name claims, and the snapshot, or why it is not that."""
        for snapshot_id in self.ids():
            try:
                snapshot = lockfile.read(self.path(snapshot_id))
            except LockfileError as error:
                yield snapshot_id, error
                continue
            other = LockfileError(f"{self.path(snapshot_id)} holds another snapshot than its name says")
            yield snapshot_id, snapshot if snapshot.snapshot == snapshot_id else other

    def ids(self) -> list[str]:
        """The identity of every snapshot kept."""
        return self.cache.references()

    def find(self, prefix: str) -> Snapshot:
        """The snapshot whose identity begins with `prefix` (with or without ``sha256:``).

        Raises:
            LockfileError: none does, or more than one.
        """
        plain = prefix.removeprefix("sha256:")
        matching = [found for found in self.ids() if plain and found.removeprefix("sha256:").startswith(plain)]
        for one in self.cache.below if not matching else ():
            try:
                return History(one).find(prefix)
            except LockfileError:
                continue
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
        snapshot = lockfile.read(self.path(matching[0]))
        if snapshot.snapshot != matching[0]:
            raise LockfileError(
                f"The history's copy of snapshot {matching[0][7:19]} holds another one",
                remedy="Run `lapidar cache audit`.",
            )
        return snapshot


def _line(moment: Moment) -> bytes:
    """A moment as a line: a JSON object with a seal, by which a letter that flipped shows."""
    told = msgspec.json.encode(moment)
    return told[:-1] + b',"seal":"' + _seal(told) + b'"}'


def _seal(told: bytes) -> bytes:
    return hashlib.blake2b(told, digest_size=8).hexdigest().encode("ascii")


def _moment(line: bytes) -> Moment | None:
    """The moment that a line holds; None where the line is not as it was written."""
    told, _, rest = line.rpartition(b',"seal"')
    seal = _SEAL.fullmatch(b',"seal"' + rest)
    if seal is None or seal[1] != _seal(told + b"}"):
        return None
    try:
        return decoding.from_json(told + b"}", Moment)
    except msgspec.MsgspecError:
        return None


def _was_moved(place: str, places: Mapping[str, Sequence[Moment]]) -> bool:
    """Whether a project goes on at another place since the last moment of this one: one that is here, and was not
    known before. A clone is not that: it was there beside."""
    last = places[place][-1].time
    return any(moments[0].time > last and Path(other).parent.is_dir() for other, moments in places.items())


def _now(snapshot_id: str, place: Place, deed: Deed, *, parent: str = "", declared: str = "") -> Moment:
    """A moment of now. Neither a note nor a lockfile that lies outside the project leaves a trace in the project, as
    the identity would that is made where it has none."""
    is_inside = place.relative(place.lockfile) is not None
    project = place.identity() if is_inside and (deed.cause is not Cause.NOTED or place.has_identity) else ""
    lock = str(place.lockfile.absolute())
    return Moment(time.time(), snapshot_id, lock, project, deed.cause, parent, deed.about, declared, deed.who)
