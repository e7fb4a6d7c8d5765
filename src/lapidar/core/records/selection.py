"""A part of a snapshot: without some of its groups. It is a snapshot too, with an identity of its own."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping

from msgspec.structs import replace

from lapidar.core.errors import LapidarError
from lapidar.core.records import lockfile
from lapidar.core.records.snapshot import Package, Snapshot

__all__ = ["closure", "groups_of", "left_out", "without"]


def closure(asked: Iterable[str], needs: Mapping[str, Iterable[str]]) -> set[str]:
    """What is asked for, and all that it needs, as far as it is there.

    Args:
        needs: for each name that is there, the names that it needs.
    """
    waiting, found = list(asked), set[str]()
    while waiting:
        name = waiting.pop()
        if name in needs and name not in found:
            found.add(name)
            waiting += needs[name]
    return found


def groups_of(snapshot: Snapshot) -> list[str]:
    """The groups that ask for anything in a snapshot, sorted."""
    return sorted({group for package in snapshot.packages for group in package.groups})


def left_out(snapshot: Snapshot, only: Collection[str] | None, leave_out: Collection[str]) -> tuple[str, ...]:
    """The groups to leave out.

    Args:
        only: the groups that are wanted beside what the analysis itself needs; None for all.
        leave_out: those that are not.

    Raises:
        LapidarError: the snapshot has no such group.
    """
    known = groups_of(snapshot)
    for name in (*(only or ()), *leave_out):
        if name not in known:
            raise LapidarError(
                f"The snapshot has no group {name}",
                remedy=f"It has: {', '.join(known)}."
                if known
                else "It has no groups; `lapidar need --group` makes one.",
            )
    return tuple(name for name in known if name in leave_out or (only is not None and name not in only))


def without(snapshot: Snapshot, groups: Collection[str]) -> Snapshot:
    """A snapshot without some groups: what only these ask for, and what only that needs, is not in it."""
    if not groups:
        return snapshot
    packages: list[Package] = []
    for parts in snapshot.of_languages():
        asked = [one.name for one in parts.packages if one.wanted or any(group not in groups for group in one.groups)]
        needed = closure(asked, {one.name: one.requires for one in parts.packages})
        packages += [one for one in parts.packages if one.name in needed]
    return lockfile.identify(replace(snapshot, packages=tuple(packages)))
