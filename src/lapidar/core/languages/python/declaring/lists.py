"""Requirements-style lists: the plain text lists of needs that many projects keep.

There is no standard for them but common use: a requirement a line, comments, lines that go on, further lists (-r),
lists of limits (-c), digests (--hash), and options of the program that reads them.
"""

from __future__ import annotations

import re
import sys
from pathlib import Path

from msgspec import Struct, field
from packaging.requirements import InvalidRequirement, Requirement
from packaging.utils import canonicalize_name

from lapidar.core import foreign
from lapidar.core.languages.python import requirements
from lapidar.core.records.declaration import Need

__all__ = ["Listed", "read"]

_INCLUDE = re.compile(r"^(?:-r|--requirement)[\s=]*(\S+)$")
_LIMIT = re.compile(r"^(?:-c|--constraint)[\s=]*(\S+)$")
_INDEX = re.compile(r"^(?:-i|--index-url|--extra-index-url|-f|--find-links)[\s=]+(\S+)$")
_HASH = re.compile(r"\s--hash[\s=]+sha256:([0-9a-f]{64})")
_OPTION = re.compile(r"\s--[a-z].*$")


# Modules that are often written for the distributions that provide them.
_MEANT = {
    "sklearn": "scikit-learn",
    "skimage": "scikit-image",
    "cv2": "opencv-python",
    "pil": "pillow",
    "bs4": "beautifulsoup4",
    "yaml": "pyyaml",
    "dateutil": "python-dateutil",
    "dotenv": "python-dotenv",
    "serial": "pyserial",
    "crypto": "pycryptodome",
    "mpl-toolkits": "matplotlib",
}
_OF_THE_RUNTIME = frozenset(
    name.replace("_", "-") for name in sys.stdlib_module_names if name not in ("typing", "dataclasses", "statistics")
)


class Listed(Struct):
    """What a list holds, with the lists that it includes.

    Attributes:
        indexes: the addresses of indexes and folders that it names.
        problems: lines that mean nothing to us, each with file, line number and reason.
    """

    needs: list[Need] = field(default_factory=list)
    limits: list[Need] = field(default_factory=list)
    sha256: dict[str, tuple[str, ...]] = field(default_factory=dict)
    indexes: list[str] = field(default_factory=list)
    problems: list[str] = field(default_factory=list)


def read(path: Path, group: str = "") -> Listed:
    """Read a list.

    Args:
        group: the group that its needs belong to.
    """
    listed = Listed()
    _read(path, path.name, group, listed, listed.needs, set())
    return listed


def _lines(text: str) -> list[tuple[int, str]]:
    """The lines with their numbers, those that go on put together, without comments."""
    lines: list[tuple[int, str]] = []
    began, parts = 0, ""
    for number, line in enumerate(text.splitlines(), 1):
        began = began or number
        stripped = re.sub(r"(^|\s)#.*$", "", line)
        if stripped.endswith("\\"):
            parts += stripped[:-1] + " "
            continue
        whole = (parts + stripped).strip()
        if whole:
            lines.append((began, whole))
        began, parts = 0, ""
    return lines


def _read(path: Path, shown: str, group: str, listed: Listed, into: list[Need], seen: set[Path]) -> None:
    if path.resolve() in seen:
        return
    seen.add(path.resolve())
    try:
        text = foreign.read_text(path, errors="replace")
    except OSError as error:
        listed.problems.append(f"{shown} cannot be read: {error.strerror}")
        return
    for number, line in _lines(text):
        where = f"{shown}:{number}"
        if included := _INCLUDE.match(line):
            _read(path.parent / included[1], included[1], group, listed, into, seen)
        elif limited := _LIMIT.match(line):
            _read(path.parent / limited[1], limited[1], group, listed, listed.limits, seen)
        elif index := _INDEX.match(line):
            listed.indexes.append(index[1])
        elif line.startswith("-"):
            listed.problems.append(f"{where}: {line.split()[0]} was passed over")
        else:
            _need(line, where, group, listed, into)


def _need(line: str, where: str, group: str, listed: Listed, into: list[Need]) -> None:
    digests = tuple(_HASH.findall(line))
    text = _OPTION.sub("", line).strip()
    try:
        requirement = Requirement(text)
        name = canonicalize_name(requirement.name)
        if (name, str(requirement.specifier)) == ("pkg-resources", "==0.0.0") or name in _OF_THE_RUNTIME:
            listed.problems.append(f"{where}: {text} is no distribution: it is part of the runtime, or of its tools")
            return
        if meant := _MEANT.get(name):
            listed.problems.append(f"{where}: {text} is no distribution to ask for; {meant} is meant")
            requirement.name = meant
        need = requirements.need(requirement, group, where)
    except InvalidRequirement as error:
        listed.problems.append(f"{where}: {text!r} was passed over: {str(error).splitlines()[0]}")
        return
    into.append(need)
    if digests:
        listed.sha256[need.name] = listed.sha256.get(need.name, ()) + digests
