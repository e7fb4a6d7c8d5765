"""Stow: files in -> trees.

Each new file is read once, hashed and written to staging at the same time; whole batches are flushed to the
disk and only then linked to their names. So a name in ``files/`` always has all of its bytes behind it, also
after a power cut, at the price of one flush for thousands of files instead of one each.
"""

from __future__ import annotations

import errno
import hashlib
import io
import os
import stat
from collections import deque
from collections.abc import Callable, Hashable, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from functools import partial
from pathlib import Path
from types import MappingProxyType
from typing import IO, Generic, NamedTuple, TypeVar

from msgspec import Struct, field

from lapidar.core import atomic, progress
from lapidar.core.cache.digest import sha256_of
from lapidar.core.cache.files import FILE_TIME_NS, FileFlaw
from lapidar.core.cache.seen import Seen, SeenFiles
from lapidar.core.cache.store import Cache
from lapidar.core.cache.trees import EXECUTABLE, FILE, LINK, Entry, Tree
from lapidar.core.errors import PackageBroken, unreadable

__all__ = [
    "DISK_DRAFTS",
    "Draft",
    "FileDraft",
    "LinkDraft",
    "RewrittenDraft",
    "Stowed",
    "StreamDraft",
    "stow",
    "stow_in_turn",
]

_WHOLE_BYTES = 4 << 20  # files up to this size are read in one piece
_PIECE_BYTES = 1 << 20
_BATCH_FILES = 4096
_CHUNK_FILES = 48
_WORKERS = min(4, os.cpu_count() or 1)


class FileDraft(NamedTuple):
    """A file of this machine, `source`, that is to be at a path of a tree."""

    path: str
    source: str


class RewrittenDraft(NamedTuple):
    """A file of this machine that goes into a tree with other bytes than its own."""

    path: str
    source: str
    data: bytes


class LinkDraft(NamedTuple):
    """A symbolic link in a tree; `target` is what it says."""

    path: str
    target: str


class StreamDraft(NamedTuple):
    """A file in a tree whose bytes lie in no file of their own.

    Attributes:
        opener: opens its bytes; called in another thread.
        bytes: how many there are.
        executable: whether it may be executed.
    """

    path: str
    opener: Callable[[], IO[bytes]]
    bytes: int
    executable: bool = False


Draft = FileDraft | RewrittenDraft | LinkDraft | StreamDraft
DISK_DRAFTS = (FileDraft, RewrittenDraft)  # those that have a `source`


class Stowed(Struct):
    """What came of stowing one set of drafts: the tree, and how much of it was new in the cache."""

    tree: Tree
    new_files: int = 0
    new_bytes: int = 0


Key = TypeVar("Key", bound=Hashable)


class _Job(NamedTuple, Generic[Key]):
    """A file that must be read: for which tree, and its status, where it is a file of this machine."""

    key: Key
    draft: FileDraft | RewrittenDraft | StreamDraft
    status: os.stat_result | None
    bytes: int


class _Read(Struct, Generic[Key]):
    """A file that was read: its entry, and where it was staged, or None where the cache had it already."""

    key: Key
    source: str
    status: os.stat_result | None
    entry: Entry
    staged: str | None


class _Work(Struct, Generic[Key]):
    """What is known of trees, and what must be read for them."""

    entries: dict[Key, list[Entry]] = field(default_factory=dict)
    jobs: list[_Job[Key]] = field(default_factory=list)
    bytes: int = 0

    def add(self, job: _Job[Key]) -> None:
        """A file that must be read."""
        self.jobs.append(job)
        self.bytes += job.bytes


def stow(
    cache: Cache,
    drafts: Mapping[Key, Sequence[Draft]],
    seen: Seen[str] | SeenFiles | None,
    reporter: progress.Progress,
    statuses: Mapping[str, os.stat_result] = MappingProxyType({}),
) -> dict[Key, Stowed]:
    """Stow several sets of files, each of which becomes a tree.

    Args:
        cache: in use by the caller.
        drafts: for each tree, by what it is called by, its files.
        seen: what was read before.
        reporter: hears of the bytes read.
        statuses: of files by their paths, where they were asked for a moment ago.

    Returns:
        For each, its tree (already kept in the cache) and what was new.

    Raises:
        PackageBroken: a source is no regular file, or cannot be read.
        OSError: the cache cannot be written (no space ...).
    """
    todo = _sort_out(cache, drafts, seen, statuses)
    stowed = {key: Stowed(Tree(())) for key in drafts}
    with cache.work_folder() as work, progress.task(reporter, "Reading files", todo.bytes, "bytes"):
        batch: list[_Read[Key]] = []
        for read in _read_all(cache, todo.jobs, work.path, reporter):
            todo.entries[read.key].append(read.entry)
            if seen and read.status:
                seen.add(read.source, read.status, read.entry.content)
            if read.staged is not None:
                batch.append(read)
                if len(batch) >= _BATCH_FILES:
                    _publish(cache, work.path, batch, stowed)
                    batch = []
        _publish(cache, work.path, batch, stowed)
    for key, entries in todo.entries.items():
        stowed[key].tree = Tree(entries)
    new = [one.tree for one in stowed.values() if not cache.holds(one.tree)]
    if new:
        atomic.flush_file_system(cache.root)  # the names of all files, before any tree speaks of them
    for tree in new:
        cache.put_tree(tree)
    return stowed


def stow_in_turn(cache: Cache, drafts: Iterable[StreamDraft], reporter: progress.Progress) -> dict[str, Entry]:
    """Stow files that come one after the other, each to be read before the next is asked for; no tree is kept.

    Small files are handed on to a few threads, so many at a time that memory stays small; large ones are written as
    they are read.

    Args:
        cache: in use by the caller.

    Returns:
        The entry that came of each, by its path.

    Raises:
        OSError: the cache cannot be written.
    """
    came: dict[str, Entry] = {}
    stowed = {"": Stowed(Tree(()))}
    with cache.work_folder() as work, ThreadPoolExecutor(_WORKERS) as pool:
        batch: list[_Read[str]] = []
        waiting: deque[Future[list[_Read[str]]]] = deque()

        def collect(most: int) -> None:
            while len(waiting) > most:
                for read in waiting.popleft().result():
                    came[read.entry.path] = read.entry
                    reporter.advance(read.entry.bytes)
                    if read.staged is not None:
                        batch.append(read)
            if len(batch) >= _BATCH_FILES:
                _publish(cache, work.path, batch, stowed)
                batch.clear()

        for number, jobs in enumerate(_chunks_in_turn(drafts)):
            read = partial(_read_chunk, cache, jobs, f"{work.path}/{number}")
            if jobs[0].bytes > _WHOLE_BYTES:
                done: Future[list[_Read[str]]] = Future()
                done.set_result(read())
                waiting.append(done)
            else:
                waiting.append(pool.submit(read))
            collect(2 * _WORKERS)
        collect(0)
        _publish(cache, work.path, batch, stowed)
    return came


def _chunks_in_turn(drafts: Iterable[StreamDraft]) -> Iterator[list[_Job[str]]]:
    """Small files read, so many together; each large one alone, not read yet."""
    chunk: list[_Job[str]] = []
    size = 0
    for draft in drafts:
        if draft.bytes > _WHOLE_BYTES:
            yield [_Job("", draft, None, draft.bytes)]
            continue
        with draft.opener() as stream:
            data = stream.read()
        chunk.append(_Job("", draft._replace(opener=partial(io.BytesIO, data)), None, draft.bytes))
        size += draft.bytes
        if len(chunk) == _CHUNK_FILES or size > _WHOLE_BYTES:
            yield chunk
            chunk, size = [], 0
    if chunk:
        yield chunk


def put_back(cache: Cache, entry: Entry, source: str) -> bool:
    """Give a file of the cache that is lost or damaged its bytes again, where a source has them; the damaged one is set
    aside."""
    try:
        if os.stat(source).st_size != entry.bytes or sha256_of(source) != entry.content:
            return False
        draft = StreamDraft(entry.path, partial(io.FileIO, source), entry.bytes, entry.kind == EXECUTABLE)
        damaged = cache.entry_path(entry)
        if os.path.lexists(damaged):
            cache.set_aside(damaged)
        with cache.work_folder() as work:
            found, staged = _read_large(cache, draft, entry.kind, f"{work.path}/healed", 0o444)
            if staged is None or found.content != entry.content:
                return False
            atomic.flush_file_system(work.path)
            _link(staged, damaged)
            os.unlink(staged)
    except OSError:
        return False
    return True


def _sort_out(
    cache: Cache,
    drafts: Mapping[Key, Sequence[Draft]],
    seen: Seen[str] | SeenFiles | None,
    statuses: Mapping[str, os.stat_result],
) -> _Work[Key]:
    """Tell what the cache is known to have from what must be read."""
    todo: _Work[Key] = _Work()
    for key, files in drafts.items():
        entries = todo.entries[key] = []
        for draft in files:
            if isinstance(draft, LinkDraft):
                entries.append(Entry(draft.path, LINK, draft.target, 0))
                continue
            if isinstance(draft, StreamDraft):
                todo.add(_Job(key, draft, None, draft.bytes))
                continue
            status = statuses.get(draft.source) or _status(draft.source)
            digest = seen.known(draft.source, status) if seen and isinstance(draft, FileDraft) else None
            if digest:
                kind = EXECUTABLE if status.st_mode & stat.S_IXUSR else FILE
                entry = Entry(draft.path, kind, digest, status.st_size)
                if cache.flaw(entry) is None:
                    entries.append(entry)
                    continue
            todo.add(_Job(key, draft, status, status.st_size))
    return todo


def _status(path: str) -> os.stat_result:
    try:
        status = os.stat(path)
    except OSError as error:
        raise unreadable(path, error) from error
    if not stat.S_ISREG(status.st_mode):
        raise PackageBroken(
            f"{path!r} is not a regular file",
            remedy="Remove it, or reinstall what it belongs to, then capture again.",
        )
    return status


def _read_all(
    cache: Cache,
    jobs: list[_Job[Key]],
    work: Path,
    reporter: progress.Progress,
) -> Iterator[_Read[Key]]:
    """Read and hash in a few threads: the hashing and the copying release the interpreter."""
    jobs.sort(key=lambda job: job.bytes, reverse=True)  # the largest begin first
    # Small files go in chunks so that handing them over costs little; each large one is a chunk of its own.
    chunks = list(_chunks(jobs))
    with ThreadPoolExecutor(_WORKERS) as pool:
        results = pool.map(lambda job: _read_chunk(cache, job[1], f"{work}/{job[0]}"), enumerate(chunks))
        try:
            for reads in results:
                reporter.advance(sum(read.entry.bytes for read in reads))
                yield from reads
        except BaseException:
            pool.shutdown(cancel_futures=True)
            raise


def _chunks(jobs: Iterable[_Job[Key]]) -> Iterator[list[_Job[Key]]]:
    chunk: list[_Job[Key]] = []
    for job in jobs:
        if job.bytes > _WHOLE_BYTES:
            yield [job]
            continue
        chunk.append(job)
        if len(chunk) == _CHUNK_FILES:
            yield chunk
            chunk = []
    if chunk:
        yield chunk


def _read_chunk(cache: Cache, jobs: list[_Job[Key]], staging: str) -> list[_Read[Key]]:
    reads = []
    for number, job in enumerate(jobs):
        draft, status = job.draft, job.status
        executable = draft.executable if isinstance(draft, StreamDraft) else status and status.st_mode & stat.S_IXUSR
        kind = EXECUTABLE if executable else FILE
        staged = f"{staging}-{number}"
        readers = (status.st_mode & 0o444 | 0o400 if status else 0o444) | cache.readers
        if not isinstance(draft, RewrittenDraft) and job.bytes > _WHOLE_BYTES:
            entry, kept = _read_large(cache, draft, kind, staged, readers)
        else:
            data = draft.data if isinstance(draft, RewrittenDraft) else _read_small(draft)
            entry, kept = _hash_small(cache, draft.path, kind, data, staged, readers)
        source = draft.source if isinstance(draft, FileDraft) else ""
        remembered = status if source and status and status.st_size == entry.bytes else None
        reads.append(_Read(job.key, source, remembered, entry, kept))
    return reads


def _open_source(path: str) -> int:
    try:
        return os.open(path, os.O_RDONLY | os.O_CLOEXEC)
    except OSError as error:
        raise unreadable(path, error) from error


def _opened(draft: FileDraft | StreamDraft) -> IO[bytes]:
    if isinstance(draft, StreamDraft):
        return draft.opener()
    return open(_open_source(draft.source), "rb", buffering=0)


def _read_small(draft: FileDraft | StreamDraft) -> bytes:
    with _opened(draft) as stream:
        return stream.read()


def _hash_small(cache: Cache, path: str, kind: str, data: bytes, staged: str, readers: int) -> tuple[Entry, str | None]:
    entry = Entry(path, kind, hashlib.sha256(data).hexdigest(), len(data))
    if _have(cache, entry):
        return entry, None
    descriptor = _create(staged, kind, readers)
    try:
        view = memoryview(data)
        while view:
            view = view[os.write(descriptor, view) :]
        os.utime(descriptor, ns=(FILE_TIME_NS, FILE_TIME_NS))
    finally:
        os.close(descriptor)
    return entry, staged


def _read_large(
    cache: Cache, draft: FileDraft | StreamDraft, kind: str, staged: str, readers: int
) -> tuple[Entry, str | None]:
    digest = hashlib.sha256()
    size = 0
    descriptor = _create(staged, kind, readers)
    try:
        with _opened(draft) as stream:
            while piece := stream.read(_PIECE_BYTES):
                digest.update(piece)
                size += len(piece)
                if not piece[0] and piece.count(0) == len(piece):
                    os.lseek(descriptor, len(piece), os.SEEK_CUR)  # a hole, where the file system has such
                    continue
                view = memoryview(piece)
                while view:
                    view = view[os.write(descriptor, view) :]
        os.ftruncate(descriptor, size)
        os.utime(descriptor, ns=(FILE_TIME_NS, FILE_TIME_NS))
    finally:
        os.close(descriptor)
    entry = Entry(draft.path, kind, digest.hexdigest(), size)
    if _have(cache, entry):
        os.unlink(staged)
        return entry, None
    return entry, staged


def _create(path: str, kind: str, readers: int) -> int:
    """A new file, whoever may read its source may read it, and nobody write it.

    Args:
        readers: the bits of the source's mode that say who may read it.
    """
    mode = readers | (readers >> 2 if kind == EXECUTABLE else 0)
    descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, mode)
    os.fchmod(descriptor, mode)  # whatever the umask says
    return descriptor


def _have(cache: Cache, entry: Entry) -> bool:
    """Whether the cache has a file whole; a bad one is set aside, to be stowed anew."""
    flaw = cache.flaw(entry)
    if flaw is None:
        return True
    if flaw is not FileFlaw.MISSING:
        cache.set_aside(cache.entry_path(entry))
    return False


def _publish(cache: Cache, work: Path, batch: list[_Read[Key]], stowed: dict[Key, Stowed]) -> None:
    if not batch:
        return
    atomic.flush_file_system(work)
    for read in batch:
        assert read.staged is not None
        if _link(read.staged, cache.entry_path(read.entry)):
            stowed[read.key].new_files += 1
            stowed[read.key].new_bytes += read.entry.bytes
        os.unlink(read.staged)


def _link(staged: str, final: str) -> bool:
    """Give staged bytes their name; False where it exists already (a name is never rewritten)."""
    try:
        try:
            os.link(staged, final)
        except FileNotFoundError:
            atomic.make_folder(Path(final).parent)
            os.link(staged, final)
    except FileExistsError:
        return False
    except OSError as error:
        if error.errno not in (errno.EPERM, errno.ENOTSUP, errno.EOPNOTSUPP):
            raise
        # A file system without hard links. Renaming is as whole; then there must be something to unlink.
        os.rename(staged, final)
        with open(staged, "xb"):
            pass
    return True
