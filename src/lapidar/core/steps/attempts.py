"""What an attempt at a step that was broken off leaves to the next one: the files that the step declares (`keep`).

Only an attempt at the very same thing is given them: the same command, and the same bytes of all that it is run with.
They are the step's own state, and neither inputs nor results. What one attempt read the next need not read again: it is
noted beside them, and counts as read by the run that comes to the end.
"""

from __future__ import annotations

import hashlib
import json
import os
from collections.abc import Collection, Iterable, Mapping, Sequence
from fnmatch import fnmatchcase
from pathlib import Path

import msgspec
from msgspec import Struct

from lapidar.core import atomic, foreign
from lapidar.core.cache.digest import sha256_of
from lapidar.core.cache.store import Cache
from lapidar.core.cache.stowing import FileDraft, stow
from lapidar.core.cache.work import folder_of_attempts
from lapidar.core.errors import CacheError
from lapidar.core.progress import Silent
from lapidar.core.results import scratch
from lapidar.core.results.comparing import files_below
from lapidar.core.results.observing import Seen
from lapidar.core.steps.used import EVERYTHING, Used

__all__ = ["Attempt", "Before", "kept_of"]


def kept_of(paths: Iterable[str], patterns: Collection[str]) -> frozenset[str]:
    """Those of paths below the project that the next attempt is given."""
    if not patterns:
        return frozenset()
    return frozenset(path for path in paths if any(fnmatchcase(path, one) for one in patterns))


class Before(msgspec.Struct, frozen=True):
    """What attempts before this one left.

    Attributes:
        tree: of the files that they kept; kept: these, below the project.
        sources, inputs: what they read of the project; outside: of elsewhere.
        used: what they stood on.
    """

    tree: str
    kept: tuple[str, ...]
    sources: tuple[str, ...]
    inputs: tuple[str, ...]
    outside: tuple[str, ...]
    used: Used


class Attempt(Struct):
    """An attempt at a step, in a copy of the project.

    Attributes:
        patterns: of the files that are kept.
        key: what it is an attempt at.
        laid_out: the files that were there before anything was kept.
        before: what it was given.
    """

    cache: Cache
    copy: Path
    patterns: tuple[str, ...]
    key: str
    laid_out: frozenset[str] = frozenset()
    before: Before | None = None

    @classmethod
    def at(
        cls,
        cache: Cache,
        copy: Path,
        patterns: tuple[str, ...],
        command: Sequence[str],
        told: Mapping[str, str],
    ) -> Attempt:
        """An attempt that is about to begin.

        Args:
            copy: with all that it is run with.
            told: whatever else makes it another thing to do: a snapshot, values.
        """
        digest = hashlib.sha256(repr((tuple(command), sorted(told.items()))).encode("utf-8", "surrogateescape"))
        laid_out = frozenset(files_below(copy))
        for path in sorted(laid_out):
            full = copy / path
            content = os.readlink(full) if full.is_symlink() else sha256_of(str(full))
            digest.update(f"{path}\0{content}\n".encode("utf-8", "surrogateescape"))
        return cls(cache, copy, patterns, digest.hexdigest(), laid_out)

    @property
    def _file(self) -> Path:
        return folder_of_attempts(self.cache) / self.key

    def give(self) -> None:
        """Give it what the one before left, if that is there and whole; else it begins from the start."""
        given: list[Path] = []
        try:
            before = msgspec.convert(json.loads(foreign.read(self._file)), Before)
            for entry in self.cache.tree(before.tree):
                given.append(self.copy / entry.path)
                if not scratch.laid_out(entry, self.cache, given[-1]):
                    raise CacheError(f"{entry.path} is damaged in the cache")
            self.before = before
        except (OSError, ValueError, CacheError):
            for path in given:
                path.unlink(missing_ok=True)

    def broke_off(self, seen: Seen | None, used: Used) -> bool:
        """Leave to the next what is to be kept; whether there was anything.

        Args:
            seen: what it did; None where nobody knows: then it may have read all that it had.
            used: what it stood on.
        """
        kept = kept_of(files_below(self.copy), self.patterns) - self.laid_out
        drafts = [
            FileDraft(path, str(self.copy / path)) for path in sorted(kept) if not (self.copy / path).is_symlink()
        ]
        if not drafts or (seen and (seen.both or seen.changed_sources)):
            return False  # what it changed of what it read the next would find changed
        with self.cache.in_use():
            tree = stow(self.cache, {"kept": drafts}, None, Silent())["kept"].tree.digest
        names = tuple(sorted(kept))
        every = tuple(sorted(set(files_below(self.copy)) - kept))
        left = (
            Before(tree, names, tuple(seen.sources), tuple(seen.inputs), seen.outside, used)
            if seen
            else Before(tree, names, (), every, (), EVERYTHING)
        )
        atomic.make_folder(self._file.parent)
        # Names of files need not be UTF-8.
        atomic.replace_file(self._file, json.dumps(msgspec.to_builtins(left)).encode("ascii"))
        return True

    def ended(self) -> None:
        """It came to its end: nobody needs what was kept."""
        self._file.unlink(missing_ok=True)
