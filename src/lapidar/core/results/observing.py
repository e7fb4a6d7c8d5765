"""What a run of an analysis read and wrote, told apart: the project's own source, data inside the project, results,
what lies outside and does not travel, and what nobody wants to know of."""

from __future__ import annotations

import os
import stat
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from fnmatch import fnmatchcase
from pathlib import Path

from msgspec import Struct, field
from msgspec.structs import replace

from lapidar.core import languages
from lapidar.core.environment.folder import Environment
from lapidar.core.place import LOCKFILE_NAME, OWN_FOLDER, RECORDS_NAME, Place
from lapidar.core.restored.watched import Inside, temporary_folders
from lapidar.core.system.observed import ObservedRun
from lapidar.core.system.supervision import Ended
from lapidar.core.system.written import Files, Touched

__all__ = ["Seen", "ignored", "is_wanted", "less", "more", "seen"]

# Kept by tools about a project, and no part of an analysis.
_NO_RESULTS = frozenset((OWN_FOLDER, ".git", ".hg", ".svn", ".ipynb_checkpoints", ".mypy_cache", ".pytest_cache"))
_OF_LAPIDAR = frozenset((LOCKFILE_NAME, RECORDS_NAME))


class Seen(Struct, frozen=True):
    """What a run did; paths are relative to the project, those outside absolute.

    Attributes:
        sources, inputs: what it read of the project, each with the file that has the bytes of before the run.
        results: what it wrote, with the file.
        both: those of the inputs that it changed too.
        outside: what it read outside of the project and the environment.
        written_outside: what it wrote there.
        odd: what it made that is no file: pipes, sockets.
    """

    sources: Mapping[str, str] = field(default_factory=dict)
    inputs: Mapping[str, str] = field(default_factory=dict)
    results: Mapping[str, str] = field(default_factory=dict)
    both: tuple[str, ...] = ()
    changed_sources: tuple[str, ...] = ()
    removed: tuple[str, ...] = ()
    outside: tuple[str, ...] = ()
    written_outside: tuple[str, ...] = ()
    odd: tuple[str, ...] = ()


def files_of(place: Place, others: Sequence[Path], kept: Path) -> Files:
    """The project's files, which are told one by one.

    Args:
        others: folders in it that are none of its own: an environment, a cache.
        kept: an empty folder for the bytes of files that are about to be changed.
    """
    root = os.path.realpath(place.root)
    own = (os.path.realpath(os.path.join(root, name)) for name in _NO_RESULTS)
    return Files(root, str(kept), (*_in(root, others), *own), ignored(place, others))


def _in(root: str, others: Sequence[Path]) -> Iterator[str]:
    """Those of folders that lie in a project: one that it lies in itself (a copy of it, in a cache) says nothing."""
    return (real for one in others if (real := os.path.realpath(one)).startswith(root.rstrip("/") + "/"))


def ignored(place: Place, others: Sequence[Path]) -> Callable[[str], bool]:
    """Says of a path in the project that nobody wants to know of it.

    Args:
        others: folders in it that are none of its own: an environment, a cache.
    """
    root = os.path.realpath(place.root) + "/"
    folders = tuple(one + "/" for one in _in(root, others))
    made = [language.checking.made_by_running for language in languages.every()]

    def is_ignored(path: str) -> bool:
        below = path[len(root) :]
        parts = below.split("/")
        return (
            path.startswith(folders)
            or not _NO_RESULTS.isdisjoint(parts)
            or below in _OF_LAPIDAR
            or any(is_made(below) for is_made in made)
        )

    return is_ignored


def seen(
    place: Place,
    environment: Environment,
    ended: Ended,
    began_ns: int,
    wants: Callable[[str], bool],
    listed: Sequence[str] = (),
) -> Seen:
    """Tell apart what a run did.

    Args:
        listed: folders below the project that it looked through: where the files in them are not, it finds others.
        began_ns: when it began: what lies in a temporary folder and is older is no file of the run's own.
        wants: whether a file that a run wrote is a result, by its path below the project.
    """
    run, touched = ended.observed, ended.touched
    root = os.path.realpath(place.root) + "/"
    started = {os.path.realpath(path) for path in run.executed}
    started |= set(run.mapped)  # libraries of the project that programs load
    suffixes = tuple(suffix for language in languages.every() for suffix in language.source_suffixes)
    sources: dict[str, str] = {}
    inputs: dict[str, str] = {}
    for path, kept in touched.read.items():
        is_source = path.endswith(suffixes) if suffixes else False
        (sources if is_source or path in started else inputs)[path[len(root) :]] = kept
    written = {path[len(root) :]: path for path in touched.written}
    inputs |= _listed(place, listed, sources | inputs | written)
    wanted = {below: path for below, path in written.items() if wants(below)}
    files = {below: path for below, path in wanted.items() if _is_file(path)}
    outside = _outside(run, Inside(place, environment), touched, began_ns, place, environment)
    return Seen(
        sources=sources,
        inputs=inputs,
        results={below: path for below, path in files.items() if below not in sources},
        both=tuple(sorted(inputs.keys() & written.keys())),
        changed_sources=tuple(sorted(sources.keys() & written.keys())),
        removed=tuple(path[len(root) :] for path in touched.removed),
        outside=outside,
        written_outside=tuple(path for path in touched.outside if not _is_temporary(path)),
        odd=tuple(sorted(wanted.keys() - files.keys())),
    )


def more(seen: Seen, root: str, sources: Collection[str], inputs: Collection[str], outside: Collection[str]) -> Seen:
    """What a run did, and what another read that did a part of it before.

    Args:
        root: of the project, where these files are as they were.
    """
    known = seen.sources.keys() | seen.inputs.keys()
    return replace(
        seen,
        sources={**seen.sources, **{path: f"{root}/{path}" for path in sources if path not in known}},
        inputs={**seen.inputs, **{path: f"{root}/{path}" for path in inputs if path not in known}},
        outside=tuple(sorted({*seen.outside, *outside})),
    )


def less(seen: Seen, paths: Collection[str]) -> Seen:
    """What a run did, without some files."""
    if not paths:
        return seen

    def left(several: Mapping[str, str]) -> dict[str, str]:
        return {path: file for path, file in several.items() if path not in paths}

    def others(several: Sequence[str]) -> tuple[str, ...]:
        return tuple(path for path in several if path not in paths)

    return replace(
        seen,
        sources=left(seen.sources),
        inputs=left(seen.inputs),
        results=left(seen.results),
        both=others(seen.both),
        changed_sources=others(seen.changed_sources),
        removed=others(seen.removed),
    )


def _listed(place: Place, folders: Sequence[str], known: Mapping[str, str]) -> Iterator[tuple[str, str]]:
    """The files of folders that a run looked through, and did not open."""
    is_ignored = ignored(place, [])
    for folder in folders:
        for entry in os.scandir(os.path.realpath(place.root / folder)):
            path = entry.name if folder == "." else f"{folder}/{entry.name}"
            if path not in known and not is_ignored(entry.path) and entry.is_file(follow_symlinks=False):
                yield path, entry.path


def is_wanted(path: str, taken: Sequence[str], left: Sequence[str]) -> bool:
    """Whether a file that a run wrote is a result, by the patterns of what is taken (all, without any) and left."""
    if any(fnmatchcase(path, pattern) for pattern in left):
        return False
    return not taken or any(fnmatchcase(path, pattern) for pattern in taken)


def _is_file(path: str) -> bool:
    mode = os.lstat(path).st_mode
    return stat.S_ISREG(mode) or stat.S_ISLNK(mode)


def _is_temporary(path: str) -> bool:
    return path.startswith(temporary_folders())


def _outside(
    run: ObservedRun, inside: Inside, touched: Touched, began_ns: int, place: Place, environment: Environment
) -> tuple[str, ...]:
    """What the environment's own programs read outside; of a temporary folder, what was there before."""
    own = (os.path.realpath(place.root) + "/", os.path.realpath(environment.folder) + "/")
    found: set[str] = set()
    for path in inside.of_environment(run):
        if path.startswith(own) or path in touched.outside:
            continue
        if _is_temporary(path):
            try:
                if os.stat(path).st_ctime_ns < began_ns:
                    found.add(path)
            except OSError:
                continue
        elif not inside.has(path):
            found.add(path)
    return tuple(sorted(found))
