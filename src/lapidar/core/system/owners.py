"""Which package of the operating system a file belongs to, and which files one has: read from the package database's
own files.

Debian and what follows it keep one list of absolute paths for each package in ``/var/lib/dpkg/info/*.list``, and the
versions in ``/var/lib/dpkg/status``. Other systems' databases are not read: there, a library has no owner.
"""

from __future__ import annotations

import functools
import os
import re
from collections.abc import Iterable
from pathlib import Path
from typing import NamedTuple

__all__ = ["Owner", "files_beside", "files_of", "has_file_named", "owners_of", "shipped_with"]

_DATABASE = Path("/var/lib/dpkg")
_FIELD = re.compile(rb"^(Package|Status|Version|Architecture|Source|Depends): (.*)$", re.MULTILINE)


class Owner(NamedTuple):
    """A package of the operating system."""

    name: str
    version: str


def _lists(database: Path) -> dict[str, bytes]:
    """The list of each package, by the list's name: ``libc6:amd64``."""
    found = {}
    for path in sorted((database / "info").glob("*.list")):
        try:
            found[path.name.removesuffix(".list")] = path.read_bytes()
        except OSError:
            continue
    return found


class _Installed(NamedTuple):
    """What the database says of an installed package; `needs` are the names in its dependencies, all alternatives."""

    version: str
    source: str
    for_any_machine: bool
    needs: tuple[str, ...]


@functools.cache
def _installed(database: Path) -> dict[str, _Installed]:
    """Each installed package, also by its name with the machine's kind: ``libc6:amd64``."""
    try:
        data = (database / "status").read_bytes()
    except OSError:
        return {}
    found: dict[str, _Installed] = {}
    for block in data.split(b"\n\n"):
        fields = {key.decode(): value.decode("utf-8", "replace").strip() for key, value in _FIELD.findall(block)}
        name, version = fields.get("Package"), fields.get("Version")
        if not name or not version or not fields.get("Status", "").endswith(" installed"):
            continue
        source = fields.get("Source", name).partition(" ")[0]
        needs = re.findall(r"(?:^|[,|])\s*([a-z0-9][a-z0-9+.-]+)", fields.get("Depends", ""))
        one = _Installed(version, source, fields.get("Architecture") == "all", tuple(needs))
        found[f"{name}:{fields.get('Architecture')}"] = one
        found.setdefault(name, one)
    return found


def _spellings(path: str) -> Iterable[str]:
    """The paths under which a list may have a file: /lib became a link to /usr/lib, but not in every list."""
    real = os.path.realpath(path)
    yield path
    yield real
    for one in (path, real):
        if one.startswith("/usr/"):
            yield one[len("/usr") :]
        elif re.match(r"/(lib|lib64|bin|sbin)/", one):
            yield "/usr" + one


def owners_of(paths: Iterable[str], database: Path = _DATABASE) -> dict[str, Owner]:
    """The owners of files.

    Args:
        paths: absolute; links are followed where the link itself has no owner.

    Returns:
        For each path that has one, its owner.
    """
    wanted: dict[bytes, list[str]] = {}
    for path in dict.fromkeys(paths):
        for spelling in dict.fromkeys(_spellings(path)):
            wanted.setdefault(os.fsencode(spelling), []).append(path)
    if not wanted or not (database / "info").is_dir():
        return {}
    owners: dict[str, Owner] = {}
    keys = wanted.keys()
    for label, data in _lists(database).items():
        for line in keys & set(data.split(b"\n")):
            for path in wanted[line]:
                name = label.partition(":")[0]
                known = _installed(database).get(label) or _installed(database).get(name)
                if known and (path not in owners or os.fsdecode(line) == os.path.realpath(path)):
                    owners[path] = Owner(name, known.version)
    return owners


def files_of(owner: str, database: Path = _DATABASE) -> list[str]:
    """The files and links that a package has, as absolute paths, sorted; folders are left out."""
    info = database / "info"
    for path in [info / f"{owner}.list", *sorted(info.glob(f"{owner}:*.list"))]:
        try:
            lines = path.read_text("utf-8", "surrogateescape").splitlines()
        except OSError:
            continue
        return sorted(line for line in lines if os.path.islink(line) or os.path.isfile(line))
    return []


# They serve a system's administration, not the work of a program that depends on them.
_ADMINISTRATION = frozenset("adduser cdebconf debconf dpkg init-system-helpers install-info lsb-base ucf".split())


def shipped_with(owner: str, database: Path = _DATABASE) -> list[str]:
    """The packages that a program's package depends on and that hold a part of the program: those of the same source,
    and those for any machine (data, modules of script languages). Libraries are not among them.

    Args:
        owner: the name of the program's package.
    """
    installed = _installed(database)
    found: dict[str, None] = {}
    waiting = [owner]
    while waiting:
        package = installed.get(waiting.pop())
        for name in package.needs if package else ():
            one = installed.get(name)
            if one is None or name in found or name == owner or name in _ADMINISTRATION:
                continue
            if one.for_any_machine or (package and one.source == package.source):
                found[name] = None
                waiting.append(name)
    return sorted(found)


def has_file_named(name: str, database: Path = _DATABASE) -> str | None:
    """The package that has a file of this name anywhere; None where no installed one does."""
    end = os.fsencode(f"/{name}\n")
    for label, data in _lists(database).items():
        if end in data:
            return label.partition(":")[0]
    return None


@functools.cache
def _lists_by_metadata(database: Path) -> dict[str, list[str]]:
    """For each folder or file of Python metadata, all paths of the system package that has it."""
    found: dict[str, list[str]] = {}
    for data in _lists(database).values():
        if b"-packages/" not in data:
            continue
        lines = data.decode("utf-8", "surrogateescape").splitlines()
        for line in lines:
            if line.endswith((".egg-info", ".dist-info")):
                found[line] = lines
    return found


def files_beside(metadata: str, database: Path = _DATABASE) -> list[str] | None:
    """All files of the system package that owns a Python distribution's metadata; None where nobody owns it.

    Debian's Python packages carry no RECORD, so these lists are what is known of them.
    """
    if not metadata.startswith("/usr/lib/"):
        return None  # nothing else is the operating system's; it saves reading all lists
    lines = _lists_by_metadata(database).get(metadata)
    return None if lines is None else [line for line in lines if Path(line).is_file()]
