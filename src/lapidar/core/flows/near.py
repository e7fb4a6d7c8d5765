"""Near: environments in a folder of this node, each made once for all processes of a user, by reading one large file in
sequence instead of many small ones: what the parallel file system of a cluster wants.

The folder is the user's alone, and has a cache of its own. Whoever runs in an environment holds a lock on it for as
long as the process lives, across what it becomes; an environment that nobody holds and nobody used for long is removed.
"""

from __future__ import annotations

import fcntl
import hashlib
import os
import shutil
import stat
import tempfile
import time
from collections.abc import Callable, Collection, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import Struct

from lapidar.core import atomic, locks, sealed
from lapidar.core.cache.files import environments_folder
from lapidar.core.declaring.files import user_file
from lapidar.core.errors import TargetRefused
from lapidar.core.foreign import require_room
from lapidar.core.place import Place
from lapidar.core.progress import Progress

if TYPE_CHECKING:  # who runs in one that is there is not to load what makes it
    from lapidar.core.cache.store import Cache
    from lapidar.core.records.snapshot import Snapshot

__all__ = ["Near", "in_cache", "near_folder", "placed"]

_UNUSED_DAYS = 14
_LEAST_FREE = 0.1  # of the disk: below it the longest unused goes
_PLACING = "placing.lock"
_DAY_SECONDS = 86_400


def near_folder(named: Path | None) -> Path:
    """The folder of this user on this node, made where it is not there.

    Args:
        named: where; without it `LAPIDAR_NEAR`, else the folder for temporary files.

    Raises:
        TargetRefused: somebody else made it, others may write it, or nothing may be executed there.
    """
    base = named or Path(os.environ.get("LAPIDAR_NEAR") or tempfile.gettempdir())
    if not base.is_dir():
        raise TargetRefused(f"There is no folder {base} on this node", remedy="Name one with LAPIDAR_NEAR.")
    folder = base / f"lapidar-{os.getuid()}"
    try:
        folder.mkdir(mode=0o700)
    except FileExistsError:
        pass
    status = os.lstat(folder)
    if not stat.S_ISDIR(status.st_mode) or status.st_uid != os.getuid() or status.st_mode & 0o077:
        raise TargetRefused(
            f"{folder} is not yours alone",
            why="somebody else made it, or others may look into it or write it",
            remedy="Name another folder with LAPIDAR_NEAR.",
        )
    if os.statvfs(folder).f_flag & os.ST_NOEXEC:
        raise TargetRefused(
            f"Nothing may be executed in {base}",
            why="it is mounted so (noexec)",
            remedy="Name another folder with LAPIDAR_NEAR.",
        )
    return folder


class Near(Struct, frozen=True):
    """The environments in such a folder.

    Args:
        folder: see `near_folder`, `in_cache`.
        elsewhere: how a folder on another disk is named, as a verb phrase.
    """

    folder: Path
    elsewhere: str = "name a folder on a disk of this node with LAPIDAR_NEAR"

    # ---- what is known without opening a parcel

    def _note(self, *files: Path, also: str) -> Path:
        told = [(file.resolve(), file.stat()) for file in files]
        lines = [f"{path}\n{status.st_ino} {status.st_size} {status.st_mtime_ns}" for path, status in told]
        key = "\n".join([*lines, _trusted(), *([also] if also else [])])
        return self.folder / "known" / hashlib.sha256(key.encode("utf-8", "surrogateescape")).hexdigest()

    def known(self, *files: Path, also: str = "") -> str:
        """The snapshot that files lead to (a parcel; a script and its lockfile), where they did so here before and are
        as they were; else ""."""
        try:
            return (sealed.read(self._note(*files, also=also)) or b"").decode("ascii", "replace")
        except OSError:
            return ""

    def remember(self, snapshot: str, *files: Path, also: str = "") -> None:
        """Note to which snapshot files lead."""
        note = self._note(*files, also=also)
        atomic.make_folder(note.parent)
        sealed.write(note, snapshot.encode("ascii"))

    # ---- an environment

    def environment(self, snapshot: str) -> Path:
        """Where the environment of a snapshot lies, or is to."""
        return self.folder / snapshot.removeprefix("sha256:")[:16] / "env"

    def held(self, snapshot: str) -> Path | None:
        """The environment of a snapshot, where it is there; this process, and what it becomes, holds it from now on."""
        found = self.environment(snapshot)
        try:
            descriptor = os.open(found.parent / "used", os.O_RDWR)
        except FileNotFoundError:
            return None
        try:
            fcntl.flock(descriptor, fcntl.LOCK_SH)
        except OSError as error:
            if error.errno not in locks.REFUSING:
                raise  # where there are none, nobody can have the lock either that is needed to remove it
        if not (found / "lapidar.toml").is_file():  # it was removed just now
            os.close(descriptor)
            return None
        os.utime(descriptor)
        os.set_inheritable(descriptor, True)
        return found

    @contextmanager
    def placing(self) -> Iterator[None]:
        """One process at a time makes an environment here; the others wait for it."""
        descriptor = os.open(self.folder / _PLACING, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        try:
            fcntl.flock(descriptor, fcntl.LOCK_EX)
            yield
        finally:
            os.close(descriptor)

    def made_once(self, snapshot: Snapshot, make: Callable[[Path], object]) -> Path:
        """The environment of a snapshot, held from now on; where it is not there it is made, by one process.

        Args:
            make: makes it in a folder.

        Raises:
            NoSpace: there is no room for it.
        """
        identity = snapshot.snapshot
        if found := self.held(identity):
            return found
        atomic.make_folder(self.folder)
        told = locks.of(self.folder)
        if told is not locks.Locks.HOLD:
            raise TargetRefused(
                f"No environment can be shared in {self.folder.parent}",
                why=str(told),
                remedy=f"{self.elsewhere[0].upper()}{self.elsewhere[1:]}.",
            )
        with self.placing():
            found = self.held(identity)
            if found is None:
                needed = sum(part.bytes for part in snapshot.parts())
                require_room(self.folder, needed, self.elsewhere)
                target = self.environment(identity)
                make(target)
                (target.parent / "used").touch(mode=0o600)
                found = self.held(identity)
                self.clean(identity)
        assert found
        return found

    def restored(
        self,
        place: Place,
        cache: Callable[[], Cache],
        snapshot: Snapshot,
        reporter: Progress,
        lockfile: Path | None = None,
    ) -> Path:
        """The environment of a snapshot out of a cache; see `made_once`.

        Args:
            cache: is asked where the environment is not there.
            lockfile: that holds the snapshot from now on, for the history of the cache.
        """

        def make(target: Path) -> None:
            from lapidar.core.flows.restore import RestoreOptions, restore

            restore(place, cache(), snapshot, RestoreOptions(into=target, lockfile=lockfile), reporter)

        return self.made_once(snapshot, make)

    def clean(self, keep: str) -> None:
        """Remove the environments that nobody used for long, and the longest unused while the disk is nearly full; none
        that somebody runs in.

        Args:
            keep: a snapshot whose environment stays.
        """
        mine = self.environment(keep).parent
        others = [path.parent for path in self.folder.glob("*/used") if path.parent != mine]
        others.sort(key=lambda path: (path / "used").stat().st_mtime)
        for path in others:
            old = time.time() - (path / "used").stat().st_mtime > _UNUSED_DAYS * _DAY_SECONDS
            usage = shutil.disk_usage(self.folder)
            if old or usage.free < usage.total * _LEAST_FREE:
                self.remove(path)

    def unneeded(self, dropped: Collection[str], days: float | None) -> list[Path]:
        """The folders of environments of snapshots that are dropped, and of those that nobody used for longer."""
        theirs = {self.environment(snapshot).parent for snapshot in dropped}
        limit = time.time() - days * _DAY_SECONDS if days is not None else float("-inf")
        used = sorted(self.folder.glob("*/used"))
        return [one.parent for one in used if one.parent in theirs or one.stat().st_mtime < limit]

    def remove(self, folder: Path) -> None:
        """Remove the folder of one, unless somebody runs in it."""
        descriptor = os.open(folder / "used", os.O_RDWR | os.O_CLOEXEC)
        try:
            fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            return
        else:
            (folder / "used").unlink()  # who comes now makes it anew
            atomic.remove(folder)
        finally:
            os.close(descriptor)


def in_cache(root: Path) -> Near:
    """The environments of scripts, of what is tried aside and of other snapshots that are called, in the folder of a
    cache."""
    return Near(environments_folder(root), "name a cache on another disk with --cache")


def _trusted() -> str:
    """What is another when the user trusts others than before: what was opened before is opened again then."""
    if not user_file().is_file():
        return ""
    from lapidar.core.declaring.trust import trust

    told = trust()
    status = told.signers.stat() if told.signers and told.signers.is_file() else None
    return f"{told} {status and (status.st_ino, status.st_size, status.st_mtime_ns)}"


def placed(near: Near, place: Place, source: str | None, cache: Callable[[], Cache], reporter: Progress) -> Path:
    """An environment, here on this node; it is made where it is not there.

    Args:
        place: the project, where its own packages lie.
        source: a parcel, by its file or address; None for the project's lockfile.
        cache: has what that needs; asked where there is no parcel.

    Raises:
        LapidarError: the parcel cannot be opened, the cache lacks something, or the environment cannot be made.
    """
    file = Path(source) if source and "://" not in source else None
    if file and file.is_file() and (known := near.known(file)) and (found := near.held(known)):
        return found
    from lapidar.core.records import lockfile, words

    if not source:
        return near.restored(place, cache, lockfile.read(place.lockfile), reporter)
    from lapidar.core.cache.store import Cache
    from lapidar.core.flows.parcel import bring_trees, opened_at
    from lapidar.core.flows.restore import RestoreOptions, restore

    parcel = opened_at(source, words.short(lockfile.identity_in(place.lockfile)))
    snapshot = parcel.snapshot

    def from_parcel(target: Path) -> None:
        own = Cache(near.folder / "cache", create=True)
        with own.in_use():
            bring_trees(parcel, own, [part.tree for part in snapshot.parts()], reporter)
            restore(place, own, snapshot, RestoreOptions(into=target), reporter)

    found = near.made_once(snapshot, from_parcel)
    if file and file.is_file():
        near.remember(snapshot.snapshot, file)
    return found
