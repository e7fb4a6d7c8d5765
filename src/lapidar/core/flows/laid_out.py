"""A laid-out beginning: a folder ready to work in. What is there is never changed."""

from __future__ import annotations

import json
import re
import shlex
import subprocess
from collections.abc import Mapping, Sequence
from pathlib import Path

from msgspec import Struct

from lapidar.core import atomic, languages
from lapidar.core.errors import LapidarError, TargetRefused
from lapidar.core.languages.protocol import Beginning, Language
from lapidar.core.place import DECLARATION_NAME
from lapidar.core.system import git

__all__ = ["LaidOut", "lay_out"]

_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]*")
_IGNORED = (
    "# What is made again by running, and what nobody else needs.\n.lapidar/*\n!.lapidar/project.toml\n.env\n*.log\n"
)
_RAW = """\
# Raw data
What came from outside, as it came. Nothing here is edited by hand or by a script: what is made of it goes to
`results/`.
Write down where each file is from, and when it came.
"""
_OF_ANALYSIS = """\
# {name}

What this is about, in a few lines.

- `data/raw/`: what came from outside, as it came
- {scripts}: what makes of it what lies in `results/`

## Again, elsewhere

    lapidar restore
    lapidar rerun

`lapidar.lock` says what it ran with, `lapidar.results` what it read and wrote; both are committed.
"""
_OF_PACKAGE = """\
# {name}

What it does, in a few lines.

    lapidar build        makes what is handed on of it
"""


class LaidOut(Struct, frozen=True):
    """What was laid out.

    Attributes:
        files: those that were written, below the folder.
        kept: those that were there and are others.
        is_committed: whether version control has them.
        command: of its first analysis; "" for a package.
    """

    folder: Path
    files: tuple[str, ...]
    kept: tuple[str, ...]
    is_committed: bool
    command: str = ""


def lay_out(folder: Path, names: Sequence[str], *, package: bool = False, licence: str = "") -> LaidOut:
    """Lay a folder out.

    Args:
        folder: is made where it is not there; its name is the project's.
        names: of the languages; of a package one.
        package: instead of an analysis.
        licence: of the package; "" for none that is stated.

    Raises:
        LapidarError: the name is none, or a language has no first files.
        TargetRefused: something stands there that is no folder.
    """
    name = folder.name
    if not _NAME.fullmatch(name):
        raise LapidarError(f"{name!r} is no name of a project", remedy="Use letters, digits, and . _ - between them.")
    if folder.exists() and not folder.is_dir():
        raise TargetRefused(f"{folder} is there, and no folder", remedy="Name another.")
    several = [languages.of(one) for one in names]
    if package and len(several) != 1:
        raise LapidarError("A package is of one language", remedy="Name it: --language r.")
    files = _of_package(name, several[0], licence) if package else _of_analysis(name, several)
    made, kept = _written(folder, files)
    command = "" if package else _command(several[0])
    return LaidOut(folder, tuple(made), tuple(kept), bool(made) and _committed(folder, made), command)


def lay_out_calling(folder: Path, name: str) -> None:
    """Lay out the package by which a language's code calls into other snapshots.

    Args:
        folder: is made where it is not there.
        name: of the language.

    Raises:
        LapidarError: it has no such package.
        TargetRefused: something else stands there.
    """
    calling = languages.of(name).calling
    files = calling.package() if calling else {}
    if not files:
        raise LapidarError(f"There is no such package for {languages.of(name).title}")
    if folder.exists() and not (folder.is_dir() and (not any(folder.iterdir()) or _is_laid_out(folder, files))):
        raise TargetRefused(f"{folder} is there, and something else", remedy="Name another folder, or remove it.")
    _written(folder, files)


def _is_laid_out(folder: Path, files: Mapping[str, str]) -> bool:
    return all((folder / path).is_file() and (folder / path).read_text("utf-8") == text for path, text in files.items())


def _written(folder: Path, files: Mapping[str, str]) -> tuple[list[str], list[str]]:
    """What was written, and what is there as something else and stays."""
    made: list[str] = []
    kept: list[str] = []
    folder.mkdir(parents=True, exist_ok=True)
    for path, text in files.items():
        target = folder / path
        if target.exists():
            kept += [path] if target.read_bytes() != text.encode() else []
            continue
        target.parent.mkdir(parents=True, exist_ok=True)
        atomic.write_file(target, text.encode("utf-8"))
        made.append(path)
    return made, kept


def _beginning(language: Language) -> Beginning:
    if language.beginning is None:
        raise LapidarError(f"Nothing is laid out for {language.title} by this lapidar", remedy="Begin without it.")
    return language.beginning


def _command(language: Language) -> str:
    return shlex.join([language.interpreters[0], _beginning(language).analysis()[0]])


def _of_analysis(name: str, several: Sequence[Language]) -> dict[str, str]:
    scripts = dict(_beginning(one).analysis() for one in several)
    declared = "".join(
        f"\n[analysis.{'files' if one is several[0] else f'files-{one.name}'}]\ncommand = {json.dumps(_command(one))}\n"
        for one in several
    )
    return {
        "README.md": _OF_ANALYSIS.format(name=name, scripts=", ".join(f"`{one}`" for one in scripts)),
        DECLARATION_NAME: f"[project]\nname = {json.dumps(name)}\n{declared}",
        ".gitignore": _IGNORED,
        "data/raw/README.md": _RAW,
        "data/raw/first.csv": "sherd,kiln\n1,upper\n2,river\n",
        "results/.gitkeep": "",
        **scripts,
    }


def _of_package(name: str, language: Language, licence: str) -> dict[str, str]:
    return {
        "README.md": _OF_PACKAGE.format(name=name),
        ".gitignore": _IGNORED + "dist/\n",
        **_beginning(language).package(name, licence),
    }


def _committed(folder: Path, files: Sequence[str]) -> bool:
    """Make a repository of it with a first commit, unless it lies in one already; whether that was done."""
    try:
        if git.run(folder, "rev-parse", "--git-dir").returncode == 0:
            return False
        steps = (
            ("init", "--quiet"),
            ("add", "--", *files),
            ("commit", "--quiet", "-m", "A beginning"),
        )
        done = all(git.run(folder, *words).returncode == 0 for words in steps)
    except (LapidarError, OSError, subprocess.SubprocessError):
        return False
    return done
