"""What a survey of a project's source found."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

from msgspec import Struct, field

from lapidar.core.records.owner import PackageName

__all__ = ["NOTHING", "Place", "ScriptNeed", "Standing", "Surveyed", "SurveyedModule", "together"]

Standing = Literal[
    "provided", "missing", "on no path", "not needed", "optional", "not declared", "not used", "out of range"
]


class Place(Struct, frozen=True):
    """Where something is used: a file of the project, a cell ("" in a plain file), a line, and how."""

    file: str
    cell: str
    line: int
    manner: str

    def __str__(self) -> str:
        return f"{self.file}:{self.cell + ':' if self.cell else ''}{self.line}"


class SurveyedModule(Struct, frozen=True):
    """A module that the project imports, or a distribution that it declares and does not use.

    Attributes:
        module: its top-level name; "" for a distribution that is not used.
        distribution, version: what provides it here; for a missing one, what in the cache would; for one of the
            project's own package that nobody needs, the folder of that.
        declared: the range as declared, "" where it is not.
        language: whose it is.
    """

    module: str
    distribution: str
    version: str
    declared: str
    standing: Standing
    places: tuple[Place, ...]
    language: str = ""

    @property
    def key(self) -> PackageName:
        """What its distribution is known by."""
        return PackageName(self.language, self.distribution)


class ScriptNeed(Struct, frozen=True):
    """What a script declares in itself, and where."""

    language: str
    text: str
    where: str


class Surveyed(Struct, frozen=True):
    """What a survey found.

    Attributes:
        files: how many source files were read.
        programs, paths, libraries: outside programs started by literal commands, paths on a person's own machine, and
            system libraries opened by literal names.
        problems: files that could not be read, a sentence each.
        declared: what is declared anywhere.
        script_needs: what scripts declare in themselves.
        pinned: what the lockfile has.
        own, standard: the project's own modules, and the standard library's, that are imported.
        unclear: calls that load a package that no text of the source names.
    """

    files: int
    rows: tuple[SurveyedModule, ...]
    programs: dict[str, tuple[Place, ...]]
    paths: dict[str, tuple[Place, ...]]
    libraries: dict[str, tuple[Place, ...]]
    problems: tuple[str, ...]
    own: tuple[str, ...]
    standard: tuple[str, ...]
    declares: bool
    declared: frozenset[PackageName] = frozenset()
    script_needs: tuple[ScriptNeed, ...] = ()
    pinned: frozenset[PackageName] = frozenset()
    unclear: Mapping[str, tuple[Place, ...]] = field(default_factory=dict)

    @property
    def imported(self) -> set[str]:
        """The distributions, of one language's survey, whose modules are imported."""
        return {row.distribution for row in self.rows if row.module and row.distribution}

    @property
    def missing(self) -> tuple[str, ...]:
        """The modules that are imported and that nobody here provides."""
        return tuple(row.module for row in self.rows if row.standing == "missing" and row.module)

    @property
    def uses_some(self) -> bool:
        """Whether anything that is imported is provided here."""
        return any(row.module and row.version for row in self.rows)

    def declared_of(self, language: str) -> set[str]:
        """The names that are declared of a language."""
        return {package.name for package in self.declared if package.language == language}

    @property
    def agrees(self) -> bool:
        """Whether source, declaration and environment fit together."""
        return not self.problems and all(row.standing in ("provided", "optional") for row in self.rows)


NOTHING = Surveyed(0, (), {}, {}, {}, (), (), (), declares=False)


def together(several: list[Surveyed]) -> Surveyed:
    """The surveys of several languages as one."""
    if len(several) < 2:
        return several[0] if several else NOTHING
    return Surveyed(
        files=sum(one.files for one in several),
        rows=tuple(row for one in several for row in one.rows),
        programs={name: places for one in several for name, places in one.programs.items()},
        paths={name: places for one in several for name, places in one.paths.items()},
        libraries={name: places for one in several for name, places in one.libraries.items()},
        problems=tuple(dict.fromkeys(text for one in several for text in one.problems)),
        own=tuple(name for one in several for name in one.own),
        standard=tuple(name for one in several for name in one.standard),
        declares=any(one.declares for one in several),
        declared=frozenset().union(*(one.declared for one in several)),
        pinned=frozenset().union(*(one.pinned for one in several)),
        script_needs=tuple(need for one in several for need in one.script_needs),
        unclear={name: places for one in several for name, places in one.unclear.items()},
    )
