"""What a language does that has nothing special about it: the base of a new one, which then says only what differs.

Versions are numbers with dots between; a need is a name, alone or with ``>=`` and a version. Nothing is derived from
trees, nothing of its own is written by running, and there is no index to pin packages from.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from lapidar.core.errors import DeclarationError, EnvironmentUnusable, LapidarError, MissingFromCache
from lapidar.core.languages.protocol import (
    Declared,
    Deriver,
    Inventory,
    LoadTest,
    Located,
    ObjectFile,
    RuntimeHere,
    Stray,
    Used,
    Variables,
)

if TYPE_CHECKING:
    from lapidar.core.cache.store import Cache
    from lapidar.core.cache.trees import Tree
    from lapidar.core.declaring.editing import NeedsPlace
    from lapidar.core.environment.layout import Layout
    from lapidar.core.pinning.session import LanguagePinning, PinOptions
    from lapidar.core.place import Place
    from lapidar.core.progress import Progress
    from lapidar.core.records.declaration import Declaration, Index, Need, VersionRange
    from lapidar.core.records.graph import Graph
    from lapidar.core.records.snapshot import LanguageParts, Package, Platform, Runtime, Snapshot
    from lapidar.core.records.surveyed import Surveyed

__all__ = ["AtLeast", "BasicLanguage"]

_NEED = re.compile(r"([A-Za-z][\w.-]*)\s*(?:>=\s*([0-9]+(?:\.[0-9]+)*))?")
_RANGE = re.compile(r">=\s*([0-9]+(?:\.[0-9]+)*)")


def _numbers(version: str) -> tuple[int, ...]:
    """Raises: ValueError: it is no version."""
    return tuple(int(part) for part in version.split("."))


@dataclass(frozen=True, slots=True)
class AtLeast:
    """All versions from one on; ``""``: all."""

    version: str = ""

    def contains(self, version: str) -> bool:
        """Whether a version is in it."""
        return not self.version or _numbers(version) >= _numbers(self.version)

    def __str__(self) -> str:
        return f">={self.version}" if self.version else ""


class BasicLanguage:
    """Everything of `Language` but its name and `title`, `locate`, `observe` and `lay_out`."""

    name = ""
    title = ""
    variables = Variables()
    declaration_files: tuple[str, ...] = ()
    source_suffixes: tuple[str, ...] = ()
    interpreters: tuple[str, ...] = ()
    installers: tuple[str, ...] = ()

    # ---- capture

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

    # ---- restore

    def lay_out_derived(self, parts: LanguageParts, layout: Layout, derived: Mapping[str, Tree]) -> None:
        """Nothing is derived."""

    def deriver(self, cache: Cache, runtime: Runtime) -> Deriver | None:
        """Nothing is derived."""
        return None

    # ---- which change did it

    def works_with(self, package: Package, runtime: Runtime, cache: Cache) -> bool:
        """Nobody says that it does."""
        return False

    def needs_between(self, before: Tree, after: Tree, cache: Cache) -> tuple[Mapping[str, set[str]], Sequence[str]]:
        """None is known."""
        return {}, ()

    # ---- check and run

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

    # ---- requirements and versions

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
        return Need(self.name, self.normalised(found[1]), text, group, where, AtLeast(found[2] or ""))

    def parse_range(self, text: str, where: str, before: VersionRange | None = None) -> VersionRange:
        """``>= VERSION``."""
        found = _RANGE.fullmatch(text.strip())
        if found is None:
            raise DeclarationError(f"{where}: {text!r} is no range of versions", remedy="Write >= VERSION.")
        return AtLeast(found[1])

    def require_version(self, text: str) -> None:
        """Raises: ValueError: a text is no version."""
        _numbers(text)

    def is_same_version(self, one: str, other: str) -> bool:
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

    def applies(self, need: Need, runtime: Runtime, platform: Platform) -> bool:
        """Every need does, everywhere."""
        return True

    # ---- declare

    def declared(self, root: Path, load: Callable[[str], dict[str, Any] | None]) -> Declared:
        """There are no standard files."""
        return Declared()

    def standard_place(self, root: Path) -> NeedsPlace | None:
        """There are no standard files."""
        return None

    def proposed(self, root: Path) -> Declaration:
        """No other file says anything."""
        from lapidar.core.records.declaration import Declaration

        return Declaration()

    def runtime_of_pins(self, needs: Sequence[Need], indexes: Sequence[Index], cache: Cache | None) -> str:
        return ""

    def sources(self, root: Path) -> Iterable[str]:
        return ()

    def survey(
        self,
        place: Place,
        located: Located | None,
        cache: Cache | None,
        *,
        ask: bool = False,
        pinned: Snapshot | None = None,
    ) -> Surveyed:
        """No source is read."""
        from lapidar.core.records.surveyed import NOTHING

        return NOTHING

    def runtime_version(self, located: Located) -> str:
        """Raises: EnvironmentUnusable: it is not known."""
        raise EnvironmentUnusable(f"{located.interpreter} does not say its version")

    def add_needs(
        self, graph: Graph, declaration: Declaration, cache: Cache | None, about: Collection[str] | None = None
    ) -> None:
        """What the records themselves say: the project's needs, and each package's."""
        from lapidar.core.records.graph import Edge
        from lapidar.core.records.owner import PackageName

        packages = [package for package in graph.snapshot.packages if package.language == self.name]
        needs = declaration.needs_of(self.name)
        for need in needs:
            graph.add(Edge(None, need.key, need.text, need.where))
        for package in packages:
            if package.wanted and not needs:
                graph.add(Edge(None, package.key, package.name))
            for name in package.requires:
                graph.add(Edge(package.key, PackageName(self.name, name), name))

    # ---- runtimes

    def runtimes(self) -> Sequence[RuntimeHere]:
        return ()

    def refill(self, runtime: Runtime, place: Place, cache: Cache, reporter: Progress) -> tuple[bool, str]:
        return False, f"no runtime of {self.title} is looked for on this machine"

    # ---- pin

    def pinning(
        self,
        place: Place,
        cache: Cache,
        declaration: Declaration,
        previous: Snapshot | None,
        options: PinOptions,
        reporter: Progress,
    ) -> AbstractContextManager[LanguagePinning]:
        """Raises: LapidarError: there is no index of its packages."""
        raise LapidarError(
            f"Packages of {self.title} cannot be pinned by this lapidar",
            why="it knows no index of them",
            remedy="Capture an environment that has them instead: lapidar capture FOLDER.",
        )

    def fetch_missing(
        self, place: Place, cache: Cache, snapshot: Snapshot, declaration: Declaration, reporter: Progress
    ) -> list[str]:
        """Raises: MissingFromCache: the cache lacks any package; there is nowhere to fetch it from."""
        for package in snapshot.packages:
            if package.language == self.name and not cache.has_tree(package.tree):
                raise MissingFromCache(
                    f"The cache lacks {package.name} {package.version}, and no origin of it is known",
                    remedy="Capture an environment that has it, or name a cache that is whole with --cache.",
                )
        return []
