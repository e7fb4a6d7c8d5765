"""The standard files in which a project declares things of Python; see `lapidar.core.languages.protocol.Declaring`."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from lapidar.core.cache.store import Cache
from lapidar.core.declaring.project import ProjectFiles
from lapidar.core.languages.protocol import Declared
from lapidar.core.languages.python.declaring import spoken, standard
from lapidar.core.languages.python.declaring.place import standard_place
from lapidar.core.languages.python.pinning.target import Target
from lapidar.core.languages.python.requirements import requirement_of
from lapidar.core.languages.python.standards import metadata
from lapidar.core.records.declaration import Declaration, Index, Need
from lapidar.core.records.snapshot import Platform, Runtime

__all__ = ["applies", "declared", "proposed", "runtime_of_pins", "standard_place"]


def declared(project: ProjectFiles) -> Declared:
    """What pyproject.toml declares."""
    return standard.declared(project.toml)


def proposed(root: Path) -> Declaration:
    """What lists of needs say."""
    return standard.of_lists(root, adopting=True)


def runtime_of_pins(needs: Sequence[Need], indexes: Sequence[Index], cache: Cache | None) -> str:
    """The range of runtimes that there is something built for of what is needed in exact versions."""
    from lapidar.core.languages.python.index.indexes import Indexes  # which asks hosts

    with Indexes(indexes, cache) as opened:
        return spoken.of_pins([need for need in needs if need.language == "python"], opened)


def applies(need: Need, runtime: Runtime, platform: Platform) -> bool:
    """Whether the marker of a need holds."""
    return metadata.applies(requirement_of(need), Target(runtime, platform).markers)
