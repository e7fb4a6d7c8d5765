"""What a language does that has nothing special about it: the base of a new one, which then says only what differs.

Versions are numbers with dots between; a need is a name, alone or with ``>=`` and a version. All that was found is
captured, nothing is derived from trees, nothing of its own is written by running. It declares nothing in files of its
own, its source is not read, and there is no index to pin packages from.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import Struct

from lapidar.core.errors import DeclarationError, EnvironmentUnusable
from lapidar.core.languages.protocol import (
    Beginning,
    Calling,
    Declaring,
    Deriver,
    Inventory,
    LoadTest,
    ObjectFile,
    Pinning,
    Runtimes,
    Searching,
    Stray,
    Surveying,
    Used,
    Using,
    Variables,
)

if TYPE_CHECKING:
    import os

    from lapidar.core.cache.store import Cache
    from lapidar.core.cache.stowing import Stowed
    from lapidar.core.cache.trees import Tree
    from lapidar.core.environment.layout import Layout
    from lapidar.core.place import Place
    from lapidar.core.records.declaration import Declaration, Index, Need, VersionRange
    from lapidar.core.records.owner import Owner
    from lapidar.core.records.snapshot import LanguageParts, Platform, Runtime, Snapshot

__all__ = [
    "AtLeast",
    "BasicCapturing",
    "BasicChecking",
    "BasicDeclaring",
    "BasicInventory",
    "BasicLanguage",
    "BasicLayingOut",
    "BasicVersions",
]

_NEED = re.compile(r"([A-Za-z][\w.-]*)\s*(?:>=\s*([0-9]+(?:\.[0-9]+)*))?")
_RANGE = re.compile(r">=\s*([0-9]+(?:\.[0-9]+)*)")


def _numbers(version: str) -> tuple[int, ...]:
    """Raises: ValueError: it is no version."""
    return tuple(int(part) for part in version.split("."))


class AtLeast(Struct, frozen=True):
    """All versions from one on; ``""``: all."""

    version: str = ""

    def contains(self, version: str) -> bool:
        """Whether a version is in it."""
        return not self.version or _numbers(version) >= _numbers(self.version)

    def __str__(self) -> str:
        return f">={self.version}" if self.version else ""


class BasicVersions(Struct, frozen=True):
    """See `lapidar.core.languages.protocol.Versions`."""

    language: str
    title: str

    def normalised(self, name: str) -> str:
        """Names are what they are."""
        return name

    def parse_need(self, text: str, where: str = "", group: str = "") -> Need:
        """``NAME`` or ``NAME >= VERSION``."""
        from lapidar.core.records.declaration import Need

        found = _NEED.fullmatch(text.strip())
        if found is None:
            raise DeclarationError(
                f"{where + ': ' if where else ''}{text!r} is no need of {self.title}",
                remedy="Write NAME, or NAME >= VERSION.",
            )
        return Need(self.language, self.normalised(found[1]), text, group, where, AtLeast(found[2] or ""))

    def parse_range(self, text: str, where: str, before: VersionRange | None = None) -> VersionRange:
        """``>= VERSION``."""
        found = _RANGE.fullmatch(text.strip())
        if found is None:
            raise DeclarationError(f"{where}: {text!r} is no range of versions", remedy="Write >= VERSION.")
        return AtLeast(found[1])

    def require(self, text: str) -> None:
        """Raises: ValueError: a text is no version."""
        _numbers(text)

    def is_same(self, one: str, other: str) -> bool:
        """Whether two texts are the same version."""
        return one == other or self.standing(one, other) == 0

    def standing(self, one: str, other: str) -> int | None:
        """The order of two versions; None where one is none."""
        try:
            first, second = _numbers(one), _numbers(other)
        except ValueError:
            return None
        return (first > second) - (first < second)

    def allows(self, need: str, version: str) -> bool:
        """Whether a version is in the range of a need."""
        found = _NEED.fullmatch(need.strip())
        return found is not None and AtLeast(found[2] or "").contains(version)


class BasicCapturing:
    """Everything of `lapidar.core.languages.protocol.Capturing` but `locate` and `observe`."""

    title = ""

    def refuse(self, place: Place, named: Path | None) -> Exception:
        """Nothing of this language is there."""
        where = str(named or place.root)
        return EnvironmentUnusable(
            f"{where} has no {self.title}", remedy="Name the folder of an environment: lapidar capture FOLDER."
        )

    def choose_used(
        self, inventory: Inventory, place: Place, cache: Cache, scope: str | None, opened: Collection[str]
    ) -> Used:
        """All that was found."""
        return Used(inventory, {})

    def files_of(self, parts: LanguageParts, cache: Cache) -> Iterator[ObjectFile]:
        """None: nothing of it needs system libraries."""
        return iter(())

    def licence_of(self, tree: Tree, cache: Cache) -> str:
        """Nothing is said."""
        return ""


class BasicInventory:
    """Everything of `lapidar.core.languages.protocol.Inventory` but its `language`, `prefix`, `process`, `drafts` and
    `records`: what is only scripts, and lies in one folder."""

    prefix = ""
    program = ""
    libc = ""
    left_out: Sequence[str] = ()
    notes: Sequence[str] = ()
    warnings: Sequence[str] = ()
    library_folders: Mapping[str, str] = {}
    statuses: Mapping[str, os.stat_result] = {}

    @property
    def own_folders(self) -> tuple[str, ...]:
        """The one folder."""
        return (self.prefix,)

    def files(self) -> Iterator[ObjectFile]:
        """None: nothing of it needs system libraries."""
        return iter(())

    def edited(self, stowed: Mapping[Owner, Stowed]) -> dict[str, list[str]]:
        """Packages do not say what their files are."""
        return {}


class BasicLayingOut:
    """Everything of `lapidar.core.languages.protocol.LayingOut` but `lay_out`."""

    def lay_out_derived(self, parts: LanguageParts, into: Layout, derived: Mapping[str, Tree]) -> None:
        """Nothing is derived."""

    def deriver(self, cache: Cache, runtime: Runtime) -> Deriver | None:
        """Nothing is derived."""
        return None


class BasicChecking:
    """See `lapidar.core.languages.protocol.Checking`."""

    def made_by_running(self, path: str) -> bool:
        """Nothing is."""
        return False

    def strays(self, runtime: Runtime, extra: Iterable[str]) -> Iterator[Stray]:
        """None is known: files in no snapshot are told of one by one."""
        return iter(())

    def is_metadata(self, path: str) -> bool:
        """No file is known to be."""
        return False

    def package_folder(self, runtime: Runtime) -> str:
        """The place that the runtime calls ``packages``."""
        return runtime.places.get("packages", "lib")

    def load_test(self, snapshot: Snapshot, cache: Cache, environment: Path) -> LoadTest | None:
        """There is none."""
        return None


class BasicDeclaring:
    """Everything of `lapidar.core.languages.protocol.Declaring` but `declared` and `standard_place`."""

    def proposed(self, root: Path) -> Declaration:
        """No other file says anything."""
        from lapidar.core.records.declaration import Declaration

        return Declaration()

    def runtime_of_pins(self, needs: Sequence[Need], indexes: Sequence[Index], cache: Cache | None) -> str:
        """Nothing is built for a runtime."""
        return ""

    def applies(self, need: Need, runtime: Runtime, platform: Platform) -> bool:
        """Every need does, everywhere."""
        return True


class BasicLanguage:
    """Everything of `Language` but its `name` and `title`, `capturing` and `laying_out`."""

    name = ""
    title = ""
    variables = Variables()
    declaration_files: tuple[str, ...] = ()
    source_suffixes: tuple[str, ...] = ()
    package_urls: str = "generic"
    script_block: str = ""
    interpreters: tuple[str, ...] = ()
    installers: tuple[str, ...] = ()
    checking: BasicChecking = BasicChecking()

    @property
    def versions(self) -> BasicVersions:
        """Numbers with dots between."""
        return BasicVersions(self.name, self.title)

    @property
    def declaring(self) -> Declaring | None:
        """It has no files of its own for that."""
        return None

    @property
    def surveying(self) -> Surveying | None:
        """Its source is not read."""
        return None

    @property
    def runtimes(self) -> Runtimes | None:
        """None is looked for on this machine."""
        return None

    @property
    def pinning(self) -> Pinning | None:
        """There is no index of its packages."""
        return None

    @property
    def beginning(self) -> Beginning | None:
        """Nothing is laid out for it."""
        return None

    @property
    def calling(self) -> Calling | None:
        """Its functions are not called from elsewhere."""
        return None

    @property
    def using(self) -> Using | None:
        """What its runs look for is not known: all of its packages count."""
        return None

    @property
    def searching(self) -> Searching | None:
        """Nothing is known of its files."""
        return None
