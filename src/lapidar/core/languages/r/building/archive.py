"""What is handed on of an R package: its source, as repositories have it (Writing R Extensions, 1.3)."""

from __future__ import annotations

import io
import re
import tarfile
from collections.abc import Iterator
from pathlib import Path

from lapidar.core import atomic, foreign
from lapidar.core.errors import PackageBroken
from lapidar.core.languages import plain_tar, source_trees
from lapidar.core.languages.r import description

__all__ = ["source_archive"]

_IGNORED = ".Rbuildignore"
_MADE = re.compile(r"(^|/)(src/.*\.(o|so|dll|a)|\.Rhistory|\.RData|\.DS_Store|\.git.*|\.svn.*)$|^[^/]*\.Rproj$")


def source_archive(folder: Path, to: Path) -> Path:
    """Write the source archive of a package: the same bytes for the same files.

    Args:
        folder: of its source.
        to: where it is to lie.

    Raises:
        PackageBroken: it is no source of a package.
    """
    try:
        told = description.read(folder / description.FILE_NAME)
    except (OSError, ValueError) as error:
        raise PackageBroken(f"{folder} is no source of an R package", why=str(error)) from error
    path = to / f"{told.name}_{told.version}.tar.gz"
    atomic.write_file(path, plain_tar.packed(_entries(folder, told.name)))
    return path


def _entries(folder: Path, package: str) -> Iterator[tuple[tarfile.TarInfo, io.BytesIO]]:
    ignored = _patterns(folder)
    for name in source_trees.files_of(folder):
        if name == _IGNORED or _MADE.search(name) or any(one.search(name) for one in ignored):
            continue
        content = (folder / name).read_bytes()
        executable = bool((folder / name).stat().st_mode & 0o100)
        yield plain_tar.entry(f"{package}/{name}", len(content), executable=executable), io.BytesIO(content)


def _patterns(folder: Path) -> list[re.Pattern[str]]:
    """What the package itself leaves out: regular expressions, a line each, whatever the case."""
    path = folder / _IGNORED
    lines = foreign.read_text(path).splitlines() if path.is_file() else []
    found = []
    for line in filter(None, map(str.strip, lines)):
        try:
            found.append(re.compile(line, re.IGNORECASE))
        except re.error as error:
            raise PackageBroken(f"{_IGNORED} cannot be read", why=f"{line}: {error}") from error
    return found
