"""Stow: files in -> trees.

Each new file is read once, hashed and written to staging at the same time; whole batches are flushed to the
disk and only then linked to their names. So a name in ``files/`` always has all of its bytes behind it, also
after a power cut, at the price of one flush for thousands of files instead of one each.
"""

from __future__ import annotations

import errno
import hashlib
import os
import stat
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO, NamedTuple

from lapidar.core import atomic, progress
from lapidar.core.cache.seen import Seen
from lapidar.core.cache.store import FILE_TIME_NS, Cache
from lapidar.core.cache.trees import EXECUTABLE, FILE, LINK, Entry, Tree
from lapidar.core.errors import PackageBroken, unreadable

__all__ = ["Draft", "Stowed", "stow"]

_WHOLE_BYTES = 4 << 20  # files up to this size are read in one piece
_PIECE_BYTES = 1 << 20
_BATCH_FILES = 4096
_CHUNK_FILES = 48
_WORKERS = min(4, os.cpu_count() or 1)


class Draft(NamedTuple):
    """A file that is to be in a tree.

    Attributes:
        path: its path in the tree.
        source: the file to read; for a link, its target.
        link: whether it is a symbolic link.
        data: its bytes, where they are not those of `source` (but `source` says whether it is executable).
        opener: opens its bytes, where there is no `source`; called in another thread.
        bytes, executable: its size, and whether it may be executed, where there is no `source`.
    """

    path: str
    source: str
    link: bool = False
    data: bytes | None = None
    opener: Callable[[], IO[bytes]] | None = None
    bytes: int = 0
    executable: bool = False


@dataclass(slots=True)
class Stowed:
    """What came of stowing one set of drafts: the tree, and how much of it was new in the cache."""

    tree: Tree
    new_files: int = 0
    new_bytes: int = 0


@dataclass(slots=True)
class _Read:
    """A file that was read: its entry, and where it was staged, or None where the cache had it already."""

    owner: str
    source: str
    status: os.stat_result | None
    entry: Entry
    staged: str | None


@dataclass(slots=True)
class _Plan:
    entries: dict[str, list[Entry]] = field(default_factory=dict)
    jobs: list[tuple[str, Draft, os.stat_result | None]] = field(default_factory=list)
    bytes: int = 0


def stow(
    cache: Cache, drafts: Mapping[str, Sequence[Draft]], seen: Seen | None, reporter: progress.Progress
) -> dict[str, Stowed]:
    """Stow several sets of files, each of which becomes a tree.

    Args:
        cache: in use by the caller.
        drafts: for each tree, by a name for it, its files.
        seen: what was read before.
        reporter: hears of the bytes read.

    Returns:
        For each name, its tree (already kept in the cache) and what was new.

    Raises:
        PackageBroken: a source is no regular file, or cannot be read.
        OSError: the cache cannot be written (no space ...).
    """
    plan = _plan(cache, drafts, seen)
    stowed = {name: Stowed(Tree(())) for name in drafts}
    with cache.work_folder() as work, progress.task(reporter, "Reading files", plan.bytes, "bytes"):
        batch: list[_Read] = []
        for read in _read_all(cache, plan.jobs, work.path, reporter):
            plan.entries[read.owner].append(read.entry)
            if seen and read.status:
                seen.add(read.source, read.status, read.entry.content)
            if read.staged is not None:
                batch.append(read)
                if len(batch) >= _BATCH_FILES:
                    _publish(cache, work.path, batch, stowed)
                    batch = []
        _publish(cache, work.path, batch, stowed)
    atomic.flush_file_system(cache.root)  # the names of all files, before any tree speaks of them
    for name, entries in plan.entries.items():
        stowed[name].tree = Tree(entries)
        cache.put_tree(stowed[name].tree)
    return stowed


def _plan(cache: Cache, drafts: Mapping[str, Sequence[Draft]], seen: Seen | None) -> _Plan:
    """Tell what the cache is known to have from what must be read."""
    plan = _Plan()
    for owner, files in drafts.items():
        entries = plan.entries[owner] = []
        for draft in files:
            if draft.link:
                entries.append(Entry(draft.path, LINK, draft.source, 0))
                continue
            if not draft.source:
                plan.jobs.append((owner, draft, None))
                plan.bytes += draft.bytes
                continue
            status = _status(draft.source)
            digest = seen.known(draft.source, status) if seen and draft.data is None else None
            if digest:
                kind = EXECUTABLE if status.st_mode & stat.S_IXUSR else FILE
                entry = Entry(draft.path, kind, digest, status.st_size)
                if cache.flaw(entry) is None:
                    entries.append(entry)
                    continue
            plan.jobs.append((owner, draft, status))
            plan.bytes += status.st_size
    return plan


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
    jobs: list[tuple[str, Draft, os.stat_result | None]],
    work: Path,
    reporter: progress.Progress,
) -> Iterator[_Read]:
    """Read and hash in a few threads: the hashing and the copying release the interpreter."""
    jobs.sort(key=_job_bytes, reverse=True)  # the largest begin first
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


def _job_bytes(job: tuple[str, Draft, os.stat_result | None]) -> int:
    return job[2].st_size if job[2] else job[1].bytes


def _chunks(
    jobs: Iterable[tuple[str, Draft, os.stat_result | None]],
) -> Iterator[list[tuple[str, Draft, os.stat_result | None]]]:
    chunk: list[tuple[str, Draft, os.stat_result | None]] = []
    for job in jobs:
        if _job_bytes(job) > _WHOLE_BYTES:
            yield [job]
            continue
        chunk.append(job)
        if len(chunk) == _CHUNK_FILES:
            yield chunk
            chunk = []
    if chunk:
        yield chunk


def _read_chunk(cache: Cache, jobs: list[tuple[str, Draft, os.stat_result | None]], staging: str) -> list[_Read]:
    reads = []
    for number, (owner, draft, status) in enumerate(jobs):
        executable = status.st_mode & stat.S_IXUSR if status else draft.executable
        kind = EXECUTABLE if executable else FILE
        staged = f"{staging}-{number}"
        if draft.data is None and _job_bytes((owner, draft, status)) > _WHOLE_BYTES:
            entry, kept = _read_large(cache, draft, kind, staged)
        else:
            data = draft.data if draft.data is not None else _read_small(draft)
            entry, kept = _hash_small(cache, draft, kind, data, staged)
        remembered = status if draft.data is None and status and status.st_size == entry.bytes else None
        reads.append(_Read(owner, draft.source, remembered, entry, kept))
    return reads


def _open_source(path: str) -> int:
    try:
        return os.open(path, os.O_RDONLY | os.O_CLOEXEC)
    except OSError as error:
        raise unreadable(path, error) from error


def _opened(draft: Draft) -> IO[bytes]:
    if draft.opener:
        return draft.opener()
    return open(_open_source(draft.source), "rb", buffering=0)


def _read_small(draft: Draft) -> bytes:
    with _opened(draft) as stream:
        return stream.read()


def _hash_small(cache: Cache, draft: Draft, kind: str, data: bytes, staged: str) -> tuple[Entry, str | None]:
    entry = Entry(draft.path, kind, hashlib.sha256(data).hexdigest(), len(data))
    if _have(cache, entry):
        return entry, None
    descriptor = _create(staged, kind)
    try:
        view = memoryview(data)
        while view:
            view = view[os.write(descriptor, view) :]
        os.utime(descriptor, ns=(FILE_TIME_NS, FILE_TIME_NS))
    finally:
        os.close(descriptor)
    return entry, staged


def _read_large(cache: Cache, draft: Draft, kind: str, staged: str) -> tuple[Entry, str | None]:
    digest = hashlib.sha256()
    size = 0
    descriptor = _create(staged, kind)
    try:
        with _opened(draft) as stream:
            while piece := stream.read(_PIECE_BYTES):
                digest.update(piece)
                size += len(piece)
                view = memoryview(piece)
                while view:
                    view = view[os.write(descriptor, view) :]
        os.utime(descriptor, ns=(FILE_TIME_NS, FILE_TIME_NS))
    finally:
        os.close(descriptor)
    entry = Entry(draft.path, kind, digest.hexdigest(), size)
    if _have(cache, entry):
        os.unlink(staged)
        return entry, None
    return entry, staged


def _create(path: str, kind: str) -> int:
    mode = 0o555 if kind == EXECUTABLE else 0o444
    descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, mode)
    os.fchmod(descriptor, mode)  # whatever the umask says
    return descriptor


def _have(cache: Cache, entry: Entry) -> bool:
    """Whether the cache has a file whole; a bad one is set aside, to be stowed anew."""
    flaw = cache.flaw(entry)
    if flaw is None:
        return True
    if flaw != "missing":
        cache.set_aside(cache.entry_path(entry))
    return False


def _publish(cache: Cache, work: Path, batch: list[_Read], stowed: dict[str, Stowed]) -> None:
    if not batch:
        return
    atomic.flush_file_system(work)
    for read in batch:
        assert read.staged is not None
        if _link(read.staged, cache.entry_path(read.entry)):
            stowed[read.owner].new_files += 1
            stowed[read.owner].new_bytes += read.entry.bytes
        os.unlink(read.staged)


def _link(staged: str, final: str) -> bool:
    """Give staged bytes their name; False where it exists already (a name is never rewritten)."""
    try:
        try:
            os.link(staged, final)
        except FileNotFoundError:
            os.makedirs(os.path.dirname(final), exist_ok=True)
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
