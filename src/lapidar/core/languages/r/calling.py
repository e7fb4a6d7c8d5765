"""Calls into R from another snapshot, and R's package for calling; see `lapidar.core.languages.protocol.Calling`."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from lapidar._version import VERSION

__all__ = ["answering", "package"]

_FILES = Path(__file__).with_name("client")


def answering() -> tuple[str, ...]:
    """The words after the interpreter with which it answers calls."""
    return str(_FILES / "elsewhere.R"), str(_FILES / "wire.R")


def package() -> Mapping[str, str]:
    """The files of the package, by their paths."""
    return {
        "DESCRIPTION": (_FILES / "DESCRIPTION").read_text().replace("@VERSION@", VERSION),
        "NAMESPACE": "export(lapidar_call, lapidar_elsewhere)\nS3method(close, lapidar_elsewhere)\n"
        "S3method(print, lapidar_elsewhere)\n",
        "R/call.R": (_FILES / "call.R").read_text(),
        "R/wire.R": (_FILES / "wire.R").read_text(),
        "man/lapidar_call.Rd": (_FILES / "lapidar_call.Rd").read_text(),
    }
