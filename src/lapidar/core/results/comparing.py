"""Results against results: each as what it is, by what is tolerated."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import NamedTuple

from lapidar.core.cache.digest import sha256_of
from lapidar.core.results.apart import Apart, serve
from lapidar.core.results.kinds import binary, compare_contents, kind_of
from lapidar.core.results.kinds.binary import same_bytes
from lapidar.core.results.tolerances import NONE, Rules, Tolerances
from lapidar.core.results.verdict import BeyondLimit, Compared, Pair, Unreadable, Verdict

__all__ = ["Was", "compare", "compare_all", "files_below", "of_file"]

_Sizes = tuple[int | None, int | None]

_NEEDS_A_LIBRARY = "install lapidar["


class Was(NamedTuple):
    """How a result was, or is.

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


def of_file(file: Path) -> Was:
    """A result as it lies there."""
    return Was(file, bytes=os.lstat(file).st_size, link=os.readlink(file) if file.is_symlink() else None)


def compare_all(before: Mapping[str, Was], after: Mapping[str, Was], tolerances: Tolerances) -> list[Compared]:
    """Compare all results, in a process apart; those that came and went are told."""
    paths = sorted(before.keys() | after.keys())
    with Apart() as apart:

        def contents(pair: Pair, sizes: _Sizes, rules: Rules) -> Compared:
            told: Compared = apart.ask((pair, sizes, rules), sum(size or 0 for size in sizes))
            return told

        # Inside of another program there is no interpreter to begin a process with.
        compares = contents if sys.executable else None
        return [compare(path, before.get(path), after.get(path), tolerances, compares) for path in paths]


def compare(
    path: str,
    before: Was | None,
    after: Was | None,
    tolerances: Tolerances,
    contents: Callable[[Pair, _Sizes, Rules], Compared] | None = None,
) -> Compared:
    """The verdict on one result.

    Args:
        path: what it is called.
        before, after: how it was and how it is; None where there is none.
        contents: compares two files whose bytes differ; here, unless given.
    """
    if after is None or (after.file is not None and not os.path.lexists(after.file)):
        return Compared(path, Verdict.GONE, bytes_before=_size(before))
    if before is None:
        return Compared(path, Verdict.NEW, _kind(after.file, path), bytes_after=_size(after))
    sizes = _size(before), _size(after)
    if before.link is not None or after.link is not None:
        return _links(path, before, after, sizes)
    if not all(side.file is None or side.file.is_file() for side in (before, after)):
        return Compared(path, Verdict.UNREADABLE, "bytes", sizes[0], None, worst="it is no regular file")
    try:
        before, after = (_legible(side) for side in (before, after))
        if before.file is None or after.file is None:
            return _by_digest(path, before, after, sizes)
        pair = Pair(path, before.file, after.file)
        if same_bytes(pair):
            return Compared(path, Verdict.IDENTICAL, _kind(pair.after, path), *sizes)
        rules = tolerances.for_file(path)
        try:
            return (contents or _contents)(pair, sizes, rules)
        except BeyondLimit as error:
            return _beyond(pair, sizes, rules, error)
    except OSError as error:
        return Compared(path, Verdict.UNREADABLE, "bytes", *sizes, worst=error.strerror or str(error))


def _legible(side: Was) -> Was:
    """One whose bytes this user may not read is judged by its digest."""
    return side if not side.sha256 or side.file is None or os.access(side.file, os.R_OK) else side._replace(file=None)


def _size(side: Was | None) -> int | None:
    if side is None or side.bytes is not None or side.file is None:
        return side.bytes if side else None
    return os.lstat(side.file).st_size


def _kind(file: Path | None, path: str) -> str:
    try:
        return kind_of(file, path) if file is not None and file.is_file() else ""
    except OSError:
        return ""


def _links(path: str, before: Was, after: Was, sizes: _Sizes) -> Compared:
    if before.link == after.link:
        return Compared(path, Verdict.IDENTICAL, "link", *sizes)
    told = [f"a link to {side.link}" if side.link is not None else "a file" for side in (before, after)]
    return Compared(path, Verdict.DIFFERENT, "link", *sizes, worst=f"it was {told[0]}, and is {told[1]}")


def _by_digest(path: str, before: Was, after: Was, sizes: _Sizes) -> Compared:
    """One whose bytes are lost."""
    kind = _kind(after.file, path) or _kind(before.file, path)
    digests = [side.sha256 if side.file is None else sha256_of(str(side.file)) for side in (before, after)]
    if digests[0] == digests[1]:
        return Compared(path, Verdict.IDENTICAL, kind, *sizes)
    why = "the bytes of the recorded one are lost, or may not be read: only its digest tells"
    return Compared(path, Verdict.DIFFERENT, kind, *sizes, worst=why)


def _contents(pair: Pair, sizes: _Sizes, rules: Rules) -> Compared:
    """Raises: BeyondLimit: what it takes goes beyond a limit."""
    try:
        kind, found = compare_contents(pair, rules)
    except BeyondLimit:
        raise
    except Unreadable as error:
        return _unreadable(pair, sizes, str(error), rules.told)
    return Compared(
        pair.path,
        found.verdict,
        kind,
        *sizes,
        found.worst,
        tuple(found.details),
        found.more,
        found.numbers,
        tuple(found.places),
        rules.told,
        tuple(found.set_aside),
        tuple(found.taken),
        extent=found.extent,
    )


def _beyond(pair: Pair, sizes: _Sizes, rules: Rules, error: BeyondLimit) -> Compared:
    kind = _kind(pair.after, pair.path)
    return Compared(pair.path, Verdict.UNREADABLE, kind, *sizes, str(error), tolerance=rules.told)


def _unreadable(pair: Pair, sizes: _Sizes, why: str, told: str) -> Compared:
    """One that its kind cannot read: by its bytes."""
    found = binary.compare(pair, NONE)
    note = why if _NEEDS_A_LIBRARY in why else f"compared by its bytes: {why}"
    return Compared(
        pair.path, Verdict.DIFFERENT, "bytes", *sizes, found.worst, tuple(found.details), note=note, tolerance=told
    )


if __name__ == "__main__":
    serve(lambda question: _contents(*question))
