"""What packages say of the system that they need (``SystemRequirements``: free text, Writing R Extensions, 1.1.1), and
the operating system's packages that are known to satisfy it."""

from __future__ import annotations

import re

from lapidar.core.languages.r.description import Description
from lapidar.core.system import owners

__all__ = ["of_system", "told"]

# Words of such texts, and what Debian and its descendants call what is meant.
_KNOWN = {
    r"\bgnu make\b|\bmake\b": "make",
    r"\bc\+\+\s?\d\d\b|\bc\+\+": "g++",
    r"\bfortran\b": "gfortran",
    r"\blibxml2\b": "libxml2-dev",
    r"\blibcurl\b|\bcurl\b": "libcurl4-openssl-dev",
    r"\bopenssl\b": "libssl-dev",
    r"\bgdal\b": "libgdal-dev",
    r"\bgeos\b": "libgeos-dev",
    r"\bproj\b": "libproj-dev",
    r"\bgsl\b": "libgsl-dev",
    r"\bgmp\b": "libgmp-dev",
    r"\bmpfr\b": "libmpfr-dev",
    r"\bglpk\b": "libglpk-dev",
    r"\bfftw3?\b": "libfftw3-dev",
    r"\bzlib\b": "zlib1g-dev",
    r"\blibpng\b": "libpng-dev",
    r"\blibjpeg\b": "libjpeg-dev",
    r"\blibtiff\b": "libtiff-dev",
    r"\bcairo\b": "libcairo2-dev",
    r"\bfreetype2?\b": "libfreetype-dev",
    r"\bfontconfig\b": "libfontconfig-dev",
    r"\bharfbuzz\b": "libharfbuzz-dev",
    r"\bfribidi\b": "libfribidi-dev",
    r"\bicu4?c?\b": "libicu-dev",
    r"\budunits-?2\b": "libudunits2-dev",
    r"\bnetcdf\b": "libnetcdf-dev",
    r"\bhdf5\b": "libhdf5-dev",
    r"\bsqlite3?\b": "libsqlite3-dev",
    r"\bjava\b|\bjdk\b": "default-jdk",
    r"\bpandoc\b": "pandoc",
    r"\bcmake\b": "cmake",
    r"\bpkg-config\b": "pkg-config",
    r"\btbb\b": "libtbb-dev",
    r"\bjags\b": "jags",
}


def of_system(text: str) -> list[str]:
    """The packages of Debian and its descendants that a text is known to mean."""
    return [name for pattern, name in _KNOWN.items() if re.search(pattern, text, re.IGNORECASE)]


def told(found: Description) -> str:
    """What a package needs of its system, a sentence; "" where it says nothing."""
    text = " ".join(found.fields.get("SystemRequirements", "").split())
    if not text:
        return ""
    missing = [name for name in of_system(text) if not owners.here().files_of(name)]
    known = f"; not installed here as packages of the system: {', '.join(missing)}" if missing else ""
    return f"{found.name} {found.version} needs of the system: {text}{known}"
