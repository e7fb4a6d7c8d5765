"""Export: what a snapshot says of packages, for programs that read no lockfile of ours; and what has no place there."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator

from lapidar.core import languages
from lapidar.core.errors import LapidarError
from lapidar.core.records.snapshot import Snapshot

__all__ = ["has_no_place", "require_packages_of", "table"]

_HEADS = ("language", "name", "version", "sha256", "file", "index", "tree")


def table(snapshot: Snapshot) -> str:
    """All packages of a snapshot, of every language, as CSV (RFC 4180): a line each, with the digest of the file that
    it came from, where it came from one, and of its tree."""
    text = io.StringIO()
    rows = csv.writer(text, lineterminator="\r\n")
    rows.writerow(_HEADS)
    for one in snapshot.packages:
        origin = one.origin
        rows.writerow(
            (one.language, one.name, one.version, origin.sha256, origin.file or origin.url, origin.index, one.tree)
        )
    return text.getvalue()


def require_packages_of(snapshot: Snapshot, language: str) -> None:
    """Raises: LapidarError: a snapshot has no package of a language, so that there is nothing to write in its form."""
    if not any(one.language == language for one in snapshot.packages):
        raise LapidarError(
            f"The snapshot has no package of {languages.of(language).title}, and nothing was written",
            remedy="lapidar export table writes the packages of every language, with their digests.",
        )


def has_no_place(snapshot: Snapshot, only: str = "") -> Iterator[str]:
    """What of a snapshot has no place in a form, a phrase each.

    Args:
        only: the one language that the form has a place for; "": all.
    """
    for runtime in snapshot.runtimes:
        yield f"the runtime {languages.of(runtime.language).title} {runtime.version}"
    for name in snapshot.languages:
        others = sum(one.language == name for one in snapshot.packages)
        if only and name != only and others:
            yield f"{others} packages of {languages.of(name).title}"
    if snapshot.libraries:
        yield f"{len(snapshot.libraries)} system libraries"
    if snapshot.tools:
        yield f"{len(snapshot.tools)} outside programs"
    if snapshot.remainders:
        yield "files of no package"
