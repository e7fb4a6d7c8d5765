"""Capture: environment -> records and files -> lockfile and cache."""

from __future__ import annotations

import os
import shlex
import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import Struct
from msgspec.structs import replace

from lapidar.core import languages
from lapidar.core.cache.history import Cause, Deed, History
from lapidar.core.cache.seen import SeenFiles
from lapidar.core.cache.store import Cache
from lapidar.core.cache.stowing import Draft, Stowed, stow
from lapidar.core.declaring import files
from lapidar.core.errors import EnvironmentUnusable, LapidarError, LockfileError, PackageBroken, from_os_error
from lapidar.core.flows.locate import locate
from lapidar.core.languages.protocol import Inventory, Located, ObserveOptions, Unused, Used
from lapidar.core.layers import lower, named
from lapidar.core.layers.lower import Asked
from lapidar.core.layers.named import Named
from lapidar.core.place import Place
from lapidar.core.progress import Progress, Silent
from lapidar.core.records import lockfile, words
from lapidar.core.records.layers import LowerLayers
from lapidar.core.records.owner import Layer, Owner, PackageName
from lapidar.core.records.snapshot import Platform, Snapshot
from lapidar.core.restored import programs, startable
from lapidar.core.system import git
from lapidar.core.system.machine import platform_here

if TYPE_CHECKING:
    from lapidar.core.system.observed import ObservedRun

__all__ = ["CaptureOptions", "Captured", "LayerCount", "LeftOut", "capture"]


_NAMED = 5  # of what is missing


class CaptureOptions(Struct, frozen=True, kw_only=True):
    """How to capture.

    Attributes:
        environment: a folder or an interpreter; None for what the project or the shell points to.
        lock: writes the lockfile here instead of in the project.
        full_runtime: take what the runtime has for its own developers too.
        skip_outside: leave out files that packages list outside the environment, instead of refusing.
        scope: ``used``, ``whole``, or None for `used` where the project declares or imports anything.
        command: runs this once in the environment, and takes also what it was seen to use.
        output: the descriptor that the command's standard output goes to.
        observed: what a run was seen to use that was made before.
        languages: the names of those that are captured; none: all that are meant.
        review: is shown the snapshot of the lockfile that there is, and the one that it would become, where these
            differ; whether it is to be written.
        writes: write the lockfile, and note it in the history. Without, only the cache has it, until it is pruned.
        doubt: is told where the environment that was found, and that nobody named, lacks what the project's source
            loads; whether it is meant all the same. Without, it is refused.
        starts: start each outside program once, kept apart, to see what it uses for that and whether it does so from
            what was captured.
    """

    environment: Path | None = None
    lock: Path | None = None
    full_runtime: bool = False
    skip_outside: bool = False
    scope: str | None = None
    command: Sequence[str] | None = None
    output: int = 1
    observed: ObservedRun | None = None
    languages: tuple[str, ...] = ()
    review: Callable[[Snapshot, Snapshot], bool] | None = None
    doubt: Callable[[str], bool] | None = None
    writes: bool = True
    starts: bool = True


class LayerCount(Struct, frozen=True):
    """What a layer holds, and how much of it the cache did not have before. Sizes in bytes."""

    layer: Layer
    count: int
    files: int
    bytes: int
    new_bytes: int

    @property
    def reused_bytes(self) -> int:
        return self.bytes - self.new_bytes


class LeftOut(Struct, frozen=True):
    """What is not in a snapshot, a phrase each: of runtimes on purpose, and of the rest because it cannot be."""

    of_runtimes: tuple[str, ...]
    others: tuple[str, ...]


class Captured(Struct, frozen=True):
    """What came of a capture.

    Attributes:
        located: which environment, and why that one; an interpreter of each language.
        edited: for a package, the files that were edited after installation.
        changed: whether the lockfile has other content than before.
        refused: whether somebody did not want it written, and nothing was.
        written: whether it was to be written.
        unused: packages that are not in the snapshot because nothing of the project uses them.
    """

    snapshot: Snapshot
    lockfile: Path
    located: tuple[Located, ...]
    layers: tuple[LayerCount, ...]
    edited: dict[PackageName, list[str]]
    warnings: tuple[str, ...]
    details: tuple[str, ...]
    left_out: LeftOut
    changed: bool
    unused: Mapping[PackageName, Unused]
    seconds: float
    refused: bool = False
    written: bool = True


def capture(
    place: Place, cache: Cache, options: CaptureOptions | None = None, reporter: Progress | None = None
) -> Captured:
    """Capture an environment into the cache and write its lockfile.

    Args:
        place: where the lockfile goes, and whose environment is looked for.
        cache: keeps the bytes.
        reporter: hears of progress.

    Returns:
        What was captured. The lockfile is written last; until then nothing has changed for a reader.

    Raises:
        EnvironmentUnusable: there is no such environment.
        PackageBroken: a package cannot be captured as it is.
        CacheError, NoSpace: the bytes cannot be kept.
    """
    began = time.monotonic()
    options, reporter = options or CaptureOptions(), reporter or Silent()
    located = locate(place, options.environment, options.languages)
    _require_a_reason(place, located, options)
    cache.require_writable()
    path = options.lock or place.lockfile
    _require_folder(path)
    if options.writes and not options.lock:
        place.require_writable()
    run = _observe_run(located[0], options) if options.command else options.observed
    with cache.in_use():
        try:
            used = _observe(located, place, cache, options, run)
            _require_meant(located, used, options)
            inventories = [one.inventory for one in used]
            source = named.in_source(_sources(place, inventories))
            parts = _Parts(place, cache, options, used, run, reporter, _stow(inventories, cache, reporter), source)
            below, stowed, snapshot = parts.together({})
            starts = {tool.name: tool.start for tool in below.tools.tools if tool.start}
            if unable := startable.unable(cache, snapshot, starts, reporter):
                below, stowed, snapshot = parts.together(unable)
            refused = not options.writes or _is_refused(snapshot, path, options)
            changed = False if refused else _write(snapshot, path, place, cache)
        except OSError as error:
            raise from_os_error(error, "capture the environment", "with --lock or --cache") from error
        except UnicodeEncodeError as error:
            raise PackageBroken(
                "A file of the environment has a name that is not UTF-8",
                why=repr(error.object),
                remedy="Rename it, or reinstall the package it belongs to.",
            ) from error
    return Captured(
        snapshot=snapshot,
        lockfile=path,
        located=located,
        layers=_count(snapshot, stowed),
        edited={
            PackageName(one.language, name): files for one in inventories for name, files in one.edited(stowed).items()
        },
        details=tuple(below.libraries.details),
        warnings=(
            *(f"the source loads {words.some(one.missing, _NAMED)}, which is not there" for one in used if one.missing),
            *(text for one in inventories for text in one.warnings),
            *below.warnings,
        ),
        left_out=LeftOut(
            tuple(dict.fromkeys(phrase for one in inventories for phrase in one.left_out)),
            tuple(phrase for one in inventories for phrase in one.notes),
        ),
        changed=changed,
        refused=refused and options.writes,
        written=options.writes,
        unused={PackageName(one.inventory.language, name): why for one in used for name, why in one.unused.items()},
        seconds=time.monotonic() - began,
    )


class _Parts(Struct, frozen=True):
    """What languages found, to be put together with the layers below."""

    place: Place
    cache: Cache
    options: CaptureOptions
    used: Sequence[Used]
    run: ObservedRun | None
    reporter: Progress
    stowed: Mapping[Owner, Stowed]
    source: Named

    def together(self, unable: Mapping[str, str]) -> tuple[lower.LowerFound, dict[Owner, Stowed], Snapshot]:
        """Observe and stow the layers below.

        Args:
            unable: programs that are left out, and why.
        """
        inventories = [one.inventory for one in self.used]
        asked = Asked(
            programs=[name for one in self.used for name in one.programs],
            libraries=[name for one in self.used for name in one.libraries],
            named=self.source,
            run=self.run,
            starts=self.options.starts,
            unable=unable,
        )
        below = lower.of_environment(self.place, self.cache, inventories, asked)
        stowed = {**self.stowed, **below.stow(self.cache, self.reporter)}
        return below, stowed, _snapshot(inventories, stowed, below.records(stowed))


def _sources(place: Place, inventories: Iterable[Inventory]) -> Iterator[Path]:
    for inventory in inventories:
        for path in languages.sources_of(languages.of(inventory.language), place.root):
            yield place.root / path


def _require_a_reason(place: Place, located: Sequence[Located], options: CaptureOptions) -> None:
    """Raises: EnvironmentUnusable: nothing but its being on this machine speaks for an environment, and the project
    has nothing by which to choose of it: all of it would be taken."""
    if (
        options.environment
        or options.command
        or options.observed
        or options.scope
        or options.languages
        or not all(one.by_chance for one in located)
    ):
        return
    sources = (file for one in located for file in languages.sources_of(languages.of(one.language), place.root))
    if files.may_declare(place) or any(sources):
        return
    one = located[0]
    raise EnvironmentUnusable(
        f"{place.root} has no environment and no source: all of {one.interpreter} would be captured",
        why=one.why,
        remedy=f"If that is meant, name it: lapidar capture {one.interpreter}. Otherwise go to the project's folder, "
        "or name its environment.",
    )


def _require_meant(located: Sequence[Located], used: Sequence[Used], options: CaptureOptions) -> None:
    """Raises: EnvironmentUnusable: an environment that nobody named lacks what the project's source loads: all of it,
    or, where nothing but chance speaks for it, any."""
    if options.environment or options.command or options.observed:
        return
    for at, one in zip(located, used, strict=True):
        if not one.missing or (one.uses_some and not at.by_chance):
            continue
        lacks = f"{at.interpreter} lacks what the project's source loads: {words.some(one.missing, _NAMED)}"
        if options.doubt and options.doubt(f"{lacks} ({at.why})"):
            continue
        raise EnvironmentUnusable(
            f"{lacks}; nothing was captured",
            why=at.why,
            remedy="Name the environment that is meant: lapidar capture FOLDER. To have one made of what is loaded: "
            "lapidar start, then lapidar pin.",
        )


def _require_folder(lock: Path) -> None:
    if not lock.parent.is_dir():
        raise LapidarError(f"There is no folder {lock.parent} for the lockfile", remedy="Name another with --lock.")


def _observe_run(located: Located, options: CaptureOptions) -> ObservedRun:
    """Run a command as if its environment were active.

    Raises:
        LapidarError: it cannot be run or observed, or it failed.
    """
    from lapidar.core.system import supervision
    from lapidar.core.system.supervision import RunOptions

    command = options.command or ()
    program, variables = programs.where_active(command[0], located.interpreter)
    how = RunOptions(output=options.output, watches=True)
    run = supervision.run(program, [program, *command[1:]], variables, how).observed
    if run.code != 0:
        raise LapidarError(
            f"The observed run failed with exit code {run.code}, and nothing was captured",
            why=shlex.join(command),
            remedy="Let it succeed first, or capture without --observe.",
        )
    return run


def _observe(
    located: Sequence[Located], place: Place, cache: Cache, options: CaptureOptions, run: ObservedRun | None
) -> list[Used]:
    """What each language finds, less what the project does not use of it."""
    opened = run.opened if run else ()
    used = []
    for at in located:
        language = languages.of(at.language)
        how = ObserveOptions(
            full_runtime=options.full_runtime, skip_outside=options.skip_outside, short_cuts=cache.short_cuts
        )
        inventory = language.capturing.observe(at, place, how)
        used.append(language.capturing.choose_used(inventory, place, cache, options.scope, opened))
    return used


def _stow(inventories: Sequence[Inventory], cache: Cache, reporter: Progress) -> dict[Owner, Stowed]:
    folders = [folder for inventory in inventories for folder in inventory.own_folders]
    seen = SeenFiles(cache.short_cuts, inventories[0].prefix, folders)
    drafts: dict[Owner, Sequence[Draft]] = {}
    statuses: dict[str, os.stat_result] = {}
    for inventory in inventories:
        drafts.update(inventory.drafts())
        statuses.update(inventory.statuses)
    stowed = stow(cache, drafts, seen, reporter, statuses)
    seen.save()
    return stowed


def _snapshot(inventories: Sequence[Inventory], stowed: Mapping[Owner, Stowed], below: LowerLayers) -> Snapshot:
    records = [inventory.records(stowed) for inventory in inventories]
    return lockfile.identified(
        _platform(inventories),
        [one.runtime for one in records],
        [package for one in records for package in one.packages],
        [rest for one in records for rest in one.remainders],
        below,
    )


def _platform(inventories: Sequence[Inventory]) -> Platform:
    """The kind of machine and system that the environment is for; its C library is what a runtime says that it runs
    with, which need not be this system's."""
    told = [inventory.libc for inventory in inventories if inventory.libc]
    return platform_here(told[0] if told else "")


def _is_refused(snapshot: Snapshot, path: Path, options: CaptureOptions) -> bool:
    if options.review is None:
        return False
    try:
        before = lockfile.read_if_there(path)
    except LockfileError:
        return False  # nobody can want to keep it
    return before is not None and before.snapshot != snapshot.snapshot and not options.review(before, snapshot)


def _write(snapshot: Snapshot, path: Path, place: Place, cache: Cache) -> bool:
    """Write the lockfile where it has other content than before, and note it in the history either way."""
    text = lockfile.render(snapshot).encode()
    changed = not path.exists() or path.read_bytes() != text
    deed = Deed(Cause.CAPTURED, texts=files.texts_of(place), who=git.author(place.root))
    History(cache).add(snapshot, replace(place, lockfile=path), deed, parent=lockfile.identity_in(path))
    if changed:
        lockfile.write(snapshot, path)
    return changed


def _count(snapshot: Snapshot, stowed: Mapping[Owner, Stowed]) -> tuple[LayerCount, ...]:
    """What each layer holds: runtime and packages always, the others where there is any of them."""
    counts = []
    for layer in (Layer.RUNTIME, Layer.PACKAGES, Layer.REMAINDER, Layer.LIBRARIES, Layer.TOOLS):
        several = [one for owner, one in stowed.items() if owner.layer is layer]
        if several or layer in (Layer.RUNTIME, Layer.PACKAGES):
            count = len(snapshot.libraries) if layer is Layer.LIBRARIES else len(several)
            files = sum(len(one.tree) for one in several)
            size = sum(one.tree.total_bytes for one in several)
            counts.append(LayerCount(layer, count, files, size, sum(one.new_bytes for one in several)))
    return tuple(counts)
