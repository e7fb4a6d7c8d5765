"""The shelf: programs of packages that the user wants everywhere, each in a place of its own, with links in her bin
folder; and one file that says what stands on it."""

from __future__ import annotations

import datetime
import os
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

import tomlkit
from msgspec import Struct
from msgspec.structs import replace

from lapidar.core import atomic, decoding, foreign
from lapidar.core.cache.store import Cache
from lapidar.core.declaring import editing, reading
from lapidar.core.declaring.files import user_file
from lapidar.core.environment.folder import Environment
from lapidar.core.errors import DeclarationError, LapidarError, TargetRefused
from lapidar.core.flows.pin import opened, pin, unasked
from lapidar.core.flows.restore import restore
from lapidar.core.languages import usual
from lapidar.core.pinning.session import PinOptions, PinRequest
from lapidar.core.place import DECLARATION_NAME, Place
from lapidar.core.progress import Progress
from lapidar.core.records import lockfile
from lapidar.core.records.declaration import Need
from lapidar.core.records.owner import Layer
from lapidar.core.records.snapshot import Snapshot

__all__ = ["Shelf", "Standing", "is_on_path"]

_LOCK, _NEEDS, _SINCE = "lockfile", "needs", "since"


class Standing(Struct, frozen=True):
    """What stands on the shelf.

    Attributes:
        name: of the package whose programs it is for.
        since: the day of its snapshot.
        programs: those that are given to the user.
        bytes: of its environment's files, shared or not.
        newer: the newest version that there is, where that is another; "" where none is, or nobody asked.
    """

    name: str
    version: str
    since: str
    programs: tuple[str, ...]
    bytes: int
    snapshot: str
    newer: str = ""


def is_on_path(folder: Path) -> bool:
    """Whether a folder is among those that a shell looks for programs in."""
    return str(folder) in os.environ.get("PATH", "").split(os.pathsep)


class Shelf:
    """The user's shelf.

    Args:
        file: what says what stands on it.
        folder: where its places are.
        programs: the user's folder of programs.
    """

    def __init__(self, file: Path | None = None, folder: Path | None = None, programs: Path | None = None) -> None:
        self.file = file or user_file().with_name("shelf.toml")
        data = os.environ.get("XDG_DATA_HOME") or "~/.local/share"
        self.folder = folder or foreign.expanded(data) / "lapidar" / "shelf"
        self.programs = programs or Path(os.environ.get("LAPIDAR_BIN") or Path.home() / ".local" / "bin")

    def place(self, name: str) -> Place:
        """The place of a package."""
        return Place.of_project(self.folder / name)

    def names(self) -> list[str]:
        """What stands on it, sorted."""
        return sorted(self._told())

    def every(self) -> Iterator[Standing]:
        """All that stands on it, as it is here."""
        for name, told in sorted(self._told().items()):
            yield self._standing(name, told)

    def _standing(self, name: str, told: Mapping[str, Any]) -> Standing:
        place = self.place(name)
        locked = lockfile.read_if_there(place.lockfile)
        found = next((one for one in locked.packages if one.name == name), None) if locked else None
        return Standing(
            name,
            found.version if found else "",
            str(told.get(_SINCE, "")),
            tuple(self._linked(place)),
            sum(part.bytes for part in locked.parts()) if locked else 0,
            locked.snapshot if locked else "",
        )

    def with_newer(self, cache: Cache, reporter: Progress) -> Iterator[Standing]:
        """The same, and what is newer by now: the indexes are asked.

        Raises:
            IndexTrouble: one cannot be.
        """
        for one in self.every():
            place = self.place(one.name)
            locked = lockfile.read_if_there(place.lockfile)
            if locked is None:
                yield one
                continue
            with opened(PinRequest(place, cache, reading.read(place), locked, reporter=reporter)) as pinning:
                rows = pinning.of(usual().name).outlook()
            newest = next((row.newest for row in rows if row.name == one.name), "")
            yield replace(one, newer=newest if newest != one.version else "")

    # ---- what is done

    def put(self, cache: Cache, needs: Sequence[str], reporter: Progress, *, renew: bool = False) -> Standing:
        """Put a package on it, or renew it: pinned, placed, its programs linked; or nothing is changed.

        Args:
            needs: the package, with its range; and others that are to be there with it.

        Raises:
            TargetRefused: a program of that name is there, and not of this shelf.
            LapidarError: it cannot be pinned, or has no programs.
        """
        parsed = [usual().versions.parse_need(text, "the command line", "") for text in needs]
        name = parsed[0].name
        place = self.place(name)
        text = _declaration(parsed)
        there = place.root.is_dir()
        place.root.mkdir(parents=True, exist_ok=True)
        try:
            declaration = reading.read(place, {DECLARATION_NAME: text})
            previous = lockfile.read_if_there(place.lockfile)
            request = PinRequest(place, cache, declaration, previous, PinOptions(renew_all=renew), reporter)
            done = pin(request, unasked)
            assert done.snapshot is not None
            self._place(place, cache, name, done.snapshot, reporter)
        except BaseException:
            if not there:
                atomic.remove(place.root)
            raise
        atomic.write_file(place.declaration, text.encode("utf-8"))
        today = datetime.date.today().isoformat()
        locked = place.lockfile.read_text("utf-8")
        noted = {_NEEDS: [one.text for one in parsed], _SINCE: today, _LOCK: locked}
        self._write({**self._told(), name: noted})
        return self._standing(name, noted)

    def renew(self, cache: Cache, name: str, reporter: Progress) -> Standing:
        """Pin the newest versions that its needs allow."""
        return self.put(cache, self._needs(name), reporter, renew=True)

    def take(self, name: str) -> tuple[str, ...]:
        """Take a package from it; the programs that were the user's."""
        self._needs(name)
        place = self.place(name)
        gone = tuple(self._linked(place))
        for program in gone:
            (self.programs / program).unlink()
        atomic.remove(place.root)
        told = self._told()
        del told[name]
        self._write(told)
        return gone

    def restore(self, cache: Cache, reporter: Progress) -> list[str]:
        """Have all that the file says, by its snapshots: on another machine. Nothing is asked of an index.

        Returns:
            What was placed.
        """
        placed = []
        for name, told in sorted(self._told().items()):
            place = self.place(name)
            place.root.mkdir(parents=True, exist_ok=True)
            snapshot = lockfile.parse(str(told.get(_LOCK, "")), f"the lockfile of {name} in {self.file.name}")
            lockfile.write(snapshot, place.lockfile)
            needs = [usual().versions.parse_need(text, str(self.file), "") for text in told.get(_NEEDS, ())]
            atomic.write_file(place.declaration, _declaration(needs).encode("utf-8"))
            self._place(place, cache, name, snapshot, reporter)
            placed.append(name)
        return placed

    # ---- how

    def _place(self, place: Place, cache: Cache, name: str, snapshot: Snapshot, reporter: Progress) -> None:
        """Place its environment, and give its programs to the user."""
        done = restore(place, cache, snapshot, reporter=reporter)
        programs = programs_of(done.environment, name)
        if not programs:
            raise LapidarError(f"{name} has no programs", remedy="Need it where it is used: lapidar need.")
        self.programs.mkdir(parents=True, exist_ok=True)
        taken = [one for one in programs if self._is_taken(self.programs / one, place)]
        if taken:
            raise TargetRefused(
                f"{self.programs / taken[0]} is there, and not of this shelf",
                remedy="Move it away; or name another folder with LAPIDAR_BIN.",
            )
        for one in set(self._linked(place)) - set(programs):
            (self.programs / one).unlink()
        for one in programs:
            link = self.programs / one
            if not os.path.lexists(link):
                link.symlink_to(done.environment / "bin" / one)

    def _is_taken(self, path: Path, place: Place) -> bool:
        return os.path.lexists(path) and not self._is_ours(path, place)

    def _is_ours(self, path: Path, place: Place) -> bool:
        return path.is_symlink() and os.readlink(path).startswith(f"{place.root}/")

    def _linked(self, place: Place) -> Iterator[str]:
        """The programs of a place that the user has."""
        if self.programs.is_dir():
            yield from sorted(one.name for one in self.programs.iterdir() if self._is_ours(one, place))

    def _needs(self, name: str) -> list[str]:
        told = self._told().get(name)
        if told is None:
            known = ", ".join(self.names()) or "nothing"
            raise DeclarationError(f"{name} is not on the shelf", remedy=f"There stands: {known}.")
        return [str(text) for text in told.get(_NEEDS, ())]

    def _told(self) -> dict[str, dict[str, Any]]:
        """Raises: DeclarationError: the file cannot be read."""
        if not self.file.is_file():
            return {}
        try:
            text = foreign.read_text(self.file)
            told = foreign.parsed(lambda: tomlkit.parse(text).unwrap())
            return decoding.convert(told, dict[str, dict[str, Any]])
        except (OSError, ValueError) as error:
            raise DeclarationError(f"{self.file} cannot be read", why=str(error), remedy="Correct it.") from error

    def _write(self, told: dict[str, dict[str, Any]]) -> None:
        document = tomlkit.document()
        document.add(tomlkit.comment("What stands on the shelf. Carry it to another machine: lapidar shelf restore."))
        for name, fields in sorted(told.items()):
            table = tomlkit.table()
            for key, value in fields.items():
                text = tomlkit.string(str(value), literal=True, multiline=True) if key == _LOCK else value
                table.add(key, text)
            document.add(name, table)
        self.file.parent.mkdir(parents=True, exist_ok=True)
        atomic.write_file(self.file, tomlkit.dumps(document).encode("utf-8"))


def _declaration(needs: Sequence[Need]) -> str:
    """A lapidar.toml of these needs alone."""
    return editing.added(editing.own_place("", usual()), needs)[DECLARATION_NAME]


def programs_of(environment: Path, name: str) -> list[str]:
    """The programs of a package in an environment."""
    listed = Environment(environment).manifest
    if listed is None:
        return []
    owners = [at for at, one in enumerate(listed.listing.owners) if one.layer is Layer.PACKAGES and one.name == name]
    paths = zip(listed.listing.paths, listed.listing.owner_of, strict=True)
    return sorted(path.removeprefix("bin/") for path, owner in paths if owner in owners and path.startswith("bin/"))
