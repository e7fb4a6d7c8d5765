"""R as a language; see `lapidar.core.languages.protocol`. Nothing heavy is loaded before it is used."""

from __future__ import annotations

from lapidar.core.languages.protocol import (
    Beginning,
    Calling,
    Capturing,
    Checking,
    Declaring,
    Language,
    LayingOut,
    Pinning,
    Runtimes,
    Searching,
    Surveying,
    Using,
    Variables,
    Versions,
)

__all__ = ["LANGUAGE"]


class R:
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
        data=(("tzdb", "time zones"), ("stringi", "data of languages and countries")),
        numeric=tuple(
            "Matrix MASS nlme lme4 mgcv survival cluster KernSmooth vegan ape data.table dplyr tidyr Rcpp "
            "RcppArmadillo RcppEigen glmnet randomForest e1071 caret nloptr minqa quantreg emmeans multcomp mvtnorm "
            "sf sp terra igraph zoo xts forecast robustbase boot rpart brms rstan stringi".split()
        ),
        unheld=("torch", "tensorflow"),
        # R CMD BATCH asks for a saved session by itself, and that is no part of a snapshot; the last word counts.
        given=(("R_BATCH_OPTIONS", "--no-restore-data"),),
    )
    declaration_files = ("DESCRIPTION",)
    package_urls = "cran"
    script_block = "lapidar-r"
    source_suffixes = (".R", ".r", ".Rmd", ".rmd", ".qmd", ".Rnw", ".rnw")
    interpreters = ("Rscript", "R")
    installers: tuple[str, ...] = ()

    @property
    def versions(self) -> Versions:
        from lapidar.core.languages.r import needs

        return needs

    @property
    def capturing(self) -> Capturing:
        from lapidar.core.languages.r import capturing

        return capturing

    @property
    def laying_out(self) -> LayingOut:
        from lapidar.core.languages.r import assembling

        return assembling

    @property
    def checking(self) -> Checking:
        from lapidar.core.languages.r import checking

        return checking

    @property
    def declaring(self) -> Declaring:
        from lapidar.core.languages.r import declaring

        return declaring

    @property
    def surveying(self) -> Surveying:
        from lapidar.core.languages.r import surveying

        return surveying

    @property
    def runtimes(self) -> Runtimes:
        from lapidar.core.languages.r import runtimes

        return runtimes

    @property
    def pinning(self) -> Pinning:
        from lapidar.core.languages.r.pinning import packages

        return packages

    @property
    def beginning(self) -> Beginning:
        from lapidar.core.languages.r import beginning

        return beginning

    @property
    def calling(self) -> Calling:
        from lapidar.core.languages.r import calling

        return calling

    @property
    def using(self) -> Using:
        from lapidar.core.languages.r import using

        return using

    @property
    def searching(self) -> Searching:
        from lapidar.core.languages.r import searching

        return searching


LANGUAGE: Language = R()
