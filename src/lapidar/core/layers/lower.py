"""The layers that every environment has, together: observed in the order in which they need one another."""

from __future__ import annotations

import os
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import Struct, field
from msgspec.structs import replace

from lapidar.core import languages
from lapidar.core.cache.seen import seen_of_system
from lapidar.core.cache.store import Cache
from lapidar.core.cache.stowing import Draft, FileDraft, Stowed, stow
from lapidar.core.declaring import reading
from lapidar.core.environment.folder import Environment
from lapidar.core.errors import DeclarationError
from lapidar.core.languages.protocol import Inventory, ObjectFile
from lapidar.core.layers import conditions, libraries, tools
from lapidar.core.layers.named import NONE, Named
from lapidar.core.layers.protocol import Request, Subject
from lapidar.core.place import Place
from lapidar.core.progress import Progress
from lapidar.core.records import words
from lapidar.core.records.declaration import Declaration
from lapidar.core.records.layers import LowerLayers
from lapidar.core.records.owner import OBSERVED_RUN, PROJECT, Owner
from lapidar.core.records.snapshot import Conditions
from lapidar.core.system import companions, fonts, locales
from lapidar.core.system.memory import ElfMemory

if TYPE_CHECKING:
    from lapidar.core.system.observed import ObservedRun

__all__ = ["Asked", "LowerFound", "of_environment", "of_subject"]

_SHOWN = 3
# Where data of the machine lies that a run may read, and what of it the libraries' layer has.
_DATA_FOLDERS = ("/usr/share/", "/usr/local/", "/opt/", "/var/lib/", "/home/", "/srv/")
_HELD_DATA = tuple(f"/usr/share/{name}/" for name in ("zoneinfo", "tcltk", "terminfo", "locale", "fontconfig"))


class LowerFound(Struct, frozen=True):
    """The layers as found.

    Attributes:
        problems: what the user should know beside what the layers themselves say, a sentence each.
    """

    libraries: libraries.LibrariesFound
    tools: tools.ToolsFound
    conditions: conditions.ConditionsFound
    problems: tuple[str, ...] = ()

    @property
    def warnings(self) -> tuple[str, ...]:
        """What the user should know, a sentence each."""
        return (*self.problems, *self.libraries.warnings, *self.tools.warnings, *self.conditions.warnings)

    def stow(self, cache: Cache, reporter: Progress) -> dict[Owner, Stowed]:
        """Stow the files of libraries and tools. What was read of them is remembered for all environments."""
        drafts = {**self.tools.drafts(), **self.libraries.drafts()}
        if not drafts:
            return {}
        seen = seen_of_system(cache.short_cuts)
        stowed = stow(cache, drafts, seen, reporter)
        seen.save()
        return stowed

    def records(self, stowed: Mapping[Owner, Stowed]) -> LowerLayers:
        """The records, once the files are stowed."""
        layer, found = self.libraries.records(stowed)
        return LowerLayers(layer, found, self.tools.records(stowed), self._conditions())

    def _conditions(self) -> Conditions:
        """The conditions, with the libraries that cannot travel."""
        here = self.conditions.record
        return replace(here, host=tuple(sorted(self.libraries.host)) or here.host)


def of_subject(subject: Subject, problems: Sequence[str] = ()) -> LowerFound:
    """Observe the layers: conditions name locales, and outside programs need libraries."""
    held_to = conditions.observe(subject)
    programs = tools.observe(subject)
    asked = subject.declaration.system
    named = sorted({*locales.named(held_to.record.variables), *asked.locales, *subject.named.locales})
    # What an earlier snapshot has, this machine need not have.
    new = asked.locales if subject.held_libraries is None else ()
    unmet = [name for name in new if not any(locales.drafts([name], companions.LOCALES))]
    found = libraries.observe(
        replace(
            subject,
            objects=[*subject.objects, *programs.objects()],
            requests=[*subject.requests, *(Request(PROJECT, name) for name in asked.libraries)],
            data=[*locales.drafts(named, companions.LOCALES), *subject.data],
        )
    )
    there = {*found.uses, *(os.path.basename(use.source) for use in found.uses.values())}
    lacking = [f"the locale {name}" for name in unmet]
    lacking += [f"the library {name}" for name in asked.libraries if os.path.basename(name) not in there]
    told = (f"{what}, which lapidar.toml needs, is not on this machine" for what in lacking)
    return LowerFound(found, programs, held_to, (*problems, *told))


class Asked(Struct, frozen=True, kw_only=True):
    """What is asked of the layers below beside what the project declares.

    Attributes:
        programs, libraries: outside programs and libraries that the project's source names.
        named: data of the machine that it names.
        run: what a run of the analysis was seen to use.
        starts, unable: see `Subject`.
    """

    programs: Sequence[str] = ()
    libraries: Sequence[str] = ()
    named: Named = NONE
    run: ObservedRun | None = None
    starts: bool = True
    unable: Mapping[str, str] = field(default_factory=dict)


def of_environment(place: Place, cache: Cache, inventories: Sequence[Inventory], asked: Asked) -> LowerFound:
    """Observe the layers below what languages found."""
    run = asked.run
    environment = Environment(Path(inventories[0].prefix))
    problems: list[str] = []
    try:
        declaration = reading.read(place)
    except DeclarationError as error:
        declaration = Declaration()
        problems.append(f"{error}; what is declared of tools and conditions was not heeded")
    outside = _Outside(inventories, place)
    interpreters = {name for one in inventories for name in languages.of(one.language).interpreters}
    programs = [name for name in asked.programs if os.path.basename(name) not in interpreters]
    mapped = [path for path in run.mapped if ".so" in path and outside.has(path)] if run else []
    own = _own_files(inventories) if run else frozenset()
    runtimes = {f"{environment.programs}/{name}" for name in interpreters}
    started = [path for path in run.executed if outside.has(path) and path not in runtimes] if run else []
    started = [path for path in started if os.path.realpath(path) not in own]
    memory = ElfMemory(cache.short_cuts, str(environment.folder))
    held_to = conditions.kept(environment)
    subject = Subject(
        environment=environment,
        program=_program(inventories),
        objects=[one for inventory in inventories for one in inventory.files()],
        declaration=declaration,
        memory=memory,
        held=LowerLayers(tools=tools.kept(environment) if environment.is_private else (), conditions=held_to),
        held_libraries=libraries.held_in(environment),
        programs_of={one.language: one.program for one in inventories if one.program},
        library_folders={
            **{one.language: one.library_folders for one in inventories},
            "": {f"{environment.folder}/lib": "lib"} if environment.is_ours else {},
        },
        programs=[*programs, *started],
        requests=[
            *(Request(PROJECT, name) for name in asked.libraries),
            *(Request(OBSERVED_RUN, path) for path in mapped if "/gconv/" not in path),
        ],
        data=list(_character_sets(mapped)),
        opened_by=_opened_by(run, own) if run else {},
        fonts=[path for path in run.opened if fonts.is_font(path) and outside.has(path)] if run else [],
        named=asked.named,
        starts=asked.starts,
        unable=asked.unable,
        library_path=[folder for folder in os.environ.get("LD_LIBRARY_PATH", "").split(":") if folder],
    )
    found = of_subject(subject)
    memory.save()
    if run:
        problems += _unheld(run, outside, found.tools)
    return replace(found, problems=(*found.problems, *problems))


def _program(inventories: Iterable[Inventory]) -> ObjectFile | None:
    """The compiled executable of the first runtime that has one."""
    for inventory in inventories:
        for one in inventory.files() if inventory.program else ():
            if one.source == inventory.program:
                return one
    return None


class _Outside:
    """Tells files that are neither of the environment nor of the project."""

    def __init__(self, inventories: Iterable[Inventory], place: Place) -> None:
        folders = {folder for inventory in inventories for folder in inventory.own_folders}
        self._inside = tuple(folder.rstrip("/") + "/" for folder in (*folders, str(place.root)))
        self._processes = {inventory.process for inventory in inventories}

    def has(self, path: str) -> bool:
        """Whether a file is one of them."""
        return path not in self._processes and not path.startswith(self._inside)


def _unheld(run: ObservedRun, outside: _Outside, found: tools.ToolsFound) -> Iterator[str]:
    """Data that a run read, and that is in no layer."""
    have = {draft.source for tool in found.tools for draft in tool.drafts if isinstance(draft, FileDraft)}
    paths = [
        path
        for path in run.opened
        if path.startswith(_DATA_FOLDERS)
        and not path.startswith(_HELD_DATA)
        and ".so" not in os.path.basename(path)
        and path not in have
        and not fonts.is_font(path)
        and outside.has(path)
    ]
    if paths:
        yield f"the run read files that are in no layer of the snapshot: {words.some(paths, _SHOWN)}"


def _own_files(inventories: Iterable[Inventory]) -> frozenset[str]:
    """The files of runtimes and packages: where these are the system's, other programs open them too."""
    drafts = (draft for one in inventories for several in one.drafts().values() for draft in several)
    return frozenset(os.path.realpath(draft.source) for draft in drafts if isinstance(draft, FileDraft))


def _opened_by(run: ObservedRun, own: Collection[str]) -> dict[str, list[str]]:
    """What each program of a run opened beside the environment's own files, by its real path."""
    found: dict[str, list[str]] = {}
    for image, paths in run.by.items():
        found.setdefault(os.path.realpath(image.started), []).extend(path for path in paths if path not in own)
    return found


def _character_sets(paths: list[str]) -> Iterator[Draft]:
    """Modules of the C library for character sets, which lie in a folder of their own."""
    for path in paths:
        if "/gconv/" in path:
            yield FileDraft(f"gconv/{os.path.basename(path)}", path)
