"""A scratch copy of a project, to run a recorded analysis in: its sources and inputs as they were recorded, and nothing
else. The project's own files are never touched."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterator, Mapping
from pathlib import Path

from lapidar.core.cache.digest import sha256_of
from lapidar.core.cache.store import Cache
from lapidar.core.cache.trees import EXECUTABLE, LINK, Entry, Tree
from lapidar.core.errors import CacheError, LapidarError
from lapidar.core.records.results import Analysis, RecordedFile
from lapidar.core.results.comparing import Was, files_below
from lapidar.core.system.written import State, state_of

__all__ = [
    "PRINTED",
    "RESULTS",
    "TYPED",
    "changed",
    "laid_out",
    "lay_out",
    "recorded_output",
    "recorded_results",
    "state",
]

# In the tree of what was made; the results lie in the folder beside them.
PRINTED, TYPED = "printed", "standard-input"
RESULTS = "results"


def lay_out(analysis: Analysis, cache: Cache, into: Path, place: Path, *, current_files: bool) -> list[str]:
    """Lay the recorded sources and inputs out.

    Args:
        into: an empty folder.
        place: the project's folder: has what is not in the cache.
        current_files: take the files as they are in the project now.

    Returns:
        What is not as recorded, a sentence each.

    Raises:
        LapidarError: one of them can be had nowhere.
    """
    told: list[str] = []
    altered: set[str] = set()
    lost: set[str] = set()
    tree = None if current_files else _tree(cache, analysis.given)
    if tree is not None:
        names = {file.path: file.name for file in (*analysis.source, *analysis.input)}
        for entry in tree:
            target = into / names.get(entry.path, entry.path)
            try:
                sound = laid_out(entry, cache, target)
            except FileNotFoundError:
                lost.add(names.get(entry.path, entry.path))
                continue
            if not sound:
                target.unlink()
                altered.add(names.get(entry.path, entry.path))
    for file in (*analysis.source, *analysis.input):
        target = into / file.name
        if tree is not None and file.name not in altered | lost and (file.kept or os.path.lexists(target)):
            continue
        if file.name in altered:
            told.append(f"{file.path} is damaged in the cache, and was taken from the project: lapidar cache audit")
        told += _from_project(file, place / file.name, target, current_files=current_files)
    (into / analysis.folder).mkdir(parents=True, exist_ok=True)
    # A program that writes into a folder which was there finds it there.
    for file in analysis.result:
        (into / file.name).parent.mkdir(parents=True, exist_ok=True)
    return told


def laid_out(entry: Entry, cache: Cache, target: Path) -> bool:
    """Lay one entry of a tree out, as a file of its own that may be written; whether it is what the tree says.

    Raises:
        FileNotFoundError: the cache has lost it.
    """
    target.parent.mkdir(parents=True, exist_ok=True)
    if entry.kind == LINK:
        target.symlink_to(entry.content)
        return True
    shutil.copyfile(cache.entry_path(entry), target)
    target.chmod(0o755 if entry.kind == EXECUTABLE else 0o644)
    return sha256_of(str(target)) == entry.content


def _tree(cache: Cache, digest: str) -> Tree | None:
    try:
        return cache.tree(digest)
    except CacheError:
        return None


def _from_project(file: RecordedFile, source: Path, place: Path, *, current_files: bool) -> Iterator[str]:
    if not os.path.lexists(source):
        raise LapidarError(
            f"{file.path} is neither in the cache nor in the project",
            why=f"its recorded sha256 is {file.sha256}",
            remedy="Put it there again, or name the cache that the analysis was recorded with (--cache).",
        )
    place.parent.mkdir(parents=True, exist_ok=True)
    if source.is_symlink():
        place.symlink_to(os.readlink(source))
        return
    if sha256_of(str(source)) != file.sha256:
        if not current_files:
            raise LapidarError(
                f"{file.path} is not in the cache, and in the project it is another than recorded",
                why=f"its recorded sha256 is {file.sha256}",
                remedy="Put the recorded one there again, or take the files as they are with --current-files.",
            )
        yield f"{file.path} is another than recorded"
    shutil.copyfile(source, place)
    shutil.copymode(source, place)


def recorded_results(analysis: Analysis, cache: Cache) -> dict[str, Was]:
    """The recorded results, by their paths: with their bytes where the cache has them."""
    tree = _tree(cache, analysis.made)
    files = {entry.path: entry for entry in tree} if tree is not None else {}
    found = {}
    for file in analysis.result:
        entry = files.get(f"{RESULTS}/{file.path}")
        if entry is not None and entry.kind == LINK:
            found[file.name] = Was(None, link=entry.content, bytes=file.bytes)
        else:
            path = Path(cache.entry_path(entry)) if entry is not None else None
            found[file.name] = Was(path if path and path.is_file() else None, file.sha256, file.bytes)
    return found


def recorded_output(analysis: Analysis, cache: Cache) -> Was:
    """What it printed."""
    return Was(_made(analysis, cache, PRINTED), analysis.printed, analysis.printed_bytes)


def recorded_input(analysis: Analysis, cache: Cache) -> Path | None:
    """The file with what it was given on standard input; None where that was nothing.

    Raises:
        LapidarError: the cache has it no more, or it was too large to be kept.
    """
    if not analysis.typed:
        return None
    path = _made(analysis, cache, TYPED)
    if path is None or sha256_of(str(path)) != analysis.typed:
        raise LapidarError(
            f"What {analysis.name} was given on standard input is not in the cache",
            why=f"its recorded sha256 is {analysis.typed}",
            remedy="Name the cache that the analysis was recorded with (--cache), or record it again.",
        )
    return path


def _made(analysis: Analysis, cache: Cache, name: str) -> Path | None:
    tree = _tree(cache, analysis.made)
    entry = next((entry for entry in tree if entry.path == name), None) if tree is not None else None
    path = Path(cache.entry_path(entry)) if entry else None
    return path if path and path.is_file() else None


def state(folder: Path) -> dict[str, State | None]:
    """How each file below a folder is."""
    return {path: state_of(str(file)) for path, file in files_below(folder).items()}


def changed(folder: Path, before: Mapping[str, State | None]) -> dict[str, Path]:
    """The files and links below a folder that are new or changed; pipes and sockets are no results."""
    found = {path: file for path, file in files_below(folder).items() if before.get(path) != state_of(str(file))}
    return {path: file for path, file in found.items() if file.is_symlink() or file.is_file()}
