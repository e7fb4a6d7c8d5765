"""Whether a recorded run would be the same now: the function that docs/steps.md writes down.

It is asked of a record and of what is there, and says why not. It knows of one step alone; what waits for what is the
graph's to say (`steps/graph.py`).
"""

from __future__ import annotations

import enum
import hashlib
import json
import os
import posixpath
import stat
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from functools import cached_property
from typing import NamedTuple

from msgspec import Struct, field

from lapidar.core import languages
from lapidar.core.cache.digest import sha256_of
from lapidar.core.cache.history import History
from lapidar.core.cache.seen import Seen, seen_files
from lapidar.core.cache.store import Cache
from lapidar.core.cache.trees import LINK, Entry, Tree
from lapidar.core.errors import CacheError, LapidarError
from lapidar.core.place import Place, plain_command
from lapidar.core.records.declaration import DeclaredAnalysis
from lapidar.core.records.owner import LIBRARIES, Layer, Owner
from lapidar.core.records.results import Analysis, RecordedFile
from lapidar.core.records.snapshot import Snapshot
from lapidar.core.steps.attempts import kept_of
from lapidar.core.steps.used import Used, joined, listed_but, names_in, variable_files

__all__ = ["Cause", "Present", "Reason", "of_results", "of_same_files", "reasons"]


class Cause(enum.StrEnum):
    """What is not as it was."""

    COMMAND = "command"
    SOURCE = "source"
    INPUT = "input"
    GONE = "gone"  # a file that it read, or asked about
    APPEARED = "appeared"  # what it looked for in vain
    VARIABLE = "variable"
    NUMERICS = "numerics"
    USED = "used"  # a part of the environment that it used
    LOOKED_FOR = "looked for"  # one that has what it looked for
    ENVIRONMENT = "environment"  # any of it: what was used is not known
    UNLISTED = "unlisted"  # the list of what it read is not in this cache
    RESULT_GONE = "result gone"
    RESULT_ALTERED = "result altered"


class Reason(NamedTuple):
    """Why a step is out of date.

    Attributes:
        name: of the file, the variable, the package ...
        before, after: what it was and is, where that is short enough to be told.
    """

    cause: Cause
    name: str
    before: str = ""
    after: str = ""


class _Changed(NamedTuple):
    """A part that is another in two snapshots.

    Attributes:
        before, after: whose it is there; None where there is none.
        names: what it is looked for by, before and after.
        entries: of libraries, those that differ.
    """

    before: Owner | None
    after: Owner | None
    names: frozenset[str] = frozenset()
    entries: tuple[Entry, ...] = ()

    @property
    def owner(self) -> Owner:
        found = self.after or self.before
        assert found is not None
        return found


class Present(Struct, dict=True):
    """What is there now, asked once.

    Attributes:
        snapshot: that runs would run in; None where the project has none.
        is_whole: count every part of it, used or not.
    """

    place: Place
    cache: Cache
    snapshot: Snapshot | None
    is_whole: bool = False
    _digests: dict[str, str | None] = field(default_factory=dict)
    _changed: dict[str, tuple[_Changed, ...] | None] = field(default_factory=dict)

    @cached_property
    def _seen(self) -> Seen[str]:
        return seen_files(self.cache.short_cuts, f"steps of {self.place.root}")

    @cached_property
    def variable_files(self) -> tuple[str, ...]:
        """What variables of runs are read from."""
        return variable_files(self.place, self.snapshot.conditions if self.snapshot else None)

    @cached_property
    def _root(self) -> str:
        return os.path.realpath(self.place.root)

    def forget(self, name: str) -> None:
        """A file may be another now."""
        self._digests.pop(name, None)

    def save(self) -> None:
        """Keep what was read for the next time."""
        self._seen.save()

    def digest(self, name: str) -> str | None:
        """The sha256 of a file of the project, of a link that of what it says; None where there is none."""
        if name not in self._digests:
            self._digests[name] = self._read(f"{self._root}/{name}")
        return self._digests[name]

    def _read(self, path: str) -> str | None:
        try:
            status = os.lstat(path)
            if stat.S_ISLNK(status.st_mode):
                return hashlib.sha256(os.fsencode(os.readlink(path))).hexdigest()
            known = self._seen.known(path, status)
            if known is None:
                known = sha256_of(path)
                self._seen.add(path, status, known)
            return known
        except (FileNotFoundError, NotADirectoryError, IsADirectoryError):
            return None
        except OSError:
            return ""  # it is there, and is not what it was: nobody may read it

    def link(self, name: str) -> str | None:
        """What a link of the project says; None where there is none."""
        try:
            return os.readlink(f"{self._root}/{name}")
        except OSError:
            return None

    def plain(self, command: Sequence[str], analysis: Analysis) -> tuple[str, ...]:
        """A command as a record has it: without the project's own place in it."""
        return plain_command(command, self.place.root, self.place.root / analysis.folder)

    def exists(self, name: str) -> bool:
        return os.path.lexists(f"{self._root}/{name}")

    def changed(self, before: str) -> tuple[_Changed, ...] | None:
        """The parts that are others than in a snapshot; None where that is not known here."""
        if before not in self._changed:
            earlier = self.snapshot_of(before)
            self._changed[before] = tuple(self._compared(earlier)) if earlier else None
        return self._changed[before]

    def snapshot_of(self, snapshot_id: str) -> Snapshot | None:
        """A snapshot of this place, or of the history; None where nobody here has it."""
        if self.snapshot is not None and self.snapshot.snapshot == snapshot_id:
            return self.snapshot
        try:
            return History(self.cache).find(snapshot_id)
        except LapidarError:
            return None

    def _compared(self, before: Snapshot) -> Iterator[_Changed]:
        assert self.snapshot is not None
        ones, others = ({part.owner.user: part for part in one.parts()} for one in (before, self.snapshot))
        for user in sorted(ones.keys() | others.keys()):
            one, other = ones.get(user), others.get(user)
            if one and other and one.tree == other.tree:
                continue
            owners = (one.owner if one else None, other.owner if other else None)
            trees = [self.tree(part.tree) for part in (one, other) if part]
            if user == LIBRARIES.user:
                yield _Changed(*owners, entries=tuple(_differing(*trees)) if len(trees) == 2 else ())
            else:
                yield _Changed(*owners, names=frozenset(_names((other or one).owner, trees)))  # type: ignore[union-attr]

    def tree(self, digest: str) -> Tree | None:
        """A tree of the cache; None where it is not there, or not sound."""
        try:
            return self.cache.tree(digest)
        except CacheError:
            return None


def _names(owner: Owner, trees: list[Tree | None]) -> Iterator[str]:
    """What a part is looked for by; ``.`` where that cannot be told."""
    using = languages.of(owner.language).using if owner.layer is Layer.PACKAGES else None
    known = [tree for tree in trees if tree is not None]
    if owner.layer is Layer.TOOLS:
        yield owner.name
    elif using is None or len(known) < len(trees):
        yield "."
    else:
        for tree in known:
            yield from using.given(owner.name, tree)


def _differing(one: Tree | None, other: Tree | None) -> Iterator[Entry]:
    """The entries of two trees that are not in both; where one is not at hand, all that are known."""
    ones, others = set(one or ()), set(other or ())
    yield from sorted(ones ^ others)


def reasons(
    analysis: Analysis,
    used: Used,
    present: Present,
    declared: DeclaredAnalysis | None = None,
    made: Collection[str] = (),
) -> Iterator[Reason]:
    """Why a run would not be what it was; nothing where it would. Its own results are left out of account.

    Args:
        analysis: with all of its files in it.
        used: what it stood on.
        declared: what the project says of it.
        made: the results of steps that come after it: they were not there when it ran first.
    """
    if declared is not None and declared.command and present.plain(declared.command, analysis) != analysis.command:
        yield Reason(Cause.COMMAND, analysis.name)
    own = {file.name: file.sha256 for file in analysis.result}
    unread = set(used.unread)
    for cause, files in ((Cause.SOURCE, analysis.source), (Cause.INPUT, analysis.input)):
        for file in files:
            name = file.name
            if name not in unread and present.digest(name) != file.sha256:
                yield from _of_file(cause, file, own.get(name), analysis, present)
    for name in used.absent:
        if present.exists(name):
            yield Reason(Cause.APPEARED, name)
    for name in used.present:
        if not present.exists(name):
            yield Reason(Cause.GONE, name)
    for name, said in used.links.items():
        now = present.link(name)
        if now != said:
            yield Reason(Cause.INPUT if now is not None else Cause.GONE, name)
    made = {*made, *own}
    keep = declared.keep if declared is not None else ()
    read = {file.name for file in (*analysis.source, *analysis.input)} if keep else set()
    for folder, names in used.listed.items():
        here = names_in(present.place, folder) or ()
        state = kept_of((joined(folder, name) for name in (*names, *here)), keep) - read
        before, after = (listed_but(one, folder, made | state) for one in (names, here))
        for name in sorted(before ^ after)[:1]:
            yield Reason(Cause.APPEARED if name in after else Cause.GONE, joined(folder, name))
    for name in sorted({*used.files, *(() if used.is_whole else present.variable_files)}):
        if present.digest(name) != used.files.get(name):
            yield Reason(Cause.INPUT, name)
    if present.snapshot is not None:
        yield from _of_conditions(analysis, present.snapshot)
        if present.snapshot.snapshot != analysis.snapshot:
            yield from _of_environment(analysis, used, present)


def _of_file(
    cause: Cause, file: RecordedFile, written: str | None, analysis: Analysis, present: Present
) -> Iterator[Reason]:
    """Of a file that is not as it was read.

    Args:
        written: what the run itself made of it, where it changed what it read.
    """
    now = present.digest(file.name)
    if written is not None and now == written:
        return
    if now is None:
        yield Reason(Cause.GONE, file.path)
    elif not (file.path.endswith(_NOTEBOOK) and _is_same_notebook(file, analysis, present)):
        yield Reason(cause, file.path)


_NOTEBOOK = ".ipynb"


def _is_same_notebook(file: RecordedFile, analysis: Analysis, present: Present) -> bool:
    """Whether the cells of a notebook (nbformat 4) say what they said, whatever was saved of their outputs."""
    tree = present.tree(analysis.given)
    entry = next((one for one in tree or () if one.path == file.path), None)
    if entry is None:
        return False
    cells = [_cells(present.cache.entry_path(entry)), _cells(str(present.place.root / file.name))]
    return cells[0] is not None and cells[0] == cells[1]


def _cells(path: str) -> list[tuple[object, object]] | None:
    try:
        with open(path, encoding="utf-8") as stream:
            told = json.load(stream)
        return [(one.get("cell_type"), "".join(one.get("source", ""))) for one in told["cells"]]
    except (OSError, ValueError, KeyError, TypeError, AttributeError):
        return None


def _of_conditions(analysis: Analysis, snapshot: Snapshot) -> Iterator[Reason]:
    held = snapshot.conditions
    variables = dict(held.variables) if held else {}
    for name in sorted(variables.keys() | analysis.variables.keys()):
        if variables.get(name) != analysis.variables.get(name):
            yield Reason(Cause.VARIABLE, name, analysis.variables.get(name, ""), variables.get(name, ""))
    numerics = held.numerics if held else "native"
    if numerics != analysis.numerics:
        yield Reason(Cause.NUMERICS, "numerics", analysis.numerics, numerics)


def _of_environment(analysis: Analysis, used: Used, present: Present) -> Iterator[Reason]:
    changed = present.changed(analysis.snapshot)
    if changed is None:
        yield Reason(Cause.ENVIRONMENT, "")
        return
    for one in changed:
        versions = one.before.version if one.before else "", one.after.version if one.after else ""
        if present.is_whole or used.is_whole or one.owner.user in used.parts:
            yield Reason(Cause.USED, _called(one.owner), *versions)
        elif one.owner == LIBRARIES:
            yield from (Reason(Cause.USED, name) for name in _libraries(one, used))
        elif name := _looked_for(one, used):
            yield Reason(Cause.USED if name == "." else Cause.LOOKED_FOR, _called(one.owner), *versions)


def _called(owner: Owner) -> str:
    return owner.name or owner.language or str(owner.layer)


def _looked_for(one: _Changed, used: Used) -> str:
    """What a part has of what a run looked for; "" for nothing, ``.`` where every start runs something of it."""
    if one.owner.layer is Layer.TOOLS:
        return next((name for name in one.names if name in used.programs), "")
    names = used.names.get(one.owner.language)
    if names is None:
        return ""  # nothing of its language ran
    if "*" in names or "." in one.names:
        return "."
    return min(one.names.intersection(names), default="")


def _libraries(one: _Changed, used: Used) -> Iterator[str]:
    """The files of the tree of libraries that a run used, or looked for, and that are not what they were."""
    if not one.entries:
        yield from ({posixpath.basename(path) for path in used.library_files} or {"system libraries"})
        return
    found = set()
    for entry in one.entries:
        names = [entry.path]
        if entry.kind == LINK:
            names.append(posixpath.normpath(posixpath.join(posixpath.dirname(entry.path), entry.content)))
        base = posixpath.basename(entry.path)
        is_used = any(path == name or path.endswith(f"/{name}") for name in names for path in used.library_files)
        if (
            is_used
            or "*" in used.libraries
            or any(base == start or base.startswith(f"{start}.") for start in used.libraries)
        ):
            found.add(base)
    yield from sorted(found)


# Where nothing else is another, a run reads the files that it read.
_SAME_FILES = (Cause.INPUT, Cause.RESULT_GONE, Cause.RESULT_ALTERED)


def of_same_files(several: Iterable[Reason]) -> bool:
    """Whether a run that is out of date for some reasons is to read the files that it read."""
    return all(one.cause in _SAME_FILES for one in several)


def of_results(analysis: Analysis, digest: Callable[[str], str | None]) -> Iterator[Reason]:
    """Which of its own results are not there as it made them.

    Args:
        digest: says of a path below the project what is there.
    """
    for file in analysis.result:
        now = digest(file.name)
        if now is None:
            yield Reason(Cause.RESULT_GONE, file.path)
        elif now != file.sha256:
            yield Reason(Cause.RESULT_ALTERED, file.path)
