"""R as a language; see `lapidar.core.languages.protocol`. Nothing heavy is loaded before it is used."""

from __future__ import annotations

import posixpath
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from contextlib import AbstractContextManager
from pathlib import Path
from typing import TYPE_CHECKING, Any, cast

from lapidar.core.languages.basic import BasicLanguage
from lapidar.core.languages.protocol import (
    Declared,
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
    from lapidar.core.declaring.editing import NeedsPlace
    from lapidar.core.environment.layout import Layout, Placing
    from lapidar.core.pinning.session import LanguagePinning, PinOptions
    from lapidar.core.place import Place
    from lapidar.core.progress import Progress
    from lapidar.core.records.declaration import Declaration, Need, VersionRange
    from lapidar.core.records.graph import Graph
    from lapidar.core.records.snapshot import LanguageParts, Runtime, Snapshot
    from lapidar.core.records.surveyed import Surveyed

__all__ = ["LANGUAGE"]

_LIBRARY = "lib/R/site-library"


class R(BasicLanguage):
    """See `Language`."""

    name = "r"
    title = "R"
    variables = Variables(
        watched=("R_DATATABLE_NUM_THREADS", "MC_CORES", "R_PROFILE_USER", "R_ENVIRON_USER", "R_MAX_NUM_DLLS"),
        hidden=(
            "R_HOME",
            "RHOME",
            "R_LIBS",
            "R_LIBS_SITE",
            "R_LIBS_USER",
            "R_PROFILE",
            "R_ENVIRON",
            "R_ARCH",
            "R_TESTS",
            "LAPIDAR_R",
        ),
        homes=("R_HOME",),
        single_thread=("R_DATATABLE_NUM_THREADS", "MC_CORES"),
        caches=(r"/fontconfig/[0-9a-f]{32}-[\w-]+\.cache-\d+$",),
        numeric=tuple(
            "Matrix MASS nlme lme4 mgcv survival cluster KernSmooth vegan ape data.table dplyr tidyr Rcpp "
            "RcppArmadillo RcppEigen glmnet randomForest e1071 caret nloptr minqa quantreg emmeans multcomp mvtnorm "
            "sf sp terra igraph zoo xts forecast robustbase boot rpart brms rstan stringi".split()
        ),
        unheld=("torch", "tensorflow"),
    )
    declaration_files = ("DESCRIPTION",)
    source_suffixes = (".R", ".r", ".Rmd", ".rmd", ".qmd", ".Rnw", ".rnw")
    interpreters = ("Rscript", "R")

    # ---- capture

    def locate(self, place: Place, named: Path | None) -> Located | None:
        from lapidar.core.languages.r import locate

        return locate.locate(place, named)

    def refuse(self, place: Place, named: Path | None) -> Exception:
        from lapidar.core.languages.r import locate

        return locate.refuse(place, named)

    def observe(self, located: Located, place: Place, options: ObserveOptions) -> Inventory:
        from lapidar.core.languages.r import inventory, probe

        answer = probe.ask(located.interpreter, place.root)
        return inventory.observe(answer, place, full_runtime=options.full_runtime)

    def choose_used(
        self, inventory: Inventory, place: Place, cache: Cache, scope: str | None, opened: Collection[str]
    ) -> Used:
        from lapidar.core.languages.r import scope as scopes
        from lapidar.core.languages.r.inventory import RInventory

        return scopes.choose_used(cast(RInventory, inventory), place, cache, scope, opened)

    def files_of(self, parts: LanguageParts, cache: Cache) -> Iterator[ObjectFile]:
        from lapidar.core.languages.r import placing

        several = [(parts.runtime.owner, placing.runtime_entries(cache.tree(parts.runtime.tree)))]
        several += [(one.owner, placing.package_entries(one, cache.tree(one.tree))) for one in parts.packages]
        for owner, entries in several:
            for entry, path in entries:
                if entry.kind != "l":
                    yield ObjectFile(owner, cache.entry_path(entry), path)

    # ---- restore

    def lay_out(self, parts: LanguageParts, layout: Layout, at: Placing) -> None:
        from lapidar.core.languages.r import assembling

        assembling.lay_out(parts, layout, at)

    # ---- check and run

    def strays(self, runtime: Runtime, extra: Iterable[str]) -> Iterator[Stray]:
        for path in extra:
            folder = posixpath.dirname(path)
            if posixpath.basename(path) == "DESCRIPTION" and posixpath.dirname(folder) == _LIBRARY:
                yield Stray(posixpath.basename(folder), "")

    def is_metadata(self, path: str) -> bool:
        return path in ("DESCRIPTION", "INDEX") or path.startswith(("Meta/", "html/", "help/"))

    def package_folder(self, runtime: Runtime) -> str:
        return _LIBRARY

    def load_test(self, snapshot: Snapshot, cache: Cache, environment: Path) -> LoadTest | None:
        from lapidar.core.languages.r import load_test

        return load_test.of(snapshot, environment)

    # ---- runtimes

    def runtimes(self) -> Sequence[RuntimeHere]:
        from lapidar.core.languages.r import runtimes

        return runtimes.on_machine()

    def refill(self, runtime: Runtime, place: Place, cache: Cache, reporter: Progress) -> tuple[bool, str]:
        from lapidar.core.languages.r import runtimes

        return runtimes.refill(runtime, place, cache, reporter)

    # ---- requirements and versions

    def parse_need(self, text: str, where: str = "", group: str = "") -> Need:
        from lapidar.core.languages.r import requirements

        return requirements.parse_need(text, where, group)

    def parse_range(self, text: str, where: str, before: VersionRange | None = None) -> VersionRange:
        from lapidar.core.languages.r import declaring

        return declaring.parse_range(text, where, before)

    def require_version(self, text: str) -> None:
        from lapidar.core.languages.r import versions

        versions.require(text)

    def standing(self, one: str, other: str) -> int | None:
        from lapidar.core.languages.r import versions

        return versions.standing(one, other)

    def allows(self, need: str, version: str) -> bool:
        from lapidar.core.languages.r.survey import flow

        return flow.allows(need, version)

    # ---- declare

    def declared(self, root: Path, load: Callable[[str], dict[str, Any] | None]) -> Declared:
        from lapidar.core.languages.r import declaring

        return declaring.declared(root)

    def standard_place(self, root: Path) -> NeedsPlace | None:
        from lapidar.core.languages.r import declaring

        return declaring.standard_place(root)

    def sources(self, root: Path) -> Iterable[str]:
        from lapidar.core.languages.r.survey import sources

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
        from lapidar.core.languages.r import packages, probe
        from lapidar.core.languages.r.survey import flow

        if pinned is not None:
            here = {one.name: one.version for one in pinned.packages if one.language == self.name}
        else:
            here = packages.versions_in(probe.ask(located.interpreter, place.root)) if located else {}
        return flow.survey(place, here, cache)

    def runtime_version(self, located: Located) -> str:
        from lapidar.core.languages.r import probe

        return probe.ask(located.interpreter).version

    def add_needs(
        self, graph: Graph, declaration: Declaration, cache: Cache | None, about: Collection[str] | None = None
    ) -> None:
        from lapidar.core.languages.r import graph as graphs

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
        from lapidar.core.languages.r.pinning import session

        return session.opened(place, cache, declaration, previous, options, reporter)

    def fetch_missing(
        self, place: Place, cache: Cache, snapshot: Snapshot, declaration: Declaration, reporter: Progress
    ) -> list[str]:
        from lapidar.core.languages.r.pinning import session

        return session.fetch_missing(place, cache, snapshot, declaration, reporter)


LANGUAGE: Language = R()
