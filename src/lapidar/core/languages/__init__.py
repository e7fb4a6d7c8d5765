"""What is particular to the language that a runtime runs: the protocol, and the list of languages.

A language is a folder here and one line in the list. One that is being written, or that is nobody else's, can be added
from outside: `LAPIDAR_LANGUAGES` names modules (with blanks between) that each have an object `LANGUAGE`.
"""

from __future__ import annotations

import importlib
import os
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING

from lapidar.core.errors import LapidarError

if TYPE_CHECKING:
    from lapidar.core.languages.protocol import Language

__all__ = ["every", "of", "sources_of", "usual"]

_MODULES = ("lapidar.core.languages.python.language", "lapidar.core.languages.r.language")
_loaded: list[Language] = []


def every() -> list[Language]:
    """All languages, in the order of the list."""
    if not _loaded:
        names = (*_MODULES, *os.environ.get("LAPIDAR_LANGUAGES", "").split())
        found = [importlib.import_module(name).LANGUAGE for name in names]
        _loaded[:] = found  # all at once: other threads may ask for the first time too
    return _loaded


def sources_of(language: Language, root: Path) -> Iterable[str]:
    """The source files of a project in a language, as paths relative to its root; none of one that is not read."""
    return language.surveying.sources(root) if language.surveying else ()


def usual() -> Language:
    """The language of what people write without one: ``packages`` in lapidar.toml, an index that names none."""
    return every()[0]


def of(name: str) -> Language:
    """A language by its name.

    Raises:
        LapidarError: there is none of that name.
    """
    for language in every():
        if language.name == name:
            return language
    raise LapidarError(
        f"This lapidar does not know the language {name}",
        why=f"it knows {', '.join(language.name for language in every())}",
        remedy="Install a newer lapidar, or the module that knows it (LAPIDAR_LANGUAGES).",
    )
