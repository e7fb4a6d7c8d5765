"""What the DESCRIPTION of a project declares: its needs, and the versions of R that it works with; and writing needs
into it. A project that is no package may have one too, for nothing but that."""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path

from lapidar.core import foreign
from lapidar.core.cache.store import Cache
from lapidar.core.declaring.project import ProjectFiles
from lapidar.core.errors import DeclarationError
from lapidar.core.languages.fields import records
from lapidar.core.languages.protocol import Declared
from lapidar.core.languages.r import description, requirements, versions
from lapidar.core.languages.r.description import FILE_NAME, Description
from lapidar.core.languages.r.requirements import BASE, Requirement
from lapidar.core.languages.r.versions import Range
from lapidar.core.records.declaration import Declaration, Index, Need, VersionRange
from lapidar.core.records.snapshot import Platform, Runtime

__all__ = [
    "DescriptionPlace",
    "applies",
    "declared",
    "parse_range",
    "proposed",
    "runtime_of_pins",
    "standard_place",
]

_NEEDED = ("Imports", "Depends", "LinkingTo")  # the first is where a new need goes
_SUGGESTED = "suggests"  # the group that the field Suggests is
_FIELD = r"(?m)^{name}:[^\n]*(?:\n[ \t][^\n]*)*\n?"


def declared(project: ProjectFiles) -> Declared:
    """What the project's DESCRIPTION declares, which is no TOML; nothing where it has none.

    Raises:
        DeclarationError: it cannot be read.
    """
    try:
        data = project.data(FILE_NAME)
        if data is None:
            return Declared()
        found = description.parse(data)
        if "Package" not in found.fields and "Imports" not in found.fields and "Depends" not in found.fields:
            return Declared()  # another program's file of that name
        return Declared(
            name=found.name,
            runtime=found.runtime or None,
            needs=tuple(_need(one, "", kind) for kind in _NEEDED for one in _of(found, kind)),
            extras={"suggests": tuple(_need(one, "suggests", "Suggests") for one in _of(found, "Suggests"))},
            files=(FILE_NAME,),
        )
    except (OSError, ValueError) as error:
        raise DeclarationError(f"{FILE_NAME} cannot be read", why=str(error), remedy="Mend it.") from error


def parse_range(text: str, where: str, before: VersionRange | None = None) -> Range:
    """A range of versions of R: ``>= 4.1``. A plain version means that line of versions: 4.2 is any 4.2.x.

    Args:
        before: one that must hold too.

    Raises:
        DeclarationError: it is none.
    """
    try:
        asked = _line(text) if text.strip()[:1].isdigit() else versions.parse_range(text)
    except ValueError as error:
        raise DeclarationError(
            f"{where}: {text!r} is no range of versions", why=str(error), remedy='Write ">= 4.1" or "4.2".'
        ) from error
    return before.and_also(asked) if isinstance(before, Range) else asked


def _line(text: str) -> Range:
    numbers = versions.key(text)
    if len(numbers) > 2:
        return Range((("==", text.strip()),))
    above = ".".join(map(str, (*numbers[:-1], numbers[-1] + 1)))
    return Range(((">=", text.strip()), ("<", above)))


def _of(found: Description, kind: str) -> list[Requirement]:

    return [one for one in found.needs(kind) if one.name not in BASE]


def _need(one: Requirement, group: str, kind: str) -> Need:
    return Need("r", one.name, str(one), group, f"{FILE_NAME}, {kind}", requirements.parse(str(one)))


class DescriptionPlace:
    """A DESCRIPTION as the place of a project's needs: see `lapidar.core.languages.protocol.NeedsPlace`. All but the
    fields that are changed stays as it is."""

    def __init__(self, text: str) -> None:
        self.file = FILE_NAME
        self._text = text
        fields = next(records(text), {})
        self._before = {name: self._items(fields.get(name, "")) for name in (*_NEEDED, "Suggests")}
        self._now = {name: list(items) for name, items in self._before.items()}

    @staticmethod
    def _items(text: str) -> list[str]:
        return [str(one) for one in requirements.field(text)]

    @property
    def text(self) -> str:
        """The file, with what was changed."""
        text = self._text
        for name, items in self._now.items():
            if items != self._before[name]:
                text = _with_field(text, name, items)
        return text

    def array(self, group: str, *, create: bool) -> list[str] | None:
        if group in ("", *_NEEDED):
            return self._now[group or _NEEDED[0]]
        if group.lower() == _SUGGESTED and not create:
            return self._now["Suggests"]
        if not create:
            return None
        raise DeclarationError(
            f"{FILE_NAME} has no place for the group {group}",
            why="what it suggests is taken only where [needs] extras of lapidar.toml says so",
            remedy="Declare it in [needs.r.groups] of lapidar.toml.",
        )

    def named(self, item: object) -> str:
        try:
            return requirements.parse(str(item)).name
        except ValueError:
            return ""

    def normalised(self, name: str) -> str:
        return name

    def groups(self) -> list[str]:
        return ["", *_NEEDED[1:], _SUGGESTED]


def _with_field(text: str, name: str, items: list[str]) -> str:
    """The text with a field that has these items, each condition with the name of its own, as R writes them."""
    entries = [entry for item in items for entry in _entries(requirements.parse(item))]
    lines = f"{name}:\n" + ",\n".join(f"    {entry}" for entry in entries) + "\n" if entries else ""
    pattern = re.compile(_FIELD.format(name=name))
    if pattern.search(text):
        return pattern.sub(lambda _: lines, text, count=1)
    return text.rstrip("\n") + "\n" + lines


def _entries(one: Requirement) -> list[str]:
    if not one.range:
        return [one.name]
    return [f"{one.name} ({operator} {version})" for operator, version in one.range.conditions]


def standard_place(root: Path) -> DescriptionPlace | None:
    """The project's DESCRIPTION; None where it has none that declares anything.

    Raises:
        DeclarationError: it cannot be read.
    """
    if not declared(ProjectFiles(root)).files:
        return None
    try:
        return DescriptionPlace(foreign.read_text(root / FILE_NAME))
    except (UnicodeDecodeError, OSError, ValueError) as error:
        raise DeclarationError(
            f"{FILE_NAME} cannot be changed", why=f"it is not UTF-8: {error}", remedy="Save it as UTF-8."
        ) from error


def proposed(root: Path) -> Declaration:
    """No other file says anything."""
    return Declaration()


def runtime_of_pins(needs: Sequence[Need], indexes: Sequence[Index], cache: Cache | None) -> str:
    """Sources fit any runtime that they allow."""
    return ""


def applies(need: Need, runtime: Runtime, platform: Platform) -> bool:
    """Every need does, everywhere."""
    return True
