"""METADATA and PKG-INFO: the core metadata of a distribution, as far as a snapshot needs it.

Core metadata specification, https://packaging.python.org/en/latest/specifications/core-metadata/
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Iterator, Mapping
from functools import lru_cache

from msgspec import Struct
from packaging.markers import Marker
from packaging.requirements import InvalidRequirement, Requirement
from packaging.utils import canonicalize_name

from lapidar.core import foreign

__all__ = ["Metadata", "applies", "needed"]

_NAME = re.compile(r"\s*[A-Za-z0-9](?:[A-Za-z0-9._-]*[A-Za-z0-9])?")


class Metadata(Struct, frozen=True):
    """The fields of a distribution that matter here; `name` is normalised, `extras` are those it provides."""

    name: str
    version: str
    requires: tuple[str, ...]
    extras: tuple[str, ...] = ()
    requires_python: str = ""

    def requirements(self, among: Collection[str] | None = None, extra: str = "") -> Iterator[Requirement]:
        """Its requirements; those that cannot be read are passed over.

        Args:
            among: only those of these names: most others are of extras that nobody asked for, and take long to read.
            extra: leave out what names no extra at all, and cannot be for this one.
        """
        for text in self.requires:
            if extra and "extra" not in text:
                continue
            if among is not None and _name_in(text) not in among:
                continue
            requirement = _requirement(text)
            if requirement is not None:
                yield requirement

    @classmethod
    def parse(cls, text: str) -> Metadata:
        """Read the header fields of a METADATA or PKG-INFO file.

        Raises:
            ValueError: it has no name or no version.
        """
        from packaging.metadata import parse_email  # loads much, and what is remembered is not read again

        headers, _ = parse_email(text.partition("\n\n")[0] + "\n\n")
        name, version = headers.get("name", "").strip(), headers.get("version", "").strip()
        if not name or not version:
            raise ValueError("it has no name" if not name else "it has no version")
        requires = tuple(" ".join(value.split()) for value in headers.get("requires_dist", ()))
        if len(requires) > foreign.MOST_NEEDS:
            raise ValueError(f"it has {len(requires):,} needs, and more than {foreign.MOST_NEEDS:,} are refused")
        if len(name) > foreign.MOST_NAME or len(version) > foreign.MOST_NAME:
            raise ValueError("its name or its version is longer than any is")
        extras = tuple(value.strip() for value in headers.get("provides_extra", ()))
        requires_python = headers.get("requires_python", "").strip()
        return cls(canonicalize_name(name), version, requires, extras, requires_python)


_PRIVATE = "Private ::"  # of the standard list too: "Do Not Upload"
_CLASSIFIER = "License :: OSI Approved :: "
_LONGEST_LICENCE = 80


def licence(text: str) -> str:
    """What a METADATA or PKG-INFO says of the licence: the expression (PEP 639), else the field where it is no whole
    text, else the classifiers; "" for nothing."""
    from packaging.metadata import parse_email

    headers, _ = parse_email(text.partition("\n\n")[0] + "\n\n")
    if told := headers.get("license_expression", "").strip():
        return told
    told = " ".join(headers.get("license", "").split())
    if told and len(told) <= _LONGEST_LICENCE and told.lower() not in ("unknown", "other"):
        return told
    named = [one.removeprefix(_CLASSIFIER) for one in headers.get("classifiers", ()) if one.startswith(_CLASSIFIER)]
    named += [one for one in headers.get("classifiers", ()) if one.startswith(_PRIVATE)]
    return ", ".join(named)


def applies(requirement: Requirement, marker_environment: Mapping[str, str], extra: str = "") -> bool:
    """Whether a requirement holds.

    Args:
        extra: the extra that it would be for: what holds without one is needed without it, and does not count again.
    """
    if requirement.marker is None:
        return not extra
    marker, environment = str(requirement.marker), tuple(marker_environment.items())
    if extra and "extra" not in marker:
        return False
    return _holds(marker, environment, extra) and not (extra and _holds(marker, environment, ""))


@lru_cache(maxsize=16_384)
def _holds(marker: str, environment: tuple[tuple[str, str], ...], extra: str) -> bool:
    return Marker(marker).evaluate({**dict(environment), "extra": extra})


def _name_in(text: str) -> str:
    """The name that a requirement begins with; "" where there is none."""
    found = _NAME.match(text)
    return canonicalize_name(found[0].strip()) if found else ""


@lru_cache(maxsize=4096)
def _requirement(text: str) -> Requirement | None:
    try:
        return Requirement(text)
    except InvalidRequirement:
        return None


def needed(
    distributions: Iterable[Metadata],
    marker_environment: dict[str, str],
    requested: Collection[str] = (),
    extras: Mapping[str, Iterable[str]] | None = None,
) -> dict[str, tuple[str, ...]]:
    """Who needs whom among installed distributions.

    An extra counts where some distribution of the set asks for it ("plots[svg]"). What a person asked for with an
    extra ("plots[svg]" on an installer's command line) is written down nowhere; so an extra counts too where all
    that it brings is there, and something of that is there for no other reason.

    Args:
        distributions: everything installed.
        marker_environment: the environment markers of their runtime.
        requested: the names of those that are known to have been asked for.
        extras: for names, the extras that are known to have been asked for.

    Returns:
        For each name the sorted names that it needs and that are in the set.
    """
    graph = _Graph({distribution.name: distribution for distribution in distributions}, marker_environment)
    for name in graph.by_name:
        graph.follow(name, "")
    for name, asked in (extras or {}).items():
        for extra in asked:
            graph.follow(name, extra)
    if requested:
        # Extras of what was asked for explain more than those of what came along.
        for name in sorted(graph.by_name, key=lambda name: (name not in requested, name)):
            for extra in graph.by_name[name].extras:
                if graph.explains(name, extra, graph.unneeded() - set(requested)):
                    graph.follow(name, extra)
    return {name: tuple(sorted(targets)) for name, targets in graph.needs.items()}


class _Graph:
    """Needs between distributions, followed from what is asked for."""

    def __init__(self, by_name: dict[str, Metadata], marker_environment: dict[str, str]) -> None:
        self.by_name = by_name
        self.markers = marker_environment
        self.needs: dict[str, set[str]] = {name: set() for name in by_name}
        self._asked: set[tuple[str, str]] = set()

    def applying(self, name: str, extra: str, among: Collection[str] | None = None) -> Iterator[Requirement]:
        """The requirements of a distribution that hold with an extra ("" for those that hold without one).

        Args:
            among: only those of these names.
        """
        for requirement in self.by_name[name].requirements(among, extra):
            if applies(requirement, self.markers, extra):
                yield requirement

    def follow(self, name: str, extra: str) -> None:
        """Count what a distribution needs with an extra, and what is asked for by that in turn."""
        waiting = [(name, extra)]
        while waiting:
            step = waiting.pop()
            if step in self._asked or step[0] not in self.by_name:
                continue
            self._asked.add(step)
            for requirement in self.applying(*step, self.by_name):
                target = canonicalize_name(requirement.name)
                if target != step[0]:
                    self.needs[step[0]].add(target)
                waiting += [(target, str(wanted)) for wanted in requirement.extras]

    def unneeded(self) -> set[str]:
        """The names that nothing else needs."""
        return set(self.by_name) - {target for targets in self.needs.values() for target in targets}

    def explains(self, name: str, extra: str, orphans: Collection[str]) -> bool:
        """Whether all that an extra brings is there, some of it for no other reason."""
        brought = {canonicalize_name(requirement.name) for requirement in self.applying(name, extra)} - {name}
        return bool(brought) and brought <= self.by_name.keys() and bool(brought & set(orphans))
