"""How values are called for people: in the interface, and in the core's errors. Nothing reads these words again."""

from __future__ import annotations

import shlex
from collections.abc import Iterable, Mapping

from lapidar.core.records.declared import OverrideEffect, OverrideStanding
from lapidar.core.records.difference import Change, Kind
from lapidar.core.records.findings import Finding, Problem
from lapidar.core.records.owner import Layer, Owner, PackageName
from lapidar.core.records.snapshot import Snapshot

__all__ = [
    "change_in_short",
    "change_kind",
    "changed_thing",
    "finding_name",
    "language_option",
    "layer_title",
    "names_in",
    "override_effect",
    "override_sentence",
    "owner",
    "package_names",
    "problem",
    "remedy",
    "short",
    "some",
    "unused",
    "user",
]

_TITLES = {
    Layer.REMAINDER: "files of no package",
    Layer.LIBRARIES: "system libraries",
    Layer.TOOLS: "outside programs",
}


def layer_title(layer: Layer) -> str:
    """A layer, as a heading: ``system libraries``."""
    return _TITLES.get(layer, str(layer))


def owner(one: Owner) -> str:
    """Whose a thing is: ``numpy 2.4.6``, ``tool gnuplot``, ``system libraries``."""
    if one.layer in (Layer.RUNTIME, Layer.PACKAGES) and one.name:
        return f"{one.name} {one.version}".rstrip()
    if one.layer is Layer.TOOLS and one.name:
        return f"tool {one.name}"
    return "lapidar" if one.layer is Layer.ENVIRONMENT else layer_title(one.layer)


def package_names(packages: Iterable[PackageName]) -> dict[PackageName, str]:
    """What each of several packages is called: its name, and its language where two have one of it: ``igraph (r)``."""
    several = list(packages)
    languages: dict[str, set[str]] = {}
    for one in several:
        languages.setdefault(one.name, set()).add(one.language)
    return {one: f"{one.name} ({one.language})" if len(languages[one.name]) > 1 else one.name for one in several}


def user(one: Owner) -> str:
    """Who uses a library, for a list of several: ``runtime``, ``numpy``, ``tool gnuplot``, ``the project``."""
    match one.layer:
        case Layer.RUNTIME:
            return "runtime"
        case Layer.PACKAGES:
            return one.name
        case Layer.PROJECT:
            return "the project"
        case Layer.RUN:
            return "an observed run"
    return owner(one)


def names_in(*snapshots: Snapshot) -> dict[PackageName, str]:
    """What the packages of snapshots are called where they are told of together; see `package_names`."""
    return package_names({package.key for snapshot in snapshots for package in snapshot.packages})


_NAMES: Mapping[PackageName, str] = {}


def changed_thing(change: Change, names: Mapping[PackageName, str] = _NAMES) -> str:
    """What a change is of: ``numpy``, ``runtime r``, ``library libm.so.6``, ``variable TZ``.

    Args:
        names: what packages are called, where not by their names alone.
    """
    one = change.owner
    match one.layer:
        case Layer.RUNTIME:
            return f"runtime {one.language}"
        case Layer.PACKAGES:
            return names.get(PackageName(one.language, one.name), one.name)
        case Layer.LIBRARIES:
            return f"library {one.name}"
        case Layer.CONDITIONS:
            return one.name
    return owner(one)


_KINDS = {
    Kind.ADDED: "new",
    Kind.REMOVED: "gone",
    Kind.NEWER: "newer",
    Kind.OLDER: "older",
    Kind.REPLACED: "other bytes",
    Kind.CHANGED: "same bytes",
}


def change_kind(change: Change) -> str:
    """What became of a thing, in a word or two."""
    if change.kind is Kind.CHANGED:
        return ", ".join(change.fields) if change.fields else "changed"
    return _KINDS[change.kind]


def change_in_short(change: Change, names: Mapping[PackageName, str] = _NAMES) -> str:
    """A change on a part of a line: ``numpy 1.26.4 -> 2.0.1``, ``slip new``."""
    thing = changed_thing(change, names)
    if change.kind in (Kind.NEWER, Kind.OLDER):
        return f"{thing} {change.old} -> {change.new}"
    if change.owner.layer is Layer.CONDITIONS and change.kind is Kind.CHANGED:
        return f"{thing} {change.old} -> {change.new}"
    return f"{thing} ({change_kind(change)})"


def some(names: Iterable[str], most: int) -> str:
    """Names with commas between, and how many more there are: ``a, b and 3 more``."""
    every = list(names)
    more = f" and {len(every) - most} more" if len(every) > most else ""
    return ", ".join(every[:most]) + more


def short(snapshot_id: str) -> str:
    """The first digits of a snapshot's identity."""
    return snapshot_id.removeprefix("sha256:")[:12]


# ---- findings

_PROBLEMS = {
    Problem.NOT_OURS: "lapidar did not make it",
    Problem.MEMBER_EDITED: "{} was edited since the snapshot",
    Problem.OTHER_SNAPSHOT: "it is of snapshot {}, the lockfile of {}",
    Problem.LIST_ALTERED: "the list of placed files is missing or altered",
    Problem.NOTHING_OF_IT: "it has nothing of it: is it the right one?",
    Problem.UNREADABLE: "{}",
    Problem.UNPROVEN: "placed, and the cache cannot say any more what it must be",
    Problem.HOST_LACKS: "{} is not there; {} needs it",
    Problem.HOST_LACKS_VERSIONS: "{} ({}) is without {}",
    Problem.HOST_DIFFERS: "another library than the captured one",
    Problem.NO_ROOT_OF_ITS_OWN: "is to run in a root of its own, and this kernel lets this user make none: it may miss "
    "its files, or find this host's",
    Problem.MAPPED_OUTSIDE: "mapped from outside the environment",
    Problem.LIBRARY_MISSING: "{}",
    Problem.NOT_IMPORTABLE: "cannot be imported: {} ({})",
    Problem.CRASHED: "the interpreter ended when it was imported",
    Problem.OPENED_OUTSIDE: "opened from outside the environment and the project",
    Problem.LIBRARY_OUTSIDE: "mapped from outside the environment and the project",
    Problem.READ_BY_PROGRAM: "opened by outside programs of the snapshot, which have none of their own there",
    Problem.STARTED_OUTSIDE: "started from outside the environment",
    Problem.RUN_FAILED: "it ended with exit code {}",
    Problem.RECORD_BROKEN: "{}",
    Problem.RECORD_OF_OTHER_SNAPSHOT: "recorded with snapshot {}, the lockfile is of {}",
    Problem.RESULTS_GONE: "recorded, and not there",
    Problem.RECORD_UNLISTED: "the list of its files is not in this cache",
    Problem.RESULTS_ALTERED: "not what was recorded",
    Problem.RUNTIME_NOT_ALLOWED: "{} is declared, and {} is locked",
    Problem.NOT_LOCKED: "{} is declared, and not locked",
    Problem.OUT_OF_RANGE: "{} is declared, and {} is locked",
    Problem.NOT_DECLARED: "locked as asked for, and not declared",
    Problem.OTHER_CONDITION: "{} is declared, and {} is locked",
    Problem.IMPORT_NOT_DECLARED: "imported at {1}, and {0} is not declared",
    Problem.IMPORT_OF_NOTHING: "imported at {}, and nothing that is locked provides it",
}
RESTORE, _PRIVATE = "lapidar restore", "lapidar restore --libraries private"
_MEND = "lapidar restore --fetch, which looks for the same bytes; or capture the original environment again"
LACKING = frozenset({Problem.NOTHING_OF_IT, Problem.LOST, Problem.CORRUPT, Problem.UNREADABLE})  # from the cache
_REMEDIES = {
    Problem.EXTRA_PACKAGE: "lapidar need --installed to declare it, or, where nothing is declared, lapidar capture of "
    "this environment to keep it; lapidar restore to be without it",
    Problem.NOT_OURS: "restore with --into elsewhere",
    Problem.MEMBER_EDITED: "lapidar pin, which takes it into the snapshot as it is",
    Problem.NOTHING_OF_IT: "lapidar restore --fetch, or name the one that has it with --cache or LAPIDAR_CACHE",
    Problem.LOST: _MEND,
    Problem.CORRUPT: _MEND,
    Problem.UNREADABLE: _MEND,
    Problem.UNPROVEN: "lapidar restore --verify",
    Problem.HOST_LACKS: _PRIVATE,
    Problem.HOST_LACKS_VERSIONS: _PRIVATE,
    Problem.HOST_DIFFERS: _PRIVATE,
    Problem.NO_ROOT_OF_ITS_OWN: "allow user namespaces (user.max_user_namespaces), or run it as root",
    Problem.MAPPED_OUTSIDE: "lapidar capture --observe -- COMMAND where it was captured, then lapidar restore",
    Problem.LIBRARY_MISSING: "install the library where it was captured, and capture again",
    Problem.NOT_IMPORTABLE: "lapidar why {of}{}, then another version of it or of what it names: lapidar need, "
    "lapidar pin",
    Problem.CRASHED: "try it by hand",
    Problem.OPENED_OUTSIDE: "copy them into the project and read them there, or have the analysis do without",
    Problem.LIBRARY_OUTSIDE: "open them by their names alone, and declare these: libraries in [needs] of lapidar.toml, "
    "then capture again",
    Problem.READ_BY_PROGRAM: "declare them: files in [needs] of lapidar.toml, then capture again",
    Problem.STARTED_OUTSIDE: "declare them: tools in [needs] of lapidar.toml, then capture again",
    Problem.RUN_FAILED: "lapidar run COMMAND, to see why",
    Problem.RECORD_BROKEN: "take it from version control again, or lapidar record",
    Problem.RECORD_OF_OTHER_SNAPSHOT: "lapidar rerun {} --here, to see whether it changes results; then lapidar record",
    Problem.RESULTS_GONE: "lapidar rerun {} --keep-results DIR",
    Problem.RECORD_UNLISTED: "name the cache it was recorded with (--cache), or lapidar record {} -- COMMAND",
    Problem.RESULTS_ALTERED: "lapidar compare {} RESULTS, to see what differs; lapidar record, where it is meant",
    Problem.RUNTIME_NOT_ALLOWED: "lapidar pin",
    Problem.NOT_LOCKED: "lapidar pin",
    Problem.OUT_OF_RANGE: "lapidar pin",
    Problem.NOT_DECLARED: "lapidar pin, or lapidar need {of}{}",
    Problem.OTHER_CONDITION: "{3}",
    Problem.IMPORT_NOT_DECLARED: "lapidar need {of}{1}",
    Problem.IMPORT_OF_NOTHING: "lapidar survey, which looks for what provides it",
}
_NAMELESS = {
    Problem.EXTRA: "files of no snapshot",
    Problem.UNPROVEN: "what is derived",
    Problem.MAPPED_OUTSIDE: "memory map",
    Problem.OPENED_OUTSIDE: "files of the host",
    Problem.LIBRARY_OUTSIDE: "libraries of the host",
    Problem.READ_BY_PROGRAM: "what programs read",
    Problem.STARTED_OUTSIDE: "programs of the host",
    Problem.RUN_FAILED: "the command",
}


def finding_name(finding: Finding) -> str:
    """What a finding is about."""
    if finding.owner is not None:
        return owner(finding.owner)
    return finding.name or _NAMELESS.get(finding.problem) or layer_title(Layer.LIBRARIES)


def problem(finding: Finding) -> str:
    """What is wrong: a word, or a sentence."""
    return _PROBLEMS.get(finding.problem, str(finding.problem)).format(*finding.details)


def remedy(finding: Finding, *, several: bool = False) -> str:
    """What to type.

    Args:
        several: the project has several languages, so that a name alone does not say which package is meant.
    """
    of = language_option(finding.language) if several else ""
    return _REMEDIES.get(finding.problem, RESTORE).format(typed(finding.name), *finding.details, of=of)


def typed(name: str) -> str:
    """A name as one types it on a command line."""
    return shlex.quote(name) if name else ""


def language_option(language: str) -> str:
    """The option by which a language is named on a command line, with a blank; "" for none."""
    return f"--language {language} " if language else ""


# ---- overrides, and what is left out

_EFFECTS = {
    OverrideEffect.NOT_NEEDED: "changes nothing: the package is not needed",
    OverrideEffect.USED: "acts: {} is used",
    OverrideEffect.NEEDED_TO_SOLVE: "acts: without it the needs cannot be met together",
    OverrideEffect.CANNOT_TELL: "acts, as far as can be told ({})",
    OverrideEffect.SAME_WITHOUT: "changes nothing any more: the same version would be chosen without it",
    OverrideEffect.OTHER_WITHOUT: "acts: without it {} would be chosen",
    OverrideEffect.NOT_LOCKED: "changes nothing: the package is not in the lockfile.",
    OverrideEffect.ASKS_FOR_ANOTHER: "asks for {}, and {} is locked.",
    OverrideEffect.AGAINST: "acts against {} ({}).",
    OverrideEffect.FORBIDDEN_BY_NOBODY: "holds it at {}; no range forbids that ({}).",
}


def override_effect(standing: OverrideStanding) -> str:
    """What an override does, to follow its name."""
    return _EFFECTS[standing.effect].format(*standing.details)


def override_sentence(standing: OverrideStanding) -> str:
    """How an override acts, as a sentence."""
    text = f"The override of {standing.package.name} {override_effect(standing)}"
    if standing.until:
        text += f" It was to hold until {standing.until}: look whether it is still needed."
    return text


def unused(needed_by: tuple[str, ...]) -> str:
    """Why a package is left out.

    Args:
        needed_by: the packages that need it, all of them left out too.
    """
    if needed_by:
        shown = ", ".join(needed_by[:3]) + (", ..." if len(needed_by) > 3 else "")
        return f"only needed by {shown}, which is left out too"
    return "not imported, not declared, and needed by nothing that is"
