"""The files that a project may declare something in. A light module: most projects are asked only whether they have
one."""

from __future__ import annotations

import os
from pathlib import Path

from lapidar.core import languages
from lapidar.core.project import Project

__all__ = ["DECLARATION_NAME", "may_declare", "user_file"]

DECLARATION_NAME = "lapidar.toml"


def user_file() -> Path:
    """The user's configuration file (XDG Base Directory Specification)."""
    return Path(os.path.expanduser(os.environ.get("XDG_CONFIG_HOME") or "~/.config")) / "lapidar" / "config.toml"


def may_declare(project: Project) -> bool:
    """Whether a project has any file that declares things."""
    names = [DECLARATION_NAME, *(name for language in languages.every() for name in language.declaration_files)]
    return any((project.root / name).is_file() for name in names)
