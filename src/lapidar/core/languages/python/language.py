"""Python as a language; see `lapidar.core.languages.protocol`. Nothing is loaded before it is asked for."""

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
        data=(
            *((name, "time zones") for name in ("tzdata", "pytz", "pytzdata", "python-dateutil")),
            ("certifi", "certificates"),
            *((name, "data of languages and countries") for name in ("babel", "pycountry", "unicodedata2")),
            ("astropy-iers-data", "data of the earth's rotation"),
        ),
        dated=tuple("attrs black cattrs packaging pip pyopenssl service-identity structlog twisted".split()),
        numeric=tuple(
            "numpy scipy pandas polars scikit-learn statsmodels numba numexpr bottleneck xarray torch jax jaxlib "
            "tensorflow xgboost lightgbm catboost sympy networkx pymc arviz patsy pingouin lifelines shapely pyproj "
            "scikit-image opencv-python opencv-python-headless pillow astropy biopython dask pyarrow duckdb".split()
        ),
        unheld=("torch", "jax", "jaxlib", "tensorflow", "tensorflow-cpu", "onnxruntime"),
    )
    declaration_files = ("pyproject.toml",)
    package_urls = "pypi"
    source_suffixes = (".py", ".ipynb")
    script_block = "script"
    interpreters = ("python", "python3")
    installers = ("pip", "pip3")

    @property
    def versions(self) -> Versions:
        from lapidar.core.languages.python import needs

        return needs

    @property
    def capturing(self) -> Capturing:
        from lapidar.core.languages.python import capturing

        return capturing

    @property
    def laying_out(self) -> LayingOut:
        from lapidar.core.languages.python import assembling

        return assembling

    @property
    def checking(self) -> Checking:
        from lapidar.core.languages.python import checking

        return checking

    @property
    def declaring(self) -> Declaring:
        from lapidar.core.languages.python.declaring import files

        return files

    @property
    def surveying(self) -> Surveying:
        from lapidar.core.languages.python import surveying

        return surveying

    @property
    def runtimes(self) -> Runtimes:
        from lapidar.core.languages.python import runtimes

        return runtimes

    @property
    def pinning(self) -> Pinning:
        from lapidar.core.languages.python.pinning import packages

        return packages

    @property
    def beginning(self) -> Beginning:
        from lapidar.core.languages.python import beginning

        return beginning

    @property
    def calling(self) -> Calling:
        from lapidar.core.languages.python import calling

        return calling

    @property
    def using(self) -> Using:
        from lapidar.core.languages.python import using

        return using

    @property
    def searching(self) -> Searching:
        from lapidar.core.languages.python import searching

        return searching


LANGUAGE: Language = Python()
