"""Hybrids: a good snapshot with some of what a bad one has instead. Each change can be taken alone, as far as nothing
that anybody knows of keeps it from that."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence

from msgspec import Struct, field
from msgspec.structs import replace

from lapidar.core import languages
from lapidar.core.cache.store import Cache
from lapidar.core.cache.trees import Entry, Tree
from lapidar.core.changes.narrowing import ring
from lapidar.core.declaring import judge
from lapidar.core.records import lockfile
from lapidar.core.records.declaration import Declaration
from lapidar.core.records.difference import Change, Kind
from lapidar.core.records.layers import LowerLayers
from lapidar.core.records.owner import Layer, Owner, PackageName
from lapidar.core.records.snapshot import Conditions, Libraries, Library, Package, Remainder, Runtime, Snapshot, Tool

__all__ = ["Hybrids", "Instead", "PartRecord", "of_trees", "record_of", "takeable", "user_of", "variable_of"]

PartRecord = Runtime | Package | Remainder | Tool  # each has a tree of its own
_C_LIBRARY = "libc.so.6"
_VARIABLE = "variable "
_SWITCHED = ("numerics", "baseline")


def takeable(changes: Sequence[Change]) -> list[Change]:
    """Those of the changes that a hybrid can have or not have: what only says something of the same bytes, and what a
    machine has of its own, is none."""
    return [
        change
        for change in changes
        if (change.owner.layer is Layer.CONDITIONS and _is_switched(change.owner.name))
        or (change.owner.layer is not Layer.CONDITIONS and change.kind is not Kind.CHANGED)
    ]


def _is_switched(name: str) -> bool:
    return name in _SWITCHED or name.startswith(_VARIABLE)


def variable_of(change: Change) -> str | None:
    """The name of the variable that a change is of; None where it is of something else."""
    name = change.owner.name
    is_variable = change.owner.layer is Layer.CONDITIONS and name.startswith(_VARIABLE)
    return name.removeprefix(_VARIABLE) if is_variable else None


def of_trees(before: Tree, after: Tree, taken: Collection[str]) -> Tree:
    """A tree with some paths as another has them.

    Args:
        taken: the paths that are as in `after`, which may be that they are not there.
    """
    new = {entry.path: entry for entry in after}
    kept = [entry for entry in before if entry.path not in taken]
    return Tree([*kept, *(new[path] for path in taken if path in new)])


class Instead(Struct, frozen=True, dict=True):
    """What is neither side's: another version, other files, another value.

    Attributes:
        records: of runtimes, packages and outside programs, by what they are of (`Owner.user`).
        libraries: by their names, the record and the file.
        variables: the values of variables.
    """

    records: Mapping[str, PartRecord] = field(default_factory=dict)
    libraries: Mapping[str, tuple[Library, Entry]] = field(default_factory=dict)
    variables: Mapping[str, str] = field(default_factory=dict)


_NOTHING = Instead()


class Hybrids(Struct, frozen=True, dict=True):
    """What can be made of two snapshots.

    Attributes:
        changes: those that can be taken.
        cache: has the trees of both; those of hybrids are kept in it.
    """

    good: Snapshot
    bad: Snapshot
    changes: Sequence[Change]
    cache: Cache

    def needs(self, *, apart: bool = False) -> dict[int, set[int]]:
        """By a change, those without which it cannot be: ranges of the packages' own metadata, what must be there,
        a runtime and what was made for it, libraries of one package of the system.

        Args:
            apart: such libraries each for itself, which nobody says that they can be.
        """
        at = {change.owner.user: number for number, change in enumerate(self.changes)}
        found: dict[int, set[int]] = {}
        libraries = () if apart else self._of_libraries()
        for one, other in (*self._of_ranges(), *libraries, *self._of_runtimes()):
            if one in at and other in at and one != other:
                found.setdefault(at[one], set()).add(at[other])
        return found

    def _of_ranges(self) -> Iterator[tuple[str, str]]:
        sides = []
        for snapshot in (self.good, self.bad):
            graph = judge.graph(snapshot, Declaration(), self.cache)
            sides.append(({package.key: package for package in snapshot.packages}, graph))
        (good, old), (bad, new) = sides
        for key, package in bad.items():
            language = languages.of(package.language)
            for edge in new.edges.get(key, ()):
                had = good.get(edge.target)
                # The new one needs what the other side has not, or not in that version.
                if had is None or not language.versions.allows(edge.text, had.version):
                    yield package.owner.user, _user(edge.target)
        for key, package in good.items():
            language = languages.of(package.language)
            for edge in old.edges.get(key, ()):
                has = bad.get(edge.target)
                # What the old one needs may become another only with it.
                if edge.target in good and (has is None or not language.versions.allows(edge.text, has.version)):
                    yield _user(edge.target), package.owner.user

    def _of_libraries(self) -> Iterator[tuple[str, str]]:
        """Libraries that the operating system ships as one move together."""
        by_owner: dict[str, list[str]] = {}
        for snapshot in (self.good, self.bad):
            for library in snapshot.libraries:
                if library.owner:
                    by_owner.setdefault(library.owner, []).append(f"libraries/{library.soname}")
        for several in by_owner.values():
            yield from ring(list(dict.fromkeys(several)))

    def _of_runtimes(self) -> Iterator[tuple[str, str]]:
        """Packages that are bound to one line of versions of a runtime move with it."""
        for change in self.changes:
            if change.owner.layer is Layer.RUNTIME and change.old.split(".")[:2] != change.new.split(".")[:2]:
                language = languages.of(change.owner.language)
                searching = language.searching
                old, new = (side.runtime_of(language.name) for side in (self.good, self.bad))
                if old is None or new is None:
                    continue
                before, after = (
                    [package for package in side.packages if package.language == language.name]
                    for side in (self.good, self.bad)
                )
                for package in before:
                    if searching is None or not searching.works_with(package, new, self.cache):
                        yield change.owner.user, package.owner.user
                for package in after:
                    if searching is None or not searching.works_with(package, old, self.cache):
                        yield package.owner.user, change.owner.user

    def snapshot(self, taken: Collection[int], instead: Instead = _NOTHING) -> Snapshot:
        """The snapshot with some of the changes.

        Args:
            taken: their numbers.
            instead: what of it is neither side's.
        """
        users = {self.changes[number].owner.user for number in taken}
        parts = self._parts(users, instead.records)
        runtimes = [part for part in parts if isinstance(part, Runtime)]
        packages = [part for part in parts if isinstance(part, Package)]
        remainders = [part for part in parts if isinstance(part, Remainder)]
        tools = tuple(part for part in parts if isinstance(part, Tool))
        layer, libraries = self._libraries(users, instead.libraries)
        conditions = self._conditions(users, instead.variables)
        below = LowerLayers(layer, libraries, tools, conditions)
        return lockfile.identified(self.good.platform, runtimes, packages, remainders, below)

    def _parts(self, users: Collection[str], instead: Mapping[str, PartRecord]) -> list[PartRecord]:
        """The records of what has a tree: of the bad side where they are taken."""
        old, new = ({user_of(part): part for part in _parts_of(side)} for side in (self.good, self.bad))
        chosen = [instead.get(user, (new if user in users else old).get(user)) for user in {**old, **new}]
        return [part for part in chosen if part is not None]

    # ---- libraries: one tree for all of them

    def _libraries(
        self, users: Collection[str], instead: Mapping[str, tuple[Library, Entry]]
    ) -> tuple[Libraries | None, tuple[Library, ...]]:
        old, new = self.good.library_layer, self.bad.library_layer
        taken = {user.removeprefix("libraries/") for user in users if user.startswith("libraries/")}
        if old is None or new is None or (not taken and self._all_there(users)):
            side = self.bad if old is None or (taken and new is None) else self.good
            return side.library_layer, side.libraries
        before, after = ({entry.path: entry for entry in self.cache.tree(layer.tree)} for layer in (old, new))
        had, has = ({one.soname: one for one in side.libraries} for side in (self.good, self.bad))
        for name, (record, file) in instead.items():
            has[name], after[name] = record, file
        changed = {change.owner.name for change in self.changes if change.owner.layer is Layer.LIBRARIES}
        newer_data = _C_LIBRARY in taken or _C_LIBRARY not in changed
        entries: dict[str, Entry] = {}
        for path in {**before, **after}:
            is_library = path in had or path in has
            from_bad = path in taken if is_library else newer_data and path in after
            chosen = after.get(path) if from_bad else before.get(path)
            # What only one side has stays: somebody may need it.
            entry = chosen or (None if is_library and path in taken else after.get(path) or before.get(path))
            if entry is not None:
                entries[path] = entry
        tree = Tree(sorted(entries.values(), key=lambda entry: entry.path))
        self.cache.put_tree(tree)
        records = [has[name] if name in taken or name not in had else had[name] for name in {**had, **has}
                   if name in entries]  # fmt: skip
        absolute = tuple(sorted({*old.absolute, *new.absolute}))
        loader = new.loader if new.loader in taken else old.loader
        left = tuple(sorted({*old.left, *new.left}))
        layer = Libraries(loader, tree.digest, len(tree), tree.total_bytes, absolute, left)
        return layer, tuple(sorted(records, key=lambda one: one.soname))

    def _all_there(self, users: Collection[str]) -> bool:
        """Whether the good side has every library that the bad one has."""
        return {one.soname for one in self.bad.libraries} <= {one.soname for one in self.good.libraries} or not users

    # ---- conditions

    def _conditions(self, users: Collection[str], instead: Mapping[str, str]) -> Conditions | None:
        old, new = self.good.conditions, self.bad.conditions
        if old is None or new is None:
            return old
        names = {user.removeprefix("conditions/") for user in users if user.startswith("conditions/")}
        variables = dict(old.variables)
        for name in (one.removeprefix(_VARIABLE) for one in names if one.startswith(_VARIABLE)):
            variables.pop(name, None)
            if name in new.variables:
                variables[name] = new.variables[name]
        variables.update(instead)
        fields = {name: getattr(new, name) for name in _SWITCHED if name in names}
        return replace(old, variables=dict(sorted(variables.items())), **fields)


def _user(package: PackageName) -> str:
    return Owner(Layer.PACKAGES, *package).user


def record_of(snapshot: Snapshot, user: str) -> PartRecord | None:
    """The record of a part that has a tree of its own, by what it is of; None where there is none."""
    return next((part for part in _parts_of(snapshot) if user_of(part) == user), None)


def _parts_of(snapshot: Snapshot) -> tuple[PartRecord, ...]:
    return (*snapshot.runtimes, *snapshot.packages, *snapshot.remainders, *snapshot.tools)


def user_of(record: PartRecord) -> str:
    """What a record is of (`Owner.user`)."""
    # The owner of a tool's record is the operating system's package.
    owner: Owner = record.part if isinstance(record, Tool) else record.owner
    return owner.user
