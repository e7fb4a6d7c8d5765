"""Whether a file is a script that states its needs inline; see `script`. Nothing is loaded for that: it is asked at
each run."""

from __future__ import annotations

import re

from lapidar.core import languages
from lapidar.core.languages.protocol import Language

__all__ = ["begins", "language_of", "types"]

_BEGINS = re.compile(rb"(?m)^(?:\xef\xbb\xbf)?# /// ([a-zA-Z0-9-]+)[ \t]*\r?$")


def types() -> dict[str, Language]:
    """Types of blocks, and whose needs they state."""
    return {one.script_block: one for one in languages.every() if one.script_block}


def begins(data: bytes) -> str:
    """The type of the first block of needs that a file's bytes begin; "" for none."""
    known = types()
    return next((name for one in _BEGINS.finditer(data) if (name := one[1].decode("ascii")) in known), "")


def language_of(name: str, data: bytes) -> Language | None:
    """Whose script a file is: by its block, else by its name; None where neither tells."""
    if kind := begins(data):
        return types()[kind]
    return next((one for one in types().values() if name.endswith(tuple(one.source_suffixes))), None)
