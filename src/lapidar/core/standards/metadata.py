"""METADATA and PKG-INFO: the core metadata of a distribution, as far as a snapshot needs it.

Core metadata specification, https://packaging.python.org/en/latest/specifications/core-metadata/
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from email.parser import HeaderParser
from functools import lru_cache

from packaging.requirements import InvalidRequirement, Requirement
from packaging.utils import canonicalize_name

__all__ = ["Metadata", "needed"]


@dataclass(frozen=True, slots=True)
class Metadata:
    """The fields of a distribution that matter here; `name` is normalised."""

    name: str
    version: str
    requires: tuple[str, ...]

    @classmethod
    def parse(cls, text: str) -> Metadata:
        """Read the header fields of a METADATA or PKG-INFO file.

        Raises:
            ValueError: it has no name or no version.
        """
        headers = HeaderParser().parsestr(text.partition("\n\n")[0] + "\n\n")
        name, version = headers.get("Name", "").strip(), headers.get("Version", "").strip()
        if not name or not version:
            raise ValueError("it has no name" if not name else "it has no version")
        requires = tuple(" ".join(value.split()) for value in headers.get_all("Requires-Dist", ()))
        return cls(canonicalize_name(name), version, requires)


@lru_cache(maxsize=4096)
def _requirement(text: str) -> Requirement | None:
    try:
        return Requirement(text)
    except InvalidRequirement:
        return None


def needed(distributions: Iterable[Metadata], marker_environment: dict[str, str]) -> dict[str, tuple[str, ...]]:
    """Who needs whom among installed distributions.

    An extra counts where some distribution of the set asks for it ("plots[svg]"), so the answer is found by
    going on until nothing new is asked for.

    Args:
        distributions: everything installed.
        marker_environment: the environment markers of their runtime.

    Returns:
        For each name the sorted names that it needs and that are in the set.
    """
    by_name = {distribution.name: distribution for distribution in distributions}
    needs: dict[str, set[str]] = {name: set() for name in by_name}
    waiting = [(name, "") for name in by_name]
    asked = set(waiting)
    while waiting:
        name, extra = waiting.pop()
        for text in by_name[name].requires:
            requirement = _requirement(text)
            if requirement is None or not _applies(requirement, extra, marker_environment):
                continue
            target = canonicalize_name(requirement.name)
            if target not in by_name:
                continue
            if target != name:
                needs[name].add(target)
            for wanted in requirement.extras:
                step = (target, str(wanted))
                if step not in asked:
                    asked.add(step)
                    waiting.append(step)
    return {name: tuple(sorted(targets)) for name, targets in needs.items()}


def _applies(requirement: Requirement, extra: str, marker_environment: dict[str, str]) -> bool:
    marker = requirement.marker
    if marker is None:
        return not extra  # what holds without an extra was counted when no extra was asked for
    return bool(marker.evaluate({**marker_environment, "extra": extra}))
