"""Which environment is meant, and an interpreter of each language in it."""

from __future__ import annotations

from collections.abc import Collection
from pathlib import Path

from lapidar.core import languages
from lapidar.core.errors import EnvironmentUnusable
from lapidar.core.languages.protocol import Located
from lapidar.core.place import Place

__all__ = ["locate"]


def locate(place: Place, named: Path | None, only: Collection[str] = ()) -> tuple[Located, ...]:
    """The interpreters of the environment that is meant, in the order of the languages.

    Args:
        place: whose environment is looked for.
        named: a folder or an interpreter; without it: what the shell, the project or PATH points to, as each language
            knows it. What is only there by chance does not count where anything is there for a reason, unless the
            project has source for it.
        only: the names of the languages that are meant; none: all.

    Raises:
        EnvironmentUnusable: there is none, or what was named is no environment.
        LapidarError: there is no such language.
    """
    found: list[Located] = []
    refusals: list[Exception] = []
    asked = [languages.of(name) for name in only] or languages.every()
    for language in asked:
        try:
            one = language.capturing.locate(place, named)
        except EnvironmentUnusable as error:  # the folder may be another language's
            refusals.append(error)
        else:
            found += [one] if one else []
    meant = [one for one in found if only or not one.by_chance or (named is None and _has_source(place, one, found))]
    if not meant and refusals:
        raise refusals[0]
    if not found:
        raise asked[0].capturing.refuse(place, named)
    return tuple(meant or found[:1])


def _has_source(place: Place, one: Located, found: list[Located]) -> bool:
    """Whether the project has source of a language, which speaks for it where several are here."""
    return len(found) > 1 and any(True for _ in languages.sources_of(languages.of(one.language), place.root))
