"""A recorded analysis -> a research object in a folder or a ZIP archive: what it read, what it made, the lockfile."""

from __future__ import annotations

import os
import shutil
import zipfile
from pathlib import Path

from msgspec import Struct

from lapidar.core import atomic
from lapidar.core.cache.history import History
from lapidar.core.cache.runs import Runs
from lapidar.core.cache.store import Cache
from lapidar.core.declaring import reading
from lapidar.core.errors import TargetRefused
from lapidar.core.exchange import crate
from lapidar.core.flows.judges import analysis_of
from lapidar.core.place import LOCKFILE_NAME, RECORDS_NAME, Place
from lapidar.core.records import lockfile, results
from lapidar.core.records.results import Results
from lapidar.core.records.snapshot import Snapshot
from lapidar.core.results import listing, scratch

__all__ = ["Crate", "write_crate"]


class Crate(Struct, frozen=True):
    """What was written.

    Attributes:
        notes: what is to be known of it, a sentence each.
    """

    analysis: str
    files: int
    notes: tuple[str, ...] = ()


def write_crate(place: Place, cache: Cache, name: str, to: Path) -> Crate:
    """Write a recorded analysis as a research object.

    Args:
        cache: in use by the caller.
        name: of the analysis; "" for the only one.
        to: a folder that is not there or empty; or a file whose name ends in ``.zip``.

    Raises:
        LapidarError: there is no such record, or a file of it can be had nowhere.
        TargetRefused: something stands there.
    """
    if to.exists() and (to.suffix != ".zip" and (not to.is_dir() or any(to.iterdir()))):
        raise TargetRefused(f"{to} is there, and not an empty folder", remedy="Name another with --to.")
    if not to.parent.is_dir():
        raise TargetRefused(f"There is no folder {to.parent}", remedy="Make it, or name another place with --to.")
    analysis = analysis_of(place, name, "lapidar export crate")
    whole = listing.whole(analysis, cache)
    with atomic.WorkFolder(to.parent, f".{to.name}.lapidar-") as work:
        folder = work.path / "crate"
        folder.mkdir()
        notes = list(scratch.lay_out(whole, cache, folder, place.root, current_files=False))
        for path, was in scratch.recorded_results(whole, cache).items():
            if was.file is None:
                notes.append(f"{path} is not in it: the cache has lost its bytes")
                continue
            if (folder / path).exists():
                notes.append(f"{path} is in it as the run left it; it was read before")
            (folder / path).parent.mkdir(parents=True, exist_ok=True)
            shutil.copyfile(was.file, folder / path)
        snapshot = _snapshot(place, cache, analysis.snapshot)
        (folder / LOCKFILE_NAME).write_text(lockfile.render(snapshot), encoding="utf-8")
        (folder / RECORDS_NAME).write_text(results.render(Results(analysis=(analysis,))), encoding="utf-8")
        told = crate.about(place, reading.read(place).name or place.root.name)
        if not told.licence:
            notes.append("no licence is stated: write license into the [project] table of pyproject.toml")
        if not told.authors:
            notes.append("no authors are stated: write authors into the [project] table of pyproject.toml")
        text = crate.metadata(told, whole, snapshot, _ended(place, cache, analysis.record), folder)
        (folder / crate.METADATA).write_text(text, encoding="utf-8")
        count = sum(path.is_file() for path in folder.rglob("*"))
        _put(folder, to, work.path)
    return Crate(analysis.name, count, tuple(notes))


def _snapshot(place: Place, cache: Cache, identity: str) -> Snapshot:
    locked = lockfile.read_if_there(place.lockfile)
    return locked if locked and locked.snapshot == identity else History(cache).find(identity)


def _ended(place: Place, cache: Cache, record: str) -> float:
    """When the record was first made; where this cache does not know, when its file was written."""
    times = [note.time for note in Runs(cache).notes() if note.record == record]
    return min(times) if times else place.records.stat().st_mtime


def _put(folder: Path, to: Path, work: Path) -> None:
    if to.suffix != ".zip":
        if to.exists():
            to.rmdir()
        os.rename(folder, to)
        return
    packed = work / "packed"
    with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as archive:
        for path in sorted(path for path in folder.rglob("*") if path.is_file()):
            entry = zipfile.ZipInfo(path.relative_to(folder).as_posix(), (1980, 1, 1, 0, 0, 0))
            entry.compress_type = zipfile.ZIP_DEFLATED
            entry.external_attr = 0o644 << 16
            with path.open("rb") as stream, archive.open(entry, "w", force_zip64=True) as out:
                shutil.copyfileobj(stream, out, 1 << 20)
    os.replace(packed, to)
