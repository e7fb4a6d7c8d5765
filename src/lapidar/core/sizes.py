"""Sizes as people write them."""

from __future__ import annotations

import re

from lapidar.core.errors import LapidarError

__all__ = ["parse_bytes"]


def parse_bytes(text: str) -> int:
    """``500MB``, ``2 GB``, ``1000``: bytes, by thousands.

    Raises:
        LapidarError: it is no size.
    """
    found = re.fullmatch(r"\s*(\d+(?:\.\d+)?)\s*([kMGT]?)B?\s*", text)
    if found is None:
        raise LapidarError(f"{text!r} is no size", remedy="Write 500MB or 2GB.")
    return int(float(found[1]) * 1000 ** " kMGT".index(found[2] or " "))
