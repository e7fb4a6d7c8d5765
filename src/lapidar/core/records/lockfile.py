"""Snapshot <-> ``lapidar.lock``: canonical TOML, small, made for reading and for version control's diffs.

Canonical means: the fields in the order of the records, tables sorted by name, one blank line between tables,
one line a field. The writer is our own because the snapshot's identity rests on these bytes, which must not
change with a library's version; reading goes through a TOML reader.
"""

from __future__ import annotations

import hashlib
import re
from collections import Counter
from collections.abc import Iterable
from pathlib import Path, PurePosixPath
from typing import Any

import msgspec
import tomli
from msgspec.structs import replace

from lapidar.core import atomic, decoding, foreign
from lapidar.core.errors import LockfileError
from lapidar.core.place import LOCKFILE_NAME
from lapidar.core.records import canonical
from lapidar.core.records.layers import LowerLayers
from lapidar.core.records.snapshot import Package, Platform, Remainder, Runtime, Snapshot

__all__ = [
    "FORMAT",
    "identified",
    "identify",
    "identity_in",
    "of_merge",
    "parse",
    "read",
    "read_if_there",
    "render",
    "sides_of_merge",
    "write",
]

FORMAT = 1
# The tables of which there may be several, and what they are sorted by.
_ARRAYS = (
    ("runtime", ("language",)),
    ("package", ("language", "name")),
    ("remainder", ("language",)),
    ("library", ("soname",)),
    ("tool", ("name",)),
)
_SORTED = {"runtime": "places", "conditions": "variables"}  # tables inside of records whose keys are sorted
_BANNER = "# Written by lapidar. Commit this file; do not edit it.\n"
_CONTROL = re.compile(r"(?<!\\)(?:\\\\)*\\(?:[bfnrt]|u00)|\x7f")  # in JSON's writing

_MERGE = re.compile(r"^(<{7}|={7}|>{7})", re.MULTILINE)


def _record(kind: str, fields: dict[str, Any]) -> dict[str, Any]:
    """A record's fields with the keys of the table inside of it, if it has one, sorted."""
    inner = _SORTED.get(kind)
    return {key: dict(sorted(value.items())) if key == inner else value for key, value in fields.items()}


def _body(snapshot: Snapshot) -> str:
    """The canonical text below the line of the snapshot's digest."""
    records = msgspec.to_builtins(snapshot)
    blocks = [canonical.table("[platform]", records["platform"])]
    for kind, keys in _ARRAYS:
        if kind == "library" and "libraries" in records:
            blocks.append(canonical.table("[libraries]", records["libraries"]))
        for record in sorted(records.get(kind, ()), key=lambda record: [record[key] for key in keys]):
            blocks.append(canonical.table(f"[[{kind}]]", _record(kind, record)))
    if records.get("conditions"):
        blocks.append(canonical.table("[conditions]", _record("conditions", records["conditions"])))
    return "\n" + "\n".join(blocks)


def identify(snapshot: Snapshot) -> Snapshot:
    """Give a snapshot its identity: the sha256 of its canonical text less the line that holds it."""
    text = f"{_BANNER}format = {snapshot.format}\n{_body(snapshot)}"
    digest = "sha256:" + hashlib.sha256(text.encode("utf-8")).hexdigest()
    return replace(snapshot, snapshot=digest)


def identified(
    platform: Platform,
    runtimes: Iterable[Runtime],
    packages: Iterable[Package],
    remainders: Iterable[Remainder] = (),
    lower: LowerLayers | None = None,
) -> Snapshot:
    """A snapshot of these records, in the order of a lockfile, with its identity."""
    lower = lower or LowerLayers()
    return identify(
        Snapshot(
            FORMAT,
            "sha256:" + "0" * 64,
            platform,
            tuple(sorted(runtimes, key=lambda one: one.language)),
            tuple(sorted(packages, key=lambda one: (one.language, one.name))),
            tuple(sorted(remainders, key=lambda one: one.language)),
            lower.library_layer,
            lower.libraries,
            lower.tools,
            lower.conditions,
        )
    )


def render(snapshot: Snapshot) -> str:
    """The canonical text of an identified snapshot."""
    return f"{_BANNER}format = {snapshot.format}\nsnapshot = {canonical.string(snapshot.snapshot)}\n{_body(snapshot)}"


def parse(text: str, name: str = LOCKFILE_NAME) -> Snapshot:
    """Read a lockfile's text and verify it.

    Args:
        text: the text of a lockfile.
        name: what to call it in errors.

    Raises:
        LockfileError: it is no TOML, of another format, lacks a field or has one of a wrong type, or its
            digest does not match; says where and what to do.
    """
    again = "Take it from version control again (git checkout), or run `lapidar capture` to write a new one."
    try:
        data = foreign.parsed(lambda: tomli.loads(text))
    except ValueError as error:
        if _MERGE.search(text):
            raise LockfileError(
                f"{name} holds the marks of a merge that was not finished",
                remedy="Settle lapidar.toml, then `lapidar pin`, which keeps to the pins of both sides. Of a captured "
                "one take one side whole (git checkout --ours or --theirs), then `lapidar restore`.",
            ) from error
        raise LockfileError(f"{name} cannot be read", why=str(error), remedy=again) from error
    number = data.get("format")
    if isinstance(number, int) and number > FORMAT:
        raise LockfileError(
            f"{name} has format {number}, but this lapidar reads formats up to {FORMAT}",
            remedy="Install a newer lapidar.",
        )
    if number != FORMAT:
        raise LockfileError(f"{name} is no lockfile: it has no format number", remedy=again)
    try:
        snapshot = foreign.parsed(lambda: decoding.convert(data, Snapshot))
    except ValueError as error:
        why = re.sub(r" - at `\$\.?(.*)`$", r", at \1", str(error)).removesuffix(", at ")
        raise LockfileError(f"{name} is not valid", why=why, remedy=again) from error
    _verify(snapshot, name, again)
    return snapshot


def _verify(snapshot: Snapshot, name: str, remedy: str) -> None:
    if flaw := _flaw(snapshot):
        raise LockfileError(f"{name} is not valid", why=flaw, remedy=remedy)
    expected = identify(snapshot).snapshot
    if expected != snapshot.snapshot:
        raise LockfileError(
            f"{name} was changed after it was written",
            why=f"it says snapshot {snapshot.snapshot}, but its content has {expected}",
            remedy=remedy,
        )


def _flaw(snapshot: Snapshot) -> str:
    """What the records, each well-formed, do not agree on; "" where there is nothing."""
    runtimes = Counter(runtime.language for runtime in snapshot.runtimes)
    if not runtimes:
        return "it must have a runtime, and has none"
    if doubled := [language for language, count in runtimes.items() if count > 1]:
        return f"it must have one runtime of a language, and has {runtimes[doubled[0]]} of {doubled[0]}"
    used = [package.language for package in snapshot.packages] + [rest.language for rest in snapshot.remainders]
    if without := [language for language in used if language not in runtimes]:
        return f"it has something of the language {without[0]}, and no runtime of it"
    names = Counter((package.language, package.name) for package in snapshot.packages)
    if doubled_names := [name for (_, name), count in names.items() if count > 1]:
        return f"it has the package {doubled_names[0]} twice"
    for kind, several in (
        ("library", [one.soname for one in snapshot.libraries]),
        ("outside program", [one.name for one in snapshot.tools]),
    ):
        if twice := [name for name, count in Counter(several).items() if count > 1]:
            return f"it has the {kind} {twice[0]} twice"
    for package in snapshot.packages:
        for folder in package.origin.folders or ():
            if PurePosixPath(folder).is_absolute() or ".." in PurePosixPath(folder).parts:
                return f"the package {package.name} has its code in {folder!r}, which leads out of the project"
    return _control_characters(snapshot)


def _control_characters(snapshot: Snapshot) -> str:
    """The first text with a character in it that no name, version, path or address has: a new line would begin a
    second one wherever the text is written. A variable's value may hold any, and so may the
    names of files of no package, which are only ever shown."""
    for part in (
        snapshot.platform,
        snapshot.runtimes,
        snapshot.packages,
        snapshot.libraries,
        snapshot.library_layer,
        snapshot.tools,
    ):
        text = msgspec.json.encode(part).decode()  # where every control character is an escape
        if ("\\" in text or "\x7f" in text) and (found := _CONTROL.search(text)):
            around = text[max(0, found.start() - 40) : found.end() + 10]
            return f"a name or a path in it holds a control character: {around}"
    return ""


def read(path: Path) -> Snapshot:
    """Read and verify a lockfile.

    Raises:
        LockfileError: it is missing or not valid.
    """
    try:
        text = foreign.read_text(path)
    except FileNotFoundError as error:
        raise LockfileError(
            f"There is no lockfile at {path}",
            remedy="Run `lapidar capture` to write one, or name another with --lock or --project.",
        ) from error
    except UnicodeDecodeError as error:
        raise LockfileError(
            f"{path} cannot be read", why="it is not UTF-8 text", remedy="Take it from version control again."
        ) from error
    except OSError as error:
        raise LockfileError(
            f"{path} cannot be read", why=error.strerror or str(error), remedy="Name another with --lock."
        ) from error
    return parse(text, str(path))


def of_merge(path: Path) -> Snapshot | None:
    """What the two sides of a merge that was not finished have together; where both have a package, it is ours. It
    holds what is pinned, for a pin to keep to as far as that can be, and nothing vouches for it. None where the file
    holds no marks, or a side is none."""
    sides = sides_of_merge(path)
    if sides is None:
        return None
    ours, theirs = sides
    names = {(package.language, package.name) for package in ours.packages}
    more = [package for package in theirs.packages if (package.language, package.name) not in names]
    languages = {runtime.language for runtime in ours.runtimes}
    packages = [*ours.packages, *(package for package in more if package.language in languages)]
    return identified(ours.platform, ours.runtimes, packages, ours.remainders, LowerLayers.of(ours))


def sides_of_merge(path: Path) -> tuple[Snapshot, Snapshot] | None:
    """The two sides of a merge that was not finished; None where a file holds no marks, or a side is none. What stands
    outside of the marks is both sides', so that a side may be none that was ever written."""
    try:
        text = foreign.read_text(path)
    except (OSError, UnicodeDecodeError):
        return None
    if not _MERGE.search(text):
        return None
    try:
        ours, theirs = (decoding.convert(tomli.loads(side), Snapshot) for side in _sides(text))
    except (ValueError, RecursionError):
        return None
    return ours, theirs


def _sides(text: str) -> tuple[str, str]:
    """The text of either side of a merge; what a third part says was there before is left out."""
    sides: tuple[list[str], list[str]] = ([], [])
    within: tuple[int, ...] = (0, 1)
    for line in text.splitlines(keepends=True):
        if line.startswith("<<<<<<< "):
            within = (0,)
        elif line.startswith("||||||| "):
            within = ()
        elif line.startswith("=======") and within != (0, 1):
            within = (1,)
        elif line.startswith(">>>>>>> "):
            within = (0, 1)
        else:
            for side in within:
                sides[side].append(line)
    return "".join(sides[0]), "".join(sides[1])


def read_if_there(path: Path) -> Snapshot | None:
    """Read and verify a lockfile; None where there is none.

    Raises:
        LockfileError: it is not valid.
    """
    return read(path) if path.exists() else None


def identity_in(path: Path) -> str:
    """The identity of the snapshot that a lockfile holds; "" where there is none, or it is not valid."""
    try:
        return read(path).snapshot
    except LockfileError:
        return ""


def write(snapshot: Snapshot, path: Path) -> None:
    """Write a lockfile whole or not at all."""
    atomic.replace_file(path, render(snapshot).encode("utf-8"))
