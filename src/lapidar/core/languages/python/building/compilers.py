"""Compilers that tell debuggers nothing of the folder they ran in, which is another one each time: the same source
gives the same bytes. They stand before the machine's own on PATH; flags in the environment would take the place of
those that a runtime was built with."""

from __future__ import annotations

import functools
import shlex
import shutil
import subprocess
from pathlib import Path

__all__ = ["telling_no_place"]

_NAMES = ("cc", "gcc", "c++", "g++", "clang", "clang++", "gfortran")
_SECONDS = 20


def telling_no_place(source: Path) -> str:
    """A folder of such compilers, beside a source.

    Args:
        source: the folder that is told as ".".
    """
    folder = source.parent / "compilers"
    if folder.is_dir():
        return str(folder)
    folder.mkdir()
    option = f"-ffile-prefix-map={source}=."
    for name in _NAMES:
        real = shutil.which(name)
        if real and _knows(real):
            script = folder / name
            script.write_text(f'#!/bin/sh\nexec {shlex.quote(real)} "$@" {shlex.quote(option)}\n', encoding="utf-8")
            script.chmod(0o755)
    return str(folder)


@functools.cache
def _knows(compiler: str) -> bool:
    command = [compiler, "-ffile-prefix-map=a=b", "-E", "-x", "c", "/dev/null"]
    try:
        return subprocess.run(command, capture_output=True, timeout=_SECONDS, check=False).returncode == 0
    except (OSError, subprocess.TimeoutExpired):
        return False
