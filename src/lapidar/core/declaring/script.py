"""A script that states its needs inline: a block of comments with TOML in it, by the standard of script metadata (PEP
723); for languages that it is not of, a block of our own type in the same form."""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import tomlkit
from msgspec import Struct
from msgspec.structs import replace
from tomlkit import TOMLDocument
from tomlkit.exceptions import TOMLKitError

from lapidar.core import foreign, languages
from lapidar.core.declaring import editing
from lapidar.core.declaring.inline import begins, language_of, types
from lapidar.core.errors import DeclarationError
from lapidar.core.languages.protocol import Language

__all__ = ["Script", "read"]

# As the standard has it.
_BLOCK = re.compile(r"(?m)^# /// (?P<type>[a-zA-Z0-9-]+)$\s(?P<content>(^#(| .*)$\s)+)^# ///$")
_RUNTIME, _NEEDS, _TOOL = "requires-", "dependencies", "tool"
_HEAD = re.compile(r"(#!.*\n)?(#.*coding[:=].*\n)?")
_MOST_BYTES = 20_000_000
_MARK = "\ufeff"


class Script(Struct, frozen=True):
    """A script.

    Attributes:
        path: of its file.
        text: all of it, with LF alone at the ends of lines.
        language: whose it is.
        document: what its block says; empty where it has none.
        span: where the block stands in the text, from its first line to its last.
        ends: how lines end in the file.
        mark: the byte-order mark that it begins with; "" for none.
    """

    path: Path
    text: str
    language: Language
    document: TOMLDocument
    span: tuple[int, int] | None
    ends: str = "\n"
    mark: str = ""

    def declaration(self) -> str:
        """The same as a lapidar.toml: see docs/declaration.md. Paths of indexes are made absolute.

        Raises:
            DeclarationError: it says what means nothing.
        """
        told: Mapping[str, Any] = self.document.unwrap()
        runtime = f"{_RUNTIME}{self.language.name}"
        if unknown := sorted(set(told) - {runtime, _NEEDS, _TOOL}):
            raise self._wrong(f"it says {unknown[0]}, which means nothing there")
        own = dict((told.get(_TOOL) or {}).get("lapidar") or {})
        needs = told.get(_NEEDS, [])
        if not isinstance(needs, list) or not all(isinstance(one, str) for one in needs):
            raise self._wrong(f"{_NEEDS} is no list of strings")
        result = tomlkit.document()
        result.add("project", tomlkit.item({"name": self.path.stem}))
        if runtime in told:
            if not isinstance(told[runtime], str):
                raise self._wrong(f"{runtime} is no string")
            result.add("runtime", tomlkit.item({self.language.name: told[runtime]}))
        key = "packages" if self.language is languages.usual() else self.language.name
        result.add("needs", tomlkit.item({**_table(own.pop("needs", {})), key: needs}))
        if index := own.pop("index", None):
            result.add("index", tomlkit.item({name: self._located(one) for name, one in _table(index).items()}))
        for name, table in own.items():
            result.add(name, tomlkit.item(table))
        return tomlkit.dumps(result)

    def _located(self, index: object) -> object:
        """An index, with the path of a folder as seen from anywhere."""
        if isinstance(index, dict) and isinstance(index.get("address"), str):
            return {**index, "address": self._located(index["address"])}
        if isinstance(index, str) and "://" not in index:
            return str(self.path.parent / foreign.expanded(index))
        return index

    def _wrong(self, why: str) -> DeclarationError:
        return DeclarationError(
            f"The block of {self.path.name} cannot be meant",
            why=why,
            remedy=f"It may say {_RUNTIME}{self.language.name}, {_NEEDS}, and [tool.lapidar] as in lapidar.toml.",
        )

    def needs(self) -> editing.NeedsFile:
        """Its list of needs, to be edited."""
        text = tomlkit.dumps(self.document)
        return editing.NeedsFile(
            self.path.name, text, language=self.language, main=(_NEEDS,), groups=(_TOOL, "lapidar", "groups")
        )

    def with_block(self, told: str) -> bytes:
        """The file with another block: nothing else of it changes."""
        kind = self.language.script_block
        lines = [f"# {line}".rstrip() for line in told.strip("\n").split("\n")]
        block = "\n".join([f"# /// {kind}", *lines, "# ///"])
        if self.span:
            text = self.text[: self.span[0]] + block + self.text[self.span[1] :]
        else:
            head = _HEAD.match(self.text)
            at = head.end() if head else 0
            text = f"{self.text[:at]}{block}\n\n{self.text[at:]}" if self.text[at:] else f"{self.text[:at]}{block}\n"
        return (self.mark + text.replace("\n", self.ends)).encode("utf-8", "surrogateescape")


def _table(value: object) -> dict[str, Any]:
    return dict(value) if isinstance(value, dict) else {}


def read(path: Path) -> Script:
    """Read a script.

    Raises:
        DeclarationError: it cannot be read, or its block is broken, or there are two.
    """
    try:
        data = foreign.read(path, _MOST_BYTES)
    except OSError as error:
        raise DeclarationError(f"{path} cannot be read", why=error.strerror or str(error)) from error
    found = parsed(data.decode("utf-8", "surrogateescape"), path)
    if found is None:
        raise DeclarationError(
            f"{path.name} is no script that states its needs",
            why="nothing says its language",
            remedy="Its name ends in .py or .R, or it has a block: # /// script.",
        )
    return found


def parsed(text: str, path: Path) -> Script | None:
    """A script by its text; None where nothing says its language.

    Raises:
        DeclarationError: see `read`.
    """
    mark = _MARK if text.startswith(_MARK) else ""
    text = text.removeprefix(_MARK)
    ends = "\r\n" if "\r\n" in text else "\n"
    text = text.replace("\r\n", "\n")
    blocks = [one for one in _BLOCK.finditer(text if text.endswith("\n") else text + "\n") if one["type"] in types()]
    if len(blocks) > 1:
        raise DeclarationError(
            f"{path.name} has two blocks that state its needs",
            why=f"at lines {', '.join(str(text.count(chr(10), 0, one.start()) + 1) for one in blocks)}",
            remedy="Make one of them.",
        )
    data = text.encode("utf-8", "surrogateescape")
    if not blocks and begins(data):
        raise DeclarationError(
            f"{path.name} has a block that does not end",
            why="each line of it begins with '# ', and the last is '# ///'",
            remedy="Correct it.",
        )
    language = language_of(path.name, data)
    if language is None:
        return None
    empty = Script(path, text, language, tomlkit.document(), None, ends, mark)
    if not blocks:
        return empty
    content = "".join(
        line[2:] if line.startswith("# ") else line[1:] for line in blocks[0]["content"].splitlines(keepends=True)
    )
    try:
        document = tomlkit.parse(content)
    except TOMLKitError as error:
        raise DeclarationError(
            f"The block of {path.name} is not valid TOML", why=str(error), remedy="Correct it there."
        ) from error
    return replace(empty, document=document, span=blocks[0].span())
