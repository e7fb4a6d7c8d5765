"""The records of a declaration: values with no behaviour of their own."""

from __future__ import annotations

import datetime
import re
from collections.abc import Mapping
from typing import Any, Literal, Protocol

from msgspec import Struct, field

from lapidar.core.records.owner import PackageName

__all__ = [
    "Declaration",
    "DeclaredAnalysis",
    "DeclaredConditions",
    "Index",
    "Need",
    "Override",
    "SystemNeeds",
    "VersionRange",
    "group_name",
]


def group_name(text: str) -> str:
    """The one form of a group's name, whatever language its packages are of (PEP 735, which normalises so)."""
    return re.sub(r"[-_.]+", "-", text).lower()


class VersionRange(Protocol):
    """A range of versions, as a language writes it."""

    def contains(self, version: str) -> bool:
        """Whether a version is in it."""

    def __str__(self) -> str: ...


class Need(Struct, frozen=True, eq=False):
    """One need as declared.

    Attributes:
        name: of the package, as its language normalises names.
        text: the need as one writes it.
        group: the group that it belongs to, "" for what the analysis itself needs.
        where: the file (and the place in it) that declares it.
        parsed: what its language read in the text.
    """

    language: str
    name: str
    text: str
    group: str = ""
    where: str = ""
    parsed: object = None

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Need) and self._said == other._said

    def __hash__(self) -> int:
        return hash(self._said)

    @property
    def _said(self) -> tuple[str, ...]:
        return (self.language, self.name, self.text, self.group, self.where)

    @property
    def key(self) -> PackageName:
        """What the package is known by."""
        return PackageName(self.language, self.name)


class Index(Struct, frozen=True):
    """A package index, or a folder of packages.

    Attributes:
        address: a URL (http, https, file) or an absolute path.
        only: the names, or patterns of names ("kiln-*"), that are looked for here and nowhere else, and nothing else is
            looked for here; empty: any name that no index claims.
        claims: names that are looked for here and nowhere else, beside what else is looked for here.
        language: whose packages it has; "": the usual one's.
        upload: the address that takes new ones; "" for none.
    """

    name: str
    address: str
    only: tuple[str, ...] = ()
    claims: tuple[str, ...] = ()
    language: str = ""
    upload: str = ""


class Override(Struct, frozen=True):
    """What is used of a package whatever anyone's range says.

    Exactly one of `version`, `file`, `folder` and `commit` (with `url`) is given; paths are as written, relative to
    the project. `language`: whose package it is.
    """

    name: str
    because: str
    until: datetime.date | None = None
    version: str = ""
    file: str = ""
    folder: str = ""
    url: str = ""
    commit: str = ""
    language: str = ""

    @property
    def key(self) -> PackageName:
        """What the package is known by."""
        return PackageName(self.language, self.name)

    @property
    def is_late(self) -> bool:
        """Whether today is past the day until which it was to hold."""
        return self.until is not None and self.until < datetime.date.today()

    @property
    def target(self) -> str:
        """What it uses, for people."""
        if self.commit:
            return f"commit {self.commit[:12]} of {self.url}"
        return self.version or self.file or f"the folder {self.folder}"


class DeclaredConditions(Struct, frozen=True):
    """The conditions that a project declares.

    Attributes:
        variables: by name, the value that a run has; None: the one that is there when it is captured.
        secrets: names of variables whose values are never kept.
        env_file: a file of the project, relative to it, that variables are read from when a run begins.
    """

    numerics: Literal["native", "portable"] = "native"
    variables: dict[str, str | None] = field(default_factory=dict)
    secrets: tuple[str, ...] = ()
    env_file: str | None = None


class DeclaredAnalysis(Struct, frozen=True):
    """An analysis that a project declares.

    Attributes:
        command: the program and its words; empty where it is only given when it is recorded.
        results: patterns of the files that are results; empty: all that a run writes.
        leave: patterns of files that are not.
        ignore: ``FILE:PLACE``, columns, keys and paths that are not compared.
        tolerance: ``FILE`` or ``FILE:PLACE``, with the measures that are tolerated.
        matched_by: by patterns of tables, the columns by which their rows are matched.
        reading: by patterns of files, how they are read: kind, delimiter, decimal, encoding, text, key.
        after: names of analyses that it comes after, whatever it reads.
        processors, memory: what it needs while it runs; memory in bytes, 0 where nothing is said.
        at_most: seconds, after which it is ended.
        keep: patterns of files that the next attempt is given, where one does not come to its end.
        sweep: by names, the values that it is run for, each with each: several, a range, or a pattern of files.
        values: of one run of a sweep, those that it is run with; part_of: the name of the sweep.
    """

    name: str
    command: tuple[str, ...] = ()
    results: tuple[str, ...] = ()
    leave: tuple[str, ...] = ()
    ignore: tuple[str, ...] = ()
    tolerance: dict[str, dict[str, float]] = field(default_factory=dict)
    matched_by: dict[str, tuple[str, ...]] = field(default_factory=dict)
    reading: dict[str, dict[str, Any]] = field(default_factory=dict)
    after: tuple[str, ...] = ()
    processors: int = 1
    memory: int = 0
    at_most: float | None = None
    keep: tuple[str, ...] = ()
    sweep: dict[str, tuple[str, ...] | str] = field(default_factory=dict)
    values: dict[str, str] = field(default_factory=dict)
    part_of: str = ""


class SystemNeeds(Struct, frozen=True):
    """What a project declares that it needs of the machine, beside what is found by itself.

    Attributes:
        tools: outside programs, by name or absolute path.
        packages: packages of the operating system, which each outside program gets with all that they need.
        files: absolute paths of files and folders that each outside program gets, at their places.
        libraries: names of libraries that are opened while a run goes on.
        fonts: families of fonts, or font files.
        locales: names of locales.
    """

    tools: tuple[str, ...] = ()
    packages: tuple[str, ...] = ()
    files: tuple[str, ...] = ()
    libraries: tuple[str, ...] = ()
    fonts: tuple[str, ...] = ()
    locales: tuple[str, ...] = ()


class Declaration(Struct, frozen=True):
    """Everything that a project declares.

    Attributes:
        name: the project's name.
        runtimes: by language, the versions of the runtime that it works with.
        needs: of all groups, in the order of their declaration.
        limits: ranges for packages that it does not ask for itself.
        sha256: for a package, the digests that a file of it must have one of.
        extras: the names of what the project offers as extras of its own.
        as_of: nothing is chosen that came later than this day; None: whatever there is.
        overrides: by the package.
        system: what it needs of the machine.
        by_digest_only: patterns of files of which a record keeps the digest and no bytes.
        conditions: what it says of the conditions of a run.
        analyses: by their names.
        files: the files that declare anything, as names relative to the project.
        problems: what could not be understood and was passed over, a sentence each.
    """

    name: str = ""
    runtimes: Mapping[str, VersionRange] = field(default_factory=dict)
    needs: tuple[Need, ...] = ()
    limits: tuple[Need, ...] = ()
    sha256: dict[PackageName, tuple[str, ...]] = field(default_factory=dict)
    indexes: tuple[Index, ...] = ()
    extras: tuple[str, ...] = ()
    as_of: datetime.date | None = None
    overrides: dict[PackageName, Override] = field(default_factory=dict)
    system: SystemNeeds = field(default_factory=SystemNeeds)
    conditions: DeclaredConditions = field(default_factory=DeclaredConditions)
    by_digest_only: tuple[str, ...] = ()
    analyses: dict[str, DeclaredAnalysis] = field(default_factory=dict)
    files: tuple[str, ...] = ()
    problems: tuple[str, ...] = ()

    @property
    def groups(self) -> tuple[str, ...]:
        """The names of its groups, sorted."""
        return tuple(sorted({need.group for need in self.needs if need.group}))

    def needs_of(self, language: str) -> tuple[Need, ...]:
        """Those of one language's packages."""
        return tuple(need for need in self.needs if need.language == language)

    def limits_of(self, language: str) -> tuple[Need, ...]:
        """Those of one language's packages."""
        return tuple(need for need in self.limits if need.language == language)

    def overrides_of(self, language: str) -> dict[str, Override]:
        """Those of one language's packages, by name."""
        return {package.name: one for package, one in self.overrides.items() if package.language == language}

    def sha256_of(self, language: str) -> dict[str, tuple[str, ...]]:
        """The digests that files of one language's packages must have, by name."""
        return {package.name: digests for package, digests in self.sha256.items() if package.language == language}

    def allows_runtime(self, language: str, version: str) -> bool:
        """Whether it works with a version of a language's runtime."""
        asked = self.runtimes.get(language)
        return asked is None or asked.contains(version)
