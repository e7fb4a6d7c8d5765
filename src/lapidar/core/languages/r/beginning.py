"""The first files of a new analysis, or of a new package; see `lapidar.core.languages.protocol.Beginning`."""

from __future__ import annotations

from collections.abc import Mapping

__all__ = ["analysis", "package"]

_SCRIPT = """\
# Reads what lies in data/raw, and writes into results/.

dir.create("results", showWarnings = FALSE)
files <- sort(list.files("data/raw", pattern = "[.]csv$", recursive = TRUE, full.names = TRUE))
lines <- vapply(files, function(file) length(readLines(file)), integer(1))
counted <- data.frame(file = basename(files), lines = unname(lines))
write.csv(counted, "results/files-r.csv", row.names = FALSE)
"""


def analysis() -> tuple[str, str]:
    """The name of the first script, and its text."""
    return "analysis.R", _SCRIPT


def package(name: str, licence: str) -> Mapping[str, str]:
    """The files of a package."""
    return {
        "DESCRIPTION": f"Package: {name}\nVersion: 0.1\nTitle: What {name} Does\n"
        f"Description: What it does, in a sentence.\nLicense: {licence or 'file LICENSE'}\nEncoding: UTF-8\n",
        "NAMESPACE": "export(spread)\n",
        "R/spread.R": "# The spread of some numbers.\nspread <- function(values) diff(range(values))\n",
        "tests/spread.R": f"library({name})\nstopifnot(spread(c(1, 2, 5)) == 4)\n",
    }
