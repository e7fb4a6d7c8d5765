"""Trees: a set of files with their relative paths, known by one digest.

The listing of a tree is text: a first line that names the format, then one line an entry, sorted by the
bytes of its path, four columns separated by tabs::

    lapidar tree 1
    f <TAB> sha256 in hex <TAB> bytes <TAB> path       a file
    x <TAB> sha256 in hex <TAB> bytes <TAB> path       an executable file
    l <TAB> target <TAB> 0 <TAB> path                  a symbolic link

A tab, a line feed or a backslash inside a path or target is written ``\\t``, ``\\n``, ``\\\\``. The tree's
digest is the sha256 of the listing's bytes. (The size follows from the digest, so it adds nothing to the
identity; it is there so that sizes are known without looking at the files.)
"""

from __future__ import annotations

import hashlib
import posixpath
import re
from collections.abc import Iterable, Iterator
from typing import NamedTuple

from lapidar.core.errors import CacheError

__all__ = ["EXECUTABLE", "FILE", "LINK", "Entry", "Tree"]

FILE, EXECUTABLE, LINK = "f", "x", "l"
_HEADER = "lapidar tree 1\n"
_ESCAPES = {"\\": "\\\\", "\t": "\\t", "\n": "\\n"}
_UNESCAPES = {text: character for character, text in _ESCAPES.items()}
# What no listing of plain entries holds: links, and paths that are not plain relative ones.
_SUSPECT = ("\nl\t", "/../", "\t../", "/..\n", "\t..\n", "\t/", "//", "/./", "\t./", "/.\n", "\t.\n", "/\n", "\0")
_PLAIN = re.compile(r"(?:[fx]\t[0-9a-f]{64}\t[0-9]+\t[^\n]+\n)*")
_DIGEST = re.compile(r"[0-9a-f]{64}")


class Entry(NamedTuple):
    """One file or link of a tree.

    Attributes:
        path: POSIX, relative to the tree's root.
        kind: `FILE`, `EXECUTABLE` or `LINK`.
        content: the sha256 of the bytes in hex; for a link, its target.
        bytes: the file's size; 0 for a link.
    """

    path: str
    kind: str
    content: str
    bytes: int


def _escape(text: str) -> str:
    if "\\" in text or "\t" in text or "\n" in text:
        return "".join(_ESCAPES.get(character, character) for character in text)
    return text


def _unescape(text: str) -> str:
    if "\\" not in text:
        return text
    return re.sub(r"\\[\\tn]", lambda found: _UNESCAPES[found[0]], text)


def _flaw(entry: Entry) -> str | None:
    """Why an entry may not be in a tree, if it may not."""
    path, kind, content, size = entry
    parts = path.split("/")
    if not path or path.startswith("/") or any(part in ("", ".", "..") for part in parts) or "\0" in path:
        return "its path is not a plain relative one"
    if kind == LINK:
        landed = posixpath.normpath(posixpath.join(posixpath.dirname(path), content))
        if not content or content.startswith("/") or landed == ".." or landed.startswith("../"):
            return "its target lies outside the tree"
        return None if size == 0 else "a link has no size"
    if kind not in (FILE, EXECUTABLE):
        return f"its kind {kind!r} is unknown"
    if not _DIGEST.fullmatch(content):
        return "its digest is not a sha256"
    return None if size >= 0 else "its size is negative"


class Tree:
    """A sorted set of entries.

    Args:
        entries: in any order; a path stands for one entry only, and no file is also a folder of another.

    Raises:
        ValueError: an entry may not be in a tree; the message names it.
    """

    __slots__ = ("_digest", "entries")

    def __init__(self, entries: Iterable[Entry]) -> None:
        self.entries: tuple[Entry, ...] = tuple(sorted(entries))  # by paths: code points stand in the order of UTF-8
        self._digest = ""
        self._validate()

    def _validate(self) -> None:
        paths = set()
        folders = set()
        plain = self._is_plain()
        for entry in self.entries:
            if not plain and (flaw := _flaw(entry)):
                raise ValueError(f"{entry.path!r}: {flaw}")
            if entry.path in paths:
                raise ValueError(f"{entry.path!r}: it stands there twice")
            paths.add(entry.path)
            folder = entry.path.rpartition("/")[0]
            while folder and folder not in folders:
                folders.add(folder)
                folder = folder.rpartition("/")[0]
        both = paths & folders
        if both:
            raise ValueError(f"{min(both)!r}: it is a file and a folder at once")

    def _is_plain(self) -> bool:
        """Whether a glance at the whole text tells that no entry is unfit: to look at each takes much longer."""
        listing = self.listing()
        self._digest = "sha256:" + hashlib.sha256(listing).hexdigest()
        body = listing.decode("utf-8")[len(_HEADER) :]
        return not any(mark in "\n" + body for mark in _SUSPECT) and _PLAIN.fullmatch(body) is not None

    def __iter__(self) -> Iterator[Entry]:
        return iter(self.entries)

    def __len__(self) -> int:
        return len(self.entries)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Tree) and self.entries == other.entries

    def __hash__(self) -> int:
        return hash(self.digest)

    @property
    def total_bytes(self) -> int:
        """The size of all its files together."""
        return sum(entry.bytes for entry in self.entries)

    @property
    def digest(self) -> str:
        """``sha256:`` and the hex digest of the listing."""
        if not self._digest:
            self._digest = "sha256:" + hashlib.sha256(self.listing()).hexdigest()
        return self._digest

    def listing(self) -> bytes:
        """The canonical text, UTF-8."""
        lines = [
            f"{entry.kind}\t{_escape(entry.content)}\t{entry.bytes}\t{_escape(entry.path)}\n" for entry in self.entries
        ]
        return (_HEADER + "".join(lines)).encode("utf-8")

    @classmethod
    def parse(cls, listing: bytes, digest: str) -> Tree:
        """Read a listing and verify it.

        Args:
            listing: the bytes of a listing.
            digest: ``sha256:...`` that they must have.

        Raises:
            CacheError: they have another digest, or are no listing.
        """
        found = "sha256:" + hashlib.sha256(listing).hexdigest()
        if found != digest:
            raise CacheError(
                "A tree's listing in the cache is corrupt",
                why=f"expected {digest}, found {found}",
                remedy="Run `lapidar cache audit`, then capture again.",
            )
        return cls._trusted(listing)

    @classmethod
    def _trusted(cls, listing: bytes) -> Tree:
        # Validating each of 20,000 entries doubles the time to read them, so a glance at the whole text tells
        # whether any could be unfit; a hostile listing may have a right digest.
        header, _, body = listing.decode("utf-8").partition("\n")
        if header + "\n" != _HEADER:
            raise CacheError(
                f"A tree's listing in the cache has an unknown format: {header[:40]!r}",
                remedy="Use the version of lapidar that wrote this cache, or a newer one.",
            )
        entries = []
        for line in body.split("\n")[:-1]:
            kind, content, size, path = line.split("\t")
            if "\\" in line:
                content, path = _unescape(content), _unescape(path)
            entries.append(Entry(path, kind, content, int(size)))
        if any(mark in "\n" + body for mark in _SUSPECT):
            try:
                return cls(entries)
            except ValueError as error:
                raise CacheError(
                    "A tree in the cache is not safe to place", why=str(error), remedy="Do not use this cache."
                ) from error
        tree = cls.__new__(cls)
        tree.entries = tuple(entries)
        tree._digest = "sha256:" + hashlib.sha256(listing).hexdigest()
        return tree
