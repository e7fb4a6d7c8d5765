"""The runtime layer: R's home, with what a system has of it elsewhere, and the packages that are R itself."""

from __future__ import annotations

import os
from collections.abc import Iterator

from msgspec import Struct

from lapidar.core.cache.stowing import Draft, Stowed
from lapidar.core.environment import walk
from lapidar.core.environment.explained import Explained
from lapidar.core.environment.folder import Environment
from lapidar.core.environment.walk import Found
from lapidar.core.errors import EnvironmentUnusable
from lapidar.core.languages.r import description, placing
from lapidar.core.languages.r.probe import Answer
from lapidar.core.records.owner import Layer, Owner
from lapidar.core.records.snapshot import Runtime

__all__ = ["RuntimeFound", "observe"]

IMPLEMENTATION = "gnu-r"
# The folders of a home, and those of them that a system may have elsewhere.
_FOLDERS = ("bin", "etc", "lib", "modules", "share", "include")
_FULL = ("doc", "tests")
_LEFT_OUT = ("its documentation", "its own test suite")
_TRANSLATIONS = "translations"  # has a DESCRIPTION, and is no package


class RuntimeFound(Struct, frozen=True):
    """A runtime as found: the files of its tree, and what its record says but for the tree.

    Attributes:
        own: the names of the packages that are R itself.
    """

    answer: Answer
    drafts: list[Draft]
    own: frozenset[str]
    left_out: tuple[str, ...]
    notes: tuple[str, ...] = ()

    @property
    def owner(self) -> Owner:
        return Owner(Layer.RUNTIME, "r", IMPLEMENTATION, self.answer.version)

    def record(self, stowed: Stowed) -> Runtime:
        """The record, once its files are stowed."""
        return Runtime(
            language="r",
            implementation=IMPLEMENTATION,
            version=self.answer.version,
            build=f"{self.answer.build}, {self.answer.platform}",
            executable=placing.EXECUTABLE,
            places=placing.PLACES,
            tree=stowed.tree.digest,
            files=len(stowed.tree),
            bytes=stowed.tree.total_bytes,
            left_out=self.left_out,
        )


def observe(answer: Answer, environment: Environment, explained: Explained, *, full: bool = False) -> RuntimeFound:
    """Find the files of a runtime.

    Args:
        environment: the folder that it lies in, which may be a restored environment.
        explained: tells what a link may lead to.
        full: take documentation and tests too.

    Raises:
        EnvironmentUnusable: it is not whole.
    """
    own = frozenset(_own_packages(answer.own))
    found = list(_files(answer, own, full))
    if environment.is_ours:
        found = list(_as_captured(found, environment))
    paths = {one.path for one in found}
    for needed in (placing.EXECUTABLE, "bin/R", "library/base/DESCRIPTION"):
        if needed not in paths:
            raise EnvironmentUnusable(
                f"The R in {answer.home} is not whole: it has no {needed}",
                remedy="Capture an R that starts by the compiled program in its own home.",
            )
    drafted = walk.drafts(found, may_take=explained)
    return RuntimeFound(
        answer=answer,
        drafts=drafted.drafts,
        own=own,
        left_out=() if full else _LEFT_OUT,
        notes=(
            *(f"the link {path} of R leads nowhere and was left out" for path in drafted.broken),
            *(
                f"the link {path} of R leads to {real}, which nothing explains, and was left out"
                for path, real in drafted.foreign.items()
            ),
        ),
    )


def _files(answer: Answer, own: frozenset[str], full: bool) -> Iterator[Found]:
    elsewhere = {"share": answer.share, "include": answer.include, "doc": answer.doc}
    for name in (*_FOLDERS, *(_FULL if full else ())):
        for one in walk.walk(elsewhere.get(name, f"{answer.home}/{name}")):
            yield one._replace(path=f"{name}/{one.path}")
    for name in (*sorted(own), _TRANSLATIONS):
        for one in walk.walk(f"{answer.own}/{name}"):
            yield one._replace(path=f"library/{name}/{one.path}")
    with os.scandir(answer.home) as entries:
        for entry in sorted(entries, key=lambda one: one.name):
            if not entry.is_dir():
                yield Found(entry.name, entry.path, entry.is_symlink())


def _as_captured(found: list[Found], environment: Environment) -> Iterator[Found]:
    """In a restored environment: what was written for it is left out, and what lies aside is at its place."""
    for one in found:
        path = placing.within_runtime(f"{placing.HOME}/{one.path}")
        if path is not None:
            yield one._replace(path=path)
    executable = environment.executable("r")
    if executable is not None:
        yield Found(placing.EXECUTABLE, str(executable), False)
    yield from walk.walk(f"{environment.folder}/{placing.ASIDE}")


def _own_packages(library: str) -> Iterator[str]:
    for name in sorted(os.listdir(library)):
        try:
            if description.read(f"{library}/{name}/{description.FILE_NAME}").is_of_runtime and name != _TRANSLATIONS:
                yield name
        except (OSError, ValueError):
            continue
