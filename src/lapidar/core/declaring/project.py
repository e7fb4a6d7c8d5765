"""The files of a project that may declare something, as they are or as they would be."""

from __future__ import annotations

import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import tomli
from msgspec import Struct, field

from lapidar.core import foreign
from lapidar.core.errors import DeclarationError

__all__ = ["ProjectFiles", "load"]


class ProjectFiles(Struct, frozen=True):
    """The files of a project, as they are, or as they would be.

    Attributes:
        texts: those that would be others, by their names.
    """

    root: Path
    texts: Mapping[str, str] = field(default_factory=dict)

    def data(self, name: str) -> bytes | None:
        """The bytes of a file; None where there is none.

        Raises:
            OSError: it cannot be read.
        """
        if name in self.texts:
            return self.texts[name].encode("utf-8")
        path = self.root / name
        return path.read_bytes() if path.is_file() else None

    def toml(self, name: str) -> dict[str, Any] | None:
        """What a TOML file says; None where there is none.

        Raises:
            DeclarationError: it cannot be read.
        """
        if name in self.texts:
            return foreign.parsed(lambda: tomli.loads(self.texts[name]))
        return load(self.root / name, name) if (self.root / name).is_file() else None


def load(path: Path, shown: str) -> dict[str, Any]:
    """A TOML file's content.

    Raises:
        DeclarationError: it cannot be read; says the line and the column.
    """
    try:
        text = foreign.read_text(path)
        return foreign.parsed(lambda: tomli.loads(text))
    except tomli.TOMLDecodeError as error:
        if re.search(r"^(<{7}|>{7}) ", text, re.MULTILINE):
            raise DeclarationError(
                f"{shown} holds the marks of a merge that was not finished",
                remedy=f"Settle {shown} by hand; then `lapidar pin`, which keeps to the pins of both sides.",
            ) from error
        raise DeclarationError(
            f"{shown} is not valid TOML", why=str(error), remedy=f"Correct {shown} at that place."
        ) from error
    except UnicodeDecodeError as error:
        raise DeclarationError(f"{shown} is not UTF-8 text", remedy="Save it as UTF-8.") from error
    except ValueError as error:
        raise DeclarationError(f"{shown} cannot be read", why=str(error), remedy=f"Correct {shown}.") from error
    except OSError as error:
        raise DeclarationError(f"{shown} cannot be read", why=error.strerror or str(error)) from error
