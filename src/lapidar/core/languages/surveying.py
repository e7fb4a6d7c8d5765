"""What a survey does alike in every language: files -> what they use, by name -> how that stands to who provides it and
to what is declared."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Callable, Iterable, Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

import msgspec
from msgspec import Struct, field

from lapidar.core.cache.seen import Seen
from lapidar.core.cache.store import Cache
from lapidar.core.records.owner import PackageName
from lapidar.core.records.surveyed import Place, ScriptNeed, Standing, Surveyed, SurveyedModule

__all__ = [
    "PERSONAL",
    "PERSONAL_ROOTS",
    "DeclaredNeed",
    "FileRead",
    "Judge",
    "Provider",
    "Reading",
    "SourceUses",
    "Use",
    "judged",
    "read_all",
    "row_of",
    "surveyed",
]

# Where the files of one person, or of one machine, lie.
PERSONAL_ROOTS = rf"(/({'|'.join(['home', 'Users', 'root', 'mnt', 'media', 'scratch'])})/|[A-Za-z]:[\\/])"
PERSONAL = re.compile(rf"^{PERSONAL_ROOTS}[^\s:*?\"<>|]+$")
_ORDER = ("missing", "on no path", "not needed", "out of range", "not declared", "not used", "optional", "provided")
_DISPENSABLE = ("tried", "for type checking", "rendered")


class Use(NamedTuple):
    """One place where something is used.

    Attributes:
        name: the module as written, the program, or the path.
        line: counted from 1, in its piece.
        manner: how a module is loaded; "plain" for all else.
    """

    name: str
    line: int
    manner: str


class SourceUses(NamedTuple):
    """What was found in one piece of source.

    Attributes:
        unclear: calls that load what no text of the source names.
    """

    modules: list[Use]
    programs: list[Use]
    paths: list[Use]
    libraries: list[Use]
    unclear: list[Use]

    @classmethod
    def none(cls) -> SourceUses:
        """Nothing so far."""
        return cls([], [], [], [], [])


class FileRead(msgspec.Struct, array_like=True):
    """What was read in one file; pieces are the cells of a notebook.

    Attributes:
        needs: what a script declares in itself.
    """

    pieces: list[tuple[str, SourceUses]] = []
    problems: list[str] = []
    needs: list[str] = []


class DeclaredNeed(NamedTuple):
    """One need as declared.

    Attributes:
        name: of a package, normalised.
        text: its range as written.
        binds: whether a version outside of that is none that was meant: not where something overrides it, or where it
            holds only on some platforms.
    """

    name: str
    text: str
    where: str
    binds: bool = True


class Provider(NamedTuple):
    """A package: its normalised name and its version."""

    name: str
    version: str


def _by_name() -> dict[str, list[Place]]:
    return defaultdict(list)


class Reading(Struct):
    """Everything that the sources use, by name.

    Attributes:
        needs: what scripts declare in themselves, each with its file.
    """

    files: int = 0
    modules: dict[str, list[Place]] = field(default_factory=_by_name)
    programs: dict[str, list[Place]] = field(default_factory=_by_name)
    paths: dict[str, list[Place]] = field(default_factory=_by_name)
    libraries: dict[str, list[Place]] = field(default_factory=_by_name)
    unclear: dict[str, list[Place]] = field(default_factory=_by_name)
    problems: list[str] = field(default_factory=list)
    needs: list[tuple[str, str]] = field(default_factory=list)


def read_all(
    root: Path, files: Iterable[str], read: Callable[[Path, str], FileRead], cache: Cache | None, what: str
) -> Reading:
    """Read source files.

    Args:
        files: relative to the root.
        read: reads one of them.
        cache: keeps what was read of unchanged files.
        what: what is kept there, by which it is told from what others keep.
    """
    found = Reading()
    seen = Seen(cache.short_cuts, f"{what} of {root}", FileRead) if cache else None
    for file in files:
        found.files += 1
        one = _known_or_read(root / file, file, read, seen)
        found.problems += one.problems
        found.needs += [(text, file) for text in one.needs]
        for cell, uses in one.pieces:
            for into, several in zip(
                (found.modules, found.programs, found.paths, found.libraries, found.unclear), uses, strict=True
            ):
                for use in several:
                    into[use.name].append(Place(file, cell, use.line, use.manner))
    if seen:
        seen.save()
    return found


def _known_or_read(
    path: Path, file: str, read: Callable[[Path, str], FileRead], seen: Seen[FileRead] | None
) -> FileRead:
    try:
        status = path.stat()
    except OSError as error:
        return FileRead(problems=[f"{file}: {error.strerror}"])
    known = seen.known(str(path), status) if seen else None
    if known:
        return known
    one = read(path, file)
    if seen:
        seen.add(str(path), status, one)
    return one


class Judge(NamedTuple):
    """What a language says of the modules that are used.

    Attributes:
        language: its name.
        top: the name by which a module is looked for among the project's own and the standard ones.
        providers: who provides a module here.
        is_standard: whether the runtime has a module.
        own: the names of the project's own modules.
        called: the package that a module is mostly of.
        allows: whether a version is in the range of a need.
    """

    language: str
    top: Callable[[str], str]
    providers: Callable[[str], Sequence[Provider]]
    is_standard: Callable[[str], bool]
    own: frozenset[str]
    called: Callable[[str], str]
    allows: Callable[[str, str], bool]


class Judged(NamedTuple):
    """The modules that are used, and those of them that are the project's own or the runtime's."""

    language: str
    rows: list[SurveyedModule]
    own: frozenset[str]
    standard: frozenset[str]


def judged(read: Reading, judge: Judge, declarations: Mapping[str, DeclaredNeed]) -> Judged:
    """How each module that is used stands."""
    grouped: dict[tuple[str, Provider | None], list[Place]] = defaultdict(list)
    own, standard = set(), set()
    for module, places in read.modules.items():
        top = judge.top(module)
        providers = judge.providers(module)
        if judge.is_standard(top):
            standard.add(top)
        elif top in judge.own and not providers:
            own.add(top)
        else:
            grouped[(top, providers[0] if providers else None)] += places
    rows = [row_of(module, provider, places, declarations, judge) for (module, provider), places in grouped.items()]
    return Judged(judge.language, rows, frozenset(own), frozenset(standard))


def row_of(
    module: str,
    provider: Provider | None,
    places: Sequence[Place],
    declarations: Mapping[str, DeclaredNeed],
    judge: Judge,
) -> SurveyedModule:
    """How one module stands."""
    dispensable = all(place.manner in _DISPENSABLE for place in places)
    if provider is None:
        named = declarations.get(judge.called(module))
        standing: Standing = "optional" if dispensable else "missing"
        name, text = (named.name, named.text) if named else ("", "")
        return SurveyedModule(module, name, "", text, standing, tuple(places), judge.language)
    declaration = declarations.get(provider.name)
    standing = "provided"
    if declarations and declaration is None:
        standing = "optional" if dispensable else "not declared"
    text = declaration.text if declaration else ""
    if declaration and declaration.binds and not judge.allows(text, provider.version):
        standing = "out of range"
    return SurveyedModule(module, provider.name, provider.version, text, standing, tuple(places), judge.language)


def surveyed(
    read: Reading,
    found: Judged,
    declarations: Mapping[str, DeclaredNeed],
    problems: Iterable[str],
    script_needs: Iterable[DeclaredNeed] = (),
) -> Surveyed:
    """All of it together, with what is declared and not used."""
    used = {row.distribution for row in found.rows}
    idle = [
        SurveyedModule(
            "",
            declaration.name,
            "",
            declaration.text,
            "not used",
            (Place(declaration.where, "", 0, ""),),
            found.language,
        )
        for declaration in declarations.values()
        if declaration.name not in used
    ]
    return Surveyed(
        files=read.files,
        rows=tuple(
            sorted([*found.rows, *idle], key=lambda row: (_ORDER.index(row.standing), row.module, row.distribution))
        ),
        programs=_sorted(read.programs),
        paths=_sorted(read.paths),
        libraries=_sorted(read.libraries),
        problems=(*problems, *read.problems),
        own=tuple(sorted(found.own)),
        standard=tuple(sorted(found.standard)),
        declares=bool(declarations),
        declared=frozenset(PackageName(found.language, name) for name in declarations),
        script_needs=tuple(ScriptNeed(found.language, one.text, one.where) for one in script_needs),
        unclear=_sorted(read.unclear),
    )


def _sorted(found: Mapping[str, list[Place]]) -> dict[str, tuple[Place, ...]]:
    return {name: tuple(places) for name, places in sorted(found.items())}
