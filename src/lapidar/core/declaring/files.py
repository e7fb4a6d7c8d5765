"""The files that a project may declare something in. A light module: most projects are asked only whether they have
one."""

from __future__ import annotations

import os
from pathlib import Path

from lapidar.core import foreign, languages
from lapidar.core.project import Project

__all__ = ["DECLARATION_NAME", "declaring_files", "may_declare", "texts_of", "user_file"]

DECLARATION_NAME = "lapidar.toml"


def user_file() -> Path:
    """The user's configuration file (XDG Base Directory Specification)."""
    return Path(os.path.expanduser(os.environ.get("XDG_CONFIG_HOME") or "~/.config")) / "lapidar" / "config.toml"


def may_declare(project: Project) -> bool:
    """Whether a project has any file that declares things."""
    return any((project.root / name).is_file() for name in declaring_files())


def declaring_files() -> list[str]:
    """The names of all files that may declare something."""
    return [DECLARATION_NAME, *(name for language in languages.every() for name in language.declaration_files)]


def texts_of(project: Project) -> dict[str, str]:
    """The texts of the files that declare things, by their names; what cannot be read is left out."""
    found = {}
    for name in declaring_files():
        try:
            found[name] = foreign.read_text(project.root / name)
        except (OSError, UnicodeDecodeError):
            continue
    return found
