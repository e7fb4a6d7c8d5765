"""The source files of a project: R files, documents with R in them, notebooks, the two files of a package."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from pathlib import Path

from lapidar.core.languages import sources as folders

__all__ = ["MARKDOWN", "SUFFIXES", "SWEAVE", "find"]

MARKDOWN = (".rmd", ".qmd", ".rmarkdown")
SWEAVE = (".rnw", ".snw")
SUFFIXES = (".r", *MARKDOWN, *SWEAVE)
_NOTEBOOK = ".ipynb"
_ENDS = 16_384  # bytes of a notebook's beginning and end: what describes it stands there
_OF_R = re.compile(rb'"(?:language|name)"\s*:\s*"[Rr]"')
_OF_PACKAGE = ("DESCRIPTION", "NAMESPACE")


def find(root: Path) -> Iterator[str]:
    """The source files of R, sorted, as paths relative to the project. A notebook counts where its kernel is R's; the
    files of a package where there is a DESCRIPTION of one."""
    for path in folders.find(root, _may_be_source):
        name = path.rpartition("/")[2]
        if name.endswith(_NOTEBOOK) and not _is_of_kernel(root / path):
            continue
        if name in _OF_PACKAGE and not _is_package(root / path):
            continue
        yield path


def _may_be_source(name: str) -> bool:
    return name.lower().endswith((*SUFFIXES, _NOTEBOOK)) or name in _OF_PACKAGE


def _is_package(path: Path) -> bool:
    """Whether a file lies in the folder of a source package; others have files of such names too."""
    try:
        with open(path.with_name("DESCRIPTION"), "rb") as stream:
            return b"Package:" in stream.read(4096) or b"Imports:" in stream.read(4096)
    except OSError:
        return False


def _is_of_kernel(path: Path) -> bool:
    """Whether a notebook says near one of its ends that its kernel is R's. Whoever reads it asks it again."""
    try:
        if not path.is_file():
            return False
        with open(path, "rb") as stream:
            ends = stream.read(_ENDS)
            if stream.seek(0, os.SEEK_END) > _ENDS:
                stream.seek(-_ENDS, os.SEEK_END)
                ends += stream.read()
    except OSError:
        return False
    return _OF_R.search(ends) is not None
