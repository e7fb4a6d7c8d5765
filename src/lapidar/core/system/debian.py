"""Debian's package database, and that of what follows it: one list of absolute paths for each package in
``/var/lib/dpkg/info/*.list``; versions and dependencies in ``/var/lib/dpkg/status`` (deb-control(5))."""

from __future__ import annotations

import functools
import os
import re
from collections.abc import Collection, Iterable, Iterator
from contextlib import suppress
from pathlib import Path
from typing import NamedTuple

from lapidar.core import foreign

__all__ = ["Debian"]

FOLDER = Path("/var/lib/dpkg")
_FIELD = re.compile(rb"^(Package|Status|Version|Architecture|Source|Depends|Recommends|Essential): (.*)$", re.MULTILINE)
# They serve a system's administration, not the work of a program that depends on them.
_ADMINISTRATION = frozenset("adduser cdebconf debconf dpkg init-system-helpers install-info lsb-base ucf".split())
_C_LIBRARY = frozenset({"libc6"})
_DOCUMENTS = Path("/usr/share/doc")
# Of a copyright file in the machine-readable form (DEP-5) the licence of all files; of another the texts it refers to.
_OF_ALL_FILES = re.compile(r"^Files: *\*\s*\n(?:.+\n)*?License: *(.+)$", re.MULTILINE)
_COMMON = re.compile(r"/usr/share/common-licenses/([\w.+-]*\w)")
_STEPS = ("preinst", "postinst", "prerm", "postrm", "config")


class _Installed(NamedTuple):
    """What the database says of an installed package; `needs` and `wants` are the names in what it depends on, and
    what it recommends, all alternatives."""

    version: str
    source: str
    needs: tuple[str, ...]
    wants: tuple[str, ...]
    is_everywhere: bool


class Debian:
    """The database in a folder; see `Database`."""

    def __init__(self, folder: Path = FOLDER) -> None:
        self._folder = folder

    @property
    def is_there(self) -> bool:
        return (self._folder / "info").is_dir()

    @functools.cached_property
    def _lists(self) -> dict[str, bytes]:
        """The list of each package, by the list's name: ``libc6:amd64``."""
        found: dict[str, bytes] = {}
        for path in sorted((self._folder / "info").glob("*.list")):
            try:
                found[path.name.removesuffix(".list")] = path.read_bytes()
            except OSError:
                continue
        return found

    @functools.cached_property
    def _installed(self) -> dict[str, _Installed]:
        """Each installed package, also by its name with the machine's kind: ``libc6:amd64``."""
        try:
            data = (self._folder / "status").read_bytes()
        except OSError:
            return {}
        found: dict[str, _Installed] = {}
        for block in data.split(b"\n\n"):
            fields = {key.decode(): value.decode("utf-8", "replace").strip() for key, value in _FIELD.findall(block)}
            name, version = fields.get("Package"), fields.get("Version")
            if not name or not version or not fields.get("Status", "").endswith(" installed"):
                continue
            source = fields.get("Source", name).partition(" ")[0]
            is_everywhere = fields.get("Essential") == "yes" or name in _ADMINISTRATION | _C_LIBRARY
            one = _Installed(
                version, source, _names(fields.get("Depends", "")), _names(fields.get("Recommends", "")), is_everywhere
            )
            found[f"{name}:{fields.get('Architecture')}"] = one
            found.setdefault(name, one)
        return found

    @functools.cached_property
    def _information(self) -> dict[str, list[str]]:
        """The names of the files about each package, sorted."""
        found: dict[str, list[str]] = {}
        for name in sorted(os.listdir(self._folder / "info")):
            found.setdefault(name.rpartition(".")[0].partition(":")[0], []).append(name)
        return found

    def _texts(self, name: str, kinds: Collection[str]) -> Iterator[str]:
        for file in self._information.get(name, ()):
            if file.rpartition(".")[2] in kinds:
                with suppress(OSError):
                    yield (self._folder / "info" / file).read_text("utf-8", "surrogateescape")

    def having(self, paths: Iterable[str]) -> Iterator[tuple[str, str, str]]:
        wanted = {os.fsencode(path) for path in paths}
        for label, data in self._lists.items() if wanted else ():
            for line in wanted & set(data.split(b"\n")):
                name = label.partition(":")[0]
                if known := self._installed.get(label) or self._installed.get(name):
                    yield os.fsdecode(line), name, known.version

    def files_of(self, name: str) -> list[str]:
        return next((text.splitlines() for text in self._texts(name, ("list",))), [])

    def works_with(self, name: str) -> Iterator[str]:
        package = self._installed.get(name)
        for other in (*package.needs, *package.wants) if package else ():
            one = self._installed.get(other)
            if one and package and not one.is_everywhere:
                is_part = one.source == package.source or other.endswith("-dev")
                yield from (other,) if other in package.needs or is_part else ()

    def steps_of(self, name: str) -> Iterator[str]:
        return self._texts(name, _STEPS)

    def needs_of(self, name: str) -> Iterator[str]:
        package = self._installed.get(name)
        yield from (need for need in (package.needs if package else ()) if need in self._installed)

    def licence_of(self, name: str, version: str) -> str:
        package = self._installed.get(name)
        if package is None or package.version != version:
            return ""
        try:
            text = foreign.read_text(_DOCUMENTS / name / "copyright")
        except (OSError, ValueError):
            return ""
        main = _OF_ALL_FILES.search(text) if text.startswith("Format:") else None
        return main[1].strip() if main else ", ".join(sorted(set(_COMMON.findall(text))))

    def with_file_named(self, name: str) -> str | None:
        end = os.fsencode(f"/{name}\n")
        for label, data in self._lists.items():
            if end in data:
                return label.partition(":")[0]
        return None

    def lists_having(self, paths: Iterable[str]) -> Iterator[tuple[str, list[str]]]:
        wanted = {os.fsencode(path) for path in paths}
        for data in self._lists.values() if wanted else ():
            lines = data.split(b"\n")
            if found := wanted.intersection(lines):
                every = [os.fsdecode(line) for line in lines if line]
                yield from ((os.fsdecode(line), every) for line in found)


def _names(field: str) -> tuple[str, ...]:
    return tuple(re.findall(r"(?:^|[,|])\s*([a-z0-9][a-z0-9+.-]+)", field))
