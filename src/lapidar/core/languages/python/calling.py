"""Calls into Python from another snapshot; see `lapidar.core.languages.protocol.Calling`."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from lapidar.core.elsewhere import wire

__all__ = ["answering", "package"]


def answering() -> tuple[str, ...]:
    """The words after the interpreter with which it answers calls."""
    return str(Path(__file__).with_name("_elsewhere.py")), wire.__file__


def package() -> Mapping[str, str]:
    """None: Python code calls by Lapidar itself."""
    return {}
