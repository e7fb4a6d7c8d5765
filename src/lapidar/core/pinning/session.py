"""How to pin, what would be pinned, and what a language does for that."""

from __future__ import annotations

import datetime
import re
from collections.abc import Collection, Mapping, Sequence
from pathlib import Path
from typing import Protocol

from msgspec import Struct, field

from lapidar.core.cache.store import Cache
from lapidar.core.pinning.market import Market, Release
from lapidar.core.pinning.outlook import PackageOutlook
from lapidar.core.place import Place
from lapidar.core.progress import Progress, Silent
from lapidar.core.records.declaration import Declaration, Need
from lapidar.core.records.declared import OverrideStanding
from lapidar.core.records.difference import PackageChange
from lapidar.core.records.owner import PackageName
from lapidar.core.records.snapshot import LanguageParts, Package, Platform, Runtime, Snapshot

__all__ = ["LanguagePinning", "LanguagePlan", "PinOptions", "PinRequest"]

_VERSION = re.compile(r"\d+(\.\d+)*")


class PinOptions(Struct, frozen=True, kw_only=True):
    """How to pin.

    Attributes:
        renew: packages whose pinned version is not kept; `renew_all` keeps none.
        as_of: nothing that came later than this day.
        no_builds: nothing that would have to be built from its source.
        runtime: the interpreter whose runtime is meant, or the beginning of its version (``3.12``), where not the
            lockfile's.
    """

    renew: Collection[PackageName] = ()
    renew_all: bool = False
    as_of: datetime.date | None = None
    no_builds: bool = False
    runtime: Path | None = None

    @property
    def version(self) -> str:
        """The version of the runtime that is asked for; "" where none is, or an interpreter is named."""
        text = str(self.runtime or "")
        return text if _VERSION.fullmatch(text) else ""

    def is_meant(self, version: str) -> bool:
        """Whether a runtime of a version may be the one that is asked for by its version."""
        return not self.version or f"{version}.".startswith(f"{self.version}.")


class PinRequest(Struct, frozen=True):
    """What packages are resolved or fetched for.

    Attributes:
        declaration: what is to be met; that of the project's files, or one that is about to be written.
        previous: the lockfile that there is.
        reporter: hears of what takes long.
    """

    place: Place
    cache: Cache
    declaration: Declaration
    previous: Snapshot | None = None
    options: PinOptions = field(default_factory=PinOptions)
    reporter: Progress = field(default_factory=Silent)


class LanguagePlan(Struct, frozen=True):
    """What would be pinned of a language. Nothing is written yet but bytes in the cache.

    Attributes:
        choices: what was chosen, by name, in the language's own terms.
        changes: against the lockfile that there is, sorted by name.
        notes: what was passed over, a sentence each.
        fetch_bytes: what is to be fetched, as far as the index tells.
        overrides: how each override acts.
        builds: what would be built from source, and why, a sentence each.
    """

    choices: Mapping[str, object]
    changes: tuple[PackageChange, ...]
    notes: tuple[str, ...]
    fetch_files: int
    fetch_bytes: int
    overrides: tuple[OverrideStanding, ...] = field(default=())
    builds: tuple[str, ...] = ()


class Target(Protocol):
    """The runtime and the platform that are pinned for; as text, as people write it."""

    @property
    def runtime(self) -> Runtime: ...
    @property
    def platform(self) -> Platform: ...


class LanguagePinning(Protocol):
    """A session with the indexes, for the packages of one language.

    Attributes:
        target: what is pinned for.
        market: what there is to choose from, whatever is pinned.
    """

    @property
    def target(self) -> Target: ...
    @property
    def platform(self) -> Platform: ...
    @property
    def market(self) -> Market: ...

    def plan(self) -> LanguagePlan:
        """Resolve.

        Raises:
            Conflict: the needs cannot be met together; it says why.
            IndexTrouble: an index cannot be used.
        """

    def plan_of_file(self, path: Path) -> LanguagePlan:
        """The plan of what a standard lock file of the language names.

        Raises:
            DeclarationError: it cannot be read.
            LapidarError: it has nothing that fits the target.
        """

    def carry_out(self, plan: LanguagePlan) -> LanguageParts:
        """Bring what the plan chose into the cache.

        Raises:
            IndexTrouble, PackageBroken, NoSpace: nothing has changed for a reader.
        """

    def archives(self, folder: Path, to: Path, held: Sequence[str]) -> tuple[list[Path], Snapshot | None]:
        """Build what is handed on of a package: archives, the same bytes for the same source.

        Args:
            folder: of its source.
            to: where they are to lie.
            held: what it was built with before, "name version tree" each.

        Returns:
            The files, and the snapshot of what they were built in; None where nothing was needed for that.

        Raises:
            BuildFailed: it cannot be built.
        """

    def built_again(self, packages: Sequence[Package]) -> list[Package]:
        """Packages of the project's own, built of their folders as they are now.

        Raises:
            BuildFailed: one cannot be built.
            Conflict: one needs other things than are pinned.
        """

    def releases(self, name: str) -> Sequence[Release]:
        """Every version of a name, the newest first.

        Raises:
            Conflict: no index has the name; tells of near ones.
        """

    def outlook(self) -> list[PackageOutlook]:
        """The outlook of every pinned package."""

    def what_keeps_out(self, need: Need) -> list[str]:
        """Why something cannot be had together with what is declared, a sentence each; nothing where it can."""
