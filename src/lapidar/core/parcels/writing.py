"""A parcel is written: trees are packed, several at once, and handed on in their order, whether into one file or to
another store."""

from __future__ import annotations

import io
import os
import tempfile
from collections import deque
from collections.abc import Callable, Iterator, Mapping
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path
from typing import IO

from msgspec import Struct, field

from lapidar.core import progress
from lapidar.core.cache.trees import Tree
from lapidar.core.parcels import tar
from lapidar.core.parcels.blobs import INDEX_NAME, LAYOUT, LAYOUT_NAME, blob_name
from lapidar.core.parcels.form import (
    EMPTY,
    EMPTY_BLOB,
    LOCKFILE,
    MANIFEST,
    OF_TREE,
    PROJECT,
    RECORDS,
    SNAPSHOT,
    TITLE,
    TREE,
    Descriptor,
    Index,
    Manifest,
    described,
    named,
    written,
)
from lapidar.core.parcels.packing import Opener, pack
from lapidar.core.place import LOCKFILE_NAME, RECORDS_NAME
from lapidar.core.records import words

__all__ = ["Content", "Layout", "Sink", "begun", "hand_over", "write_file"]

_IN_MEMORY_BYTES = 2 << 20
_WORKERS = min(4, os.cpu_count() or 1)

Sink = Callable[[Descriptor, IO[bytes]], None]
"""Is given each blob once, in order: what it is, and its bytes."""


class Content(Struct, frozen=True):
    """What goes into a parcel.

    Attributes:
        snapshot: its identity.
        lockfile: the text of that.
        name: what the project is called.
        trees: each with what opens the bytes of its files.
        project: the tree of the project's files, likewise.
        records: the text of the file of records; b"" for none.
        beside: what lies beside the layout in a file, by its name: its bytes or the file that has them, and whether it
            may be executed.
    """

    snapshot: str
    lockfile: bytes
    name: str
    trees: Mapping[str, tuple[Tree, Opener]]
    project: tuple[Tree, Opener] | None = None
    records: bytes = b""
    beside: Mapping[str, tuple[bytes | Path, bool]] = field(default_factory=dict)


class _Job(Struct, frozen=True):
    media_type: str
    tree: Tree
    opened: Opener


def hand_over(
    content: Content,
    known: Mapping[str, Descriptor],
    sink: Sink,
    folder: Path,
    reporter: progress.Progress,
    *,
    at_once: bool = False,
) -> Manifest:
    """Pack what goes into a parcel, and hand each blob over.

    Args:
        known: the blobs of trees that the other side has, by the digests of the trees: these are not packed.
        folder: where blobs lie until they are handed over.
        at_once: several may be handed over at a time, in any order and from several threads.

    Returns:
        The manifest; whoever asks hands it over.

    Raises:
        MissingFromCache: a file has other bytes than its digest says.
        OSError: nothing can be written.
    """
    layers = []
    for data, media_type, title in (
        (content.lockfile, LOCKFILE, LOCKFILE_NAME),
        (content.records, RECORDS, RECORDS_NAME),
    ):
        if data:
            layers.append(described(data, media_type, title))
            sink(layers[-1], io.BytesIO(data))
    jobs = [_Job(TREE, *one) for one in content.trees.values()]
    jobs.sort(key=lambda job: (-job.tree.total_bytes, job.tree.digest))  # the largest begin first
    if content.project:
        jobs.append(_Job(PROJECT, *content.project))
    todo = [job for job in jobs if job.tree.digest not in known]
    packed = {}
    with progress.task(reporter, "Packing", sum(job.tree.total_bytes for job in todo), "bytes"):
        for job, one, stream in _packed(todo, folder, sink if at_once else None):
            with stream:
                if not at_once:
                    sink(one, stream)
            packed[job.tree.digest] = one
            reporter.advance(job.tree.total_bytes)
    layers += [packed.get(job.tree.digest) or known[job.tree.digest] for job in jobs]
    return Manifest(layers=tuple(layers), annotations={SNAPSHOT: content.snapshot, TITLE: content.name})


def _packed(jobs: list[_Job], folder: Path, sink: Sink | None) -> Iterator[tuple[_Job, Descriptor, IO[bytes]]]:
    """Several are packed at once, and come in their order.

    Args:
        sink: is given each as soon as it is packed.
    """

    def work(job: _Job) -> tuple[Descriptor, IO[bytes]]:
        stream = tempfile.SpooledTemporaryFile(max_size=_IN_MEMORY_BYTES, dir=str(folder))  # noqa: SIM115
        done = pack(job.tree, job.opened, stream)
        stream.seek(0)
        one = Descriptor(job.media_type, done.digest, done.size, {OF_TREE: job.tree.digest})
        if sink:
            sink(one, stream)
        return one, stream

    with ThreadPoolExecutor(_WORKERS) as pool:
        waiting: deque[tuple[_Job, Future[tuple[Descriptor, IO[bytes]]]]] = deque()
        try:
            for job in jobs:
                waiting.append((job, pool.submit(work, job)))
                if len(waiting) > _WORKERS:
                    first, done = waiting.popleft()
                    yield first, *done.result()
            while waiting:
                first, done = waiting.popleft()
                yield first, *done.result()
        except BaseException:
            pool.shutdown(cancel_futures=True)
            raise


class Layout:
    """The blobs of a layout in a tar."""

    def __init__(self, file: tar.Writer) -> None:
        self._file = file
        self._names: set[str] = set()

    def blob(self, one: Descriptor, stream: IO[bytes]) -> None:
        """One of the same bytes may be listed twice, and lies there once."""
        if (name := blob_name(one.digest)) not in self._names:
            self._names.add(name)
            self._file.stream(name, stream, one.size)

    def end(self, manifest: Manifest, name: str) -> None:
        """The manifest, and the index that names it."""
        if manifest.config == EMPTY:
            self.blob(EMPTY, io.BytesIO(EMPTY_BLOB))
        data = written(manifest)
        self.blob(described(data, MANIFEST), io.BytesIO(data))
        self._file.data(INDEX_NAME, written(Index(manifests=(named(manifest, name),))))
        self._file.end()


def begun(out: IO[bytes], beside: Mapping[str, tuple[bytes | Path, bool]] | None = None) -> Layout:
    """Begin a layout in a tar.

    Args:
        beside: what lies beside it, by its name: its bytes or the file that has them, and whether it may be executed.
    """
    file = tar.Writer(out)
    for name, (data, executable) in (beside or {}).items():
        if isinstance(data, Path):
            with data.open("rb") as stream:
                file.stream(name, stream, data.stat().st_size, executable=executable)
        else:
            file.data(name, data, executable=executable)
    file.data(LAYOUT_NAME, LAYOUT)
    return Layout(file)


def write_file(
    content: Content, known: Mapping[str, Descriptor], out: IO[bytes], folder: Path, reporter: progress.Progress
) -> Manifest:
    """Write a parcel as one file.

    Args:
        known: the blobs that the other side has: they are listed, and not in the file.
        folder: for what lies there until it is written.
    """
    layout = begun(out, content.beside)
    manifest = hand_over(content, known, layout.blob, folder, reporter)
    layout.end(manifest, words.short(content.snapshot))
    return manifest
