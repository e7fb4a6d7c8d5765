"""The layer of conditions: under what an environment ran when it was captured, and what a run is held to."""

from __future__ import annotations

import os
import re
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from lapidar.core import foreign, languages
from lapidar.core.environment import marker
from lapidar.core.errors import LapidarError
from lapidar.core.layers import numerics
from lapidar.core.records.owner import LAPIDAR, Layer
from lapidar.core.records.snapshot import Conditions, Snapshot
from lapidar.core.system import processor

if TYPE_CHECKING:  # a run is not to load what reads declarations, nor what observes
    from lapidar.core.cache.stowing import Draft
    from lapidar.core.environment.folder import Environment
    from lapidar.core.environment.layout import Layout, Placing
    from lapidar.core.languages.protocol import ObjectFile
    from lapidar.core.layers.protocol import Judged, Judgement, Subject
    from lapidar.core.records.owner import Owner

__all__ = ["ConditionsFound", "HeldTo", "apply", "judge", "kept", "observe", "place"]

KEPT = f"{marker.PRIVATE}/conditions.json"
_LOCALE = (
    "LANG LANGUAGE LC_ALL LC_CTYPE LC_NUMERIC LC_TIME LC_COLLATE LC_MONETARY LC_MESSAGES LC_PAPER LC_NAME LC_ADDRESS "
    "LC_TELEPHONE LC_MEASUREMENT LC_IDENTIFICATION"
).split()
_OF_EVERY_RUN = ("TZ", *_LOCALE, *numerics.WATCHED)
_COERCED = "C.UTF-8"
_ZONES = "/zoneinfo/"
_LINE = re.compile(r"^\s*(?:export\s+)?([A-Za-z_]\w*)\s*=\s*(.*?)\s*$")


def _names() -> tuple[str, ...]:
    """Every variable that results may follow from."""
    of_languages = [name for language in languages.every() for name in language.variables.watched]
    return (*of_languages, *_OF_EVERY_RUN)


def kept(environment: Environment) -> Conditions | None:
    """The conditions that a restored environment was captured under."""
    return environment.kept(KEPT, Conditions)


class ConditionsFound(msgspec.Struct, frozen=True):
    """The conditions here and now; they have no files."""

    record: Conditions
    warnings: tuple[str, ...] = ()

    def drafts(self) -> Mapping[Owner, list[Draft]]:
        return {}

    def objects(self) -> Iterator[ObjectFile]:
        yield from ()


def observe(subject: Subject) -> ConditionsFound:
    """The conditions here and now. Where an environment was first captured, and what was set there, stays as it was."""
    declared, before = subject.declaration.conditions, subject.held.conditions
    variables = dict(before.variables) if before else _watched()
    for name, value in declared.variables.items():
        if value is not None:
            variables[name] = value
        elif not (before and name in before.variables):
            variables.pop(name, None)
            if name in os.environ:
                variables[name] = os.environ[name]
    for name in declared.secrets:
        variables.pop(name, None)
    record = Conditions(
        processor=before.processor if before else processor.name(),
        features=before.features if before else processor.features(),
        kernel=before.kernel if before else f"{os.uname().sysname} {os.uname().release}",
        numerics=declared.numerics,
        baseline=numerics.BASELINE if declared.numerics == "portable" else None,
        umask=before.umask if before else f"{_umask():04o}",
        variables=dict(sorted(variables.items())),
        secrets=tuple(sorted(declared.secrets)),
        env_file=declared.env_file,
        host=before.host if before else (),
    )
    packages = {one.user.name for one in subject.objects if one.user.layer is Layer.PACKAGES}
    return ConditionsFound(record, tuple(_unheld(record, packages)))


def _unheld(conditions: Conditions, packages: Iterable[str]) -> Iterator[str]:
    """What of the packages the portable profile does not hold."""
    names = {name for language in languages.every() for name in language.variables.unheld}
    found = sorted(names.intersection(packages)) if conditions.numerics == "portable" else []
    if found:
        yield (
            f'numerics = "portable" does not hold all of {", ".join(found)}: no variable takes their choice by the '
            "processor away, and last bits may differ on another one"
        )


def place(snapshot: Snapshot, layout: Layout, at: Placing) -> None:
    """Add what a restored environment has of the layer: the record, which no file of it tells."""
    if snapshot.conditions:
        from lapidar.core.environment import kept as kept_files

        layout.generate(LAPIDAR, KEPT, kept_files.render(snapshot.conditions))


def judge(snapshot: Snapshot, at: Judged) -> Judgement:
    """How this machine differs from the one of the capture; that alone is no finding."""
    from lapidar.core.layers.protocol import Judgement

    if snapshot.conditions is None:
        return Judgement()
    unheld = _unheld(snapshot.conditions, (package.name for package in snapshot.packages))
    return Judgement(remarks=(*_compare(snapshot.conditions), *unheld))


def _watched() -> dict[str, str]:
    variables = {name: os.environ[name] for name in _names() if name in os.environ}
    if variables.get("LC_CTYPE") == _COERCED and not {"LANG", "LC_ALL"} & variables.keys():
        del variables["LC_CTYPE"]  # not the caller's: our own runtime sets it where nothing is set (PEP 538)
    zone = os.path.realpath("/etc/localtime")
    if "TZ" not in variables and _ZONES in zone:
        variables["TZ"] = zone.partition(_ZONES)[2]
    return variables


def _umask() -> int:
    mask = os.umask(0o077)  # there is no way to ask without setting it
    os.umask(mask)
    return mask


class HeldTo(msgspec.Struct, frozen=True):
    """What a run is held to.

    Attributes:
        variables: all of its variables.
        changed: the names of variables of the caller that are held to another value, or left out.
        lacking: declared secrets that have no value here.
        profile: one sentence: which numeric profile acts; "" for a native one on a processor like the captured one.
        warning: where results may differ from those of the capture; "" where nothing speaks for it.
    """

    variables: dict[str, str]
    changed: tuple[str, ...]
    lacking: tuple[str, ...]
    profile: str
    warning: str


def apply(conditions: Conditions, variables: Mapping[str, str], root: Path) -> HeldTo:
    """Hold the variables of a run to a snapshot's conditions. The umask is set by the caller.

    Args:
        variables: those of the caller.
        root: the project's folder, where its file of variables lies.

    Raises:
        LapidarError: that file is not there, or cannot be read.
    """
    held = dict(conditions.variables)
    if conditions.numerics == "portable":
        held |= numerics.portable(conditions.baseline or numerics.BASELINE)
        held |= {name: "1" for one in languages.every() for name in one.variables.single_thread}
    result = dict(variables)
    names = _names()
    for name in names:
        if name not in held:
            result.pop(name, None)
    result |= held
    if conditions.env_file:
        read = _read_env_file(root / conditions.env_file)
        result |= {name: value for name, value in read.items() if name not in held}
    watched = {*names, *held}
    return HeldTo(
        variables=result,
        changed=tuple(sorted(name for name in watched & variables.keys() if variables[name] != result.get(name))),
        lacking=tuple(name for name in conditions.secrets if name not in result),
        profile=_profile(conditions),
        warning=_warning(conditions),
    )


def _compare(conditions: Conditions) -> list[str]:
    """How this machine differs from the one of the capture, a sentence each."""
    told = [warning] if (warning := _warning(conditions)) else []
    system = os.uname()
    here = f"{system.sysname} {system.release}"
    if conditions.kernel and conditions.kernel != here:
        told.append(f"the kernel is {here}, and was {conditions.kernel}")
    told += [f"captured with {one} of its host, which cannot travel" for one in conditions.host]
    return told


def _profile(conditions: Conditions) -> str:
    if conditions.numerics == "portable":
        return f"numerics: portable, held to {conditions.baseline} and one thread"
    return "" if _is_alike(conditions) else "numerics: native"


def _is_alike(conditions: Conditions) -> bool:
    return (conditions.processor, conditions.features) == (processor.name(), processor.features())


def _warning(conditions: Conditions) -> str:
    if conditions.numerics == "portable" or not conditions.processor or _is_alike(conditions):
        return ""
    here = processor.features()
    gone = [one for one in conditions.features if one not in here]
    new = [one for one in here if one not in conditions.features]
    told = [f"without {', '.join(gone)}"] if gone else []
    told += [f"with {', '.join(new)} besides"] if new else []
    differs = f" ({'; '.join(told)})" if told else ""
    return (
        f"this processor is {processor.name()}{differs}, and the capture's was {conditions.processor}: the last bits "
        'of results may differ; [conditions] numerics = "portable" in lapidar.toml holds them'
    )


def _read_env_file(path: Path) -> dict[str, str]:
    """A file of lines NAME=VALUE; values may stand in quotes, and a line that begins with # says nothing."""
    try:
        lines = foreign.read_text(path).splitlines()
    except (OSError, UnicodeDecodeError) as error:
        raise LapidarError(
            f"The project's file of variables {path} cannot be read",
            why=getattr(error, "strerror", None) or "it is not UTF-8 text",
            remedy="Make it, or take env-file out of [conditions] in lapidar.toml and capture again.",
        ) from error
    found = {}
    for number, line in enumerate(lines, 1):
        if not line.strip() or line.lstrip().startswith("#"):
            continue
        matched = _LINE.match(line)
        if matched is None:
            raise LapidarError(
                f"{path}, line {number}, is not NAME=VALUE", remedy="Correct that line, or begin it with #."
            )
        value = matched[2]
        if len(value) > 1 and value[0] == value[-1] and value[0] in "'\"":
            value = value[1:-1]
        found[matched[1]] = value
    return found
