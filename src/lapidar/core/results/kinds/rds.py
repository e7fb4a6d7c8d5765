"""R's saved values (.rds, .RData), read as data by our own reader: vectors, lists, factors, data frames, text. The form
is that of R Internals, "Serialization Formats": XDR, versions 2 and 3. What is code in them (functions, environments,
promises, byte-code) is not read, and nothing is ever run."""

from __future__ import annotations

import math
import struct
from typing import Any

from lapidar.core.results.differences import Differences
from lapidar.core.results.kinds.archive import unpacked
from lapidar.core.results.kinds.values import walk
from lapidar.core.results.tolerances import Rules
from lapidar.core.results.verdict import Found, Pair, Unreadable

__all__ = ["compare", "read"]

_MOST_BYTES = 400_000_000
_DEEPEST = 300
_NIL, _GLOBAL, _EMPTY, _BASE, _MISSING, _UNBOUND = 254, 253, 242, 241, 251, 252
_SYMBOL, _PAIRS, _LANGUAGE, _TEXT, _LOGICAL, _INTEGER, _REAL, _COMPLEX, _STRINGS = 1, 2, 6, 9, 10, 13, 14, 15, 16
_LIST, _EXPRESSION, _RAW, _REFERENCE, _ALTERNATIVE, _ATTRIBUTE_PAIRS = 19, 20, 24, 255, 238, 239
_MISSING_INTEGER = -(2**31)


def compare(pair: Pair, rules: Rules) -> Found:
    """Compare two files of saved values."""
    differences = Differences(rules)
    try:
        with unpacked(pair.before) as one, unpacked(pair.after) as other:
            before, after = (_Reader(stream.read(_MOST_BYTES + 1)).value() for stream in (one, other))
    except (struct.error, IndexError, UnicodeDecodeError, OSError, EOFError, OverflowError) as error:
        raise Unreadable(f"it cannot be read: {error}") from error
    walk("", before, after, differences)
    return differences.found()


def read(data: bytes) -> Any:
    """A saved value by its unpacked bytes: a list of numbers or texts; where it has attributes, a dict with "value".

    Raises:
        ValueError: it is none that can be read.
    """
    try:
        return _Reader(data).value()
    except (struct.error, IndexError, UnicodeDecodeError, OverflowError, Unreadable) as error:
        raise ValueError(str(error)) from error


class _Reader:
    """Reads one serialised value."""

    def __init__(self, data: bytes) -> None:
        if len(data) > _MOST_BYTES:
            raise Unreadable(f"it unpacks to more than {_MOST_BYTES:,} bytes")
        if data[:5] in (b"RDX2\n", b"RDX3\n"):
            data = data[5:]
        if data[:2] != b"X\n":
            raise Unreadable("it is not in the binary form (XDR)")
        self.data, self.at = data, 2
        self.references: list[Any] = []
        version, _, _ = self._integers(3)
        if version not in (2, 3):
            raise Unreadable(f"it is of version {version}")
        if version == 3:
            (size,) = self._integers(1)
            self._take(size)

    def _take(self, size: int) -> bytes:
        if size < 0 or self.at + size > len(self.data):
            raise Unreadable("it is cut short")
        self.at += size
        return self.data[self.at - size : self.at]

    def _integers(self, count: int) -> tuple[int, ...]:
        return struct.unpack(f">{count}i", self._take(4 * count))

    def _length(self) -> int:
        (length,) = self._integers(1)
        if length == -1:
            high, low = self._integers(2)
            length = (high << 32) | (low & 0xFFFFFFFF)
        return length

    def value(self, depth: int = 0) -> Any:
        """The next value: a list of numbers or texts, or, where it has attributes, a dict."""
        if depth > _DEEPEST:
            raise Unreadable(f"it is nested deeper than {_DEEPEST}")
        (flags,) = self._integers(1)
        kind, has_attributes, has_tag = flags & 0xFF, bool(flags & 0x200), bool(flags & 0x400)
        if kind in (_NIL, _GLOBAL, _EMPTY, _BASE, _MISSING, _UNBOUND):
            return None
        if kind == _REFERENCE:
            index = flags >> 8 or self._integers(1)[0]
            return self.references[index - 1]
        if kind == _SYMBOL:
            name = self.value(depth + 1)
            self.references.append(name)
            return name
        if kind in (_PAIRS, _LANGUAGE, _ATTRIBUTE_PAIRS):
            return self._pairs(kind, has_attributes or kind == _ATTRIBUTE_PAIRS, has_tag, depth)
        if kind == _ALTERNATIVE:
            return self._alternative(depth)
        content = self._content(kind, depth)
        attributes = self.value(depth + 1) if has_attributes else None
        return {"value": content, **attributes} if isinstance(attributes, dict) and attributes else content

    def _content(self, kind: int, depth: int) -> Any:
        match kind:
            case 9:
                (length,) = self._integers(1)
                return None if length == -1 else self._take(length).decode("utf-8", "surrogateescape")
            case 10 | 13:
                return [None if one == _MISSING_INTEGER else one for one in self._many(">{}i", 4)]
            case 14:
                return [_real(one) for one in self._many(">{}d", 8)]
            case 15:
                length = self._length()
                return [_real(one) for one in struct.unpack(f">{2 * length}d", self._take(16 * length))]
            case 16 | 19 | 20:
                return [self.value(depth + 1) for _ in range(self._length())]
            case 24:
                return list(self._take(self._length()))
        raise Unreadable(f"it holds code or something else that is not read (type {kind})")

    def _many(self, form: str, size: int) -> tuple[Any, ...]:
        length = self._length()
        return struct.unpack(form.format(length), self._take(size * length))

    def _pairs(self, kind: int, has_attributes: bool, has_tag: bool, depth: int) -> Any:
        """A list of tags and values, as a dict; attributes of attributes are passed over."""
        found: dict[str, Any] = {}
        while True:
            if has_attributes:
                self.value(depth + 1)
            tag = self.value(depth + 1) if has_tag else None
            found[str(tag) if tag is not None else f"[{len(found)}]"] = self.value(depth + 1)
            (flags,) = self._integers(1)
            kind = flags & 0xFF
            if kind == _NIL:
                return found
            if kind not in (_PAIRS, _LANGUAGE, _ATTRIBUTE_PAIRS):
                self.at -= 4
                found["..."] = self.value(depth + 1)
                return found
            has_attributes, has_tag = bool(flags & 0x200), bool(flags & 0x400)

    def _alternative(self, depth: int) -> Any:
        """A compact form: a sequence by its length, start and step; or texts of numbers; or another value wrapped."""
        told = self.value(depth + 1)
        name = next(iter(told.values())) if isinstance(told, dict) and told else ""
        state = self.value(depth + 1)
        attributes = self.value(depth + 1)
        if name in ("compact_intseq", "compact_realseq"):
            length, start, step = state
            content: Any = [start + step * at for at in range(int(min(length, _MOST_BYTES // 8)))]
            if name == "compact_intseq":
                content = [int(one) for one in content]
        elif str(name).startswith("wrap_"):
            content = next(iter(state.values())) if isinstance(state, dict) else state[0]
        elif name == "deferred_string":
            first = next(iter(state.values())) if isinstance(state, dict) else state
            content = [None if one is None else _as_text(one) for one in first]
        else:
            raise Unreadable(f"it has a form of its own that is not read ({name})")
        return {"value": content, **attributes} if isinstance(attributes, dict) and attributes else content


def _as_text(value: Any) -> str:
    return str(int(value)) if isinstance(value, float) and value.is_integer() else str(value)


def _real(value: float) -> float | None:
    """R's missing number is a NaN with 1954 in it."""
    if math.isnan(value) and struct.unpack("<Q", struct.pack("<d", value))[0] & 0xFFFFFFFF == 1954:
        return None
    return value
