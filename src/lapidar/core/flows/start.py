"""Start: what a folder has already, and what its source needs, as the declaration that it could have."""

from __future__ import annotations

from lapidar.core import languages
from lapidar.core.cache.store import Cache
from lapidar.core.declaring import adopt
from lapidar.core.declaring.adopt import Proposal
from lapidar.core.errors import EnvironmentUnusable
from lapidar.core.flows.locate import locate
from lapidar.core.languages.protocol import Located
from lapidar.core.project import Project
from lapidar.core.records import lockfile
from lapidar.core.records.surveyed import together

__all__ = ["propose"]


def propose(project: Project, cache: Cache | None) -> Proposal:
    """What the declaration of a folder would be. Nothing is written, and no host is asked.

    Args:
        cache: looked in for what provides what the source imports.

    Raises:
        LapidarError: it is a project already.
    """
    runtimes = {}
    surveyed = []
    for name, located in _located(project).items():
        language = languages.of(name)
        try:
            runtimes[name] = language.runtime_version(located) if located else ""
        except EnvironmentUnusable:
            located = None  # then what is installed tells nothing
        surveyed.append(language.survey(project, located, cache))
    return adopt.propose(project, together(surveyed), runtimes, lockfile.read_if_there(project.lockfile))


def _located(project: Project) -> dict[str, Located | None]:
    try:
        return {one.language: one for one in locate(project, None)}
    except EnvironmentUnusable:
        return {languages.first().name: None}
