"""Canonical TOML, for files whose digest is their identity: one line a field, keys in the order given. The writer is
our own because identities rest on these bytes, which must not change with a library's version."""

from __future__ import annotations

import re
from typing import Any

__all__ = ["string", "table"]

_PLAIN_ESCAPES = {"\b": "\\b", "\t": "\\t", "\n": "\\n", "\f": "\\f", "\r": "\\r", '"': '\\"', "\\": "\\\\"}
_BARE_KEY = re.compile(r"[A-Za-z0-9_-]+")
_NEEDS_ESCAPE = re.compile(r'[\x00-\x1f"\\\x7f]')


def string(text: str) -> str:
    """A basic string of TOML."""

    def escape(found: re.Match[str]) -> str:
        return _PLAIN_ESCAPES.get(found[0]) or f"\\u{ord(found[0]):04x}"

    return '"' + _NEEDS_ESCAPE.sub(escape, text) + '"'


def _key(text: str) -> str:
    return text if _BARE_KEY.fullmatch(text) else string(text)


def _value(value: Any) -> str:
    match value:
        case bool():
            return "true" if value else "false"
        case int():
            return str(value)
        case str():
            return string(value)
        case list() | tuple():
            return "[" + ", ".join(_value(item) for item in value) + "]"
        case dict():
            return "{ " + ", ".join(f"{_key(key)} = {_value(item)}" for key, item in value.items()) + " }"
    raise TypeError(f"no TOML for {type(value).__name__}")


def table(header: str, fields: dict[str, Any]) -> str:
    """A table of TOML: its header, and its fields that are not None."""
    lines = [f"{key} = {_value(value)}" for key, value in fields.items() if value is not None]
    return header + "\n" + "\n".join(lines) + "\n"
