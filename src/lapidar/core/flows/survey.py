"""Survey: what the project's own source needs, and how that stands to its environment and to what it declares."""

from __future__ import annotations

from pathlib import Path

from lapidar.core import languages
from lapidar.core.cache.store import Cache
from lapidar.core.flows.locate import locate
from lapidar.core.languages.protocol import Located
from lapidar.core.project import Project
from lapidar.core.records.surveyed import Surveyed, together

__all__ = ["survey"]


def survey(
    project: Project, cache: Cache | None, environment: Path | None = None, *, ask: bool = True
) -> tuple[Surveyed, tuple[Located, ...]]:
    """Read all sources of a project, without running them.

    Args:
        cache: looked in for what provides what is missing; it also keeps what was read of unchanged files.
        environment: a folder or an interpreter; None for what the project or the shell points to.
        ask: ask the configured indexes last.

    Returns:
        What was found, and the environment that it was matched to.

    Raises:
        EnvironmentUnusable: there is no such environment.
    """
    located = locate(project, environment)
    return together([languages.of(at.language).survey(project, at, cache, ask=ask) for at in located]), located
