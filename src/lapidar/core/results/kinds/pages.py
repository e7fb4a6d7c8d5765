"""How documents look: the pages of a PDF or an SVG, drawn where a library that draws them is at hand. What differs is
judged by structure; this tells besides whether, and where, it can be seen."""

from __future__ import annotations

import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from lapidar.core.results.differences import Differences
from lapidar.core.results.kinds import picture
from lapidar.core.results.tolerances import NONE
from lapidar.core.results.verdict import Pair, Unreadable

__all__ = ["drawn", "tell"]

_SECONDS = 30


@contextmanager
def drawn(before: Path, after: Path) -> Iterator[tuple[list[Path], list[Path]]]:
    """The pages of two documents as pictures, which are gone afterwards; none where they cannot be drawn here."""
    with tempfile.TemporaryDirectory(prefix="lapidar-pages-") as work:
        folders = Path(work, "before"), Path(work, "after")
        words = [sys.executable, "-m", "lapidar.core.results.kinds._pages"]
        for document, folder in zip((before, after), folders, strict=True):
            folder.mkdir()
            words += [str(document.absolute()), str(folder)]
        try:
            # Where there is no renderer, or it does not get through, the structure alone is told.
            subprocess.run(words, stdin=subprocess.DEVNULL, capture_output=True, timeout=_SECONDS, check=False)
        except (OSError, subprocess.SubprocessError):
            pass
        ones, others = (sorted(folder.iterdir(), key=lambda page: int(page.stem)) for folder in folders)
        yield ones, others


def tell(pair: Pair, into: Differences) -> None:
    """Tell first how far the difference of two documents can be seen."""
    with drawn(pair.before, pair.after) as (ones, others):
        if not ones or not others:
            return
        lines = [line for at, pages in enumerate(zip(ones, others, strict=False), 1) if (line := _seen(at, *pages))]
    if not lines:
        lines = ["drawn, they look the same"] if len(ones) == len(others) else []
    into.details[:0] = lines


def _seen(number: int, before: Path, after: Path) -> str:
    try:
        found = picture.compare(Pair("", before, after), NONE)
    except Unreadable:
        return ""
    return f"page {number}, drawn: {found.details[0]}" if found.details else ""
