"""Building an environment in a work folder: folders, files by placement, links, generated files, manifest.

Placing is nothing but system calls (see whether the cache has a file with its size and time, link it), so the rows
are shared out to as many processes as there are processors. Nothing is asked of the cache twice: a flaw that shows
midway empties the work folder, which nobody has seen.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Callable, Sequence
from pathlib import Path

import msgspec

from lapidar.core import atomic, parallel, progress
from lapidar.core.cache import placing
from lapidar.core.cache.files import FILE_TIME_NS
from lapidar.core.cache.placing import Between, Placement, Way
from lapidar.core.cache.store import Cache
from lapidar.core.cache.trees import EXECUTABLE
from lapidar.core.environment import manifest, marker
from lapidar.core.environment.listing import CACHED, EXECUTABLE_KINDS, LINK, Assembled, PlacedRow
from lapidar.core.progress import Progress
from lapidar.core.records.snapshot import Snapshot

__all__ = ["EnvironmentBuilder"]

_TOLD = 256  # files between two words of progress


class EnvironmentBuilder:
    """Builds one environment.

    Args:
        cache: has the bytes.
        work: an empty folder on the file system of the environment.
        placement: how files get there; AUTO is decided by the first file.
    """

    def __init__(self, cache: Cache, work: Path, placement: Placement, reporter: Progress) -> None:
        self.cache = cache
        self.work = work
        self.placement = placement
        self.reporter = reporter
        self._inodes: list[int] = []
        os.chmod(work, 0o755)

    def place(self, assembled: Assembled) -> bool:
        """Place what is not placed yet of an assembly that may have grown since.

        Returns:
            False where the cache lacks a file, or shows another size or time for one, or where a path leads out of
            the environment. The work folder is empty again then, and nothing of it was ever to be seen.
        """
        rows = list(assembled.listing.rows())[len(self._inodes) :]
        if not self._inodes:
            names = (self.cache.file_name(row[3], row[2] == EXECUTABLE) for row in rows if row[2] in CACHED)
            sample = next((name for name in names if os.path.isfile(f"{self.cache.files}/{name}")), None)
            if sample:
                self.placement = placing.choose(self.cache, self.work, self.placement, sample)
        for inodes in self._shares(rows, assembled.written):
            if inodes is None:
                self._clear()
                return False
            self._inodes += inodes
        return True

    def _shares(self, rows: list[PlacedRow], written: dict[str, bytes]) -> list[list[int] | None]:
        with placing.between(self.cache, self.work) as folders:
            share = _Share(folders, placing.way(self.placement), written)

            def here(part: Sequence[PlacedRow]) -> list[int] | None:
                faster = len(rows) / max(1, len(part))  # as the others do theirs meanwhile
                with progress.task(self.reporter, "Placing files", len(rows), "files"):
                    return share.place(part, lambda placed: self.reporter.advance(round(placed * faster)))

            return parallel.shares(rows, share.place, here)

    def _clear(self) -> None:
        for entry in list(os.scandir(self.work)):
            atomic.remove(Path(entry.path))
        self._inodes = []

    def finish(
        self,
        assembled: Assembled,
        snapshot: Snapshot,
        *,
        left_out: tuple[str, ...],
        libraries: marker.WhoseLibraries,
        chosen: str,
        live: bool = False,
    ) -> None:
        """Write what the environment says of itself, last, and have all of it on the disk; for what is not told of
        here see `lapidar.core.environment.marker.Marker`."""
        inodes = self._inodes if self.placement is Placement.LINK else []
        data, digest = manifest.render(manifest.Manifest(assembled.listing.without_digests(), inodes))
        self._write_new(manifest.FILE_NAME, data)
        executables = {one.language: os.path.basename(one.executable) for one in snapshot.runtimes}
        placement = str(self.placement)
        mark = marker.Marker(
            marker.FORMAT,
            snapshot.snapshot,
            placement,
            executables,
            digest,
            left_out,
            libraries,
            chosen,
            live,
        )
        self._write_new(marker.FILE_NAME, mark.render().encode("utf-8"))
        atomic.flush_file_system(self.work)

    def _write_new(self, path: str, data: bytes) -> None:
        """Never through something that stands there: it might be a link into the cache."""
        with open(self.work / path, "xb") as stream:
            stream.write(data)


class _Share(msgspec.Struct, frozen=True):
    """How each row is placed, by whichever process has it in its share."""

    folders: Between
    way: Way
    written: dict[str, bytes]

    def place(
        self, rows: Sequence[PlacedRow], advance: Callable[[int], None] = lambda placed: None
    ) -> list[int] | None:
        """Place rows and make the folders that they lie in.

        Args:
            advance: hears how many more are placed.

        Returns:
            For each row the inode of what was linked or written; None where the cache has not what a row stands for,
            or where its path leads out.
        """
        made = {""}
        inodes = []
        for row in rows:
            folder = row[0].rpartition("/")[0]
            if row[0].startswith("/") or (folder not in made and not self._make_folder(folder, made)):
                return None
            try:
                inode = self._place_anew(row)
            except (FileNotFoundError, IsADirectoryError, ValueError):  # no such file, or no file's name at all
                return None
            if inode is None:
                return None
            inodes.append(inode)
            if not len(inodes) % _TOLD:
                advance(_TOLD)
        return inodes

    def _place_anew(self, row: PlacedRow) -> int | None:
        try:
            return self._place_one(row)
        except FileExistsError:
            # By a process that failed before it could say so: its share is done again here.
            os.unlink(row[0], dir_fd=self.folders.target)
            return self._place_one(row)

    def _place_one(self, row: PlacedRow) -> int | None:
        path, _, kind, content, size = row
        if kind in CACHED:
            executable = kind == EXECUTABLE
            source = Cache.file_name(content, executable)
            found = os.stat(source, dir_fd=self.folders.source)
            if found.st_size != size or found.st_mtime_ns != FILE_TIME_NS:
                return None
            return found.st_ino if self.way(self.folders, source, path, executable) else 0
        if kind == LINK:
            os.symlink(content, path, dir_fd=self.folders.target)
            return 0
        return self._write(path, kind in EXECUTABLE_KINDS)

    def _make_folder(self, folder: str, made: set[str]) -> bool:
        """Make a folder and those above it; false where that would be outside, or behind a link."""
        above, _, name = folder.rpartition("/")
        if name == ".." or (above not in made and not self._make_folder(above, made)):
            return False
        try:
            os.mkdir(folder, dir_fd=self.folders.target)
        except FileExistsError:  # another share has files in it too
            if not stat.S_ISDIR(os.lstat(folder, dir_fd=self.folders.target).st_mode):
                return False
        made.add(folder)
        return True

    def _write(self, path: str, executable: bool) -> int:
        """Write a file for this environment; gives its inode, by which a quick check knows it again."""
        flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC
        descriptor = os.open(path, flags, 0o777 if executable else 0o666, dir_fd=self.folders.target)
        try:
            view = memoryview(self.written[path])
            while view:
                view = view[os.write(descriptor, view) :]
            os.utime(descriptor, ns=(FILE_TIME_NS, FILE_TIME_NS))  # so that an edit shows here too
            return os.fstat(descriptor).st_ino
        finally:
            os.close(descriptor)
