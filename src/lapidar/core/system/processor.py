"""This machine's processor: its name, and the instruction sets that choose between variants of code."""

from __future__ import annotations

import functools
import os
import struct
from pathlib import Path

__all__ = ["LEVELS", "features", "levels", "name"]

# What each level of the x86-64 psABI asks for beyond the one before it, in the names of /proc/cpuinfo.
LEVELS = {
    "x86-64-v2": ("cx16", "lahf_lm", "popcnt", "pni", "sse4_1", "sse4_2", "ssse3"),
    "x86-64-v3": ("avx", "avx2", "bmi1", "bmi2", "f16c", "fma", "abm", "movbe", "xsave"),
    "x86-64-v4": ("avx512f", "avx512bw", "avx512cd", "avx512dq", "avx512vl"),
}
# Those by which numeric libraries choose their code.
_TELLING = (
    "sse2 pni ssse3 sse4_1 sse4_2 avx f16c fma avx2 avx512f avx512cd avx512bw avx512dq avx512vl avx512ifma avx512vbmi "
    "avx512_vnni avx512_bf16 avx512_fp16 amx_tile"
).split()


@functools.cache
def _first() -> dict[str, str]:
    """What the kernel says of the first processor."""
    try:
        text = Path("/proc/cpuinfo").read_text("utf-8", "replace")
    except OSError:
        return {}
    lines = text.partition("\n\n")[0].splitlines()
    return {key.strip(): value.strip() for key, _, value in (line.partition(":") for line in lines)}


def name() -> str:
    """Its name as the kernel gives it: maker's family, model and stepping are in it where there is no name."""
    first = _first()
    said = first.get("model name") or first.get("CPU part") or os.uname().machine
    return " ".join(said.split())


def _flags() -> frozenset[str]:
    return frozenset(_first().get("flags", _first().get("Features", "")).split())


def features() -> tuple[str, ...]:
    """The instruction sets that it has, of those by which numeric libraries choose their code."""
    flags = _flags()
    return tuple(feature for feature in _TELLING if feature in flags)


def levels() -> tuple[str, ...]:
    """The levels of the x86-64 psABI that it reaches, the highest first, as the loader looks for them."""
    if struct.calcsize("P") != 8 or os.uname().machine != "x86_64":
        return ()
    flags = _flags()
    reached: list[str] = []
    for level, asked in LEVELS.items():
        if not flags.issuperset(asked):
            break
        reached.insert(0, level)
    return tuple(reached)
