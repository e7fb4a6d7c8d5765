"""Pickles, as data: every object of a file. What a pickle would import or call is never imported nor called: it stands
there by its name, with what it would be called with, so that the same data in another protocol is the same content."""

from __future__ import annotations

import io
import pickle
from collections.abc import Iterator
from itertools import zip_longest
from typing import Any, ClassVar

from lapidar.core import foreign
from lapidar.core.results.differences import Differences
from lapidar.core.results.tolerances import Rules
from lapidar.core.results.verdict import BeyondLimit, Found, Pair, Unreadable

__all__ = ["compare"]

_MOST_BYTES = 400_000_000
_DEEPEST = 500
# What makes a text, bytes or a set in older protocols, which have no step of their own for it.
_BUILTINS = {"set": set, "frozenset": frozenset, "bytearray": bytearray, "complex": complex, "slice": tuple}
_ARRAYS = ("_reconstruct", "_frombuffer")


def compare(pair: Pair, rules: Rules) -> Found:
    """Compare two pickles, object by object."""
    differences = Differences(rules)
    try:
        sides = [_objects(foreign.read(path, _MOST_BYTES)) for path in (pair.before, pair.after)]
        for number, (one, other) in enumerate(zip_longest(*sides, fillvalue=_NOTHING), 1):
            if one is _NOTHING or other is _NOTHING:
                differences.say(f"object {number}: {'new' if one is _NOTHING else 'gone'}")
                break
            _Walk(differences).values("" if number == 1 else f"object {number}", one, other, 0)
    except RecursionError as error:
        raise BeyondLimit(f"it is nested deeper than {_DEEPEST}") from error
    except OSError as error:
        raise BeyondLimit(error.strerror or str(error)) from error
    return differences.found()


class _Named:
    """Something that a pickle names: a class, a function."""

    def __init__(self, name: str) -> None:
        self.name = name

    def __call__(self, *words: Any) -> Any:
        # Only types of data, which nothing can be done with.
        kind = _BUILTINS.get(self.name.removeprefix("builtins.")) if self.name.startswith("builtins.") else None
        if kind and len(words) <= 1:
            return kind(*words)
        if self.name == "_codecs.encode" and len(words) == 2 and words[1] == "latin1":
            return words[0].encode("latin-1")
        return _Made(self, words)

    def __reduce__(self) -> str:
        return self.name


class _Made:
    """What calling something would make.

    Attributes:
        words: what it would be called with.
        state: what would be set afterwards; items: what would be put into it.
    """

    def __init__(self, of: Any, words: tuple[Any, ...], named: dict[str, Any] | None = None) -> None:
        self.of, self.words, self.named = of, words, named or {}
        self.state: Any = None
        self.items: list[Any] = []

    def __setstate__(self, state: Any) -> None:
        self.state = state

    def append(self, item: Any) -> None:
        self.items.append(item)

    def extend(self, items: Any) -> None:
        self.items += items

    def add(self, item: Any) -> None:
        self.items.append(item)

    def __setitem__(self, key: Any, value: Any) -> None:
        self.items.append((key, value))

    def __call__(self, *words: Any) -> _Made:
        return _Made(self, words)


_Base: Any = vars(pickle)["_Unpickler"]  # the one written in the language: every step of it can be replaced


class _Reader(_Base):  # type: ignore[misc]
    """Takes a pickle apart."""

    dispatch: ClassVar[dict[int, Any]] = dict(_Base.dispatch)

    def find_class(self, module: str, name: str) -> Any:
        old = {"__builtin__": "builtins", "copy_reg": "copyreg"}.get(module, module)
        return _Named(f"{old}.{name}")

    def get_extension(self, code: int) -> None:
        self.append(_Named(f"extension {code}"))

    def persistent_load(self, name: Any) -> Any:
        return _Made(_Named("kept elsewhere"), (name,))

    def _new(self) -> None:
        words = self.stack.pop()
        self.stack.append(_made(self.stack.pop(), words, {}))

    def _new_with_names(self) -> None:
        named, words = self.stack.pop(), self.stack.pop()
        self.stack.append(_made(self.stack.pop(), words, named))

    def _instantiate(self, klass: Any, words: Any) -> None:
        self.append(klass(*words))

    def _reduce(self) -> None:
        words, of = self.stack.pop(), self.stack.pop()
        if isinstance(of, _Named) and of.name == "copyreg._reconstructor" and len(words) == 3:
            self.stack.append(_made(words[0], () if words[2] is None else (words[2],), {}))
        elif isinstance(of, _Named) and of.name in ("copyreg.__newobj__", "copyreg.__newobj_ex__"):
            named = words[2] if of.name.endswith("ex__") else {}
            self.stack.append(_made(words[0], words[1] if named else words[1:], named))
        else:
            self.stack.append(of(*words) if isinstance(of, _Named) else _Made(of, words))

    def _build(self) -> None:
        state = self.stack.pop()
        if isinstance(self.stack[-1], _Made):
            self.stack[-1].state = state

    dispatch[pickle.NEWOBJ[0]] = _new
    dispatch[pickle.NEWOBJ_EX[0]] = _new_with_names
    dispatch[pickle.REDUCE[0]] = _reduce
    dispatch[pickle.BUILD[0]] = _build


def _made(of: Any, words: Any, named: dict[str, Any]) -> _Made:
    return _Made(of, tuple(words), named)


_NOTHING = object()


def _objects(data: bytes) -> Iterator[Any]:
    if b"joblib" in data[:4096] and b"NumpyArrayWrapper" in data[: 1 << 20]:
        raise Unreadable("it has arrays between the steps of the pickle (joblib), which are not told apart")
    stream = io.BytesIO(data)
    while stream.tell() < len(data):
        try:
            yield _Reader(stream, encoding="latin1").load()
        except RecursionError:
            raise
        except Exception as error:  # whatever a damaged or hostile one makes of the reader
            raise Unreadable(str(error)[:200] or type(error).__name__) from error


class _Walk:
    """Compares what two pickles hold; an object that stands there at several places is one on both sides."""

    def __init__(self, into: Differences) -> None:
        self.into = into
        self.met: dict[int, int] = {}

    def values(self, place: str, one: Any, other: Any, depth: int) -> None:
        where = place or "the value"
        if depth > _DEEPEST:
            raise BeyondLimit(f"it is nested deeper than {_DEEPEST}")
        if place and self.into.rules.ignores(place):
            self.into.set_aside[place] = None
            return
        if isinstance(one, (list, dict, set, _Made)) and isinstance(other, (list, dict, set, _Made)):
            if id(one) in self.met or id(other) in self.met.values():
                if self.met.get(id(one)) != id(other):
                    self.into.say(f"{where}: what was one object and stands there twice is two, or the other way")
                return
            self.met[id(one)] = id(other)
        if type(one) is not type(other):
            self.into.other(where, one, other) if _is_plain(one, other) else self.into.say(
                f"{where}: {_called(one)} -> {_called(other)}"
            )
        elif isinstance(one, (list, tuple)):
            self._lists(place, one, other, depth)
        elif isinstance(one, dict):
            self._dicts(place, one, other, depth)
        elif isinstance(one, (set, frozenset)):
            self._sets(where, one, other)
        elif isinstance(one, _Named):
            if one.name != other.name:
                self.into.other(where, one.name, other.name)
        elif isinstance(one, _Made):
            self._made(place, one, other, depth)
        elif isinstance(one, str):
            if one != other:
                self.into.other(where, one, other)
        else:
            self.into.value(where, place, one, other)

    def _lists(self, place: str, one: Any, other: Any, depth: int) -> None:
        if len(one) != len(other):
            self.into.say(f"{place or 'the list'}: {len(one):,} values -> {len(other):,}")
        for index, (before, after) in enumerate(zip(one, other, strict=False)):
            self.values(f"{place}[{index}]", before, after, depth + 1)

    def _dicts(self, place: str, one: Any, other: Any, depth: int) -> None:
        ones, others = ({_key(key): (key, value) for key, value in side.items()} for side in (one, other))
        for name in dict.fromkeys((*ones, *others)):
            below = f"{place}.{name}" if place else name
            if name not in ones or name not in others:
                self.into.say(f"{below}: {'gone' if name in ones else 'new'}")
                continue
            self.values(below, ones[name][1], others[name][1], depth + 1)

    def _sets(self, where: str, one: Any, other: Any) -> None:
        ones, others = set(map(_key, one)), set(map(_key, other))
        for name in sorted(ones ^ others):
            self.into.say(f"{where}: {name} {'gone' if name in ones else 'new'}")

    def _made(self, place: str, one: _Made, other: _Made, depth: int) -> None:
        arrays = _array(one), _array(other)
        if arrays[0] is not None and arrays[1] is not None:
            from lapidar.core.results.kinds.array import compare_arrays

            compare_arrays(place, *arrays, self.into)
            return
        called = f"{place} ({_called(one)})".strip()
        self.values(f"{called} class", one.of, other.of, depth + 1)
        self._lists(f"{called} made with", one.words, other.words, depth)
        self._dicts(f"{called} made with", one.named, other.named, depth)
        self.values(place, one.state, other.state, depth + 1)
        self._lists(place, one.items, other.items, depth)


def _is_plain(*values: Any) -> bool:
    return all(value is None or isinstance(value, (str, bytes, int, float, complex)) for value in values)


def _called(value: Any) -> str:
    if isinstance(value, _Made):
        return _called(value.of)
    return value.name if isinstance(value, _Named) else type(value).__name__


def _key(value: Any) -> str:
    """What stands for a key or a member of a set: those that are equal have the same."""
    if isinstance(value, str):
        return value if value.isidentifier() else repr(value)
    if isinstance(value, tuple):
        return f"({', '.join(map(_key, value))})"
    if isinstance(value, frozenset):
        return f"{{{', '.join(sorted(map(_key, value)))}}}"
    if isinstance(value, _Made):
        return f"{_called(value)}({', '.join(map(_key, value.words))}, {value.state!r:.200})"
    return value.name if isinstance(value, _Named) else repr(value)


def _array(made: _Made) -> Any:
    """The numpy array that something would make; None where it is none, or one of objects."""
    name = made.of.name if isinstance(made.of, _Named) else ""
    if not name.startswith("numpy") or not name.endswith(_ARRAYS):
        return None
    try:
        import numpy

        if name.endswith("_frombuffer"):
            data, dtype, shape, order = made.words
        else:
            _, shape, dtype, is_fortran, data = made.state
            order = "F" if is_fortran else "C"
        return numpy.frombuffer(data, _dtype(dtype)).reshape(shape, order=order)
    except (ImportError, ValueError, TypeError, AttributeError, IndexError):
        return None


def _dtype(made: _Made) -> str:
    letters = made.words[0]
    if not isinstance(letters, str) or letters[:1] not in "biufcmMSU" or made.state[3] is not None:
        raise ValueError("it is no array of plain numbers or texts")
    order = "" if made.state[1] == "|" else made.state[1]
    if letters[0] in "mM":  # a time, or how long: in steps of a unit
        unit, steps, *_ = made.state[8][1]
        return f"{order}{letters}[{steps}{unit.decode() if isinstance(unit, bytes) else unit}]"
    return order + letters
