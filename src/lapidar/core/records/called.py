"""What things may be called that a person names: analyses, groups, indexes."""

from __future__ import annotations

import unicodedata

from lapidar.core.errors import DeclarationError

__all__ = ["RULE", "checked", "is_fit"]

_MOST = 80
_UNFIT = '/\\@:*?"<>|'  # what parts a path or a revision from a name, and what no file system of others bears
RULE = (
    "A name has 1 to 80 characters of any language: letters, digits, spaces, - _ . and the like; none of / \\ @ : * ? "
    '" < > | in it, no line ends, no space at its ends, no - or . at its beginning.'
)


def is_fit(text: str) -> bool:
    """Whether something may be called so. See `RULE`."""
    return (
        0 < len(text) <= _MOST
        and text.isprintable()
        and text == text.strip()
        and text == unicodedata.normalize("NFC", text)
        and not text.startswith(("-", "."))
        and not any(character in _UNFIT for character in text)
    )


def checked(text: str, what: str, where: str = "") -> str:
    """A name that is fit.

    Args:
        what: it would be the name of; where: it stands, as a message begins.

    Raises:
        DeclarationError: it is not.
    """
    if not is_fit(text):
        raise DeclarationError(f"{where}{where and ': '}{text!r} is no name of {what}", remedy=RULE)
    return text
