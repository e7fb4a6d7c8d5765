"""Which package of the operating system a file belongs to, and which files one has: read from the package databases'
own files. On a system with another database a library has no owner."""

from __future__ import annotations

import functools
import os
import re
from collections.abc import Iterable, Iterator
from typing import NamedTuple, Protocol

from lapidar.core.system.debian import Debian
from lapidar.core.system.rpm import Rpm

__all__ = ["Database", "Owners", "SystemPackage", "here", "in_words"]

_NAMED = re.compile(r"/(?:etc|var/lib|usr)/[\w./+-]*\w")  # in a step of installation


class SystemPackage(NamedTuple):
    """A package of the operating system."""

    name: str
    version: str

    def __str__(self) -> str:
        return f"{self.name} {self.version}"

    @classmethod
    def recorded(cls, name: str | None, version: str | None) -> SystemPackage | None:
        """As a record has it: None where it has none."""
        return cls(name, version or "") if name else None


def in_words(owner: SystemPackage | None) -> str:
    """An owner, in a sentence."""
    return str(owner) if owner else "of no package"


class Database(Protocol):
    """A package database, as it says of itself: nothing is asked of the files that it speaks of."""

    @property
    def is_there(self) -> bool:
        """Whether the system has such a database."""

    def having(self, paths: Iterable[str]) -> Iterator[tuple[str, str, str]]:
        """Of absolute paths, those that a package has: path, the package's name and version."""

    def files_of(self, name: str) -> list[str]:
        """The paths of a package; nothing where it is not installed."""

    def works_with(self, name: str) -> Iterable[str]:
        """The installed packages without which what one has does not work: those that it depends on directly, but for
        what every system has; and of those that it recommends the ones of its own source, and headers."""

    def steps_of(self, name: str) -> Iterable[str]:
        """The texts of what installs a package, and takes it away."""

    def needs_of(self, name: str) -> Iterable[str]:
        """The installed packages that one depends on directly."""

    def licence_of(self, name: str, version: str) -> str:
        """What an installed package says of its licence; "" for nothing, and where another version is installed."""

    def with_file_named(self, name: str) -> str | None:
        """A package that has a file of this name anywhere."""

    def lists_having(self, paths: Iterable[str]) -> Iterator[tuple[str, list[str]]]:
        """Of absolute paths, those that a package has, each with all paths of that package."""


class Owners:
    """The answers of all databases of a system.

    Args:
        databases: the first that has an answer gives it.
    """

    def __init__(self, databases: Iterable[Database]) -> None:
        self._databases = [database for database in databases if database.is_there]

    def of(self, paths: Iterable[str], *, of_links: bool = False) -> dict[str, SystemPackage]:
        """The owners of files.

        Args:
            paths: absolute; links are followed.
            of_links: rather who owns the link itself, where somebody does.

        Returns:
            For each path that has one, its owner.
        """
        wanted: dict[str, list[str]] = {}
        for path in dict.fromkeys(paths):
            for spelling in dict.fromkeys(_spellings(path)):
                wanted.setdefault(spelling, []).append(path)
        found: dict[str, SystemPackage] = {}
        for database in self._databases:
            for spelling, name, version in database.having(wanted):
                for path in wanted[spelling]:
                    is_own = (spelling == os.path.realpath(path)) != of_links
                    if path not in found or is_own:
                        found[path] = SystemPackage(name, version)
        return found

    def files_of(self, owner: str) -> list[str]:
        """The files and links that a package has, as absolute paths, sorted; folders are left out."""
        return sorted(path for path in self._listed(owner) if os.path.islink(path) or os.path.isfile(path))

    def folders_of(self, owner: str) -> list[str]:
        """The folders that a package says it has, others with it perhaps, as absolute paths, sorted."""
        return sorted(path for path in self._listed(owner) if os.path.isdir(path) and not os.path.islink(path))

    def has(self, owner: str) -> bool:
        """Whether a package is installed."""
        return bool(self._listed(owner))

    def _listed(self, owner: str) -> list[str]:
        return next(filter(None, (database.files_of(owner) for database in self._databases)), [])

    def working_with(self, names: Iterable[str]) -> list[str]:
        """Packages, and those without which what they have does not work, and so on, sorted. What every system has (a
        shell, the C library) is not among them unless it is asked for.

        Args:
            names: of packages; where one is not installed, nothing stands for it.
        """
        found: dict[str, None] = {}
        waiting = list(filter(self.has, names))
        while waiting:
            name = waiting.pop()
            if name not in found:
                found[name] = None
                waiting += [other for database in self._databases for other in database.works_with(name)]
        return sorted(found)

    def named_by_installing(self, owner: str) -> list[str]:
        """What is there of the absolute paths that a package's own steps of installation name, sorted."""
        texts = (text for database in self._databases for text in database.steps_of(owner))
        return sorted({path for text in texts for path in _NAMED.findall(text) if os.path.lexists(path)})

    def needed_by(self, owner: str) -> list[str]:
        """The installed packages that a package depends on directly, sorted."""
        return sorted({need for database in self._databases for need in database.needs_of(owner)})

    def licence_of(self, owner: SystemPackage) -> str:
        """What a package says of its licence, where this version of it is installed here; "" elsewhere."""
        told = (database.licence_of(owner.name, owner.version) for database in self._databases)
        return next(filter(None, told), "")

    def has_file_named(self, name: str) -> str | None:
        """The package that has a file of this name anywhere; None where no installed one does."""
        return next(filter(None, (database.with_file_named(name) for database in self._databases)), None)

    def files_beside(self, paths: Iterable[str]) -> dict[str, list[str]]:
        """All files of the packages that own certain paths. What the operating system ships of a language mostly
        carries no list of its files, so these are what is known of them.

        Args:
            paths: absolute; only what lies below /usr/lib is looked for, for nothing else is the operating system's.

        Returns:
            For each path that a package has, the files of that package that are there.
        """
        wanted = [path for path in paths if path.startswith("/usr/lib")]
        found: dict[str, list[str]] = {}
        for database in self._databases if wanted else ():
            for path, every in database.lists_having(wanted):
                found.setdefault(path, [one for one in every if os.path.isfile(one)])
        return found


@functools.cache
def here() -> Owners:
    """The owners of this system's files."""
    return Owners((Debian(), Rpm()))


def _spellings(path: str) -> Iterable[str]:
    """The paths under which a package may have a file: /lib became a link to /usr/lib, but not in every list."""
    real = os.path.realpath(path)
    yield path
    yield real
    for one in (path, real):
        if one.startswith("/usr/"):
            yield one[len("/usr") :]
        elif re.match(r"/(lib|lib64|bin|sbin)/", one):
            yield "/usr" + one
