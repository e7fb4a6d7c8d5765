"""Results against results: each as what it is, by what is tolerated."""

from __future__ import annotations

import os
import stat
from collections.abc import Mapping
from pathlib import Path
from typing import NamedTuple

from lapidar.core.cache.digest import sha256_of
from lapidar.core.results.kinds import compare_contents, kind_of
from lapidar.core.results.kinds.binary import same_bytes
from lapidar.core.results.tolerances import Tolerances
from lapidar.core.results.verdict import Compared, Found, Pair, Unreadable, Verdict

__all__ = ["Was", "compare", "compare_all", "files_below"]

_NEEDS_A_LIBRARY = "install lapidar[compare]"


class Was(NamedTuple):
    """How a result was.

    Attributes:
        file: its bytes; None where only its digest is known.
        sha256: the digest; "" where it was not asked for.
        link: what it says, where it is a symbolic link.
    """

    file: Path | None
    sha256: str = ""
    bytes: int | None = None
    link: str | None = None


def files_below(folder: Path) -> dict[str, Path]:
    """The files and links below a folder, by their paths below it; a file stands for itself."""
    if not folder.is_dir():
        return {folder.name: folder}
    found = {}
    for place, folders, names in os.walk(folder):
        folders.sort()
        for name in names:
            path = Path(place, name)
            found[os.path.relpath(path, folder)] = path
    return dict(sorted(found.items()))


def compare_all(before: Mapping[str, Was], after: Mapping[str, Path], tolerances: Tolerances) -> list[Compared]:
    """Compare all results; those that came and went are told."""
    paths = sorted(before.keys() | after.keys())
    return [compare(path, before.get(path), after.get(path), tolerances) for path in paths]


def compare(path: str, before: Was | None, after: Path | None, tolerances: Tolerances) -> Compared:
    """The verdict on one result.

    Args:
        path: what it is called.
    """
    rules = tolerances.for_file(path)
    was = _size(before)
    if after is None or not os.path.lexists(after):
        return Compared(path, Verdict.GONE, bytes_before=was)
    is_now = os.lstat(after)
    if before is None:
        return Compared(path, Verdict.NEW, _kind(after, path), bytes_after=is_now.st_size)
    if before.link is not None or stat.S_ISLNK(is_now.st_mode):
        return _links(path, before, after, was, is_now.st_size)
    if not stat.S_ISREG(is_now.st_mode) or (before.file is not None and not before.file.is_file()):
        return Compared(path, Verdict.UNREADABLE, "bytes", was, None, worst="it is no regular file")
    try:
        return _files(path, before, after, was, is_now.st_size, tolerances)
    except OSError as error:
        return Compared(path, Verdict.UNREADABLE, "bytes", was, is_now.st_size, worst=error.strerror or str(error))
    except Unreadable as error:
        return _unreadable(path, before, after, was, is_now.st_size, str(error), rules.told)


def _size(was: Was | None) -> int | None:
    if was is None or was.bytes is not None or was.file is None:
        return was.bytes if was else None
    return os.lstat(was.file).st_size


def _kind(file: Path, path: str) -> str:
    try:
        return kind_of(file, path) if file.is_file() else ""
    except OSError:
        return ""


def _links(path: str, before: Was, after: Path, was: int | None, size: int) -> Compared:
    target = os.readlink(after) if after.is_symlink() else None
    if target == before.link:
        return Compared(path, Verdict.IDENTICAL, "link", was, size)
    told = [f"a link to {one}" if one is not None else "a file" for one in (before.link, target)]
    return Compared(path, Verdict.DIFFERENT, "link", was, size, worst=f"it was {told[0]}, and is {told[1]}")


def _files(path: str, before: Was, after: Path, was: int | None, size: int, tolerances: Tolerances) -> Compared:
    rules = tolerances.for_file(path)
    if before.file is None:
        if sha256_of(str(after)) == before.sha256:
            return Compared(path, Verdict.IDENTICAL, _kind(after, path), was, size)
        why = "the bytes of the recorded one are lost: only its digest tells"
        return Compared(path, Verdict.DIFFERENT, _kind(after, path), was, size, worst=why)
    pair = Pair(path, before.file, after)
    if same_bytes(pair):
        return Compared(path, Verdict.IDENTICAL, _kind(after, path), was, size)
    kind, found = compare_contents(pair, rules)
    return Compared(
        path,
        found.verdict,
        kind,
        was,
        size,
        found.worst,
        tuple(found.details),
        found.more,
        found.numbers,
        tuple(found.places),
        rules.told,
        tuple(found.set_aside),
    )


def _unreadable(path: str, before: Was, after: Path, was: int | None, size: int, why: str, told: str) -> Compared:
    """One that its kind cannot read: by bytes, where all that is lacking is a library."""
    if _NEEDS_A_LIBRARY not in why:
        return Compared(path, Verdict.UNREADABLE, _kind(after, path), was, size, why, tolerance=told)
    assert before.file is not None
    from lapidar.core.results.kinds import binary
    from lapidar.core.results.tolerances import NONE

    found: Found = binary.compare(Pair(path, before.file, after), NONE)
    return Compared(
        path, Verdict.DIFFERENT, "bytes", was, size, found.worst, tuple(found.details), note=why, tolerance=told
    )
