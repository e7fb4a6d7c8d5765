"""What the DESCRIPTION of a project declares: its needs, and the versions of R that it works with; and writing needs
into it. A project that is no package may have one too, for nothing but that."""

from __future__ import annotations

from pathlib import Path

from lapidar.core.errors import DeclarationError
from lapidar.core.languages.protocol import Declared
from lapidar.core.languages.r import description, requirements, versions
from lapidar.core.languages.r.description import FILE_NAME, Description
from lapidar.core.languages.r.requirements import Requirement
from lapidar.core.languages.r.versions import Range
from lapidar.core.records.declaration import Need, VersionRange

__all__ = ["declared", "parse_range"]

# Which field is what the analysis needs, and which is a group of needs of its own.
_FIELDS = {"Depends": "", "Imports": "", "LinkingTo": "", "Suggests": "suggests", "Enhances": ""}


def declared(root: Path) -> Declared:
    """What the project's DESCRIPTION declares; nothing where it has none.

    Raises:
        DeclarationError: it cannot be read.
    """
    path = root / FILE_NAME
    if not path.is_file():
        return Declared()
    try:
        found = description.parse(path.read_bytes())
        if "Package" not in found.fields and "Imports" not in found.fields and "Depends" not in found.fields:
            return Declared()  # another program's file of that name
        return Declared(
            name=found.name,
            runtime=found.runtime or None,
            needs=tuple(
                _need(one, "", kind) for kind in ("Depends", "Imports", "LinkingTo") for one in _of(found, kind)
            ),
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
    from lapidar.core.languages.r.survey.flow import BASE

    return [one for one in found.needs(kind) if one.name not in BASE]


def _need(one: Requirement, group: str, kind: str) -> Need:
    return Need("r", one.name, str(one), group, f"{FILE_NAME}, {kind}", requirements.parse(str(one)))
