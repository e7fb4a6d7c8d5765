"""What a language must know: an object that has these capabilities or not. docs/languages.md tells how to write one.

Data goes through a language as through the rest: `locate` an interpreter, `observe` what is there (an `Inventory`:
files and, once these are stowed, records), `lay_out` these in an environment. Whatever a language keeps in mind
between is its own, in its own kind of `Inventory`.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, MutableSequence, Sequence
from contextlib import AbstractContextManager
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple, Protocol

from msgspec import Struct

if TYPE_CHECKING:
    import os

    from lapidar.core.cache.store import Cache
    from lapidar.core.cache.stowing import Draft, Stowed
    from lapidar.core.cache.trees import Tree
    from lapidar.core.declaring.project import ProjectFiles
    from lapidar.core.environment.layout import Layout, Placing
    from lapidar.core.pinning.session import LanguagePinning, PinRequest
    from lapidar.core.place import Place
    from lapidar.core.progress import Progress
    from lapidar.core.records.declaration import Declaration, Index, Need, VersionRange
    from lapidar.core.records.graph import Graph
    from lapidar.core.records.owner import Owner
    from lapidar.core.records.snapshot import LanguageParts, Package, Platform, Runtime, Snapshot
    from lapidar.core.records.surveyed import Surveyed

__all__ = [
    "Beginning",
    "Calling",
    "Capturing",
    "Checking",
    "Declared",
    "Declaring",
    "Deriver",
    "Inventory",
    "Language",
    "LayingOut",
    "LoadTest",
    "Located",
    "NeedsPlace",
    "ObjectFile",
    "ObserveOptions",
    "Pinning",
    "RuntimeHere",
    "Runtimes",
    "Searching",
    "Stray",
    "Surveying",
    "Unused",
    "Used",
    "Using",
    "Variables",
    "Versions",
]


class Located(NamedTuple):
    """An interpreter, and for people the reason why it was taken.

    Attributes:
        by_chance: nothing but its being on this machine speaks for it: where another language was found for a reason,
            it is not meant.
    """

    language: str
    interpreter: Path
    why: str
    by_chance: bool = False


class RuntimeHere(NamedTuple):
    """A runtime of this machine."""

    language: str
    implementation: str
    version: str
    interpreter: Path


class ObserveOptions(Struct, frozen=True, kw_only=True):
    """How an environment is observed.

    Attributes:
        full_runtime: take what a runtime has for its own developers too.
        skip_outside: leave out files that packages list outside the environment, instead of refusing.
        short_cuts: a folder in which what was observed may be kept for the next time.
    """

    full_runtime: bool = False
    skip_outside: bool = False
    short_cuts: Path | None = None


class ObjectFile(NamedTuple):
    """A file that may need system libraries: whose it is, where it lies, and its path below a restored environment."""

    user: Owner
    source: str
    path: str


class Inventory(Protocol):
    """What a language found of itself in an environment.

    Attributes:
        prefix: the environment's folder.
        own_folders: all folders whose files are the environment's own.
        program: the compiled executable of the runtime; "" where it has none.
        process: the file that the kernel executes for it.
        libc: name and version of its C library: ``glibc 2.36``; "" where it cannot tell.
        library_folders: folders that its launchers have libraries looked for in, before the system's, each with its
            place below a restored environment ("" for a folder of the system's).
        left_out: what of the runtime was left out on purpose, a phrase each.
        notes: what else was left out, a phrase each.
        warnings: what the user should know, a sentence each.
        statuses: of files by their paths, links followed, as far as they were asked for a moment ago; may be empty.
    """

    @property
    def statuses(self) -> Mapping[str, os.stat_result]: ...
    @property
    def language(self) -> str: ...
    @property
    def prefix(self) -> str: ...
    @property
    def own_folders(self) -> tuple[str, ...]: ...
    @property
    def program(self) -> str: ...
    @property
    def process(self) -> str: ...
    @property
    def libc(self) -> str: ...
    @property
    def library_folders(self) -> Mapping[str, str]: ...
    @property
    def left_out(self) -> Sequence[str]: ...
    @property
    def notes(self) -> Sequence[str]: ...
    @property
    def warnings(self) -> Sequence[str]: ...

    def drafts(self) -> Mapping[Owner, Sequence[Draft]]:
        """The files of each part: of the runtime, of each package, of what belongs to none."""

    def files(self) -> Iterator[ObjectFile]:
        """The files that may need system libraries."""

    def records(self, stowed: Mapping[Owner, Stowed]) -> LanguageParts:
        """The records, once the files are stowed."""

    def edited(self, stowed: Mapping[Owner, Stowed]) -> dict[str, list[str]]:
        """By the names of packages, the files that are not what the package itself says of them."""


class Unused(NamedTuple):
    """Why a package is not in a snapshot: nothing of the project uses it, or only packages that are left out too."""

    needed_by: tuple[str, ...]


class Used(Struct, frozen=True):
    """What of an environment a project uses.

    Attributes:
        inventory: what was found, less what is not used.
        unused: the packages that are not used, by name.
        programs: outside programs that the project's source starts.
        libraries: system libraries that its source opens by their names.
        missing: what its source loads, by name, and nobody in the environment provides.
        uses_some: whether anything that its source loads is there.
    """

    inventory: Inventory
    unused: Mapping[str, Unused]
    programs: tuple[str, ...] = ()
    libraries: tuple[str, ...] = ()
    missing: tuple[str, ...] = ()
    uses_some: bool = False

    @classmethod
    def all_of(cls, inventory: Inventory, surveyed: Surveyed) -> Used:
        """All of what was found, with what a survey says of the source."""
        return cls(
            inventory=inventory,
            unused={},
            programs=tuple(surveyed.programs),
            libraries=tuple(surveyed.libraries),
            missing=surveyed.missing,
            uses_some=surveyed.uses_some,
        )


class Stray(NamedTuple):
    """A package in an environment that is in no snapshot."""

    name: str
    version: str


class Variables(NamedTuple):
    """The environment variables that a language's interpreters heed.

    Attributes:
        watched: those that results may follow from: a snapshot holds them.
        hidden: those that would lead to other code than the environment's: they are kept from a run.
        homes: those among them that say where a runtime's own files lie.
        unheld: packages that choose their code by the processor, and have no variable that takes all of that away: the
            portable profile cannot hold their results.
        numeric: packages that compute: what changes of them most likely changes results.
        data: packages that are data which results may follow from, each with what it is.
        dated: packages whose versions are dates with two digits of a year, which tell of no break.
        single_thread: those that say how many threads or processes work: the portable profile has one.
        caches: patterns of the paths of files that programs keep for an environment outside of it, and make again.
        given: what a run has unless its caller or the snapshot says otherwise.
    """

    watched: tuple[str, ...] = ()
    hidden: tuple[str, ...] = ()
    homes: tuple[str, ...] = ()
    unheld: tuple[str, ...] = ()
    single_thread: tuple[str, ...] = ()
    numeric: tuple[str, ...] = ()
    data: tuple[tuple[str, str], ...] = ()
    dated: tuple[str, ...] = ()
    caches: tuple[str, ...] = ()
    given: tuple[tuple[str, str], ...] = ()


class LoadTest(NamedTuple):
    """How to have an environment load all that it has, for its memory map to be read.

    Attributes:
        names: the modules to load.
        command: the interpreter with its words; the number of a descriptor follows.
        of_packages: for each package, those of the modules that are its own.

    The program reads a JSON list of names on its standard input and writes lines of JSON to that descriptor:
    ``{"at": NAME}`` before each is loaded, and at the end
    ``{"failed": {NAME: error}, "mapped": [paths], "prefix": folder}``.
    """

    names: tuple[str, ...]
    command: tuple[str, ...]
    of_packages: Mapping[str, tuple[str, ...]] = {}


class Declared(NamedTuple):
    """What the standard files of a language declare.

    Attributes:
        name: the project's; "" where they do not say.
        runtime: the versions of the runtime that it works with; None where they do not say.
        extras: by name, the needs of what the project offers as extras of its own; a group where it is taken.
        files: those that declare anything.
    """

    name: str = ""
    runtime: VersionRange | None = None
    needs: tuple[Need, ...] = ()
    extras: Mapping[str, tuple[Need, ...]] = {}
    files: tuple[str, ...] = ()


class Deriver(Protocol):
    """Makes what is derived from trees once and kept beside them in the cache: byte-code."""

    def known(self, digest: str) -> Tree | None:
        """What was derived from a tree before: what it must be, also where the cache has lost files of it; None where
        nothing was derived, or what was noted of it is damaged."""

    def forget(self, digest: str) -> None:
        """What is known of a tree is wrong: let it be derived anew the next time."""

    def share(self, tree: Tree, relatives: Iterable[Tree]) -> None:
        """Take over what was derived from others, for the files that a tree has as they have them. What of the tree is
        not known by that is left to `derive`."""

    def derive(self, trees: Mapping[str, Tree], environment: Path, reporter: Progress) -> dict[str, Tree]:
        """Derive it, with the runtime that was just placed into an environment, and keep it.

        Args:
            trees: by their digests.

        Raises:
            EnvironmentUnusable: the runtime does not run here.
        """


class Versions(Protocol):
    """Names, needs and versions. Asked by `declaring/`, and wherever somebody types a package's name."""

    def normalised(self, name: str) -> str:
        """A package's name in the one form that stands for all its spellings."""

    def parse_need(self, text: str, where: str = "", group: str = "") -> Need:
        """A need as one writes it.

        Raises:
            DeclarationError: it is none.
        """

    def parse_range(self, text: str, where: str, before: VersionRange | None = None) -> VersionRange:
        """A range of versions of the runtime.

        Args:
            before: one that must hold too.

        Raises:
            DeclarationError: it is none.
        """

    def require(self, text: str) -> None:
        """Raises: ValueError: a text is no version."""

    def is_same(self, one: str, other: str) -> bool:
        """Whether two texts are the same version."""

    def standing(self, one: str, other: str) -> int | None:
        """The order of two versions: below zero where the first is older; None where there is none."""

    def allows(self, need: str, version: str) -> bool:
        """Whether a version is in the range of a need."""


class Capturing(Protocol):
    """From an environment to an inventory. Asked by `flows/capture.py`."""

    def locate(self, place: Place, named: Path | None) -> Located | None:
        """The interpreter that is meant; None where there is none of this language.

        Args:
            named: a folder or an interpreter; without it, what the project or the user's shell points to.
        """

    def refuse(self, place: Place, named: Path | None) -> Exception:
        """The error for what no language takes for its own, in this language's words."""

    def observe(self, located: Located, place: Place, options: ObserveOptions) -> Inventory:
        """What is there. Nothing is written into the environment.

        Raises:
            EnvironmentUnusable, PackageBroken: it cannot be captured as it is.
        """

    def choose_used(
        self, inventory: Inventory, place: Place, cache: Cache, scope: str | None, opened: Collection[str]
    ) -> Used:
        """What of it the project uses.

        Args:
            scope: ``used``, ``whole``, or None to decide by what the project has.
            opened: the files that an observed run opened; a package whose code is among them is used.

        Raises:
            LapidarError: `used` was asked for, and the project uses nothing of it.
        """

    def files_of(self, parts: LanguageParts, cache: Cache) -> Iterator[ObjectFile]:
        """The files of records that may need system libraries, out of the cache."""

    def licence_of(self, tree: Tree, cache: Cache) -> str:
        """What a package says of its licence, in its own metadata; "" where it says nothing.

        Args:
            tree: of the package.
        """


class LayingOut(Protocol):
    """From records to the files of an environment. Asked by `restored/assemble.py`."""

    def lay_out(self, parts: LanguageParts, into: Layout, at: Placing) -> None:
        """Add all that an environment has of this language, but for what is derived: the files of its trees, and those
        that are generated (launchers, what an installer writes beside a package)."""

    def lay_out_derived(self, parts: LanguageParts, into: Layout, derived: Mapping[str, Tree]) -> None:
        """Add what was derived from trees.

        Args:
            derived: by the digests of the trees that it was derived from.
        """

    def deriver(self, cache: Cache, runtime: Runtime) -> Deriver | None:
        """What makes derived things for a runtime; None where there are none."""


class Checking(Protocol):
    """What lies in an environment, told apart. Asked by `flows/compare.py` and `restored/live.py`. Its module is light:
    it is asked of every file."""

    def made_by_running(self, path: str) -> bool:
        """Whether a path below an environment is only there because something ran."""

    def strays(self, runtime: Runtime, extra: Iterable[str]) -> Iterator[Stray]:
        """The packages among files that are in no snapshot.

        Args:
            extra: paths below the environment.
        """

    def is_metadata(self, path: str) -> bool:
        """Whether a file of a package only describes it, by its path in the package's tree."""

    def package_folder(self, runtime: Runtime) -> str:
        """The folder of packages, below the environment."""

    def load_test(self, snapshot: Snapshot, cache: Cache, environment: Path) -> LoadTest | None:
        """How to load everything that an environment has; None where nothing of it is mapped by being loaded."""


class NeedsPlace(Protocol):
    """Where a project declares its needs: a file, as lists of texts that can be changed.

    Attributes:
        file: its name.
        text: all of it, with what was changed.
    """

    @property
    def file(self) -> str: ...
    @property
    def text(self) -> str: ...

    def array(self, group: str, *, create: bool) -> MutableSequence[Any] | None:
        """The list of needs of a group, made where there is none.

        Raises:
            DeclarationError: there can be no such group.
        """

    def named(self, item: object) -> str:
        """The normalised name of an item of a list; "" for what is no need."""

    def normalised(self, name: str) -> str:
        """A name as its language normalises it."""

    def groups(self) -> list[str]:
        """The groups there are, the main one first."""


class Declaring(Protocol):
    """Standard files in which a project declares things. Asked by `declaring/`."""

    def declared(self, project: ProjectFiles) -> Declared:
        """What its standard files declare, as they are or as they would be.

        Raises:
            DeclarationError: one says something that cannot be meant.
        """

    def standard_place(self, root: Path) -> NeedsPlace | None:
        """Where a project declares its needs in a standard file; None where it has none."""

    def proposed(self, root: Path) -> Declaration:
        """What other files of a project say of its needs, for whoever makes it a project."""

    def runtime_of_pins(self, needs: Sequence[Need], indexes: Sequence[Index], cache: Cache | None) -> str:
        """The range of runtimes that there is something built for of what is needed in exact versions; "" where that
        tells nothing."""

    def applies(self, need: Need, runtime: Runtime, platform: Platform) -> bool:
        """Whether a need holds for a runtime and a platform."""


class Surveying(Protocol):
    """The project's own source. Asked by `flows/survey.py`."""

    def sources(self, root: Path) -> Iterable[str]:
        """The source files of a project, as paths relative to its root: not those of environments in it, nor what
        version control ignores."""

    def survey(
        self,
        place: Place,
        located: Located | None,
        cache: Cache | None,
        *,
        indexes: Sequence[Index] = (),
        pinned: Snapshot | None = None,
    ) -> Surveyed:
        """Read all sources of a project as saved on disk, without running them.

        Args:
            located: the environment that the project is used with, if there is one.
            pinned: judge by this snapshot's packages, and by no environment.
            cache: looked in for what provides what is missing; it also keeps what was read of unchanged files.
            indexes: asked last for what nobody here provides; nothing is asked where there are none.
        """


class Runtimes(Protocol):
    """Runtimes of this machine. Asked by `flows/runtimes.py` and `restored/sources.py`."""

    def on_machine(self) -> Sequence[RuntimeHere]:
        """Those of this machine, the newest first."""

    def version_of(self, located: Located) -> str:
        """The version of the runtime of an environment.

        Raises:
            EnvironmentUnusable: it does not say.
        """

    def refill(self, runtime: Runtime, place: Place, cache: Cache, reporter: Progress) -> tuple[bool, str]:
        """Bring a runtime that the cache lacks into it again, from one of this machine that has the same bytes.

        Returns:
            Whether that was possible, and a sentence about it.
        """


class Pinning(Protocol):
    """Packages from indexes. Asked by `flows/pin.py` and `restored/sources.py`."""

    def opened(self, request: PinRequest) -> AbstractContextManager[LanguagePinning]:
        """A session with its indexes."""

    def fetch_missing(self, request: PinRequest, snapshot: Snapshot) -> list[str]:
        """Fetch the packages of a snapshot that the cache lacks, each from the origin that was recorded; their names.

        Raises:
            MissingFromCache: something has no origin, or what comes is not what the lockfile says.
            IndexTrouble: an index cannot be used, or is not configured.
        """

    def add_needs(
        self, graph: Graph, declaration: Declaration, cache: Cache | None, about: Collection[str] | None = None
    ) -> None:
        """Add who needs whom among the packages of the graph's snapshot.

        Args:
            cache: has the packages' metadata, and with it the ranges.
            about: only what leads to these packages has to be there, which is quicker; None: all.
        """


class Searching(Protocol):
    """Which change did it. Asked by `changes/hybrid.py` and `flows/deeper.py`."""

    def works_with(self, package: Package, runtime: Runtime, cache: Cache) -> bool:
        """Whether nothing keeps a package, as it lies in the cache, from another runtime than its own: neither compiled
        files that were made for one, nor its metadata."""

    def needs_between(self, before: Tree, after: Tree, cache: Cache) -> tuple[Mapping[str, set[str]], Sequence[str]]:
        """Of the files that differ between two trees: by a path, those without whose change its own cannot be, as far
        as the files tell; and the paths that are made together, and may look into one another."""


class Beginning(Protocol):
    """The first files of something new; asked by `flows/laid_out.py`."""

    def analysis(self) -> tuple[str, str]:
        """The name of a first script, and its text: it reads data/raw and writes into results/."""

    def package(self, name: str, licence: str) -> Mapping[str, str]:
        """The files of a new package, by their paths.

        Args:
            licence: "" where none is stated.
        """


class Calling(Protocol):
    """Calls from one snapshot into another. Called by `flows.elsewhere` alone."""

    def answering(self) -> tuple[str, ...]:
        """The words after the interpreter with which it answers calls: files, of its standard library alone.

        It is given two descriptors more: what it is asked comes in the one, and what it answers goes to the other, both
        as docs/elsewhere.md says.
        """

    def package(self) -> Mapping[str, str]:
        """The files of the package by which code of this language calls, by their paths; none where that is Lapidar."""


class Using(Protocol):
    """What of a language's packages a run stands on beside the files that it opened. Called by `steps/used.py` and
    `steps/standing.py` alone.
    """

    def imports_from(self, folder: str, started_in: str) -> bool:
        """Whether an interpreter may have looked through a folder only to load sources from it.

        Args:
            folder, started_in: absolute paths, the latter of the folder that the run began in.
        """

    def sought(self, told: Collection[str], listed: Collection[str], folder: str) -> Iterator[str]:
        """The names that it looked for, found or not; ``*``: all that is installed, or nobody knows.

        Args:
            told: what its own hook told, and absolute paths that were asked for and not there.
            listed: absolute paths of folders that were looked through.
            folder: that of its packages, in the environment.
        """

    def given(self, name: str, tree: Tree) -> Iterator[str]:
        """The names by which a package's files are looked for; ``.`` where every start runs something of it.

        Args:
            name: the package's, normalised.
        """


class Language(Protocol):
    """A language: what it is called, and what it can; None for what it cannot. Loading its module must cost nothing:
    each capability is loaded where it is asked for, and may be a module.

    Attributes:
        name: as lockfiles have it, in lower case.
        title: as people write it.
        variables: those that its interpreters heed.
        source_suffixes: what the names of its source files end in.
        package_urls: the type of the URLs of its packages (purl-spec).
        script_block: the type of the block in which a script states its needs inline; "" for none.
        installers: programs that install packages into the environment that they belong to.
        interpreters: the programs that run such a file, as one types them; the first is the usual one.
        declaration_files: the names of its standard files in which a project may declare things.
    """

    @property
    def name(self) -> str: ...
    @property
    def title(self) -> str: ...
    @property
    def variables(self) -> Variables: ...
    @property
    def declaration_files(self) -> tuple[str, ...]: ...
    @property
    def source_suffixes(self) -> tuple[str, ...]: ...
    @property
    def package_urls(self) -> str: ...
    @property
    def script_block(self) -> str: ...
    @property
    def installers(self) -> tuple[str, ...]: ...
    @property
    def interpreters(self) -> tuple[str, ...]: ...

    @property
    def versions(self) -> Versions: ...
    @property
    def capturing(self) -> Capturing: ...
    @property
    def laying_out(self) -> LayingOut: ...
    @property
    def checking(self) -> Checking: ...
    @property
    def declaring(self) -> Declaring | None: ...
    @property
    def surveying(self) -> Surveying | None: ...
    @property
    def runtimes(self) -> Runtimes | None: ...
    @property
    def pinning(self) -> Pinning | None: ...
    @property
    def searching(self) -> Searching | None: ...
    @property
    def beginning(self) -> Beginning | None: ...
    @property
    def calling(self) -> Calling | None: ...
    @property
    def using(self) -> Using | None: ...
