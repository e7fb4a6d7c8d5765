"""JSON that is larger than what is held at once, compared as it is read: of each file a window of its text is in
memory, and lists and objects that do not fit into one are gone through value by value, in step."""

from __future__ import annotations

import codecs
import json
import re
from collections.abc import Callable
from pathlib import Path
from typing import Any

from lapidar.core.results.differences import Differences
from lapidar.core.results.verdict import BeyondLimit, Unreadable

__all__ = ["compare_streams"]

_PIECE = 4 << 20
_WINDOW = 16 << 20  # characters of one value that are taken at once
_DEEPEST = 50
_AFTER = ",:]} \t\n\r"  # what may follow a value, or a key
_BLANK = re.compile(r"[ \t\n\r]*")
_PLAIN = json.JSONDecoder()

Walk = Callable[[str, Any, Any, Differences], None]


def compare_streams(before: Path, after: Path, parse: Callable[[str], Any], walk: Walk, into: Differences) -> None:
    """Compare two JSON texts of any size.

    Args:
        parse: of a text, the value that `walk` compares.
        walk: compares two values at a place.

    Raises:
        Unreadable: one is no JSON.
        BeyondLimit: keys of a large object stand in another order, or it is nested too deep.
    """
    with before.open("rb") as one, after.open("rb") as other:
        sides = _Text(one), _Text(other)
        try:
            _Compared(sides, parse, walk, into).value("", 0)
            for side in sides:
                if side.peek():
                    raise ValueError("something follows the value")
        except _Elsewhere:
            pass  # it has been told; what follows is not in step any more
        except UnicodeDecodeError as error:
            raise Unreadable(str(error)) from error
        except (ValueError, RecursionError) as error:
            raise Unreadable(str(error).splitlines()[0][:200]) from error


class _Elsewhere(Exception):
    """Two values are of another form: nothing after them is compared."""


class _Text:
    """A text that is read as it is needed. What was taken of it is forgotten when more is read."""

    def __init__(self, stream: Any) -> None:
        self._stream = stream
        self._decoder = codecs.getincrementaldecoder("utf-8-sig")()
        self._text, self._at, self._is_whole = "", 0, False

    def _more(self) -> bool:
        if self._is_whole:
            return False
        data = self._stream.read(_PIECE)
        self._is_whole = not data
        self._text = self._text[self._at :] + self._decoder.decode(data, not data)
        self._at = 0
        return True

    def peek(self) -> str:
        """The next character that is no blank; "" at the end."""
        while True:
            found = _BLANK.match(self._text, self._at)
            self._at = found.end() if found else self._at
            if self._at < len(self._text):
                return self._text[self._at]
            if not self._more():
                return ""

    def take(self, sign: str) -> None:
        if self.peek() != sign:
            raise ValueError(f"{sign!r} is missing")
        self._at += 1

    def whole(self) -> tuple[str, Any] | None:
        """The next value, with its text, without taking it; None where it does not fit into a window."""
        self.peek()
        while True:
            try:
                value, end = _PLAIN.raw_decode(self._text, self._at)
            except (json.JSONDecodeError, StopIteration):
                end = len(self._text)
                if self._is_whole:
                    raise
            # A number may go on behind what is there: 0. and 1e are the beginnings of some.
            if self._is_whole or (end < len(self._text) and self._text[end] in _AFTER):
                return self._text[self._at : end], value
            if len(self._text) - self._at > _WINDOW:
                return None
            self._more()

    def skip(self, text: str) -> None:
        """Take the text that `whole` gave."""
        self._at += len(text)


class _Compared:
    def __init__(self, sides: tuple[_Text, _Text], parse: Callable[[str], Any], walk: Walk, into: Differences) -> None:
        self.sides, self.parse, self.walk, self.into = sides, parse, walk, into

    def value(self, place: str, depth: int) -> None:
        if depth > _DEEPEST:
            raise BeyondLimit(f"its large values are nested deeper than {_DEEPEST}")
        one, other = (side.whole() for side in self.sides) if depth else (None, None)
        if one is not None and other is not None:
            if one[0] == other[0] and not self.into.rules.has_places:
                self.into.numbers.compared += _leaves(one[1])
            else:
                self.walk(place, self.parse(one[0]), self.parse(other[0]), self.into)
            for side, (text, _) in zip(self.sides, (one, other), strict=True):
                side.skip(text)
            return
        signs = [side.peek() for side in self.sides]
        if signs[0] == signs[1] and signs[0] not in ("[", "{"):
            raise BeyondLimit(f"{place or 'the value'} is a text of more than {_WINDOW:,} characters")
        if signs[0] != signs[1]:
            self.into.say(f"{place or 'the value'}: it is of another form, or much smaller on one side")
            raise _Elsewhere
        if signs[0] == "[":
            self._list(place, depth)
        else:
            self._object(place, depth)

    def _list(self, place: str, depth: int) -> None:
        for side in self.sides:
            side.take("[")
        index = 0
        while self._goes_on(place, "]", index):
            self.value(f"{place}[{index}]", depth + 1)
            index += 1

    def _object(self, place: str, depth: int) -> None:
        for side in self.sides:
            side.take("{")
        index = 0
        while self._goes_on(place, "}", index):
            keys = [self._key(side) for side in self.sides]
            if keys[0] != keys[1]:
                raise BeyondLimit(f"{place or 'a large object'}: its keys are others, or stand in another order")
            self.value(f"{place}.{keys[0]}" if place else keys[0], depth + 1)
            index += 1

    @staticmethod
    def _key(side: _Text) -> str:
        found = side.whole()
        if found is None or not isinstance(found[1], str):
            raise ValueError("a key is missing")
        side.skip(found[0])
        side.take(":")
        return found[1]

    def _goes_on(self, place: str, end: str, index: int) -> bool:
        """Whether both have another value; where one alone has, that is told."""
        over = [side.peek() == end for side in self.sides]
        if over[0] != over[1]:
            which = "before" if over[1] else "after"
            self.into.say(f"{place or 'the list'}: from value {index:,} on there are more {which}")
            raise _Elsewhere
        for side in self.sides:
            if over[0]:
                side.take(end)
            elif index:
                side.take(",")
        return not over[0]


def _leaves(value: Any) -> int:
    """How many values without parts are in one."""
    if isinstance(value, dict):
        return sum(map(_leaves, value.values()))
    return sum(map(_leaves, value)) if isinstance(value, list) else 1
