"""What is different between two snapshots, layer by layer."""

from __future__ import annotations

import enum
from collections.abc import Callable, Iterator, Mapping
from typing import Any

import msgspec

from lapidar.core.records.owner import LIBRARIES, Layer, Owner, PackageName
from lapidar.core.records.snapshot import Snapshot

__all__ = ["Change", "Kind", "PackageChange", "Standing", "difference"]


class Kind(enum.StrEnum):
    """What became of a thing."""

    ADDED = "added"
    REMOVED = "removed"
    NEWER = "newer"
    OLDER = "older"
    REPLACED = "replaced"  # the same version of other bytes, or versions in no order
    CHANGED = "changed"  # its bytes are the same, what is recorded of it is not


class PackageChange(msgspec.Struct, frozen=True):
    """A package that comes, goes, or becomes another; "" for the version where it is not."""

    language: str
    name: str
    kind: Kind
    old: str
    new: str

    @property
    def key(self) -> PackageName:
        """What the package is known by."""
        return PackageName(self.language, self.name)


class Change(msgspec.Struct, frozen=True):
    """One difference.

    Attributes:
        owner: of what, with the version that it has afterwards (or had, where it is gone).
        old, new: versions, or what else tells the two apart; "" where it is not.
        fields: the names of the recorded fields that differ, where the bytes do not.
    """

    owner: Owner
    kind: Kind
    old: str = ""
    new: str = ""
    fields: tuple[str, ...] = ()


# Of two versions of a language: below zero where the first is older, above where it is newer; None for no order.
Standing = Callable[[str, str, str], int | None]


def kind_of(language: str, old: str, new: str, standing: Standing) -> Kind:
    """What a package becomes whose bytes change, by its versions."""
    if not old or not new:
        return Kind.ADDED if new else Kind.REMOVED
    order = standing(language, old, new) if old != new else None
    return Kind.REPLACED if not order else Kind.NEWER if order < 0 else Kind.OLDER


class _Thing(msgspec.Struct, frozen=True):
    """What of a snapshot is compared: its version, what its bytes are known by, and what else is recorded."""

    owner: Owner
    version: str
    bytes: str
    fields: dict[str, Any]


def difference(before: Snapshot, after: Snapshot, standing: Standing) -> tuple[Change, ...]:
    """Everything that is different, in the order of the layers, and in each by names.

    Args:
        standing: the order of versions, as each language has it.
    """
    old, new = ({thing.owner.user: thing for thing in _things(one)} for one in (before, after))
    changes = [change for key in {**old, **new} if (change := _change(old.get(key), new.get(key), standing))]
    changes += _conditions(before, after)
    order = list(Layer)
    return tuple(sorted(changes, key=lambda one: (order.index(one.owner.layer), one.owner)))


def _things(snapshot: Snapshot) -> Iterator[_Thing]:
    for runtime in snapshot.runtimes:
        yield _Thing(runtime.owner, runtime.version, runtime.tree, _fields(runtime, "build", "left_out", "places"))
    for package in snapshot.packages:
        fields = _fields(package, "origin", "groups", "extras", "wanted", "requires")
        yield _Thing(package.owner, package.version, package.tree, fields)
    for rest in snapshot.remainders:
        yield _Thing(rest.owner, "", rest.tree, {})
    for library in snapshot.libraries:
        owner = Owner(LIBRARIES.layer, name=library.soname)
        yield _Thing(owner, library.owner_version or "", library.sha256, _fields(library, "owner"))
    for tool in snapshot.tools:
        yield _Thing(tool.part, tool.owner_version or "", tool.tree, _fields(tool, "owner", "executable"))


def _fields(record: msgspec.Struct, *names: str) -> dict[str, Any]:
    return {name: getattr(record, name) for name in names}


def _change(old: _Thing | None, new: _Thing | None, standing: Standing) -> Change | None:
    one = new or old
    assert one is not None
    before, after = (thing.version or thing.bytes[:19] if thing else "" for thing in (old, new))
    if old is None or new is None or old.bytes != new.bytes or old.version != new.version:
        kind = kind_of(one.owner.language, before, after, standing)
        if old and new and not (old.version and new.version):
            kind = Kind.REPLACED  # digests have no order
        return Change(one.owner, kind, before, after)
    fields = tuple(name for name, value in new.fields.items() if value != old.fields.get(name))
    return Change(one.owner, Kind.CHANGED, before, after, fields) if fields else None


def _conditions(before: Snapshot, after: Snapshot) -> Iterator[Change]:
    """The conditions, field by field, and variable by variable."""
    old, new = (_told(one) for one in (before, after))
    for name in sorted({**old, **new}):
        if old.get(name) != new.get(name):
            kind = Kind.ADDED if name not in old else Kind.REMOVED if name not in new else Kind.CHANGED
            yield Change(Owner(Layer.CONDITIONS, name=name), kind, old.get(name, ""), new.get(name, ""))


def _told(snapshot: Snapshot) -> Mapping[str, str]:
    if snapshot.conditions is None:
        return {}
    fields = msgspec.to_builtins(snapshot.conditions)
    variables = fields.pop("variables", {})
    told = {name: value if isinstance(value, str) else ", ".join(value) for name, value in fields.items()}
    return told | {f"variable {name}": value for name, value in variables.items()}
