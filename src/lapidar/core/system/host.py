"""The host's libraries, judged against those of a snapshot."""

from __future__ import annotations

import functools
from collections.abc import Callable

import msgspec

from lapidar.core.records.snapshot import Library, Snapshot
from lapidar.core.system import elf
from lapidar.core.system.loader import HWCAPS, Loader, System

__all__ = ["Drift", "Found", "drift", "find", "lacking"]


class Drift(msgspec.Struct, frozen=True):
    """How the host's libraries differ from the recorded ones: names."""

    same: int
    different: tuple[str, ...]
    missing: tuple[str, ...]


# Each recorded library, and where the host has it.
Found = list[tuple[Library, str | None]]


def find(snapshot: Snapshot) -> Found:
    """Look for the recorded libraries on the host; files are read, none is run."""
    loader = Loader(System.here(), functools.cache(elf.read))
    return [(one, loader.find(one.soname)) for one in snapshot.library if not one.soname.startswith(HWCAPS)]


def lacking(found: Found) -> list[str]:
    """What the host lacks of what a snapshot needs, a sentence each."""
    sentences = []
    for library, path in found:
        if path is None:
            users = ", ".join(library.used_by[:3])
            sentences.append(f"{library.soname} is not there; {users} needs it")
            continue
        absent = sorted(set(library.versions) - elf.defined_versions(path)) if library.versions else []
        if absent:
            sentences.append(f"{library.soname} ({path}) is without {', '.join(absent)}")
    return sentences


def drift(found: Found, digest_of: Callable[[str], str]) -> Drift:
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
    return Drift(same, tuple(different), tuple(missing))
