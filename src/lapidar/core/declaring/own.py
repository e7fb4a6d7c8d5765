"""Packages of the project's own (members): folders below it that have their language's standard file."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from functools import cached_property
from pathlib import Path
from typing import NamedTuple

from lapidar.core import languages
from lapidar.core.declaring import reading
from lapidar.core.errors import DeclarationError
from lapidar.core.place import DECLARATION_NAME, Place
from lapidar.core.records.declaration import Declaration, Need

__all__ = ["Own", "OwnPackage", "is_path", "package_in"]

_DEEPEST = 4  # folders below the project
_PASSED_OVER = re.compile(r"\..*|_.*|node_modules|build|dist|venv|env|tests?|data|results")
_REFERENCE = re.compile(r"@\s*(?:file:)?(?P<path>[^\s;#]+)")


class OwnPackage(NamedTuple):
    """A package in the project.

    Attributes:
        path: of its folder, below the project.
    """

    language: str
    name: str
    path: str
    needs: tuple[Need, ...]

    @property
    def typed(self) -> str:
        """As one needs it."""
        return f"./{self.path}"

    def says_folder(self, file: str) -> bool:
        """Whether a need can name its folder: in a language and a file of which needs are our own business. A standard
        file takes no relative path; there, and for other languages, an override has it.

        Args:
            file: that declares the needs.
        """
        return self.language == languages.usual().name and file == DECLARATION_NAME

    def as_need(self, file: str) -> str:
        """As it is declared in a file."""
        return f"{self.name} @ ./{self.path}" if self.says_folder(file) else self.name


def is_path(text: str) -> bool:
    """Whether what somebody needs is a folder: ``./libs/kilns``."""
    return text in (".", "..") or text.startswith(("./", "../", "/", "~")) or (text.endswith("/") and "@" not in text)


class Own:
    """The packages of a project's own.

    Args:
        place: the project.
    """

    def __init__(self, place: Place) -> None:
        self.place = place

    @cached_property
    def every(self) -> list[OwnPackage]:
        """All that lie there, by their paths; what cannot be read is none."""
        return list(self._looked_for())

    def named(self, language: str, name: str) -> OwnPackage | None:
        """The one of a name."""
        return next((one for one in self.every if (one.language, one.name) == (language, name)), None)

    def at(self, text: str) -> OwnPackage:
        """The package in a folder that somebody names.

        Raises:
            DeclarationError: there is none, or it is not the project's.
        """
        folder = Path(os.path.abspath(os.path.expanduser(text)))
        if not folder.is_dir():
            raise DeclarationError(f"There is no folder {text}", remedy="Name the folder of a package.")
        inside = self.place.relative(folder)
        if inside is None:
            raise DeclarationError(
                f"{text} lies outside of the project {self.place.root}",
                why="elsewhere it would be found by nobody",
                remedy=f"Move or clone it into the project; or need what was built of it: NAME @ {text}.",
            )
        if inside == ".":
            raise DeclarationError(
                f"{text} is the project itself", remedy="Need what it needs; a package of it gets a folder of its own."
            )
        return _required(self.place, inside, f"{text} is no package", "lapidar need NAME")

    def require_all(self, declaration: Declaration) -> None:
        """What members need of each other must be declared by its folder: an index may have another of that name.

        Raises:
            DeclarationError: one is not.
        """
        declared = {(one.language, one.name): one.folder for one in declaration.overrides.values() if one.folder}
        declared |= {(need.language, need.name): path for need in declaration.needs if (path := _path_of(need))}
        for (language, name), path in declared.items():
            member = _read(self.place, os.path.normpath(path)) if (self.place.root / path).is_dir() else None
            for need in member.needs if member and member.language == language else ():
                other = self.named(need.language, need.name)
                if other and (other.language, other.name) not in declared and not need.group and not _path_of(need):
                    raise DeclarationError(
                        f"{name} in {member.path if member else path} needs {need.text}, which lies in {other.path} "
                        "and is not declared",
                        why="an index may have a package of that name that is somebody else's",
                        remedy=f"lapidar need {other.typed}",
                    )

    def _looked_for(self) -> Iterator[OwnPackage]:
        root = str(self.place.root)
        for at, folders, names in os.walk(root):
            below = os.path.relpath(at, root)
            deep = 0 if below == "." else below.count("/") + 1
            folders[:] = sorted(name for name in folders if not _PASSED_OVER.fullmatch(name)) if deep < _DEEPEST else []
            if deep and "pyvenv.cfg" not in names and (found := _read(self.place, below)):
                yield found


def _read(place: Place, path: str) -> OwnPackage | None:
    """The package in a folder below the project; None where there is none that says its name."""
    folder = place.root / path
    for language in languages.every():
        if not any((folder / name).is_file() for name in language.declaration_files if name != DECLARATION_NAME):
            continue
        try:
            told = reading.read(Place.of_project(folder))
        except DeclarationError:
            return None
        name = language.versions.normalised(told.name) if told.name else ""
        if name:
            needs = tuple(one for one in told.needs if one.language == language.name)
            return OwnPackage(language.name, name, path, needs)
    return None


def package_in(place: Place, folder: Path) -> OwnPackage:
    """The package in a folder of a project, the project's own folder included.

    Raises:
        DeclarationError: there is none.
    """
    what, remedy = f"{folder} is no package of this project", "Name the folder that has that file."
    return _required(place, place.relative(folder), what, remedy)


def _required(place: Place, path: str | None, what: str, remedy: str) -> OwnPackage:
    found = _read(place, path) if path is not None else None
    if found is None:
        files = ", ".join(file for one in languages.every() for file in one.declaration_files)
        raise DeclarationError(what, why=f"it has none of {files} that says its name", remedy=remedy)
    return found


def _path_of(need: Need) -> str:
    """The folder that a need names; "" for none."""
    found = _REFERENCE.search(need.text)
    path = found["path"] if found else ""
    return path if path and "://" not in path and not path.startswith(("git+", "/")) else ""
