"""Texts that are kept in the cache: a tree with a file for each, and lists as lines of JSON."""

from __future__ import annotations

import io
from collections.abc import Iterable, Mapping
from functools import partial
from typing import TypeVar

import msgspec

from lapidar.core import decoding
from lapidar.core.cache.digest import sha256_of
from lapidar.core.cache.store import Cache
from lapidar.core.cache.stowing import StreamDraft, stow
from lapidar.core.errors import CacheError
from lapidar.core.progress import Silent

__all__ = ["as_lines", "of_lines", "read_texts", "stow_texts"]

T = TypeVar("T")


def stow_texts(cache: Cache, texts: Mapping[str, bytes]) -> str:
    """Keep texts by their names; the digest of their tree.

    Args:
        cache: in use by the caller.
    """
    drafts = [StreamDraft(name, partial(io.BytesIO, text), len(text)) for name, text in texts.items()]
    return stow(cache, {"texts": drafts}, None, Silent())["texts"].tree.digest


def read_texts(cache: Cache, tree: str, names: Iterable[str]) -> dict[str, bytes]:
    """Some of the texts of a tree, each held against its digest.

    Raises:
        CacheError: the cache has not got one, or it is not what it was.
    """
    entries = {entry.path: entry for entry in cache.tree(tree)}
    found = {}
    for name in names:
        try:
            entry = entries[name]
            if sha256_of(cache.entry_path(entry)) != entry.content:
                raise CacheError(f"{name} is damaged in the cache")
            found[name] = cache.read(entry)
        except (KeyError, OSError) as error:
            raise CacheError(f"{name} is not in the cache") from error
    return found


def as_lines(values: Iterable[msgspec.Struct]) -> bytes:
    """A list, a line of JSON each."""
    return b"".join(msgspec.json.encode(value) + b"\n" for value in values)


def of_lines(text: bytes, kind: type[T]) -> tuple[T, ...]:
    """The list that lines stand for.

    Raises:
        msgspec.MsgspecError: they are none of this kind.
    """
    return decoding.from_json(b"[" + b",".join(text.splitlines()) + b"]", tuple[kind, ...])  # type: ignore[valid-type]
