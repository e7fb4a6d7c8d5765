"""Fields in plain text (the Debian control format), in which packages of several languages say what they are.
A line that begins with white space goes on with the field before; an empty line ends a record."""

from __future__ import annotations

from collections.abc import Iterator

__all__ = ["records"]


def records(text: str) -> Iterator[dict[str, str]]:
    """The records of a text. A field that comes twice counts as it was last.

    Raises:
        ValueError: a line is neither a field nor goes on with one.
    """
    fields: dict[str, str] = {}
    name = ""
    for number, line in enumerate(text.replace("\r\n", "\n").split("\n"), 1):
        if not line.strip():
            if fields:
                yield fields
            fields, name = {}, ""
        elif line[0] in " \t":
            if not name:
                raise ValueError(f"line {number} goes on with a field, and there is none before it")
            fields[name] += "\n" + line.strip()
        elif not line.startswith("#"):
            name, colon, value = line.partition(":")
            if not colon or not name.strip() or " " in name.strip():
                raise ValueError(f"line {number} is no field: {line[:60]!r}")
            name = name.strip()
            fields[name] = value.strip()
    if fields:
        yield fields
