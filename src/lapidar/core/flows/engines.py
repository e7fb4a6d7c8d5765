"""Engines by their names: what the user's configuration says of them, and a step as a task for one elsewhere."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterable, Iterator, Mapping

import msgspec
from msgspec import Struct, structs

from lapidar.core.cache.history import History
from lapidar.core.cache.runs import Runs
from lapidar.core.cache.store import Cache
from lapidar.core.cache.stowing import Draft, FileDraft, LinkDraft, stow
from lapidar.core.declaring.files import user_file
from lapidar.core.declaring.project import load
from lapidar.core.errors import DeclarationError, LapidarError
from lapidar.core.place import DECLARATION_NAME, Place
from lapidar.core.progress import Silent
from lapidar.core.records.results import Analysis
from lapidar.core.records.snapshot import Snapshot
from lapidar.core.steps import copying
from lapidar.core.steps.engines.protocol import Engine
from lapidar.core.steps.engines.tasks import Task
from lapidar.core.steps.graph import Step

__all__ = ["engine_named"]

_NOWHERE = "sha256:" + 64 * "0"


class _EngineTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """``[engine.NAME]`` of the user's configuration.

    Attributes:
        kind: slurm or dask.
        options: further words for ``sbatch``. lapidar: the words that start Lapidar on a node.
        address: of a scheduler.
        tries: how often a job that came to nothing is handed over in all.
    """

    kind: str
    options: tuple[str, ...] = ()
    lapidar: tuple[str, ...] | str = ()
    address: str = ""
    tries: int = 2


def engine_named(
    name: str, place: Place, cache: Cache, snapshot: Snapshot | None, made: frozenset[str], *, anew: bool = False
) -> Engine:
    """An engine.

    Args:
        name: as the user's configuration has it, or the address of a scheduler of tasks.
        snapshot: that steps run in.
        made: what steps of the project make.
        anew: steps are given nothing of what attempts before them left.

    Raises:
        LapidarError: there is none of this name, or it cannot be used.
    """
    told = _EngineTable("dask", address=name) if "://" in name else _configured(name)
    if snapshot is None:
        raise LapidarError("Steps can run elsewhere only with a lockfile", remedy="lapidar pin, or lapidar capture.")
    if not History(cache).path(snapshot.snapshot).is_file():
        History(cache).put(snapshot)
    making = _Making(place, cache, snapshot, made, anew)
    if told.kind == "dask":
        from lapidar.core.flows.work import run_encoded
        from lapidar.core.steps.engines.dask import Dask

        return Dask(making.task, cache, told.address, run_encoded)
    if told.kind == "slurm":
        from lapidar.core.steps.engines.slurm import Slurm, SlurmOptions

        words = (told.lapidar,) if isinstance(told.lapidar, str) else told.lapidar
        program = words if words and words[0] else (sys.executable, "-m", "lapidar")
        options = SlurmOptions(words=told.options, program=program, tries=told.tries)
        return Slurm(making.task, str(place.records), cache, options)
    raise DeclarationError(f"The engine {name} is of an unknown kind: {told.kind!r}", remedy="Write slurm, or dask.")


def _configured(name: str) -> _EngineTable:
    where = str(user_file())
    tables = load(user_file(), where).get("engine", {}) if user_file().is_file() else {}
    table = tables.get(name) if isinstance(tables, dict) else None
    if table is None:
        known = ", ".join(tables) if isinstance(tables, dict) and tables else "none"
        raise LapidarError(
            f"There is no engine {name} in your configuration ({where}); there are: {known}",
            remedy=f'Write there: [engine.{name}] kind = "slurm"; or name the address of a scheduler: tcp://HOST:PORT.',
        )
    try:
        return msgspec.convert(table, _EngineTable)
    except msgspec.ValidationError as error:
        raise DeclarationError(
            f"{where}: [engine.{name}] is not valid",
            why=str(error),
            remedy='It may say kind = "slurm", options = ["--partition=short"], lapidar, tries, address.',
        ) from error


class _Making(Struct, frozen=True):
    """Makes tasks of steps."""

    place: Place
    cache: Cache
    snapshot: Snapshot
    made: frozenset[str]
    anew: bool = False

    def task(self, step: Step, earlier: Mapping[str, str]) -> Task:
        """A step as a task; the files that it needs are in the cache then.

        Args:
            earlier: of the steps that it begins after, the keys of their tasks, by name.
        """
        made = {file for name in earlier for file in step.after.get(name, ())}
        analysis = step.analysis or Analysis(
            name=step.name, record="", command=step.command, snapshot=_NOWHERE, numerics="native", exit_code=0,
            printed=64 * "0", printed_bytes=0, given=_NOWHERE, made=_NOWHERE,
        )  # fmt: skip
        what = copying.of_step(self.place, step, analysis, (self.place.environment, self.cache.root), self.made)
        # What the project declares of all its analyses holds there too.
        files, folders = structs.replace(what, besides=(DECLARATION_NAME,)).contents()
        files = [file for file in files if file not in made]
        with self.cache.in_use():
            tree = stow(self.cache, {"copy": list(self._drafts(files))}, None, Silent())["copy"].tree.digest
        asks, record = step.declared, step.written.record if step.written else ""
        # Where nothing else of it is another, it stands if those before it make what they made.
        stands = bool(made) and all(one.name in made for one in step.reasons) and not step.failed
        stands = stands and Runs(self.cache).copy_of(record) is not None
        read = (*analysis.source, *analysis.input)
        return Task(
            step.name, step.command, analysis.folder, tree, self.snapshot.snapshot,
            tuple(sorted({*folders} - {"", "."})), dict(asks.values), asks.results, asks.leave,
            asks.processors, asks.memory, asks.at_most, asks.keep, tuple(sorted(earlier.values())),
            {file.name: file.sha256 for file in read if file.name in made} if stands else {},
            record if stands else "",
            self.anew,
        )  # fmt: skip

    def _drafts(self, files: Iterable[str]) -> Iterator[Draft]:
        root = os.path.realpath(self.place.root)
        for path in files:
            place = f"{root}/{path}"
            if os.path.islink(place):
                target = os.readlink(place)
                if not target.startswith("/") and os.path.realpath(place).startswith(root + "/"):
                    yield LinkDraft(path, target)
                elif os.path.isfile(place):
                    yield FileDraft(path, os.path.realpath(place))
            else:
                yield FileDraft(path, place)
