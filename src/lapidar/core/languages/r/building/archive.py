"""What is handed on of an R package: its source, as repositories have it (Writing R Extensions, 1.3)."""

from __future__ import annotations

import gzip
import io
import re
import tarfile
from pathlib import Path

from lapidar.core import atomic, foreign
from lapidar.core.cache.store import FILE_TIME_SECONDS
from lapidar.core.errors import PackageBroken
from lapidar.core.languages import source_trees
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
    ignored = _patterns(folder)
    data = io.BytesIO()
    with tarfile.open(fileobj=data, mode="w", format=tarfile.PAX_FORMAT) as made:
        for name in source_trees.files_of(folder):
            if name == _IGNORED or _MADE.search(name) or any(one.search(name) for one in ignored):
                continue
            content = (folder / name).read_bytes()
            entry = tarfile.TarInfo(f"{told.name}/{name}")
            entry.size, entry.mtime = len(content), FILE_TIME_SECONDS
            entry.mode = 0o755 if (folder / name).stat().st_mode & 0o100 else 0o644
            made.addfile(entry, io.BytesIO(content))
    packed = io.BytesIO()
    with gzip.GzipFile("", "wb", 9, packed, 0) as stream:
        stream.write(data.getvalue())
    path = to / f"{told.name}_{told.version}.tar.gz"
    atomic.write_file(path, packed.getvalue())
    return path


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
