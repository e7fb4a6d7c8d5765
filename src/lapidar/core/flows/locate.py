"""Which environment is meant, and an interpreter of each language in it."""

from __future__ import annotations

from pathlib import Path

from lapidar.core import languages
from lapidar.core.errors import EnvironmentUnusable
from lapidar.core.languages.protocol import Located
from lapidar.core.project import Project

__all__ = ["locate"]


def locate(project: Project, named: Path | None) -> tuple[Located, ...]:
    """The interpreters of the environment that is meant, in the order of the languages.

    Args:
        project: whose environment is looked for.
        named: a folder or an interpreter; without it: what the shell, the project or PATH points to, as each language
            knows it. What is only there by chance does not count where anything is there for a reason.

    Raises:
        EnvironmentUnusable: there is none, or what was named is no environment.
    """
    found: list[Located] = []
    refusals: list[Exception] = []
    for language in languages.every():
        try:
            one = language.locate(project, named)
        except EnvironmentUnusable as error:  # the folder may be another language's
            refusals.append(error)
        else:
            found += [one] if one else []
    meant = [one for one in found if not one.by_chance]
    if not meant and refusals:
        raise refusals[0]
    if not found:
        raise languages.first().refuse(project, named)
    return tuple(meant or found)
