"""What within a guilty change does it: the first of the versions between, the files, the entries of a value. As far as
the judge allows, and each seen in a trial."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from msgspec import Struct, field
from msgspec.structs import replace

from lapidar.core import languages
from lapidar.core.cache.store import Cache
from lapidar.core.changes import exports, files, hybrid, values
from lapidar.core.changes.files import FileChange
from lapidar.core.changes.filewise import narrow_files
from lapidar.core.changes.hybrid import Hybrids, Instead, PartRecord
from lapidar.core.changes.narrowing import Outcome, border, narrow
from lapidar.core.flows.between import Between, Found, LibrariesBetween, PartsBetween, library_of
from lapidar.core.flows.trials import Trials
from lapidar.core.place import Place
from lapidar.core.records import words
from lapidar.core.records.difference import Change
from lapidar.core.records.owner import Layer
from lapidar.core.restored import assemble

__all__ = ["Deeper", "Guilty"]

_MOST_FILES = 4000


class Guilty(Struct):
    """A change without which the result is as it was.

    Attributes:
        last_good, first_bad: of the versions (or numbers) between, where some of them could be tried.
        files: those of its files that do it; empty where that could not be told.
        entries: of a variable that is a list, those of its entries that do it.
        lines: of each of these files, the lines that differ; None for what is no text. Of a library, what of its
            exported functions differs.
        goes_with: files that only go together with these.
        companions: changes that are there only because this one is.
        ships_with: libraries that the operating system ships with it, and that are not needed for it.
    """

    change: Change
    last_good: str = ""
    first_bad: str = ""
    files: list[FileChange] = field(default_factory=list)
    entries: list[str] = field(default_factory=list)
    lines: dict[str, list[str] | None] = field(default_factory=dict)
    ships_with: list[str] = field(default_factory=list)
    goes_with: list[str] = field(default_factory=list)
    companions: list[Change] = field(default_factory=list)


class Deeper(Struct, dict=True):
    """Looks into guilty changes.

    Attributes:
        notes: what the user should know, a sentence each.
    """

    place: Place
    cache: Cache
    hybrids: Hybrids
    trials: Trials
    jobs: int
    notes: list[str] = field(default_factory=list)

    def look(self, one: Guilty, guilty: frozenset[int]) -> None:
        """Find what within a change does it.

        Args:
            guilty: all that is guilty together with it.
        """
        layer = one.change.owner.layer
        if not one.change.old or not one.change.new:
            return  # it came or went as a whole
        if layer is Layer.CONDITIONS:
            self._value(one, guilty)
        elif layer is Layer.LIBRARIES:
            self._library(one, guilty)
        else:
            self._part(one, guilty)

    def _try(self, guilty: frozenset[int], instead: Instead, what: str) -> Outcome:
        return self.trials.of(self.hybrids.snapshot(guilty, instead), (what,))

    # ---- a runtime, a package, an outside program

    def _part(self, one: Guilty, guilty: frozenset[int]) -> None:
        user = one.change.owner.user
        before, after = (hybrid.record_of(side, user) for side in (self.hybrids.good, self.hybrids.bad))
        if before is None or after is None:
            return
        between = PartsBetween(self.place, self.cache, self.hybrids.good, one.change)
        self._look(between, one)

        def probe(version: str) -> Outcome:
            record = between.record(version)
            if record is None:
                return Outcome.UNKNOWN
            return self._with_record(guilty, record, (before, after), f"{one.change.owner.name} {version}")

        good, bad = self._border(one, between.versions, probe)
        self._files(one, guilty, (good and between.record(good)) or before, (bad and between.record(bad)) or after)

    def _look(self, between: Between[Found], one: Guilty) -> None:
        between.look()
        if between.trouble:
            name = one.change.owner.name
            self.notes.append(f"of {name} only versions that the cache has were tried: {between.trouble}")

    def _border(
        self, one: Guilty, between: Sequence[str], probe: Callable[[str], Outcome]
    ) -> tuple[str | None, str | None]:
        good, bad = border(between, probe)
        one.last_good, one.first_bad = good or one.change.old, bad or one.change.new
        return good, bad

    def _files(self, one: Guilty, guilty: frozenset[int], before: PartRecord, after: PartRecord) -> None:
        """Narrow down to the files, by hybrids of two trees."""
        name, user = one.change.owner.name, one.change.owner.user
        language = languages.of(one.change.owner.language) if one.change.owner.language else None
        old, new = (self.cache.tree(record.tree) for record in (before, after))
        differing = files.differing(old, new)
        changed = [file for file in differing if not (language and language.checking.is_metadata(file.path))]
        if not changed or len(changed) > _MOST_FILES:
            return

        def probe(paths: frozenset[str]) -> Outcome:
            tree = hybrid.of_trees(old, new, paths)
            self.cache.put_tree(tree)
            record = replace(before, tree=tree.digest, files=len(tree), bytes=tree.total_bytes)
            named = words.some(sorted(paths), 2) if paths else "none of its files"
            return self._with_record(guilty, record, (before, after), f"{name or user}: {named}")

        at = {file.path: file for file in changed}
        if probe(frozenset()) is not Outcome.GOOD or (outcome := probe(frozenset(at))) is Outcome.UNKNOWN:
            return  # it works only as a whole
        if outcome is Outcome.GOOD:
            self.notes.append(f"of {name} it is not its files that do it, but what it says of itself (its metadata)")
            return
        searching = language.searching if language else None
        needs, together = searching.needs_between(old, new, self.cache) if searching else ({}, ())
        found = narrow_files(list(at), probe, needs, together, jobs=self.jobs, announce=self.trials.expect)
        one.files = [at[path] for path in found.named]
        one.goes_with = list(found.goes_with)
        one.lines = {file.path: files.text_difference(self.cache, file) for file in one.files}

    def _with_record(
        self, guilty: frozenset[int], record: PartRecord, relatives: tuple[PartRecord, PartRecord], what: str
    ) -> Outcome:
        """Try the guilty changes with another record of one of them.

        Args:
            relatives: records whose trees share files with it: what they were compiled to is not compiled again.
        """
        snapshot = self.hybrids.snapshot(guilty, Instead(records={hybrid.user_of(record): record}))
        tree, *others = (self.cache.tree(one.tree) for one in (record, *relatives))
        assemble.share_derived(snapshot, self.cache, tree, others)
        return self.trials.of(snapshot, (what,))

    # ---- a library of the system

    def _library(self, one: Guilty, guilty: frozenset[int]) -> None:
        name = one.change.owner.name
        old, new = (library_of(self.cache, side, name) for side in (self.hybrids.good, self.hybrids.bad))
        if old is None or new is None:
            return
        between = LibrariesBetween(self.place, self.cache, self.hybrids.good, one.change)
        self._look(between, one)

        def probe(version: str) -> Outcome:
            found = between.record(version)
            return (
                self._try(guilty, Instead(libraries={name: found}), f"{name} {version}") if found else Outcome.UNKNOWN
            )

        good, bad = self._border(one, between.versions, probe)
        before = (between.record(good) if good else None) or old
        after = (between.record(bad) if bad else None) or new
        one.lines = {name: exports.difference(self.cache.read(before.entry), self.cache.read(after.entry))}

    # ---- a condition

    def _value(self, one: Guilty, guilty: frozenset[int]) -> None:
        """Which number between two values is the first, or which entries of two lists."""
        name = hybrid.variable_of(one.change)
        if name is None:
            return
        numbers = values.numbers_between(one.change.old, one.change.new)
        if numbers and "SEED" not in name:  # of seeds one is no nearer to another than any
            self._border(one, numbers, lambda value: self._with_value(guilty, name, value))
        both = values.lists(one.change.old, one.change.new)
        if both is not None:
            found = narrow(
                len(both.differing),
                lambda taken: self._with_value(guilty, name, both.value(taken)),
                jobs=self.jobs,
                announce=self.trials.expect,
            )
            one.entries = [both.differing[number] for number in sorted(found.guilty)]

    def _with_value(self, guilty: frozenset[int], name: str, value: str) -> Outcome:
        return self._try(guilty, Instead(variables={name: value}), f"{name}={value}")
