"""Values with keys and lists: JSON (RFC 8259), JSON lines, TOML, YAML, INI. The order of keys does not count."""

from __future__ import annotations

import configparser
import json
import math
from collections.abc import Callable, Iterator
from itertools import zip_longest
from pathlib import Path
from typing import Any

from lapidar.core import foreign
from lapidar.core.results.differences import Differences, numbered
from lapidar.core.results.kinds.streamed import compare_streams
from lapidar.core.results.tolerances import Rules
from lapidar.core.results.verdict import BeyondLimit, Found, Pair, Unreadable

__all__ = ["compare", "compare_lines", "readers", "walk"]

_DEEPEST = 500
_MOST_VALUES = 5_000_000
_MOST_AT_ONCE = 32_000_000  # bytes of a JSON text that is held as a whole


def compare(pair: Pair, rules: Rules) -> Found:
    """Compare two files of one form."""
    differences = Differences(rules)
    reader = _reader(pair.path)
    if reader is _json and max(path.stat().st_size for path in (pair.before, pair.after)) > _MOST_AT_ONCE:
        compare_streams(pair.before, pair.after, _json, walk, differences)
        return differences.found()
    try:
        before, after = reader(_text(pair.before)), reader(_text(pair.after))
    except RecursionError as error:
        raise BeyondLimit("it is nested too deep") from error
    except (ValueError, configparser.Error) as error:
        raise Unreadable(str(error).splitlines()[0][:200]) from error
    walk("", before, after, differences)
    return differences.found()


def compare_lines(pair: Pair, rules: Rules) -> Found:
    """Compare files with a JSON value in each line, line by line: they may be larger than memory."""
    differences = Differences(rules)
    with pair.before.open("rb") as one, pair.after.open("rb") as other:
        for number, (before, after) in enumerate(zip_longest(one, other), 1):
            if before == after:
                continue
            if before is None or after is None:
                differences.say(f"line {number} on: only {'after' if before is None else 'before'}")
                break
            try:
                walk(f"line {number}", _json(before.decode()), _json(after.decode()), differences)
            except (ValueError, RecursionError) as error:
                raise Unreadable(f"line {number}: {error}") from error
    return differences.found()


def _text(path: Path) -> str:
    try:
        return foreign.read(path).decode("utf-8-sig")
    except OSError as error:
        raise Unreadable(error.strerror or str(error)) from error


def _number(text: str) -> Any:
    # Long decimals keep their digits: a float would round them.
    value = float(text)
    return value if repr(value) == text else _Digits(text)


class _Digits(str):
    """A number by its text."""


def _json(text: str) -> Any:
    return json.loads(text, parse_float=_number, parse_constant=float, object_pairs_hook=_all_pairs)


def _all_pairs(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    """An object, also of the values whose key stands there again: RFC 8259 leaves open which counts."""
    found = dict(pairs)
    if len(found) < len(pairs):
        found = {}
        for key, value in pairs:
            found[numbered(key, found)] = value
    return found


def _toml(text: str) -> Any:
    import tomli

    return tomli.loads(text, parse_float=_number)


def _ini(text: str) -> Any:
    parser = configparser.RawConfigParser(strict=False, allow_no_value=True)
    parser.read_string(text)
    return {name: dict(parser.items(name)) for name in parser.sections()} | {"DEFAULT": dict(parser.defaults())}


def _yaml(text: str) -> Any:
    try:
        import yaml
    except ImportError as error:
        raise Unreadable("install lapidar[compare] to read YAML") from error
    try:
        documents = list(yaml.safe_load_all(text))
    except yaml.YAMLError as error:
        raise Unreadable(str(error).splitlines()[0]) from error
    # Aliases may build a value of any size out of a few lines.
    if _size(documents, {}) > _MOST_VALUES:
        raise BeyondLimit(f"its aliases stand for more than {_MOST_VALUES:,} values")
    return documents


def _size(value: Any, known: dict[int, float]) -> float:
    """How many values are in one, as often as they stand there; infinite where it holds itself."""
    if not isinstance(value, (list, dict)):
        return 1
    if id(value) not in known:
        known[id(value)] = math.inf
        known[id(value)] = 1 + sum(_size(one, known) for one in (value.values() if isinstance(value, dict) else value))
    return known[id(value)]


_READERS: dict[str, Callable[[str], Any]] = {
    ".json": _json,
    ".geojson": _json,
    ".toml": _toml,
    ".ini": _ini,
    ".cfg": _ini,
    ".yaml": _yaml,
    ".yml": _yaml,
}


def readers() -> Iterator[str]:
    """The suffixes of names whose form is known."""
    yield from _READERS


def _reader(name: str) -> Callable[[str], Any]:
    return next((reader for suffix, reader in _READERS.items() if name.lower().endswith(suffix)), _json)


def walk(place: str, before: Any, after: Any, into: Differences, depth: int = 0) -> None:
    """Compare two values and what is in them.

    Args:
        place: the path to them: ``fit.kilns[3]``.
    """
    if depth > _DEEPEST:
        raise BeyondLimit(f"it is nested deeper than {_DEEPEST}")
    if place:
        into.meet((place,))
    if place and into.rules.ignores(place):
        into.set_aside[place] = None
        return
    if isinstance(before, dict) and isinstance(after, dict):
        for key in [*before, *(key for key in after if key not in before)]:
            below = f"{place}.{key}" if place else str(key)
            if into.rules.ignores(below):
                into.meet((below,))
                into.set_aside[below] = None
            elif key not in after:
                into.say(f"{below}: gone")
            elif key not in before:
                into.say(f"{below}: new")
            else:
                walk(below, before[key], after[key], into, depth + 1)
    elif isinstance(before, list) and isinstance(after, list):
        if len(before) != len(after):
            into.say(f"{place or 'the list'}: {len(before):,} values -> {len(after):,}")
        for index, (one, other) in enumerate(zip(before, after, strict=False)):
            walk(f"{place}[{index}]", one, other, into, depth + 1)
    else:
        _leaf(place or "the value", before, after, into)


def _leaf(place: str, before: Any, after: Any, into: Differences) -> None:
    if _is_number(before) and _is_number(after):
        if isinstance(before, _Digits) or isinstance(after, _Digits):
            into.texts(place, place, str(before), str(after))
            return
        if type(before) is not type(after) and before == after:
            into.numbers.compared += 1
            into.equate(place, before, after)  # 1 and 1.0
            return
    if isinstance(before, str) and isinstance(after, str) and before != after and into.rules.of(place).is_exact:
        into.other(place, before, after)  # a text is no number, whatever it looks like
        return
    into.value(place, place, before, after)


def _is_number(value: Any) -> bool:
    return isinstance(value, (int, float, _Digits)) and not isinstance(value, bool)
