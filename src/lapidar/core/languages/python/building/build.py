"""Build a source tree: build needs pinned -> environment restored -> hooks called in it -> wheel -> tree.

Source distributions and pyproject.toml, https://packaging.python.org/en/latest/specifications/pyproject-toml/; the
hooks are those of PEP 517, called through the standard caller.
"""

from __future__ import annotations

import hashlib
import os
import re
import subprocess
import tomllib
import warnings
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from packaging.requirements import InvalidRequirement, Requirement
from pyproject_hooks import BackendUnavailable, BuildBackendHookCaller, HookMissing

from lapidar.core import foreign
from lapidar.core.cache.files import FILE_TIME_SECONDS
from lapidar.core.cache.store import Cache
from lapidar.core.errors import CannotRun, LapidarError, PackageBroken
from lapidar.core.languages import source_trees
from lapidar.core.languages.python.building import compilers
from lapidar.core.languages.python.standards import normal
from lapidar.core.place import Place
from lapidar.core.records.snapshot import Runtime, Snapshot
from lapidar.core.system import supervision

__all__ = ["BuildFailed", "SourceBuilder", "Workplace"]

_OLD_STYLE: Mapping[str, Any] = {"requires": ["setuptools>=40.8"], "build-backend": "setuptools.build_meta:__legacy__"}
_LINES_SHOWN = 6

# Pins build needs and restores them into a folder; gives the snapshot of what is there.
Workplace = Callable[[Sequence[Requirement], Path], Snapshot]


class BuildFailed(LapidarError):
    """A package could not be built from its source."""


_SECONDS = 3600.0
# Of the caller: other code, another language of messages, another repository.
_LEADS_ASTRAY = re.compile(r"PYTHON|VIRTUAL_ENV|LC_|LANGUAGE$|GIT_(DIR|WORK_TREE|INDEX_FILE|CONFIG)")


class SourceBuilder:
    """Builds source trees for one runtime.

    Args:
        place: whose own folder keeps the log of a build that failed.
    """

    def __init__(self, cache: Cache, runtime: Runtime, workplace: Workplace, place: Place) -> None:
        self._cache = cache
        self._runtime = runtime
        self._workplace = workplace
        self._project = place

    def key(self, source_sha256: str) -> str:
        """Under what the cache keeps what came of a source: the same source under another runtime is another."""
        return hashlib.sha256(f"built {source_sha256} {self._runtime.tree}".encode()).hexdigest()

    def wheel(self, source: Path, label: str, work: Path) -> tuple[Path, list[str]]:
        """Build a wheel.

        Args:
            source: the folder of the source.
            label: what it is, for people.
            work: an empty folder to work in.

        Returns:
            The wheel, and what it was built with, "name version tree" each.

        Raises:
            BuildFailed: with the last lines of what the build said, and where the rest is.
        """
        with self._backend(source, label, work) as (hooks, snapshot):
            wheels = work / "wheels"
            wheels.mkdir(exist_ok=True)
            name = hooks.build_wheel(str(wheels))
        made = [f"{package.name} {package.version} {package.tree}" for package in snapshot.packages]
        return wheels / name, made

    def archives(self, source: Path, label: str, work: Path) -> tuple[list[Path], Snapshot]:
        """Build the source archive and the wheel, in one form each (`standards.normal`).

        Returns:
            Both, and the snapshot of what they were built in.

        Raises:
            BuildFailed: see `wheel`.
        """
        out = work / "archives"
        out.mkdir()
        with self._backend(source, label, work, of_source=True) as (hooks, snapshot):
            given = work / "given"
            given.mkdir()
            wheel, archive = given / hooks.build_wheel(str(given)), given / hooks.build_sdist(str(given))
            normal.wheel(wheel, out / wheel.name)
            normal.source(archive, out / archive.name)
        return sorted(out.iterdir()), snapshot

    def metadata(self, source: Path, label: str, work: Path) -> bytes | None:
        """The METADATA that a wheel would have, where the build backend tells it without building one.

        Raises:
            BuildFailed: it fails at that.
        """
        with self._backend(source, label, work) as (hooks, _):
            folder = work / "metadata"
            folder.mkdir()
            try:
                name = hooks.prepare_metadata_for_build_wheel(str(folder), _allow_fallback=False)
            except HookMissing:
                return None
            return foreign.read(folder / name / "METADATA", foreign.MOST_METADATA_BYTES)

    @contextmanager
    def _backend(
        self, source: Path, label: str, work: Path, *, of_source: bool = False
    ) -> Iterator[tuple[BuildBackendHookCaller, Snapshot]]:
        """The hooks of a source's build backend, in an environment that has all that it needs.

        Args:
            of_source: also to make a source archive.
        """
        system = self._build_system(source, label)
        requires = self._requirements(system.get("requires", ()), label)
        log = work / "log"
        room = work / "room"
        snapshot = self._workplace(requires, room)
        with warnings.catch_warnings(record=True) as warned:  # the caller warns again of what was warned of there
            try:
                hooks = self._hooks(source, system, room, log)
                texts = [
                    *hooks.get_requires_for_build_wheel(),
                    *(hooks.get_requires_for_build_sdist() if of_source else ()),
                ]
                more = self._requirements(texts, label)
                if more:
                    room = work / "room-2"
                    snapshot = self._workplace([*requires, *more], room)
                    hooks = self._hooks(source, system, room, log)
                yield hooks, snapshot
            except (CannotRun, subprocess.SubprocessError, BackendUnavailable, HookMissing, OSError) as error:
                with open(log, "a", encoding="utf-8") as stream:
                    stream.writelines(f"{one.message}\n" for one in warned)
                raise self._failed(label, log, error) from error

    def _build_system(self, source: Path, label: str) -> Mapping[str, Any]:
        path = source / "pyproject.toml"
        if not path.is_file():
            if not (source / "setup.py").is_file():
                raise PackageBroken(f"{label} cannot be built", why="it has no pyproject.toml and no setup.py")
            return _OLD_STYLE
        try:
            told = foreign.parsed(lambda: tomllib.loads(foreign.read_text(path))).get("build-system")
        except (OSError, ValueError) as error:
            raise PackageBroken(f"The pyproject.toml of {label} cannot be read", why=str(error)) from error
        if not isinstance(told, dict):
            return _OLD_STYLE
        return {"build-backend": _OLD_STYLE["build-backend"], **told}

    def _requirements(self, texts: Sequence[str], label: str) -> list[Requirement]:
        try:
            return [Requirement(text) for text in texts]
        except InvalidRequirement as error:
            raise PackageBroken(f"What {label} needs to be built cannot be read", why=str(error)) from error

    def _hooks(self, source: Path, system: Mapping[str, Any], room: Path, log: Path) -> BuildBackendHookCaller:
        environment = {
            **{name: value for name, value in os.environ.items() if not _LEADS_ASTRAY.match(name)},
            "PATH": os.pathsep.join(
                [f"{room}/bin", compilers.telling_no_place(source), os.environ.get("PATH", os.defpath)]
            ),
            # What would make two builds of one source differ.
            "SOURCE_DATE_EPOCH": str(FILE_TIME_SECONDS),
            "PYTHONHASHSEED": "0",
            "PYTHONNOUSERSITE": "1",
            "TZ": "UTC",
            "LANG": "C.UTF-8",
            "LC_ALL": "C.UTF-8",
        }

        def run(command: Sequence[str], cwd: str | None = None, extra_environ: Mapping[str, str] | None = None) -> None:
            variables = {**environment, **(extra_environ or {})}
            folder = Path(cwd) if cwd else source
            code = supervision.logged(command, variables, log, folder=folder, at_most=_SECONDS)
            if code:
                raise subprocess.CalledProcessError(code, list(command))

        return BuildBackendHookCaller(
            str(source),
            system["build-backend"],
            backend_path=system.get("backend-path"),
            runner=run,  # type: ignore[arg-type]  # its protocol names what is passed by keyword
            python_executable=str(room / "bin" / "python"),
        )

    def _failed(self, label: str, log: Path, error: Exception) -> BuildFailed:
        text = log.read_text("utf-8", "replace") if log.exists() else ""
        self._project.make_own_folder()
        kept = self._project.own_folder / f"build-{label.replace(' ', '-').replace('/', '-')}.log"
        kept.write_text(text or str(error), "utf-8")
        last = source_trees.telling_lines(text, _LINES_SHOWN) or [str(error)]
        return BuildFailed(
            f"{label} could not be built from its source",
            why="\n  ".join(["what it said:", *last]),
            remedy=f"All that it said is in {kept}; --wheels-only chooses among what needs no building.",
        )
