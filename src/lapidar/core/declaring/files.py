"""The files that a project may declare something in. A light module: most projects are asked only whether they have
one."""

from __future__ import annotations

import os
from pathlib import Path

from lapidar.core import foreign, languages
from lapidar.core.place import DECLARATION_NAME, Place

__all__ = ["DECLARATION_NAME", "declaring_files", "may_declare", "texts_of", "user_file"]


def user_file() -> Path:
    """The user's configuration file (XDG Base Directory Specification)."""
    return Path(os.path.expanduser(os.environ.get("XDG_CONFIG_HOME") or "~/.config")) / "lapidar" / "config.toml"


def may_declare(place: Place) -> bool:
    """Whether a project has any file that declares things."""
    return any((place.root / name).is_file() for name in declaring_files())


def declaring_files() -> list[str]:
    """The names of all files that may declare something."""
    return [DECLARATION_NAME, *(name for language in languages.every() for name in language.declaration_files)]


def texts_of(place: Place) -> dict[str, str]:
    """The texts of the files that declare things, by their names; what cannot be read is left out."""
    found = {}
    for name in declaring_files():
        try:
            found[name] = foreign.read_text(place.root / name)
        except (OSError, UnicodeDecodeError):
            continue
    return found
