"""Writing so that no reader ever finds half of anything.

Unfinished work lies under a name of its own whose owner holds a lock on it (`flock`). The kernel drops the
lock however the owner ends, so the next run can tell abandoned work from work under way, and sweeps it.
"""

from __future__ import annotations

import ctypes
import errno
import fcntl
import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from types import TracebackType
from typing import IO

from lapidar.core import locks

__all__ = [
    "Unconfirmed",
    "WorkFolder",
    "append_line",
    "exchange",
    "flush_file_system",
    "is_shared",
    "locked",
    "make_folder",
    "put_in_place",
    "random_name",
    "remove",
    "replace_file",
    "sweep",
    "write_file",
]

_libc = ctypes.CDLL(None, use_errno=True)
_GROUP_WRITES = stat.S_ISGID | stat.S_IRWXG
_AT_FDCWD = -100
_PIECE_BYTES = 1 << 20
_RENAME_EXCHANGE = 2


class Unconfirmed(OSError):
    """A file was written and stands in its place, but the disk did not say that it has it for good."""


def make_folder(path: Path) -> None:
    """Make a folder and those above it. In a folder that a group may write, it is the group's too, whatever the umask
    says: several people share a cache."""
    try:
        path.mkdir()
    except FileExistsError:
        return
    except FileNotFoundError:
        make_folder(path.parent)
        make_folder(path)
        return
    above = os.stat(path.parent)
    if above.st_mode & stat.S_IWGRP:
        _give_to_group(path, above, os.stat(path).st_mode | above.st_mode & _GROUP_WRITES)


def _give_to_group(file: int | Path, above: os.stat_result, mode: int) -> None:
    try:
        os.chown(file, -1, above.st_gid)
        os.chmod(file, stat.S_IMODE(mode))
    except PermissionError:
        pass  # it is somebody else's, or its owner is outside of the group


def random_name() -> str:
    """A few letters that nobody else has taken."""
    return os.urandom(6).hex()


def _try_lock(descriptor: int) -> bool | None:
    """Lock for this process alone; False where somebody else holds it, None where the file system has no locks."""
    try:
        fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return False
    except OSError:
        return None
    return True


def _still_named(path: Path, descriptor: int) -> bool:
    try:
        named = os.lstat(path)
    except FileNotFoundError:
        return False
    return named.st_ino == os.fstat(descriptor).st_ino


def sweep(parent: Path, prefix: str) -> None:
    """Remove abandoned work: everything in `parent` that begins with `prefix` and that nobody holds."""
    try:
        names = [name for name in os.listdir(parent) if name.startswith(prefix)]
    except OSError:
        return
    try:
        if not names or locks.of(parent) is not locks.Locks.HOLD:
            return  # who made it may be at work
    except OSError:
        return
    for name in names:
        path = parent / name
        try:
            descriptor = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC)
        except OSError:
            continue
        try:
            if _try_lock(descriptor):
                remove(path)
        finally:
            os.close(descriptor)


def remove(path: Path) -> None:
    """Remove a file or a whole folder; what cannot be removed stays for the next sweep."""
    if path.is_dir() and not path.is_symlink():
        import shutil  # with all its archive formats, for the one function

        shutil.rmtree(path, ignore_errors=True)
    else:
        path.unlink(missing_ok=True)


class WorkFolder:
    """A new folder for unfinished work, held until it is left; what is still in it then is removed.

    Args:
        parent: where to make it; abandoned folders of the same prefix there are swept first.
        prefix: the beginning of its name, the rest is random.
    """

    def __init__(self, parent: Path, prefix: str) -> None:
        sweep(parent, prefix)
        while True:
            self.path = parent / f"{prefix}{random_name()}"
            self.path.mkdir(parents=True)
            # Whoever sweeps between these calls takes it for abandoned: then begin again.
            try:
                self._descriptor = os.open(self.path, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
            except FileNotFoundError:
                continue
            if _try_lock(self._descriptor) is not False and _still_named(self.path, self._descriptor):
                return
            os.close(self._descriptor)

    def __enter__(self) -> WorkFolder:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        try:
            if os.path.lexists(self.path):
                remove(self.path)
        finally:
            os.close(self._descriptor)


def flush_file_system(path: Path) -> None:
    """Have the kernel put everything written below `path`'s file system on the disk (`syncfs`)."""
    descriptor = os.open(path, os.O_RDONLY | os.O_CLOEXEC)
    try:
        if _libc.syncfs(descriptor) != 0:
            number = ctypes.get_errno()
            raise OSError(number, os.strerror(number), str(path))
    finally:
        os.close(descriptor)


def write_file(
    path: Path, data: bytes | IO[bytes], mode: int = 0o666, *, flush: bool = True, exactly: int | None = None
) -> None:
    """Write a file whole: a reader sees the old bytes or the new ones, also after a power cut.

    Args:
        data: its bytes, or a stream of them.
        mode: less what the umask takes; in a folder that a group may write, the group may do what it says.
        exactly: its mode, whatever umask and folder say.
        flush: wait for the disk. Without, a power cut may leave half: for what proves itself when it is read.

    Raises:
        Unconfirmed: it was written, and flushing its folder failed.
        OSError: it could not be written; what stood there before stands there still.
    """
    pieces = [data] if isinstance(data, bytes) else iter(lambda: data.read(_PIECE_BYTES), b"")
    if _is_device(path):
        with path.open("wb") as stream:
            stream.writelines(pieces)
        return
    prefix = f".{path.name}.part-"
    sweep(path.parent, prefix)
    part, descriptor = _new_part(path.parent, prefix, mode)
    try:
        with open(descriptor, "wb", closefd=False) as stream:
            stream.writelines(pieces)
        if exactly is not None:
            os.fchmod(descriptor, exactly)
        elif mode & stat.S_IRGRP:
            _share(descriptor, path.parent, mode & (stat.S_IRGRP | stat.S_IWGRP))
        if flush:
            os.fsync(descriptor)
        os.rename(part, path)
    except BaseException:
        part.unlink(missing_ok=True)
        raise
    finally:
        os.close(descriptor)
    if not flush:
        return
    try:
        _flush_folder(path.parent)
    except OSError as error:
        raise Unconfirmed(error.errno, error.strerror, str(path)) from error


def _is_device(path: Path) -> bool:
    """Whether a device or a pipe stands there: it is written to, and never replaced."""
    try:
        mode = os.stat(path).st_mode
    except OSError:
        return False
    return stat.S_ISCHR(mode) or stat.S_ISFIFO(mode) or stat.S_ISBLK(mode)


def _new_part(folder: Path, prefix: str, mode: int) -> tuple[Path, int]:
    """A new file that nobody sweeps: its path, and its descriptor, which holds its lock."""
    while True:
        part = folder / f"{prefix}{random_name()}"
        descriptor = os.open(part, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, mode)
        # Whoever sweeps between these calls takes it for abandoned: then begin again.
        if _try_lock(descriptor) is not False and _still_named(part, descriptor):
            return part, descriptor
        os.close(descriptor)
        part.unlink(missing_ok=True)


def put_in_place(part: Path, target: Path) -> None:
    """A file that was written whole takes the place of another, on the same file system.

    Raises:
        OSError: it could not be flushed to the disk, or not be put there; what stood there stands there still.
    """
    with part.open("rb") as stream:
        os.fsync(stream.fileno())
    os.replace(part, target)


def replace_file(path: Path, data: bytes) -> None:
    """Write a file of the user's own anew, as `write_file`: who may read it stays as it is, and where it is a link,
    what it leads to is written."""
    real = Path(os.path.realpath(path))
    try:
        kept = stat.S_IMODE(os.stat(real).st_mode)
    except FileNotFoundError:
        write_file(real, data)
        return
    write_file(real, data, exactly=kept)


@contextmanager
def locked(folder: Path) -> Iterator[None]:
    """One at a time: a lock on a folder, for what its files are rewritten under; by a file where its locks do not
    hold."""
    if locks.of(folder) is not locks.Locks.HOLD:
        with locks.by_file(folder):
            yield
        return
    descriptor = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        fcntl.flock(descriptor, fcntl.LOCK_EX)
        yield
    finally:
        os.close(descriptor)


def is_shared(folder: Path) -> bool:
    """Whether a folder is a group's, that shares what is in it."""
    mode = os.stat(folder).st_mode
    return bool(mode & stat.S_IWGRP) and not mode & stat.S_ISVTX


def _share(descriptor: int, folder: Path, bits: int = stat.S_IRGRP | stat.S_IWGRP) -> None:
    """Let the group read and write a file that may write its folder, whatever the umask says."""
    if is_shared(folder):
        _give_to_group(descriptor, os.stat(folder), os.fstat(descriptor).st_mode | bits)


def append_line(path: Path, line: bytes) -> None:
    """Append a line to a file in one call: lines of several processes do not mix. A line that cannot be written whole
    (a full disk) is taken back; one that was cut before (a power cut) is ended first, so that it spoils no other.

    Raises:
        OSError: it could not be written, or not whole.
    """
    descriptor = os.open(path, os.O_RDWR | os.O_APPEND | os.O_CREAT | os.O_CLOEXEC, 0o666)
    try:
        with suppress(OSError):  # where there are no locks, the call alone keeps lines apart
            fcntl.flock(descriptor, fcntl.LOCK_EX)
        _share(descriptor, path.parent)
        size = os.fstat(descriptor).st_size
        cut = size > 0 and os.pread(descriptor, 1, size - 1) != b"\n"
        data = (b"\n" if cut else b"") + line + b"\n"
        written = os.write(descriptor, data)
        if written != len(data):
            with suppress(OSError):
                if os.fstat(descriptor).st_size == size + written:  # nobody has added to it since
                    os.ftruncate(descriptor, size)
            raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC), str(path))
        os.fsync(descriptor)
    finally:
        os.close(descriptor)


def _flush_folder(folder: Path) -> None:
    descriptor = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        os.fsync(descriptor)
    except OSError as error:
        if error.errno not in (errno.EINVAL, errno.ENOTSUP):  # some network file systems have no such call
            raise
    finally:
        os.close(descriptor)


def exchange(new: Path, old: Path) -> None:
    """Swap two folders in one step, so that at every instant one of them stands at `old`.

    Where the file system cannot swap, the old one is moved aside first; a reader may then find nothing at
    `old` for an instant, but never half of anything.
    """
    if _libc.renameat2(_AT_FDCWD, os.fsencode(new), _AT_FDCWD, os.fsencode(old), _RENAME_EXCHANGE) == 0:
        return
    number = ctypes.get_errno()
    if number not in (errno.EINVAL, errno.ENOSYS, errno.ENOTSUP):
        raise OSError(number, os.strerror(number), str(new), None, str(old))
    aside = new.with_name(new.name + "-old")
    os.rename(old, aside)
    os.rename(new, old)
    os.rename(aside, new)
