"""Python as a language; see `lapidar.core.languages.protocol`. Nothing heavy is loaded before it is used."""

from __future__ import annotations

import posixpath
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager
from pathlib import Path
from typing import TYPE_CHECKING, Any, cast

from lapidar.core.languages.protocol import (
    Declared,
    Deriver,
    Inventory,
    Language,
    LoadTest,
    Located,
    ObjectFile,
    ObserveOptions,
    RuntimeHere,
    Stray,
    Used,
    Variables,
)

if TYPE_CHECKING:
    from lapidar.core.cache.store import Cache
    from lapidar.core.cache.trees import Tree
    from lapidar.core.declaring.editing import NeedsPlace
    from lapidar.core.environment.layout import Layout, Placing
    from lapidar.core.pinning.session import LanguagePinning, PinOptions
    from lapidar.core.place import Place
    from lapidar.core.progress import Progress
    from lapidar.core.records.declaration import Declaration, Index, Need, VersionRange
    from lapidar.core.records.graph import Graph
    from lapidar.core.records.snapshot import LanguageParts, Package, Platform, Runtime, Snapshot
    from lapidar.core.records.surveyed import Surveyed

__all__ = ["LANGUAGE"]

_METADATA = ".dist-info/METADATA"


class Python:
    """See `Language`."""

    name = "python"
    title = "Python"
    variables = Variables(
        watched=("PYTHONHASHSEED",),
        hidden=("PYTHONHOME", "PYTHONPATH", "PYTHONUSERBASE", "PYTHONSTARTUP"),
        homes=("PYTHONHOME",),
        # Convolutions by the fallback path, and quantised layers, differ in the first; the others compile for the
        # processor that they find.
        caches=(r"/fontlist-[0-9a-f]{8}-v[\d.]+\.json$",),
        numeric=tuple(
            "numpy scipy pandas polars scikit-learn statsmodels numba numexpr bottleneck xarray torch jax jaxlib "
            "tensorflow xgboost lightgbm catboost sympy networkx pymc arviz patsy pingouin lifelines shapely pyproj "
            "scikit-image opencv-python opencv-python-headless pillow astropy biopython dask pyarrow duckdb".split()
        ),
        unheld=("torch", "jax", "jaxlib", "tensorflow", "tensorflow-cpu", "onnxruntime"),
    )
    declaration_files = ("pyproject.toml",)
    source_suffixes = (".py", ".ipynb")
    interpreters = ("python", "python3")
    installers = ("pip", "pip3")

    # ---- capture

    def locate(self, place: Place, named: Path | None) -> Located | None:
        from lapidar.core.languages.python import locate

        return locate.locate(place, named)

    def refuse(self, place: Place, named: Path | None) -> Exception:
        from lapidar.core.languages.python import locate

        return locate.refuse(place, named)

    def observe(self, located: Located, place: Place, options: ObserveOptions) -> Inventory:
        from lapidar.core.languages.python import inventory, probe

        answer = probe.ask(located.interpreter)
        return inventory.observe(
            answer,
            place,
            full_runtime=options.full_runtime,
            skip_outside=options.skip_outside,
            short_cuts=options.short_cuts,
        )

    def choose_used(
        self, inventory: Inventory, place: Place, cache: Cache, scope: str | None, opened: Collection[str]
    ) -> Used:
        from lapidar.core.languages.python import scope as scopes
        from lapidar.core.languages.python.inventory import PythonInventory

        return scopes.choose_used(cast(PythonInventory, inventory), place, cache, scope, opened)

    def files_of(self, parts: LanguageParts, cache: Cache) -> Iterator[ObjectFile]:
        from lapidar.core.languages.python import placing

        runtime = parts.runtime
        several = [(runtime.owner, placing.runtime_entries(runtime, cache.tree(runtime.tree)))]
        for one in parts.above_runtime:
            several.append((one.owner, placing.package_entries(runtime, cache.tree(one.tree))))
        for owner, entries in several:
            for entry, path in entries:
                if entry.kind != "l":
                    yield ObjectFile(owner, cache.entry_path(entry), path)

    # ---- restore

    def lay_out(self, parts: LanguageParts, layout: Layout, at: Placing) -> None:
        from lapidar.core.languages.python import assembling

        assembling.lay_out(parts, layout, at)

    def lay_out_derived(self, parts: LanguageParts, layout: Layout, derived: Mapping[str, Tree]) -> None:
        from lapidar.core.languages.python import assembling

        assembling.lay_out_derived(parts, layout, derived)

    def deriver(self, cache: Cache, runtime: Runtime) -> Deriver | None:
        from lapidar.core.languages.python.bytecode import Compiler

        return Compiler(cache, runtime)

    # ---- which change did it

    def works_with(self, package: Package, runtime: Runtime, cache: Cache) -> bool:
        from lapidar.core.languages.python import bound

        return bound.works_with(package, runtime, cache)

    def needs_between(self, before: Tree, after: Tree, cache: Cache) -> tuple[Mapping[str, set[str]], Sequence[str]]:
        from lapidar.core.languages.python import coupling

        return coupling.needs_between(before, after, cache)

    # ---- check and run

    def made_by_running(self, path: str) -> bool:
        return "__pycache__/" in path

    def strays(self, runtime: Runtime, extra: Iterable[str]) -> Iterator[Stray]:
        site = self.package_folder(runtime)
        for path in extra:
            folder = posixpath.dirname(path)
            if path.endswith(_METADATA) and posixpath.dirname(folder) == site:
                name, _, version = posixpath.basename(folder).removesuffix(".dist-info").partition("-")
                yield Stray(name, version)

    def is_metadata(self, path: str) -> bool:
        return ".dist-info/" in path or ".egg-info" in path

    def package_folder(self, runtime: Runtime) -> str:
        from lapidar.core.languages.python.placing import SITE

        return runtime.places[SITE]

    def load_test(self, snapshot: Snapshot, cache: Cache, environment: Path) -> LoadTest | None:
        from lapidar.core.languages.python import load_test

        return load_test.of(snapshot, cache, environment)

    # ---- runtimes

    def runtimes(self) -> Sequence[RuntimeHere]:
        from lapidar.core.languages.python import runtimes

        return runtimes.on_machine()

    def refill(self, runtime: Runtime, place: Place, cache: Cache, reporter: Progress) -> tuple[bool, str]:
        from lapidar.core.languages.python import runtimes

        found = runtimes.refill(runtime, place, cache, reporter)
        name = f"{self.title} {runtime.version}"
        if found.same:
            return True, f"{name} was taken from {found.same}, which has the same bytes"
        if found.near:
            return False, f"{found.near} is {name} too, but another build of it: its bytes differ"
        return False, f"no {name} is on this machine (`lapidar runtimes` shows those that are)"

    # ---- requirements and versions

    def normalised(self, name: str) -> str:
        from packaging.utils import canonicalize_name

        return canonicalize_name(name)

    def parse_need(self, text: str, where: str = "", group: str = "") -> Need:
        from lapidar.core.languages.python import requirements

        return requirements.parse(text, where, group)

    def parse_range(self, text: str, where: str, before: VersionRange | None = None) -> VersionRange:
        from lapidar.core.languages.python.declaring import standard

        return standard.parse_range(text, where, before)

    def require_version(self, text: str) -> None:
        from lapidar.core.languages.python import versions

        versions.require(text)

    def is_same_version(self, one: str, other: str) -> bool:
        from lapidar.core.languages.python import versions

        return versions.is_same(one, other)

    def standing(self, one: str, other: str) -> int | None:
        from lapidar.core.languages.python import versions

        return versions.standing(self.name, one, other)

    def allows(self, need: str, version: str) -> bool:
        from lapidar.core.languages.python import versions

        return versions.allows(need, version)

    def applies(self, need: Need, runtime: Runtime, platform: Platform) -> bool:
        from lapidar.core.languages.python.pinning.target import Target
        from lapidar.core.languages.python.requirements import requirement_of
        from lapidar.core.languages.python.standards.metadata import applies

        return applies(requirement_of(need), Target(runtime, platform).markers)

    # ---- declare

    def declared(self, root: Path, load: Callable[[str], dict[str, Any] | None]) -> Declared:
        if load("pyproject.toml") is None:
            return Declared()
        from lapidar.core.languages.python.declaring import standard

        return standard.declared(load)

    def standard_place(self, root: Path) -> NeedsPlace | None:
        from lapidar.core.languages.python.declaring import place

        return place.standard_place(self, root)

    def proposed(self, root: Path) -> Declaration:
        from lapidar.core.languages.python.declaring import standard

        return standard.of_lists(root, adopting=True)

    def runtime_of_pins(self, needs: Sequence[Need], indexes: Sequence[Index], cache: Cache | None) -> str:
        from lapidar.core.languages.python.declaring import spoken
        from lapidar.core.languages.python.index.indexes import Indexes

        own = [need for need in needs if need.language == self.name]
        with Indexes(indexes, cache) as opened:
            return spoken.of_pins(own, opened)

    def sources(self, root: Path) -> Iterable[str]:
        from lapidar.core.languages.python.survey import sources

        return sources.find(root)

    def survey(
        self,
        place: Place,
        located: Located | None,
        cache: Cache | None,
        *,
        ask: bool = False,
        pinned: Snapshot | None = None,
    ) -> Surveyed:
        from lapidar.core.languages.python import probe
        from lapidar.core.languages.python.survey import flow

        answer = probe.ask(located.interpreter) if located else None
        packages = [one for one in pinned.packages if one.language == self.name] if pinned else None
        runtime = pinned.runtime_of(self.name) if pinned else None
        version = runtime.version if runtime else ""
        if ask:
            return flow.survey_asking(place, answer, cache, packages, version)
        return flow.survey(place, answer, cache, pinned=packages, suggest=pinned is None, version=version)

    def runtime_version(self, located: Located) -> str:
        from lapidar.core.languages.python import probe

        return ".".join(map(str, probe.ask(located.interpreter).python))

    def add_needs(
        self, graph: Graph, declaration: Declaration, cache: Cache | None, about: Collection[str] | None = None
    ) -> None:
        from lapidar.core.languages.python import graph as graphs

        graphs.add_needs(graph, declaration, cache, about)

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
        from lapidar.core.languages.python.pinning import session

        return session.opened(place, cache, declaration, previous, options, reporter)

    def fetch_missing(
        self, place: Place, cache: Cache, snapshot: Snapshot, declaration: Declaration, reporter: Progress
    ) -> list[str]:
        from lapidar.core.languages.python.pinning import refetch

        return refetch.fetch_missing(place, cache, snapshot, declaration, reporter)


LANGUAGE: Language = Python()
