"""Records of runs <-> ``lapidar.results``: canonical TOML at the project's root, for version control.

An *analysis* is a command with a name; its record says what a run of it read and wrote, and under what conditions. No
time, user, host or absolute path is in it, so that the same run gives the same bytes. Each record has a digest of its
own text: two people's records of different analyses can be merged, and an edited one shows. Long lists of files do not
stand in it, but in the cache, with a digest and a summary here (`core/results/listing.py`).
"""

from __future__ import annotations

import hashlib
import os
import re
from collections.abc import Iterable
from pathlib import Path
from typing import Annotated, Any, Literal

import msgspec
import tomli
from msgspec.structs import replace

from lapidar.core import atomic, decoding, foreign
from lapidar.core.errors import LapidarError
from lapidar.core.place import RECORDS_NAME
from lapidar.core.records import called, canonical

__all__ = [
    "FORMAT",
    "PARTS",
    "Analysis",
    "Listed",
    "Part",
    "Proof",
    "RecordBroken",
    "RecordUnread",
    "RecordedFile",
    "Results",
    "Sweep",
    "identified",
    "leads_out",
    "parse",
    "read",
    "render",
    "require_fit",
    "require_sound",
    "sealed_sweep",
    "with_analysis",
    "with_proof",
    "with_sweep",
    "write",
    "written",
]

FORMAT = 1
_MOST_PARTS, _MOST_LETTERS = 200, 4000  # of a path
_AGAIN = "Take it from version control again, or move it away: then `lapidar record` writes a new one."
_BANNER = "# Written by lapidar record. Commit this file; do not edit it.\n"
Part = Literal["source", "input", "outside", "result"]
PARTS: tuple[Part, ...] = ("source", "input", "outside", "result")
_Sha256 = Annotated[str, msgspec.Meta(pattern=r"^[0-9a-f]{64}$")]
_Word = Annotated[str, msgspec.Meta(pattern=r"^[A-Za-z0-9_.+-]{1,60}$")]
_Tree = Annotated[str, msgspec.Meta(pattern=r"^sha256:[0-9a-f]{64}$")]


class RecordBroken(LapidarError):
    """A file of records is not what it must be."""


class RecordUnread(RecordBroken):
    """A file of records cannot be read here and now; it may be sound."""


def written(path: str) -> tuple[str, bool]:
    """A path as a record writes it, and whether that took escapes: TOML is UTF-8, and names of files need not be."""
    try:
        path.encode("utf-8")
        return path, False
    except UnicodeEncodeError:
        data = os.fsencode(path.replace("\\", "\\x5c"))
        return data.decode("utf-8", "backslashreplace"), True


class RecordedFile(msgspec.Struct, frozen=True, rename="kebab", forbid_unknown_fields=True, omit_defaults=True):
    """A file that a run read or wrote.

    Attributes:
        path: relative to the project. Of a file outside the project, its name alone.
        escaped: the path is not UTF-8, and bytes of it are written as ``\\xNN``.
        sha256: of its bytes; of a link, of what it says.
        kind: of a result, what it is compared as.
        link: whether it is a symbolic link.
        kept: whether the cache has its bytes; of a file that is too large, or outside, it has not.
    """

    path: str
    sha256: _Sha256
    bytes: Annotated[int, msgspec.Meta(ge=0)]
    kind: str = ""
    link: bool = False
    kept: bool = True
    escaped: bool = False

    @property
    def name(self) -> str:
        """The path as the file system has it."""
        if not self.escaped:
            return self.path
        data = re.sub(rb"\\x([0-9a-f]{2})", lambda found: bytes([int(found[1], 16)]), self.path.encode("utf-8"))
        return os.fsdecode(data)


class Listed(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """How much is in a list of files that does not stand in the record."""

    files: Annotated[int, msgspec.Meta(ge=0)]
    bytes: Annotated[int, msgspec.Meta(ge=0)]


class Analysis(msgspec.Struct, frozen=True, rename="kebab", forbid_unknown_fields=True, omit_defaults=True):
    """The record of a run.

    Attributes:
        record: the sha256 of the record's own text.
        command: the program as it was named, and its words; paths inside the project are relative to `folder`.
        folder: where in the project it ran.
        snapshot: that of the environment.
        numerics: the profile that held.
        variables: those of the snapshot's conditions, as they were.
        exit_code: what it ended with.
        printed, printed_bytes: the sha256 and the size of what it wrote to standard output.
        given, made: trees in the cache: sources with inputs, and results with what was printed.
        sources: files of the project that are code, as they were before the run.
        inputs: other files of the project that it read, as they were before the run.
        outside: files that it read and that are neither the project's nor the environment's.
        typed, typed_bytes: the sha256 and the size of what it was given on standard input; "" where that was nothing.
        lists: the tree in the cache that has the lists of files which are too long to stand here; "" for none.
        listed: of each of those lists, how much is in it.
        values: of a run of a sweep, the variables that it was given.
    """

    name: str
    record: str
    command: tuple[str, ...]
    snapshot: _Tree
    numerics: str
    exit_code: int
    printed: _Sha256
    printed_bytes: int
    given: _Tree
    made: _Tree
    folder: str = "."
    variables: dict[str, str] = {}
    values: dict[str, str] = {}
    typed: _Sha256 | Literal[""] = ""
    typed_bytes: int = 0
    lists: _Tree | Literal[""] = ""
    listed: dict[Part, Listed] = {}
    source: tuple[RecordedFile, ...] = ()
    input: tuple[RecordedFile, ...] = ()
    outside: tuple[RecordedFile, ...] = ()
    result: tuple[RecordedFile, ...] = ()

    def files(self, part: Part) -> tuple[RecordedFile, ...]:
        """Those of a part that stand in the record."""
        return getattr(self, part)  # type: ignore[no-any-return]

    def amount(self, part: Part) -> Listed:
        """How many files a part has, and how large they are together, wherever they are listed."""
        elsewhere = self.listed.get(part, Listed(0, 0))
        here = self.files(part)
        return Listed(len(here) + elsewhere.files, sum(one.bytes for one in here) + elsewhere.bytes)


class Proof(msgspec.Struct, frozen=True, rename="kebab", forbid_unknown_fields=True):
    """That a record's results come out where nothing of the machine is in sight that it was proven on.

    Attributes:
        name, record: of the analysis, and the sha256 of its record.
        verdict: the worst of its results.
        results: the sha256 of what was compared.
        numerics: the profile that held.
        machine, kernel: the kind of processor, and the kernel's release.
        proof: the sha256 of this text.
    """

    name: str
    record: _Sha256
    verdict: Annotated[str, msgspec.Meta(pattern=r"^(identical|same content|within tolerance)$")]
    results: _Sha256
    numerics: _Word
    machine: _Word
    kernel: _Word
    proof: str = ""


class Sweep(msgspec.Struct, frozen=True, rename="kebab", forbid_unknown_fields=True):
    """One analysis, run once for each of many values.

    Attributes:
        record: the sha256 of this text.
        runs: how many there are.
        listing: the tree in the cache that has their records (`core/cache/sweeps.py`).
    """

    name: str
    record: str
    runs: Annotated[int, msgspec.Meta(ge=0)]
    listing: _Tree


class Results(msgspec.Struct, frozen=True, rename="kebab"):
    """All records of a project, sorted by name, with their proofs."""

    format: int = FORMAT
    analysis: tuple[Analysis, ...] = ()
    proof: tuple[Proof, ...] = ()
    sweep: tuple[Sweep, ...] = ()

    def proof_of(self, analysis: Analysis) -> Proof | None:
        """That of a record; None where it is not proven."""
        return next((one for one in self.proof if one.record == analysis.record), None)

    def named(self, name: str) -> Analysis | None:
        """The record of an analysis."""
        return next((one for one in self.analysis if one.name == name), None)


def _text(analysis: Analysis) -> str:
    fields: dict[str, Any] = msgspec.to_builtins(analysis)
    for name in ("variables", "values"):
        if getattr(analysis, name) or name == "variables":
            fields[name] = dict(sorted(getattr(analysis, name).items()))
    blocks = {part: fields.pop(part, ()) for part in PARTS}
    texts = [canonical.table("[[analysis]]", fields)]
    for kind, files in blocks.items():
        texts += [canonical.table(f"[[analysis.{kind}]]", one) for one in files]
    return "\n".join(texts)


def identified(analysis: Analysis) -> Analysis:
    """A record with the digest of its own text."""
    bare = replace(analysis, record="")
    return replace(analysis, record=hashlib.sha256(_text(bare).encode("utf-8")).hexdigest())


def _proof_text(proof: Proof) -> str:
    return canonical.table("[[proof]]", msgspec.to_builtins(proof))


def _sealed(proof: Proof) -> Proof:
    text = _proof_text(replace(proof, proof=""))
    return replace(proof, proof=hashlib.sha256(text.encode("utf-8")).hexdigest())


def _sweep_text(sweep: Sweep) -> str:
    return canonical.table("[[sweep]]", msgspec.to_builtins(sweep))


def sealed_sweep(sweep: Sweep) -> Sweep:
    """The record of a sweep with the digest of its own text."""
    text = _sweep_text(replace(sweep, record=""))
    return replace(sweep, record=hashlib.sha256(text.encode("utf-8")).hexdigest())


def render(results: Results) -> str:
    """The canonical text."""
    tables = [*map(_text, results.analysis), *map(_sweep_text, results.sweep), *map(_proof_text, results.proof)]
    return f"{_BANNER}format = {results.format}\n" + "".join("\n" + one for one in tables)


def parse(text: str, name: str = RECORDS_NAME) -> Results:
    """Read records and verify them.

    Raises:
        RecordBroken: it is no TOML, of another format, not valid, or was edited.
    """
    again = _AGAIN
    try:
        data = foreign.parsed(lambda: tomli.loads(text))
    except ValueError as error:
        why = "it holds the marks of a merge" if re.search(r"^(<{7}|>{7})", text, re.MULTILINE) else str(error)
        raise RecordBroken(f"{name} cannot be read", why=why, remedy=again) from error
    number = data.get("format")
    if isinstance(number, int) and number > FORMAT:
        raise RecordUnread(
            f"{name} has format {number}, but this lapidar reads formats up to {FORMAT}",
            remedy="Install a newer lapidar.",
        )
    try:
        results = foreign.parsed(lambda: decoding.convert(data, Results))
    except ValueError as error:
        raise RecordBroken(f"{name} is not valid", why=str(error), remedy=again) from error
    if number != FORMAT:
        raise RecordBroken(f"{name} has no format number", remedy=again)
    names = [one.name for one in results.analysis]
    if len(set(names)) < len(names):
        raise RecordBroken(f"{name} is not valid", why="it has two records of one name", remedy=again)
    for one in results.analysis:
        require_sound(one, name)
    for sweep in results.sweep:
        if not called.is_fit(sweep.name):
            raise RecordBroken(f"{name} is not valid", why=f"{sweep.name!r} is no name of an analysis", remedy=again)
        if sealed_sweep(sweep) != sweep:
            raise RecordBroken(f"The record of {sweep.name} in {name} was changed after it was written", remedy=_AGAIN)
    for proof in results.proof:
        if not called.is_fit(proof.name):
            raise RecordBroken(f"{name} is not valid", why=f"{proof.name!r} is no name of an analysis", remedy=again)
        if _sealed(proof) != proof:
            raise RecordBroken(f"The proof of {proof.name} in {name} was changed after it was written", remedy=again)
    return results


def require_sound(one: Analysis, name: str = RECORDS_NAME) -> None:
    """Raises: RecordBroken: a record is not what its digest says, or cannot be meant."""
    if identified(one).record != one.record:
        raise RecordBroken(f"The record of {one.name} in {name} was changed after it was written", remedy=_AGAIN)
    require_fit(one, name)


def require_fit(one: Analysis, name: str = RECORDS_NAME) -> None:
    """Raises: RecordBroken: a record cannot be meant, whatever its digest says."""
    if flaw := _flaw(one):
        raise RecordBroken(f"{name} is not valid", why=flaw, remedy=_AGAIN)


def _flaw(analysis: Analysis) -> str:
    """What is wrong with a record that has a right digest: whoever wrote it may mean harm."""
    if not called.is_fit(analysis.name):
        return f"{analysis.name!r} is no name of an analysis"
    if not analysis.command or not analysis.command[0] or any("\0" in word for word in analysis.command):
        return f"{analysis.name} has no command that can be run"
    inside = [analysis.folder, *(file.name for part in PARTS if part != "outside" for file in analysis.files(part))]
    for path in inside:
        if leads_out(path):
            return f"{path!r} leads out of the project"
    return ""


def leads_out(path: str) -> bool:
    """Whether a path of a record, as the file system will have it, is not one of a file or folder below the project:
    also one that no file system has, longer or deeper than any."""
    parts = path.split("/")
    too_long = len(parts) > _MOST_PARTS or len(path) > _MOST_LETTERS
    return not path or path.startswith("/") or ".." in parts or "\0" in path or too_long


def read(path: Path) -> Results:
    """The records of a project; none where there is no such file.

    Raises:
        RecordBroken: it cannot be read, or is not valid.
    """
    try:
        return parse(foreign.read_text(path), path.name)
    except FileNotFoundError:
        return Results()
    except OSError as error:
        raise RecordUnread(f"{path} cannot be read", why=error.strerror or str(error)) from error
    except UnicodeDecodeError as error:
        raise RecordBroken(f"{path} cannot be read", why=str(error)) from error


def with_analysis(results: Results, analysis: Analysis) -> Results:
    """The records with one more, or with another of its name."""
    others: Iterable[Analysis] = (one for one in results.analysis if one.name != analysis.name)
    every = tuple(sorted([*others, identified(analysis)], key=lambda one: one.name))
    # What was proven of another record says nothing of this one.
    there = {one.record for one in every}
    return Results(FORMAT, every, tuple(one for one in results.proof if one.record in there), results.sweep)


def with_sweep(results: Results, sweep: Sweep) -> Results:
    """The records with a sweep, or with another of its name; an analysis of that name gives way."""
    others: Iterable[Sweep] = (one for one in results.sweep if one.name != sweep.name)
    every = tuple(sorted([*others, sweep], key=lambda one: one.name))
    analyses = tuple(one for one in results.analysis if one.name != sweep.name)
    return replace(results, analysis=analyses, sweep=every)


def with_proof(results: Results, proof: Proof) -> Results:
    """The records with the proof of one."""
    others: Iterable[Proof] = (one for one in results.proof if one.name != proof.name)
    every = tuple(sorted([*others, _sealed(proof)], key=lambda one: one.name))
    return Results(FORMAT, results.analysis, every, results.sweep)


def write(results: Results, path: Path) -> bool:
    """Write the records; whether anything changed.

    Raises:
        LapidarError: they would be more than is read again; nothing was written.
    """
    data = render(results).encode("utf-8")
    if len(data) > foreign.MOST_TEXT_BYTES:
        raise LapidarError(
            f"{path.name} would be larger than the {foreign.MOST_TEXT_BYTES:,} bytes that are read again",
            why="too many analyses are recorded in it",
            remedy="Take old ones out of it, or record in a project of its own.",
        )
    if path.is_file() and foreign.read(path) == data:
        return False
    atomic.replace_file(path, data)
    return True
