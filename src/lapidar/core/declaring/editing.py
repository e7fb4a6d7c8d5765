"""Edit what a project declares: comments, order and everything else stay as they are."""

from __future__ import annotations

import bisect
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

import tomlkit
from tomlkit.exceptions import TOMLKitError
from tomlkit.items import Array
from tomlkit.toml_document import TOMLDocument

from lapidar.core import foreign, languages, spelling
from lapidar.core.declaring.files import DECLARATION_NAME
from lapidar.core.errors import DeclarationError
from lapidar.core.languages.protocol import Language, NeedsPlace
from lapidar.core.records.declaration import Need, group_name

__all__ = [
    "NeedsFile",
    "added",
    "claimed",
    "dropped",
    "own_place",
    "place_of",
    "with_folder",
    "with_system_needs",
    "without_folder",
]

_ON_A_LINE = 4  # values of a list; more have a line each


def _parsed(file: str, text: str) -> TOMLDocument:
    try:
        return tomlkit.parse(text)
    except TOMLKitError as error:
        raise DeclarationError(f"{file} is not valid TOML", why=str(error), remedy=f"Correct {file}.") from error


class NeedsFile:
    """A place in TOML. The file that a project declares its needs in, and its text.

    Args:
        file: its name.
        language: whose needs they are.
        main, groups: the keys that lead to the list of needs, and to the table of groups.
    """

    def __init__(self, file: str, text: str, *, language: Language, main: Sequence[str], groups: Sequence[str]) -> None:
        self.file = file
        self._language = language
        self.main = tuple(main)
        self._groups = list(groups)
        self.document = _parsed(file, text)

    @property
    def text(self) -> str:
        return tomlkit.dumps(self.document)

    def array(self, group: str, *, create: bool) -> Array | None:
        """The list of needs of a group, made where there is none."""
        keys = [*self._groups, group] if group else list(self.main)
        table: Any = self.document
        if group and create:
            self._make_table(keys)
        for key in keys[:-1]:
            if isinstance(table, Array):
                return None
            if key not in table:
                if not create:
                    return None
                table.add(key, tomlkit.table())
            table = table[key]
        key = next((one for one in table if group_name(one) == group_name(keys[-1])), keys[-1])
        if key not in table:
            if not create:
                return None
            table.add(key, tomlkit.array().multiline(True))
        found = table[key]
        if not isinstance(found, Array):
            raise DeclarationError(f"{self.file}: {'.'.join(keys)} must be a list of strings")
        return found

    def _make_table(self, keys: Sequence[str]) -> None:
        """The list that another language's needs may be becomes the table that has groups too."""
        needs = self.document.get(keys[0], {})
        found = needs.get(keys[1]) if len(keys) > 2 else None
        if isinstance(found, Array):
            table = tomlkit.table()
            table.add("packages", found)
            del needs[keys[1]]
            needs.add(keys[1], table)

    def named(self, item: object) -> str:
        """The normalised name of an item of a list; "" for what is no need."""
        try:
            return self._language.versions.parse_need(str(item)).name
        except DeclarationError:
            return ""

    def normalised(self, name: str) -> str:
        """A name as its language normalises it."""
        return self._language.versions.normalised(name)

    def groups(self) -> list[str]:
        """The groups there are, the main one first."""
        table: Any = self.document
        for key in self._groups:
            table = table.get(key, {}) if isinstance(table, dict) else {}
        return ["", *(str(key) for key in table)]


def own_place(text: str, language: Language) -> NeedsFile:
    """``lapidar.toml`` as a place. The needs of the usual language stand under ``packages``, those of another under its
    name."""
    if language is languages.usual():
        return NeedsFile(
            DECLARATION_NAME, text, language=language, main=("needs", "packages"), groups=("needs", "groups")
        )
    place = NeedsFile(
        DECLARATION_NAME,
        text,
        language=language,
        main=("needs", language.name),
        groups=("needs", language.name, "groups"),
    )
    if isinstance(place.document.get("needs", {}).get(language.name), dict):
        place.main = ("needs", language.name, "packages")
    return place


def place_of(root: Path, language: Language) -> NeedsPlace:
    """Where a project declares its needs of a language.

    Raises:
        DeclarationError: the file cannot be read.
    """
    standard = language.declaring.standard_place(root) if language.declaring else None
    if standard is not None:
        return standard
    path = root / DECLARATION_NAME
    return own_place(foreign.read_text(path) if path.is_file() else "", language)


def with_system_needs(text: str, key: str, values: Iterable[str]) -> str:
    """``lapidar.toml`` with more of what is needed of the machine, sorted.

    Args:
        key: in [needs]: ``tools``, ``libraries`` ...

    Raises:
        DeclarationError: it is no TOML.
    """
    document = _parsed(DECLARATION_NAME, text)
    needs: Any = document.setdefault("needs", tomlkit.table())
    told = needs.get(key, [])
    every = sorted({*map(str, told if isinstance(told, list) else [told]), *values})
    needs[key] = tomlkit.item(every).multiline(len(every) > _ON_A_LINE)
    return tomlkit.dumps(document)


def added(place: NeedsPlace, needs: Sequence[Need]) -> Mapping[str, str]:
    """The declaration with needs in it; one of the same name and group is replaced where it stands.

    Returns:
        The new text by the file's name.
    """
    for need in needs:
        array = place.array(need.group, create=True)
        assert array is not None
        names = [place.named(item) for item in array]
        at = next((at for at, name in enumerate(names) if name == need.name), None)
        if at is None and names == sorted(names):  # it stays in order: two branches that add something merge
            array.insert(bisect.bisect(names, need.name), need.text)
        elif at is None:
            array.append(need.text)
        else:
            array[at] = need.text
    return {place.file: place.text}


def dropped(place: NeedsPlace, names: Iterable[str], group: str | None) -> Mapping[str, str]:
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
                if array is not None and place.named(array[at]) == place.normalised(name):
                    del array[at]
                    found = True
        if not found:
            where = f"the group {group} of {place.file}" if group else place.file
            arrays = [place.array(one, create=False) for one in place.groups()]
            declared = [place.named(need) for array in arrays for need in array or ()]
            meant = spelling.near(place.normalised(name), declared)
            raise DeclarationError(
                f"{name} is not declared in {where}",
                remedy=spelling.hint(
                    meant, "`lapidar why` tells who needs it, where it is only needed by another package."
                ),
            )
    return {place.file: place.text}


def with_folder(text: str, language: str, name: str, folder: str) -> str:
    """The text of a lapidar.toml in which a package is one of the project's own, where its language's needs cannot say
    a folder."""
    document = own_place(text, languages.usual()).document
    table = document.setdefault("override", tomlkit.table(True))
    if language != languages.usual().name:
        table = table.setdefault(language, tomlkit.table(True))
    told = tomlkit.table()
    told.add("folder", folder)
    told.add("because", _OWN)
    table[name] = told
    return tomlkit.dumps(document)


_OWN = "it is a package of this project"  # why such an override is there


def without_folder(text: str, language: str, name: str) -> str:
    """The text of a lapidar.toml without what `with_folder` wrote of a package."""
    document = own_place(text, languages.usual()).document
    table: Any = document.get("override", {})
    holder = table if language == languages.usual().name else table.get(language, {})
    if holder.get(name, {}).get("because") != _OWN:
        return text
    del holder[name]
    if not holder and holder is not table:
        del table[language]
    if not table:
        del document["override"]
    return tomlkit.dumps(document)


def claimed(text: str, index: str, names: Sequence[str]) -> str:
    """The text of a lapidar.toml in which an index claims names: they are looked for there and nowhere else.

    Raises:
        DeclarationError: it has no such index.
    """
    document = own_place(text, languages.usual()).document
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
