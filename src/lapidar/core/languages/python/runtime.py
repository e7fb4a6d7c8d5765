"""The runtime layer: the interpreter, its shared library, the standard library, what extensions compile with."""

from __future__ import annotations

import os
import posixpath
from collections.abc import Callable
from pathlib import Path

from msgspec import Struct

from lapidar.core.cache.stowing import Draft, Stowed
from lapidar.core.environment import walk
from lapidar.core.environment.explained import Explained
from lapidar.core.environment.folder import Environment
from lapidar.core.environment.walk import Found
from lapidar.core.errors import EnvironmentUnusable
from lapidar.core.languages.python.placing import HEADERS, SITE
from lapidar.core.languages.python.probe import Answer
from lapidar.core.languages.python.standards import managed
from lapidar.core.records.owner import Layer, Owner
from lapidar.core.records.snapshot import Runtime

__all__ = ["RuntimeFound", "observe"]

_TEST_FOLDERS = frozenset({"test", "tests", "idle_test"})
_PACKAGE_FOLDERS = frozenset({"site-packages", "dist-packages"})
LEFT_OUT = ("its own test suite", "static archives", "byte-code caches")


class RuntimeFound(Struct, frozen=True):
    """A runtime as found: the files of its tree, and what its record says but for the tree."""

    answer: Answer
    drafts: list[Draft]
    executable: str
    places: dict[str, str]
    left_out: tuple[str, ...]
    notes: tuple[str, ...]

    @property
    def owner(self) -> Owner:
        return Owner(Layer.RUNTIME, "python", self.answer.implementation, self.answer.version)

    def record(self, stowed: Stowed) -> Runtime:
        """The record, once its files are stowed."""
        return Runtime(
            language="python",
            implementation=self.answer.implementation,
            version=self.answer.version,
            build=self.answer.build,
            executable=self.executable,
            places=self.places,
            tree=stowed.tree.digest,
            files=len(stowed.tree),
            bytes=stowed.tree.total_bytes,
            left_out=self.left_out,
        )


def observe(answer: Answer, claimed: set[str], *, full: bool = False) -> RuntimeFound:
    """Find the files of a runtime.

    Args:
        answer: what its interpreter said.
        claimed: files that belong to packages although they lie in the runtime's folders (C headers).
        full: take the test suite and the static archives too.

    Raises:
        EnvironmentUnusable: its executable or its standard library is not to be found.
    """
    executable = _executable(answer)
    library, headers = _library(answer), _below(answer, answer.headers, f"include/python{answer.short_version}")
    name = os.path.basename(executable)
    found = [Found(f"bin/{name}", executable, False)]
    found += _shared_library(answer)
    for source, path in library.items():
        found += [Found(f"{path}/{file.path}", file.source, file.link) for file in walk.walk(source, _wanted(full))]
    for source, path in _header_folders(answer, headers).items():
        found += [Found(f"{path}/{file.path}", file.source, file.link) for file in walk.walk(source, _no_bytecode)]
    if not any(path.endswith("/os.py") for path, _, _ in found):
        raise EnvironmentUnusable(
            f"The standard library of {answer.executable} is not at {answer.stdlib[0]}",
            remedy="Capture an environment whose runtime has its library as plain files.",
        )
    found = [one for one in found if not _is_generated(one)]
    explained = Explained((answer.prefix, answer.base_prefix, *answer.stdlib))
    drafted = walk.drafts([one for one in found if one.source not in claimed], _wanted(full), explained)
    return RuntimeFound(
        answer=answer,
        drafts=drafted.drafts,
        executable=f"bin/{name}",
        places={SITE: _site(answer), HEADERS: headers},
        left_out=LEFT_OUT[2:] if full else LEFT_OUT,
        notes=(
            *(f"the link {path} of the runtime leads nowhere and was left out" for path in drafted.broken),
            *(
                f"the link {path} of the runtime leads to {real}, which nothing explains, and was left out"
                for path, real in drafted.foreign.items()
            ),
        ),
    )


def _is_generated(found: Found) -> bool:
    """Whether a file is what restoring wrote into an environment of its own."""
    if not found.source.endswith(f"/{managed.FILE_NAME}"):
        return False
    path = Path(found.source)
    return path.is_file() and managed.is_ours(path.read_bytes())


def _executable(answer: Answer) -> str:
    """The real executable: in a restored environment the kernel runs the loader, and ours lies beside it."""
    placed = Environment(Path(answer.base_prefix)).executable("python")
    path = str(placed) if placed else answer.process
    if not os.path.isfile(path) or not os.path.basename(path).startswith("python"):
        raise EnvironmentUnusable(
            f"The executable of {answer.executable} could not be found",
            why=f"the kernel runs {path}",
            remedy="Name the interpreter itself: lapidar capture FOLDER/bin/python3.",
        )
    return path


def _below(answer: Answer, path: str, otherwise: str) -> str:
    """A path of the runtime relative to its prefix."""
    prefix = answer.base_prefix.rstrip("/") + "/"
    return path[len(prefix) :] if path.startswith(prefix) else otherwise


def _library(answer: Answer) -> dict[str, str]:
    """The folders of the standard library, and where each goes."""
    return {folder: _below(answer, folder, f"lib/python{answer.short_version}") for folder in answer.stdlib if folder}


def _header_folders(answer: Answer, headers: str) -> dict[str, str]:
    folders = {answer.headers: headers}
    if answer.multiarch:  # Debian keeps the machine's part of the configuration in a folder of its own
        own = f"include/{answer.multiarch}/python{answer.short_version}"
        folders[f"{answer.base_prefix}/{own}"] = own
    return folders


def _shared_library(answer: Answer) -> list[Found]:
    """The shared library that the interpreter has mapped, with the links to it that lie beside it."""
    if not answer.libpython:
        return []
    folder = os.path.dirname(answer.libpython[0])
    return [
        Found(f"lib/{entry.name}", entry.path, entry.is_symlink())
        for entry in os.scandir(folder)
        if entry.name.startswith("libpython")
        and ".so" in entry.name
        and (entry.path in answer.libpython or answer.short_version in entry.name or entry.name == "libpython3.so")
    ]


def _no_bytecode(path: str, folder: bool) -> bool:
    return posixpath.basename(path) != "__pycache__"


def _wanted(full: bool) -> Callable[[str, bool], bool]:
    def wanted(path: str, folder: bool) -> bool:
        name = posixpath.basename(path)
        if folder:
            if name == "__pycache__" or path in _PACKAGE_FOLDERS:
                return False
            return full or name not in _TEST_FOLDERS
        return full or not name.endswith(".a")

    return wanted


def _site(answer: Answer) -> str:
    """Where this runtime, at the prefix of a restored environment, looks for packages."""
    offered = [folder.removeprefix("@/") for folder in answer.site_folders]
    for folder in offered:
        if folder.startswith("lib/python" + answer.short_version):
            return folder
    return offered[0]
