"""Archives and compressed files, member by member: zip, tar, gzip, bzip2, xz. Dates, owners and the way they are packed
do not count; the order of members does not either. Members are unpacked into a folder of ours under made-up names,
within limits, and compared as what they are."""

from __future__ import annotations

import lzma
import stat
import tarfile
import tempfile
import zipfile
import zlib
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import IO

from lapidar.core.results.differences import Differences, numbered
from lapidar.core.results.packed import unpacked
from lapidar.core.results.tolerances import Rules
from lapidar.core.results.verdict import BeyondLimit, Found, Pair, Unreadable, Verdict

__all__ = ["compare", "compare_packed"]

_MOST_BYTES = 2_000_000_000  # of what one archive unpacks to
_MOST_MEMBERS = 20_000
_MOST_NESTED = 4
_PIECE = 1 << 20
_BROKEN = (
    OSError,
    EOFError,
    zlib.error,
    lzma.LZMAError,
    zipfile.BadZipFile,
    tarfile.TarError,
    RuntimeError,
    ValueError,
)


def compare(pair: Pair, rules: Rules) -> Found:
    """Compare two zip or tar files."""
    differences = Differences(rules)
    compare_members(pair, differences)
    return differences.found()


def compare_members(pair: Pair, differences: Differences, wants: Callable[[str], bool] = lambda name: True) -> None:
    """Compare the members of two archives.

    Args:
        differences: what is found goes there.
        wants: says of a member's name whether it is compared.
    """
    with tempfile.TemporaryDirectory(prefix="lapidar-compare-") as work:
        before, after = (
            _members(path, Path(work, side), wants) for path, side in ((pair.before, "before"), (pair.after, "after"))
        )
        for name in sorted(before.keys() ^ after.keys()):
            differences.say(f"{name}: {'gone' if name in before else 'new'}")
        for name in sorted(before.keys() & after.keys()):
            one, other = before[name], after[name]
            if isinstance(one, Path) and isinstance(other, Path):
                _member(f"{pair.path}/{name}", name, one, other, differences)
            elif one != other:
                told = [member if isinstance(member, str) else "a file" for member in (one, other)]
                differences.other(name, told[0], told[1])


def compare_packed(pair: Pair, rules: Rules) -> Found:
    """Compare what two gzip, bzip2 or xz files hold."""
    with tempfile.TemporaryDirectory(prefix="lapidar-compare-") as work:
        before, after = Path(work, "before"), Path(work, "after")
        for source, target in ((pair.before, before), (pair.after, after)):
            try:
                with unpacked(source) as stream:
                    _copy(stream, target, _MOST_BYTES)
            except _BROKEN as error:
                raise Unreadable(str(error)[:200] or "it is cut short") from error
        return _inner(Pair(_inner_name(pair.path), before, after), rules)


def _inner_name(name: str) -> str:
    for suffix, instead in ((".tgz", ".tar"), (".gz", ""), (".bz2", ""), (".xz", "")):
        if name.lower().endswith(suffix):
            return name[: -len(suffix)] + instead
    return name


def _inner(pair: Pair, rules: Rules) -> Found:
    """What is inside, compared as what it is; `SAME` where it has the same bytes."""
    from lapidar.core.results.kinds import compare_contents
    from lapidar.core.results.kinds.binary import same_bytes

    if pair.path.count("/") > _MOST_NESTED + 60:
        raise BeyondLimit("archives are nested too deep")
    if same_bytes(pair):
        return Found(Verdict.SAME)
    _, found = compare_contents(pair, rules)
    return found


def _copy(source: IO[bytes], target: Path, most: int) -> int:
    size = 0
    with target.open("wb") as stream:
        while piece := source.read(_PIECE):
            size += len(piece)
            if size > most:
                raise BeyondLimit(f"it unpacks to more than {_MOST_BYTES:,} bytes")
            stream.write(piece)
    return size


def _members(path: Path, work: Path, wants: Callable[[str], bool]) -> dict[str, Path | str]:
    """The members of an archive, by their names: regular files unpacked under numbers; of a link, and of what is no
    file, what it is in a few words."""
    work.mkdir()
    found: dict[str, Path | str] = {}
    left = _MOST_BYTES
    try:
        for name, stream in _zip(path) if zipfile.is_zipfile(path) else _tar(path):
            if not wants(name):
                continue
            if len(found) >= _MOST_MEMBERS:
                raise BeyondLimit(f"it has more than {_MOST_MEMBERS:,} members")
            name = numbered(name, found)
            if isinstance(stream, str):
                found[name] = stream
                continue
            place = work / str(len(found))
            left -= _copy(stream, place, left)
            found[name] = place
    except _BROKEN as error:
        raise Unreadable(str(error)[:200] or "it is cut short") from error
    return found


def _zip(path: Path) -> Iterator[tuple[str, IO[bytes] | str]]:
    with zipfile.ZipFile(path) as archive:
        for member in archive.infolist():
            if member.is_dir():
                continue
            with archive.open(member) as stream:
                if stat.S_ISLNK(member.external_attr >> 16):
                    yield member.filename, f"a link to {stream.read(4096).decode('utf-8', 'replace')}"
                else:
                    yield member.filename, stream


def _tar(path: Path) -> Iterator[tuple[str, IO[bytes] | str]]:
    with tarfile.open(path, "r:*") as archive:
        for member in archive:
            if member.islnk() or member.issym():
                yield member.name, f"a {'hard ' if member.islnk() else ''}link to {member.linkname}"
            elif member.isfile() and (stream := archive.extractfile(member)):
                yield member.name, stream
            elif not member.isdir():
                yield member.name, "no file"


def _member(called: str, name: str, before: Path, after: Path, into: Differences) -> None:
    try:
        found = _inner(Pair(called, before, after), into.rules)
    except Unreadable as error:
        into.say(f"{name}: {error}")
        return
    if found.numbers:
        into.numbers.add(found.numbers)
    into.set_aside |= dict.fromkeys(f"{name}: {line}" for line in found.set_aside)
    into.taken |= dict.fromkeys(f"{name}: {line}" for line in found.taken)
    if found.verdict is Verdict.SAME:
        return
    for line in found.details or [found.worst]:
        into.tell(f"{name}: {line}")
    # Numbers decide by themselves.
    if found.verdict is Verdict.DIFFERENT and not (found.numbers and found.numbers.beyond):
        into.is_different = True
        into.first = into.first or f"{name}: {found.worst}"
