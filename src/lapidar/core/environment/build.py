"""Building an environment in a work folder: folders, files by placement, links, generated files, manifest."""

from __future__ import annotations

import os
from pathlib import Path

from lapidar.core import atomic, parallel
from lapidar.core.cache import placing
from lapidar.core.cache.placing import File, Placement
from lapidar.core.cache.store import FILE_TIME_NS, Cache
from lapidar.core.environment import manifest, marker
from lapidar.core.environment.listing import CACHED, EXECUTABLE_KINDS, LINK, WRITTEN, Assembled, Row
from lapidar.core.progress import Progress
from lapidar.core.snapshot import Snapshot

__all__ = ["Builder"]


class Builder:
    """Builds one environment.

    Args:
        cache: has the bytes.
        work: an empty folder on the file system of the environment.
        placement: how files get there; AUTO is decided by the first file.
        left_out: the groups that its snapshot is without.
        libraries: whose system libraries it runs with.
    """

    def __init__(
        self,
        cache: Cache,
        work: Path,
        placement: Placement,
        reporter: Progress,
        left_out: tuple[str, ...] = (),
        libraries: str = "host",
    ) -> None:
        self.cache = cache
        self.work = work
        self.placement = placement
        self.reporter = reporter
        self.left_out = left_out
        self.libraries = libraries
        self._folders: set[str] = {""}
        self._inodes: list[int] = []
        os.chmod(work, 0o755)

    def prepare(self, rows: list[Row]) -> list[File] | None:
        """Make the folders of rows, and meanwhile see whether the cache has each file with its size and time.

        Returns:
            The cached files of the rows; None where one is missing or altered.
        """
        path_of = self.cache.file_path
        files = [
            (path_of(content, kind == "x"), path, size, kind == "x")
            for path, _, kind, content, size in rows
            if kind in CACHED
        ]
        _, inodes = parallel.both(lambda: self._make_folders(rows), lambda: _inodes(files))
        if inodes is None:
            return None
        return [
            File(source, path, inode, executable)
            for (source, path, _, executable), inode in zip(files, inodes, strict=True)
        ]

    def _make_folders(self, rows: list[Row]) -> None:
        for folder in dict.fromkeys(row[0].rpartition("/")[0] for row in rows):
            self._make_folder(folder)

    def place(self, assembled: Assembled, files: list[File]) -> None:
        """Place what is not placed yet of an assembly that may have grown since.

        Args:
            files: the cached files among it, as `prepare` gave them.
        """
        new = list(assembled.listing.rows())[len(self._inodes) :]
        if files and not self._inodes:
            self.placement = placing.choose(self.cache, self.work, self.placement, files[0])
        copied = placing.place(files, self.work, self.placement, self.reporter)
        linked = {file.path: file.inode for file in files} if self.placement is Placement.HARDLINK else {}
        for path in copied:
            linked.pop(path, None)
        for path, _, kind, content, _ in new:
            if kind == LINK:
                os.symlink(content, f"{self.work}/{path}")
            elif kind in WRITTEN:
                linked[path] = self._write(path, kind, assembled.written[path])
            self._inodes.append(linked.get(path, 0))

    def _make_folder(self, folder: str) -> None:
        if folder in self._folders:
            return
        self._make_folder(folder.rpartition("/")[0])
        os.mkdir(f"{self.work}/{folder}")
        self._folders.add(folder)

    def _write(self, path: str, kind: str, data: bytes) -> int:
        """Write a file for this environment; gives its inode, by which a quick check knows it again."""
        mode = 0o777 if kind in EXECUTABLE_KINDS else 0o666
        descriptor = os.open(f"{self.work}/{path}", os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, mode)
        with open(descriptor, "wb") as stream:
            stream.write(data)
            stream.flush()
            os.utime(descriptor, ns=(FILE_TIME_NS, FILE_TIME_NS))  # so that an edit shows here too
            return os.fstat(descriptor).st_ino

    def finish(self, assembled: Assembled, snapshot: Snapshot) -> None:
        """Write what the environment says of itself, last, and have all of it on the disk."""
        inodes = self._inodes if self.placement is Placement.HARDLINK else []
        data, digest = manifest.render(manifest.Manifest(assembled.listing.without_digests(), inodes))
        (self.work / manifest.FILE_NAME).write_bytes(data)
        executable = os.path.basename(snapshot.only_runtime.executable)
        placement = str(self.placement)
        mark = marker.Marker(
            marker.FORMAT, snapshot.snapshot, placement, executable, digest, self.left_out, self.libraries
        )
        (self.work / marker.FILE_NAME).write_text(mark.render(), encoding="utf-8")
        atomic.flush_file_system(self.work)


def _inodes(files: list[tuple[str, str, int, bool]]) -> list[int] | None:
    """The inodes of cached files, unless one is missing or shows another size or time."""
    inodes = []
    stat = os.stat
    try:
        for source, _, size, _ in files:
            found = stat(source)
            if found.st_size != size or found.st_mtime_ns != FILE_TIME_NS:
                return None
            inodes.append(found.st_ino)
    except FileNotFoundError:
        return None
    return inodes
