"""Edit what a project declares: comments, order and everything else stay as they are."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

import tomlkit
from packaging.requirements import InvalidRequirement, Requirement
from packaging.utils import canonicalize_name
from tomlkit.exceptions import TOMLKitError
from tomlkit.items import Array
from tomlkit.toml_document import TOMLDocument

from lapidar.core.declaring.reading import DECLARATION_NAME, PYPROJECT_NAME, load
from lapidar.core.declaring.records import Need
from lapidar.core.errors import DeclarationError

__all__ = ["Place", "added", "claimed", "dropped", "place_of"]


class Place:
    """The file that a project declares its needs in, and its text.

    Attributes:
        file: ``pyproject.toml`` where it has a [project] table, else ``lapidar.toml``.
    """

    def __init__(self, file: str, text: str) -> None:
        self.file = file
        try:
            self.document: TOMLDocument = tomlkit.parse(text)
        except TOMLKitError as error:
            raise DeclarationError(f"{file} is not valid TOML", why=str(error), remedy=f"Correct {file}.") from error

    @property
    def text(self) -> str:
        return tomlkit.dumps(self.document)

    @property
    def _standard(self) -> bool:
        return self.file == PYPROJECT_NAME

    def array(self, group: str, *, create: bool) -> Array | None:
        """The list of needs of a group, made where there is none."""
        keys = self._keys(group)
        table: Any = self.document
        for key in keys[:-1]:
            if key not in table:
                if not create:
                    return None
                table.add(key, tomlkit.table())
            table = table[key]
        key = next((one for one in table if canonicalize_name(one) == canonicalize_name(keys[-1])), keys[-1])
        if key not in table:
            if not create:
                return None
            table.add(key, tomlkit.array().multiline(True))
        found = table[key]
        if not isinstance(found, Array):
            raise DeclarationError(f"{self.file}: {'.'.join(keys)} must be a list of strings")
        return found

    def _keys(self, group: str) -> list[str]:
        if self._standard:
            return ["dependency-groups", group] if group else ["project", "dependencies"]
        return ["needs", "groups", group] if group else ["needs", "packages"]

    def groups(self) -> list[str]:
        """The groups there are, the main one first."""
        table: Any = self.document
        for key in ["dependency-groups"] if self._standard else ["needs", "groups"]:
            table = table.get(key, {})
        return ["", *(str(key) for key in table)]


def place_of(root: Path) -> Place:
    """Where a project declares its needs.

    Raises:
        DeclarationError: the file cannot be read.
    """
    path = root / PYPROJECT_NAME
    if path.is_file() and isinstance(load(path, PYPROJECT_NAME).get("project"), dict):
        place = Place(PYPROJECT_NAME, path.read_text("utf-8"))
        if "dependencies" in place.document["project"].get("dynamic", []):
            raise DeclarationError(
                f"{PYPROJECT_NAME} says that its dependencies are dynamic",
                remedy="Write them under [project] dependencies there, or declare the needs in lapidar.toml.",
            )
        return place
    path = root / DECLARATION_NAME
    return Place(DECLARATION_NAME, path.read_text("utf-8") if path.is_file() else "")


def _name(item: object) -> str:
    try:
        return canonicalize_name(Requirement(str(item)).name)
    except InvalidRequirement:
        return ""


def added(place: Place, needs: Sequence[Need]) -> Mapping[str, str]:
    """The declaration with needs in it; one of the same name and group is replaced where it stands.

    Returns:
        The new text by the file's name.
    """
    for need in needs:
        array = place.array(need.group, create=True)
        assert array is not None
        at = next((at for at, item in enumerate(array) if _name(item) == need.name), None)
        if at is None:
            array.append(need.text)
        else:
            array[at] = need.text
    return {place.file: place.text}


def dropped(place: Place, names: Iterable[str], group: str | None) -> Mapping[str, str]:
    """The declaration without needs.

    Args:
        group: only of this group; None for wherever they stand.

    Raises:
        DeclarationError: one is not declared there.
    """
    for name in names:
        found = False
        for one in place.groups() if group is None else [group]:
            array = place.array(one, create=False)
            for at in reversed(range(len(array or ()))):
                if array is not None and _name(array[at]) == canonicalize_name(name):
                    del array[at]
                    found = True
        if not found:
            where = f"the group {group} of {place.file}" if group else place.file
            raise DeclarationError(
                f"{name} is not declared in {where}",
                remedy="`lapidar why` tells who needs it, where it is only needed by another package.",
            )
    return {place.file: place.text}


def claimed(text: str, index: str, names: Sequence[str]) -> str:
    """The text of a lapidar.toml in which an index claims names: they are looked for there and nowhere else.

    Raises:
        DeclarationError: it has no such index.
    """
    document = Place(DECLARATION_NAME, text).document
    found = document.get("index", {}).get(index)
    if found is None:
        known = ", ".join(document.get("index", {})) or "none"
        raise DeclarationError(
            f"{DECLARATION_NAME} has no index {index}", remedy=f"It has: {known}. Write its address into [index] first."
        )
    if isinstance(found, str):
        fields = tomlkit.inline_table()
        fields.add("address", found)
        document["index"][index] = fields
        found = fields
    claims = [*found.get("claims", []), *(name for name in names if name not in found.get("claims", []))]
    found["claims"] = claims
    return tomlkit.dumps(document)
