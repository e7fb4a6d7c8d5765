"""The host's libraries, judged against those of a snapshot."""

from __future__ import annotations

import functools
import os
from collections.abc import Callable
from typing import NamedTuple

import msgspec

from lapidar.core.records.snapshot import Library, Snapshot
from lapidar.core.system import elf, owners
from lapidar.core.system.loader import HWCAPS, Loader, System

__all__ = ["HostDrift", "HostLibraries", "Lack", "drift", "find", "lacking"]


class HostDrift(msgspec.Struct, frozen=True):
    """How the host's libraries differ from the recorded ones: names."""

    same: int
    different: tuple[str, ...]
    missing: tuple[str, ...]


# Each recorded library, and where the host has it.
HostLibraries = list[tuple[Library, str | None]]


def find(snapshot: Snapshot) -> HostLibraries:
    """Look for the recorded libraries on the host; files are read, none is run."""
    loader = Loader(System.here(), functools.cache(elf.read))
    return [
        (one, loader.find(one.soname) or _of_package(one))
        for one in snapshot.libraries
        if not one.soname.startswith(HWCAPS)
    ]


def _of_package(library: Library) -> str | None:
    """A library that lies in a folder of its own, where what opens it looks: by the package that has it."""
    paths = owners.here().files_of(library.owner) if library.owner else []
    return next((path for path in paths if os.path.basename(path) == library.soname), None)


class Lack(NamedTuple):
    """A recorded library that the host has not (`path` is ""), or has without symbol versions."""

    library: Library
    path: str
    versions: tuple[str, ...] = ()


def lacking(found: HostLibraries) -> list[Lack]:
    """What the host lacks of what a snapshot needs."""
    lacks = []
    for library, path in found:
        if path is None:
            lacks.append(Lack(library, ""))
            continue
        absent = sorted(set(library.versions) - elf.defined_versions(path)) if library.versions else []
        if absent:
            lacks.append(Lack(library, path, tuple(absent)))
    return lacks


def drift(found: HostLibraries, digest_of: Callable[[str], str]) -> HostDrift:
    """Compare the host's libraries with the recorded ones, by their bytes.

    Args:
        digest_of: gives a file's sha256 in hex.
    """
    same, different, missing = 0, [], []
    for library, path in found:
        if path is None:
            missing.append(library.soname)
        elif digest_of(path) == library.sha256:
            same += 1
        else:
            different.append(library.soname)
    return HostDrift(same, tuple(different), tuple(missing))
