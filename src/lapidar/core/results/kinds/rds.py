"""R's saved values (.rds, .RData), read as data by our own reader: vectors, lists, factors, data frames, text, and also
what is code (functions, calls, formulas), environments and S4 objects, as data. The forms are those of R Internals,
"Serialization Formats": XDR, native and ASCII, versions 2 and 3, packed or not. Nothing is ever run."""

from __future__ import annotations

import math
import re
import struct
from collections.abc import Callable, Iterator
from typing import Any

from lapidar.core.results.differences import Differences
from lapidar.core.results.kinds.values import walk
from lapidar.core.results.packed import unpacked
from lapidar.core.results.tolerances import Rules
from lapidar.core.results.verdict import BeyondLimit, Found, Pair, Unreadable

__all__ = ["compare", "read"]

_MOST_BYTES = 400_000_000
_DEEPEST = 300
# The types of R Internals, and the codes that only saved values have.
_SYMBOL, _PAIRS, _CLOSURE, _ENVIRONMENT, _PROMISE, _LANGUAGE, _SPECIAL, _BUILTIN, _TEXT = 1, 2, 3, 4, 5, 6, 7, 8, 9
_DOTS, _BYTE_CODE, _POINTER, _WEAK, _S4 = 17, 21, 22, 23, 25
_REFERENCE, _PERSISTENT, _PACKAGE, _NAMESPACE, _ALTERNATIVE = 255, 247, 248, 249, 238
_ATTRIBUTE_PAIRS, _ATTRIBUTE_LANGUAGE, _BYTE_CODE_DEFINITION, _BYTE_CODE_REFERENCE = 239, 240, 244, 243
_WORDS = {254: "NULL", 253: "the global environment", 252: "unbound", 251: "missing", 250: "the base namespace",
          242: "the empty environment", 241: "the base environment"}  # fmt: skip
_VECTORS = {10: "logical", 13: "integer", 14: "double", 15: "complex", 16: "character", 19: "list", 20: "expression",
            24: "raw"}  # fmt: skip
_MISSING_INTEGER = -(2**31)


class Vector(list[Any]):
    """The values of a vector.

    Attributes:
        type: of its values, as R calls it.
    """

    def __init__(self, type_name: str, values: Any) -> None:
        super().__init__(values)
        self.type = type_name


def compare(pair: Pair, rules: Rules) -> Found:
    """Compare two files of saved values."""
    differences = Differences(rules)
    try:
        with unpacked(pair.before) as one, unpacked(pair.after) as other:
            before, after = (_read_all(stream.read(_MOST_BYTES + 1)) for stream in (one, other))
    except (struct.error, IndexError, ValueError, OSError, EOFError, OverflowError, KeyError, TypeError) as error:
        raise Unreadable(f"it cannot be read: {error}") from error
    except RecursionError as error:
        raise BeyondLimit(f"it is nested deeper than {_DEEPEST}") from error
    for place, ones, others in _types(before, after):
        differences.other(f"{place or 'the value'} type", ones, others)
    walk("", before, after, differences)
    return differences.found()


def read(data: bytes) -> Any:
    """A saved value by its unpacked bytes: a list of numbers or texts; where it has attributes, a dict with "value".

    Raises:
        ValueError: it is none that can be read.
    """
    try:
        return _read_all(data)
    except (struct.error, IndexError, UnicodeDecodeError, OverflowError, KeyError, TypeError, Unreadable) as error:
        raise ValueError(str(error)) from error


def _read_all(data: bytes) -> Any:
    if len(data) > _MOST_BYTES:
        raise BeyondLimit(f"it unpacks to more than {_MOST_BYTES:,} bytes")
    if data[:5] in (b"RDX2\n", b"RDX3\n", b"RDA2\n", b"RDA3\n"):
        data = data[5:]
    form = _FORMS.get(data[:2])
    if form is None:
        raise Unreadable("it is of no form of R's saved values")
    return _Reader(form(data)).whole()


def _types(one: Any, other: Any, place: str = "") -> Iterator[tuple[str, str, str]]:
    """Where two values have vectors of other types: 1L and 1 are equal numbers, and not the same."""
    if isinstance(one, Vector) and isinstance(other, Vector) and one.type != other.type:
        yield place, one.type, other.type
    if isinstance(one, dict) and isinstance(other, dict):
        for name in one.keys() & other.keys():
            yield from _types(one[name], other[name], f"{place}.{name}" if place else str(name))
    elif isinstance(one, list) and isinstance(other, list) and getattr(one, "type", "list") in ("list", "expression"):
        for at, (before, after) in enumerate(zip(one, other, strict=False)):
            if isinstance(before, (list, dict)):
                yield from _types(before, after, f"{place}[{at}]")


# ---- the three forms of the same stream


class _Binary:
    """Numbers as bytes; XDR has the first byte first."""

    def __init__(self, data: bytes) -> None:
        self.data, self.at = data, 2
        self.order = ">" if data[:1] == b"X" else "<"

    def raw(self, size: int) -> bytes:
        if size < 0 or self.at + size > len(self.data):
            raise Unreadable("it is cut short")
        self.at += size
        return self.data[self.at - size : self.at]

    text = raw

    def integers(self, count: int) -> tuple[int, ...]:
        return struct.unpack(f"{self.order}{count}i", self.raw(4 * count))

    def doubles(self, count: int) -> list[float | None]:
        data = self.raw(8 * count)
        return [_real(value) for value in struct.unpack(f"{self.order}{count}d", data)]


class _Ascii:
    """Numbers as words, a line each."""

    def __init__(self, data: bytes) -> None:
        self.words = iter(data[2:].split(b"\n"))

    def _word(self) -> bytes:
        word = next(self.words, None)
        if word is None:
            raise Unreadable("it is cut short")
        return word

    def raw(self, size: int) -> bytes:
        return bytes(int(self._word(), 16) for _ in range(size))

    def text(self, size: int) -> bytes:
        word = self._word()
        return re.sub(rb"\\([0-7]{1,3}|.)", lambda found: _unescaped(found[1]), word)

    def integers(self, count: int) -> tuple[int, ...]:
        words = [self._word() for _ in range(count)]
        return tuple(_MISSING_INTEGER if word == b"NA" else int(word) for word in words)

    def doubles(self, count: int) -> list[float | None]:
        return [None if word == b"NA" else float(word) for word in (self._word() for _ in range(count))]


_LETTERS = {b"n": b"\n", b"t": b"\t", b"v": b"\v", b"b": b"\b", b"r": b"\r", b"f": b"\f", b"a": b"\a"}


def _unescaped(found: bytes) -> bytes:
    if found[:1].isdigit():
        return bytes([int(found, 8) & 0xFF])
    return _LETTERS.get(found, found)


_FORMS: dict[bytes, Callable[[bytes], Any]] = {b"X\n": _Binary, b"B\n": _Binary, b"A\n": _Ascii}


# ---- the values


class _Reader:
    """Reads one serialised value."""

    def __init__(self, stream: Any) -> None:
        self.stream = stream
        self.references: list[Any] = []
        self.byte_code: dict[int, Any] = {}
        self.native = "utf-8"

    def whole(self) -> Any:
        version, _, _ = self.stream.integers(3)
        if version not in (2, 3):
            raise Unreadable(f"it is of version {version}")
        if version == 3:
            (size,) = self.stream.integers(1)
            self.native = self.stream.text(size).decode("ascii")
        return self.value()

    def _one(self) -> int:
        (number,) = self.stream.integers(1)
        return int(number)

    def _length(self) -> int:
        length = self._one()
        if length == -1:
            high, low = self.stream.integers(2)
            length = (high << 32) | (low & 0xFFFFFFFF)
        if not 0 <= length <= _MOST_BYTES:
            raise Unreadable("it has a length that cannot be")
        return length

    def value(self, depth: int = 0, flags: int | None = None) -> Any:
        """The next value: a vector, or, where it has attributes or parts, a dict.

        Args:
            flags: what it begins with, where that was read already.
        """
        if depth > _DEEPEST:
            raise BeyondLimit(f"it is nested deeper than {_DEEPEST}")
        flags = self._one() if flags is None else flags
        kind, has_attributes, has_tag = flags & 0xFF, bool(flags & 0x200), bool(flags & 0x400)
        if kind in _WORDS:
            return None if kind == 254 else f"<{_WORDS[kind]}>"
        if kind in _REFERRED:
            return self._referred(kind, flags, depth)
        if kind in (_PAIRS, _LANGUAGE, _CLOSURE, _PROMISE, _DOTS, _ATTRIBUTE_PAIRS, _ATTRIBUTE_LANGUAGE):
            return self._pairs(kind, has_attributes or kind in (_ATTRIBUTE_PAIRS, _ATTRIBUTE_LANGUAGE), has_tag, depth)
        if kind == _ALTERNATIVE:
            return self._alternative(depth)
        if kind == _BYTE_CODE:
            self._one()  # how many parts of it stand there more than once
            content: Any = self._byte_code(depth)
        else:
            content = self._content(kind, flags, depth)
        attributes = self.value(depth + 1) if has_attributes else None
        if kind == _TEXT or not isinstance(attributes, dict) or not attributes:
            return content
        return {"value": content, **attributes}

    def _referred(self, kind: int, flags: int, depth: int) -> Any:
        """What may stand there again by its number."""
        if kind == _REFERENCE:
            return self._again((flags >> 8) or self._one())
        place = len(self.references)
        self.references.append(None)
        if kind == _SYMBOL:
            found: Any = self.value(depth + 1)
            self.references[place] = found
        elif kind in (_PERSISTENT, _PACKAGE, _NAMESPACE):
            self._one()
            names = [str(self.value(depth + 1)) for _ in range(self._length())]
            found = f"<{_REFERRED[kind]} {' '.join(names)}>"
            self.references[place] = found
        elif kind == _ENVIRONMENT:
            # What stands in it again is told by its number: an environment may hold itself.
            self.references[place] = f"<environment {place}>"
            self._one()
            around, frame, hashed, attributes = (self.value(depth + 1) for _ in range(4))
            found = {"environment": _frame(frame, hashed), "around": around}
            if isinstance(attributes, dict):
                found["attributes"] = attributes
        else:
            found = {_REFERRED[kind]: self.value(depth + 1) if kind == _POINTER else None}
            if kind == _POINTER:
                self.value(depth + 1)
            self.references[place] = f"<{_REFERRED[kind]} {place}>"
        return found

    def _again(self, number: int) -> Any:
        if not 0 < number <= len(self.references):
            raise Unreadable("it refers to what is not there")
        return self.references[number - 1]

    def _content(self, kind: int, flags: int, depth: int) -> Any:
        if kind == _TEXT:
            return self._text(flags)
        if kind == _S4:
            return {"S4": True}
        if kind in (_SPECIAL, _BUILTIN):
            return f"<the function {self.stream.text(self._one()).decode('latin-1')} of R itself>"
        if kind not in _VECTORS:
            raise Unreadable(f"it holds something that is not read (type {kind})")
        length = self._length()
        if kind in (10, 13):
            values: Any = [None if one == _MISSING_INTEGER else one for one in self.stream.integers(length)]
        elif kind in (14, 15):
            values = self.stream.doubles(length * (kind - 13))
        elif kind == 24:
            values = self.stream.raw(length)
        else:
            values = [self.value(depth + 1) for _ in range(length)]
        return Vector(_VECTORS[kind], values)

    def _text(self, flags: int) -> str | None:
        length = self._one()
        if length == -1:
            return None
        levels = flags >> 12
        data: bytes = self.stream.text(length)
        if levels & 2:
            return "<bytes> " + data.hex()
        encoding = "latin-1" if levels & 4 else "utf-8" if levels & (8 | 64) else self.native
        return data.decode(encoding, "surrogateescape")

    def _pairs(self, kind: int, has_attributes: bool, has_tag: bool, depth: int) -> Any:
        """A list of tags and values; a call, a function, a promise is such a list too."""
        attributes = self.value(depth + 1) if has_attributes else None
        if kind in (_CLOSURE, _PROMISE):
            names = ("environment", "arguments", "body") if kind == _CLOSURE else ("environment", "value", "code")
            first = self.value(depth + 1) if has_tag else None
            parts = dict(zip(names, (first, self.value(depth + 1), self.value(depth + 1)), strict=True))
            return _with({"function" if kind == _CLOSURE else "promise": parts}, attributes)
        found: dict[str, Any] = {}
        is_call = kind in (_LANGUAGE, _ATTRIBUTE_LANGUAGE)
        while True:
            tag = self.value(depth + 1) if has_tag else None
            name = str(tag) if tag is not None else f"[{len(found)}]"
            found[name if name not in found else f"{name} [{len(found)}]"] = self.value(depth + 1)
            flags = self._one()
            kind = flags & 0xFF
            if kind == 254:
                return _with({"call": found} if is_call else found, attributes)
            if kind not in (_PAIRS, _LANGUAGE, _ATTRIBUTE_PAIRS, _ATTRIBUTE_LANGUAGE, _DOTS):
                found["..."] = self.value(depth + 1, flags)  # a pair whose second is no list
                return _with(found, attributes)
            if flags & 0x200 or kind in (_ATTRIBUTE_PAIRS, _ATTRIBUTE_LANGUAGE):
                self.value(depth + 1)
            has_tag = bool(flags & 0x400)

    # ---- compact forms of vectors, and byte-code

    def _alternative(self, depth: int) -> Any:
        """A compact form: a sequence by its length, start and step; or texts of numbers; or another value wrapped."""
        told = self.value(depth + 1)
        name = str(next(iter(told.values()))) if isinstance(told, dict) and told else ""
        state, attributes = self.value(depth + 1), self.value(depth + 1)
        if name in ("compact_intseq", "compact_realseq"):
            length, start, step = state
            kind = int if name == "compact_intseq" else float
            values = [kind(start + step * at) for at in range(int(min(length, _MOST_BYTES // 8)))]
            content: Any = Vector("integer" if kind is int else "double", values)
        elif name.startswith("wrap_"):
            content = next(iter(state.values())) if isinstance(state, dict) else state[0]
        elif name == "deferred_string":
            first = next(iter(state.values())) if isinstance(state, dict) else state
            content = Vector("character", [None if one is None else _as_text(one) for one in first])
        elif name.startswith("mmap_"):
            raise Unreadable("it is kept in another file")
        else:
            raise Unreadable(f"it has a form of its own that is not read ({name})")
        return _with(content, attributes)

    def _byte_code(self, depth: int) -> Any:
        """What a function was compiled to: its code, which follows from the constants, and these."""
        code = self.value(depth + 1)
        constants = []
        for _ in range(self._length()):
            kind = self._one()
            if kind == _BYTE_CODE:
                constants.append(self._byte_code(depth + 1))
            elif kind in (_LANGUAGE, _PAIRS, _ATTRIBUTE_LANGUAGE, _ATTRIBUTE_PAIRS, _BYTE_CODE_DEFINITION,
                          _BYTE_CODE_REFERENCE):  # fmt: skip
                constants.append(self._shared_pairs(kind, depth + 1))
            else:
                constants.append(self.value(depth + 1))
        return {"byte-code": code, "constants": constants}

    def _shared_pairs(self, kind: int, depth: int) -> Any:
        """A call inside of byte-code; one that stands there again is told by its number."""
        if depth > _DEEPEST:
            raise BeyondLimit(f"it is nested deeper than {_DEEPEST}")
        if kind == _BYTE_CODE_REFERENCE:
            return self.byte_code.get(self._one())
        number = None
        if kind == _BYTE_CODE_DEFINITION:
            number, kind = self._one(), self._one()
        if kind not in (_LANGUAGE, _PAIRS, _ATTRIBUTE_LANGUAGE, _ATTRIBUTE_PAIRS):
            return self.value(depth + 1)
        attributes = self.value(depth + 1) if kind in (_ATTRIBUTE_LANGUAGE, _ATTRIBUTE_PAIRS) else None
        if number is not None:
            self.byte_code[number] = f"<call {number}>"
        tag = self.value(depth + 1)
        first, rest = (self._shared_pairs(self._one(), depth + 1) for _ in range(2))
        found = _with({"tag": tag, "first": first, "rest": rest}, attributes)
        if number is not None:
            self.byte_code[number] = found
        return found


_REFERRED = {
    _REFERENCE: "reference", _SYMBOL: "symbol", _PERSISTENT: "kept elsewhere", _PACKAGE: "package",
    _NAMESPACE: "namespace", _ENVIRONMENT: "environment", _POINTER: "pointer", _WEAK: "weak reference",
}  # fmt: skip


def _with(content: Any, attributes: Any) -> Any:
    return {"value": content, **attributes} if isinstance(attributes, dict) and attributes else content


def _frame(frame: Any, hashed: Any) -> dict[str, Any]:
    """The variables of an environment, by name; in which order they lie there says nothing."""
    lists = [frame, *(hashed if isinstance(hashed, list) else [])]
    variables = [variables for variables in lists if isinstance(variables, dict)]
    return dict(sorted((name, value) for several in variables for name, value in several.items()))


def _as_text(value: Any) -> str:
    return str(int(value)) if isinstance(value, float) and value.is_integer() else str(value)


def _real(value: float) -> float | None:
    """R's missing number is a NaN with 1954 in it."""
    if math.isnan(value) and struct.unpack("<Q", struct.pack("<d", value))[0] & 0xFFFFFFFF == 1954:
        return None
    return value
