"""What of the files of a package, a library or a runtime differs between two trees, and the text of it."""

from __future__ import annotations

import difflib
import re
from collections.abc import Iterator

from msgspec import Struct

from lapidar.core.cache.store import Cache
from lapidar.core.cache.trees import LINK, Entry, Tree
from lapidar.core.errors import LapidarError

__all__ = ["FileChange", "differing", "news", "text_difference"]

_MOST_TEXT = 2_000_000  # bytes of a file whose text is shown
_NEWS = re.compile(r"(^|/)(NEWS|CHANGES|CHANGELOG|HISTORY|RELEASE_NOTES)(\.(md|rst|txt))?$", re.IGNORECASE)
# A heading of a version: ``# kilns 1.2.0``, ``## [1.2.0] - 2026-01-02``, ``Version 1.2``, ``1.2 (2026)``.
_HEADING = re.compile(
    r"^\s{0,3}(?:#{1,4}\s*|v(?:ersion)?\s+|[\w.]{1,40}\s+)?\[?v?(\d+(?:[.-]\d+)+)\]?(?:\s|$|:|\()", re.IGNORECASE
)


class FileChange(Struct, frozen=True):
    """A file that came, went, or is another."""

    path: str
    before: Entry | None
    after: Entry | None

    @property
    def kind(self) -> str:
        if self.before is None:
            return "new"
        return "gone" if self.after is None else "changed"


def differing(before: Tree, after: Tree) -> list[FileChange]:
    """The files that are not the same in two trees, by their paths."""
    old, new = ({entry.path: entry for entry in tree} for tree in (before, after))
    return [
        FileChange(path, old.get(path), new.get(path))
        for path in sorted(old.keys() | new.keys())
        if not _same(old.get(path), new.get(path))
    ]


def _same(one: Entry | None, other: Entry | None) -> bool:
    return one is not None and other is not None and (one.kind, one.content) == (other.kind, other.content)


def text_difference(cache: Cache, change: FileChange) -> list[str] | None:
    """The lines that differ, in the unified form; None where either is no text.

    Raises:
        LapidarError: the cache has lost the bytes.
    """
    texts = [_text(cache, one) for one in (change.before, change.after)]
    if texts[0] is None or texts[1] is None:
        return None
    names = (f"before/{change.path}", f"after/{change.path}")
    lines = difflib.unified_diff(texts[0], texts[1], *names, lineterm="", n=2)
    return list(lines)


def _text(cache: Cache, entry: Entry | None) -> list[str] | None:
    if entry is None:
        return []
    if entry.kind == LINK:
        return [f"-> {entry.content}"]
    if entry.bytes > _MOST_TEXT:
        return None
    data = cache.read(entry)
    if b"\0" in data:
        return None
    try:
        return data.decode("utf-8").splitlines()
    except UnicodeDecodeError:
        return None


def news(cache: Cache, before: Tree, after: Tree, old: str, new: str) -> list[str]:
    """The entries of a package's own change log that it has for what came between two versions."""
    had = {entry.content for entry in before}
    for entry in after:
        if _NEWS.search(entry.path) and entry.content not in had and entry.kind != LINK:
            try:
                lines = _text(cache, entry)
            except LapidarError:
                continue
            if lines:
                return list(_between(lines, old, new))
    return []


def _numbers(text: str) -> tuple[int, ...]:
    return tuple(int(part) for part in re.findall(r"\d+", text))


def _between(lines: list[str], old: str, new: str) -> Iterator[str]:
    """The lines below headings of versions that are newer than `old`, and no newer than `new`."""
    lowest, highest = _numbers(old), _numbers(new)
    inside = False
    for line in lines:
        heading = _HEADING.match(line)
        if heading:
            inside = lowest < _numbers(heading[1]) <= highest
        if inside:
            yield line
