"""The pieces of R in the files of a project: plain source, chunks of documents (R Markdown, Quarto, Sweave), cells of
notebooks, the fields of a DESCRIPTION, the directives of a NAMESPACE."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from pathlib import Path

from lapidar.core.languages import sources
from lapidar.core.languages.r import description
from lapidar.core.languages.r.survey import uses
from lapidar.core.languages.r.survey.sources import MARKDOWN, SWEAVE
from lapidar.core.languages.r.survey.tokens import Broken
from lapidar.core.languages.sources import Unreadable
from lapidar.core.languages.surveying import FileRead, SourceUses, Use

__all__ = ["read"]

# The forms of a chunk's first and last line, of R inside a line, and of Sweave's.
_CHUNK = re.compile(r"^[\t >]*(`{3,}|~{3,})\s*\{\s*([a-zA-Z0-9_]+)([ ,].*)?\}\s*$")
_INLINE = re.compile(r"(?<![`\\])`\{?r\}?[ #]([^`]+)`")
_SWEAVE_CHUNK = re.compile(r"^<<(.*)>>=")
_SWEAVE_END = re.compile(r"^@")
_SEXPR = re.compile(r"\\Sexpr\{([^{}]*)\}")
_KNOWN = re.compile(r"library|require|Namespace|::|system|pipe|dyn\.load|setwd|package|vignette|data|import|[\"']")
_RENDERING = ("rmarkdown", "knitr")  # what makes a page of such a document


def read(path: Path, file: str) -> FileRead:
    """What a file uses; what cannot be read is among the problems."""
    one = FileRead([], [], [])
    try:
        if path.name == description.FILE_NAME:
            one.pieces.append(("", _of_description(path)))
            return one
        for label, code in _pieces(path):
            _read_piece(one, label, code, file, uses.read_namespace if path.name == "NAMESPACE" else uses.read)
        if path.suffix.lower() in MARKDOWN:
            rendered = SourceUses.none()
            rendered.modules.extend(Use(name, 1, "rendered") for name in _RENDERING)
            rendered.programs.append(Use("pandoc", 1, "plain"))
            one.pieces.append(("", rendered))
    except Unreadable as error:
        one.problems.append(f"{file}: {error}")
    return one


def _read_piece(one: FileRead, label: str, code: str, file: str, reading: Callable[[str], SourceUses]) -> None:
    if not _KNOWN.search(code):
        return
    try:
        one.pieces.append((label, reading(code)))
    except Broken as error:
        where = f"{file}, {label}" if label else file
        one.problems.append(f"{where}, line {error.line}: {error}")


def _pieces(path: Path) -> Iterator[tuple[str, str]]:
    text = sources.text_of(path)
    suffix = path.suffix.lower()
    if suffix == ".ipynb":
        language, cells = sources.notebook_cells(text)
        yield from cells if language == "r" else ()
    elif suffix in MARKDOWN:
        yield "", _of_markdown(text)
    elif suffix in SWEAVE:
        yield "", _of_sweave(text)
    else:
        yield "", text


def _of_markdown(text: str) -> str:
    """The lines of R in a document, each at its place; all others are empty."""
    kept: list[str] = []
    fence, is_r = "", False
    for line in text.split("\n"):
        opened = None if fence else _CHUNK.match(line)
        if opened:
            fence, is_r = opened[1], opened[2].lower() == "r"
            kept.append("")
        elif fence and line.strip(" \t>").startswith(fence) and not line.strip(" \t>").strip(fence[0]):
            fence, is_r = "", False
            kept.append("")
        elif fence:
            kept.append(line.lstrip(">") if is_r else "")
        else:
            kept.append("; ".join(_INLINE.findall(line)))
    return "\n".join(kept)


def _of_sweave(text: str) -> str:
    kept: list[str] = []
    within = False
    for line in text.split("\n"):
        if _SWEAVE_CHUNK.match(line):
            within = True
            kept.append("")
        elif within and _SWEAVE_END.match(line):
            within = False
            kept.append("")
        else:
            kept.append(line if within else "; ".join(_SEXPR.findall(line)))
    return "\n".join(kept)


def _of_description(path: Path) -> SourceUses:
    """A DESCRIPTION says what is needed; that is compared with what is used, and is no use itself. What a package is
    linked to is used in its compiled code."""
    found = SourceUses.none()
    try:
        linked = description.parse(sources.text_of(path).encode()).needs("LinkingTo")
    except ValueError as error:
        raise Unreadable(str(error)) from error
    found.modules.extend(Use(one.name, 0, "declared") for one in linked)
    return found
