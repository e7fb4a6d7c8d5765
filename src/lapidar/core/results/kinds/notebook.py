"""Notebooks (nbformat 4): cells, and what they gave, each as what it is: text, a table, a picture. Counts of
executions, times and the notebook's own metadata do not count."""

from __future__ import annotations

import base64
import binascii
import json
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from lapidar.core import foreign
from lapidar.core.results.differences import Differences
from lapidar.core.results.kinds.text import compare_texts
from lapidar.core.results.tolerances import Rules
from lapidar.core.results.verdict import Found, Pair, Unreadable, Verdict

__all__ = ["compare", "first_picture", "has_picture"]

_PICTURES = {"image/png": ".png", "image/jpeg": ".jpg", "image/svg+xml": ".svg", "application/pdf": ".pdf"}


def compare(pair: Pair, rules: Rules) -> Found:
    """Compare two notebooks."""
    differences = Differences(rules)
    before, after = _cells(pair.before), _cells(pair.after)
    if len(before) != len(after):
        differences.say(f"{len(before)} cells -> {len(after)}")
    for number, (one, other) in enumerate(zip(before, after, strict=False), 1):
        _cell(f"cell {number}", one, other, differences)
    differences.set_aside["execution counts and metadata"] = None
    return differences.found()


def _cells(path: Path) -> list[dict[str, Any]]:
    try:
        book = foreign.parsed(lambda: json.loads(foreign.read(path)))
        cells = book["cells"]
        if not all(isinstance(cell, dict) for cell in cells):
            raise ValueError("its cells are none")
        return list(cells)
    except (ValueError, KeyError, TypeError, OSError) as error:
        raise Unreadable(f"it is no notebook of format 4 ({error})") from error


def _text(value: Any) -> str:
    return "".join(map(str, value)) if isinstance(value, list) else str(value)


def _cell(where: str, before: dict[str, Any], after: dict[str, Any], into: Differences) -> None:
    if before.get("cell_type") != after.get("cell_type"):
        into.other(f"{where} kind", before.get("cell_type"), after.get("cell_type"))
        return
    compare_texts(_text(before.get("source", "")), _text(after.get("source", "")), f"{where} source", into)
    ones, others = before.get("outputs") or [], after.get("outputs") or []
    if len(ones) != len(others):
        into.say(f"{where}: {len(ones)} outputs -> {len(others)}")
    for number, (one, other) in enumerate(zip(ones, others, strict=False), 1):
        if isinstance(one, dict) and isinstance(other, dict):
            _output(f"{where} output {number}", one, other, into)


def _output(where: str, before: dict[str, Any], after: dict[str, Any], into: Differences) -> None:
    kinds = before.get("output_type"), after.get("output_type")
    if kinds[0] != kinds[1]:
        into.other(f"{where} kind", *kinds)
        return
    if kinds[0] == "stream":
        if before.get("name") != after.get("name"):
            into.other(f"{where} stream", before.get("name"), after.get("name"))
        compare_texts(_text(before.get("text", "")), _text(after.get("text", "")), where, into)
    elif kinds[0] == "error":
        compare_texts(
            f"{before.get('ename')}: {before.get('evalue')}",
            f"{after.get('ename')}: {after.get('evalue')}",
            where,
            into,
        )
    else:
        ones, others = before.get("data") or {}, after.get("data") or {}
        for kind in sorted(ones.keys() ^ others.keys()):
            into.say(f"{where} {kind}: {'gone' if kind in ones else 'new'}")
        for kind in sorted(ones.keys() & others.keys()):
            _data(f"{where} {kind}", kind, ones[kind], others[kind], into)


def _data(where: str, kind: str, before: Any, after: Any, into: Differences) -> None:
    if before == after:
        return
    if kind in _PICTURES:
        _picture(where, _PICTURES[kind], _text(before), _text(after), into)
    elif isinstance(before, dict) or isinstance(after, dict):
        from lapidar.core.results.kinds.values import walk

        walk(where, before, after, into)
    else:
        compare_texts(_text(before), _text(after), where, into)


def _picture(where: str, suffix: str, before: str, after: str, into: Differences) -> None:
    from lapidar.core.results.kinds import compare_contents

    try:
        with _files(suffix, before, after) as paths:
            _, found = compare_contents(Pair(f"{where}{suffix}", *paths), into.rules)
    except binascii.Error:
        into.say(f"{where}: it cannot be decoded")
        return
    except Unreadable as error:
        into.say(f"{where}: {error}")
        return
    if found.numbers:
        into.numbers.add(found.numbers)
    if found.verdict is not Verdict.SAME:
        into.tell(f"{where}: {found.worst}")
        if found.verdict is Verdict.DIFFERENT and not (found.numbers and found.numbers.beyond):
            into.is_different = True
            into.first = into.first or f"{where}: {found.worst}"


@contextmanager
def _files(suffix: str, before: str, after: str) -> Iterator[tuple[Path, Path]]:
    """Two pictures of notebooks as files, which are gone afterwards."""
    with tempfile.TemporaryDirectory(prefix="lapidar-compare-") as work:
        paths = Path(work, f"before{suffix}"), Path(work, f"after{suffix}")
        for path, text in zip(paths, (before, after), strict=True):
            path.write_bytes(text.encode() if suffix == ".svg" else base64.b64decode(text))
        yield paths


def has_picture(details: Sequence[str]) -> bool:
    """Whether what was found of two notebooks is of a picture in them."""
    return any(f" {kind}: " in line for line in details for kind in _PICTURES)


@contextmanager
def first_picture(before: Path, after: Path) -> Iterator[tuple[str, Path, Path] | None]:
    """The first picture that is another in the second of two notebooks: its type, and the files of both."""
    for one, other in zip(_cells(before), _cells(after), strict=False):
        for ones, others in zip(one.get("outputs") or [], other.get("outputs") or [], strict=False):
            told = [side.get("data") or {} for side in (ones, others)]
            for kind, suffix in _PICTURES.items():
                texts = [_text(side.get(kind, "")) for side in told]
                if all(texts) and texts[0] != texts[1]:
                    with _files(suffix, *texts) as paths:
                        yield kind, *paths
                    return
    yield None
