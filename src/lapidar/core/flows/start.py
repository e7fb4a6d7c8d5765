"""Start: what a folder has already, and what its source needs, as the declaration that it could have."""

from __future__ import annotations

import datetime
import subprocess
from collections.abc import Sequence

from msgspec.structs import replace

from lapidar.core import languages
from lapidar.core.cache.store import Cache
from lapidar.core.declaring import adopt, reading
from lapidar.core.declaring.adopt import Proposal
from lapidar.core.errors import EnvironmentUnusable, LapidarError
from lapidar.core.flows.locate import locate
from lapidar.core.languages.protocol import Located
from lapidar.core.place import Place
from lapidar.core.records import lockfile
from lapidar.core.records.declaration import Index
from lapidar.core.records.surveyed import together
from lapidar.core.system import git

__all__ = ["propose"]


def propose(place: Place, cache: Cache | None, indexes: Sequence[Index] = (), guess: str = "") -> Proposal:
    """What the declaration of a folder would be. Nothing is written, and no host is asked but those of the indexes.

    Args:
        cache: looked in for what provides what the source imports.
        indexes: asked before those of the user's own configuration: what provides what the source imports, and which
            runtime there is anything built for of what is pinned exactly.
        guess: a day (ISO 8601), or ``auto`` for the one on which its sources were changed last: nothing newer is to be
            pinned.

    Raises:
        LapidarError: it is a project already.
    """
    runtimes = {}
    surveyed = []
    there = _located(place)
    # Whose packages an index has that somebody names is plain where there is one language.
    named = (
        [replace(one, language=one.language or next(iter(there))) for one in indexes] if len(there) == 1 else indexes
    )
    asked = (*named, *reading.read(place).indexes)
    for name, located in there.items():
        language = languages.of(name)
        try:
            runtimes[name] = language.runtimes.version_of(located) if located and language.runtimes else ""
        except EnvironmentUnusable:
            located = None  # then what is installed tells nothing
        if language.surveying:
            surveyed.append(language.surveying.survey(place, located, cache, indexes=asked))
    proposal = adopt.propose(place, together(surveyed), runtimes, lockfile.read_if_there(place.lockfile))
    for name in there if asked else ():
        declaring = None if name in proposal.stated else languages.of(name).declaring
        if declaring and (spoken := declaring.runtime_of_pins(proposal.needs, asked, cache)):
            proposal.runtimes[name] = spoken
    proposal.as_of = _day(place, guess) if guess else None
    return proposal


def _day(place: Place, guess: str) -> datetime.date:
    """Raises: LapidarError: it is no day, or there is nothing to tell it by."""
    if guess != "auto":
        try:
            return datetime.date.fromisoformat(guess)
        except ValueError as error:
            raise LapidarError(f"{guess!r} is no day", remedy="Write 2021-06-30, or auto.") from error
    sources = [
        place.root / file for language in languages.every() for file in languages.sources_of(language, place.root)
    ]
    last = _last_commit(place) or max((path.stat().st_mtime for path in sources), default=0.0)
    if not last:
        raise LapidarError("There is no source to tell a day by", remedy="Name one: --guess 2021-06-30.")
    return datetime.datetime.fromtimestamp(last, datetime.UTC).date()


def _last_commit(place: Place) -> float:
    """When version control was given sources last; 0 where it tells nothing. The times of files are those of a
    checkout there."""
    patterns = [f":(glob)**/*{suffix}" for language in languages.every() for suffix in language.source_suffixes]
    try:
        done = git.run(place.root, "log", "-1", "--format=%ct", "--", *patterns)
        return float(done.stdout.strip() or 0)
    except (LapidarError, OSError, subprocess.SubprocessError, ValueError):
        return 0.0


def _located(place: Place) -> dict[str, Located | None]:
    try:
        return {one.language: one for one in locate(place, None)}
    except EnvironmentUnusable:
        with_sources = [one.name for one in languages.every() if any(languages.sources_of(one, place.root))]
        return dict.fromkeys(with_sources or [languages.usual().name])
