"""The tokens of R source, as R's own parser parts them (R Language Definition, 10): a reader of text that runs nothing,
and that reads on where a parser would give up a whole file."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Literal, NamedTuple

__all__ = ["Broken", "Kind", "Token", "tokens"]

Kind = Literal["name", "string", "number", "operator", "comment"]


class Broken(Exception):
    """A text that is no R from some line on.

    Attributes:
        line: counted from 1.
    """

    def __init__(self, why: str, line: int) -> None:
        super().__init__(why)
        self.line = line


class Token(NamedTuple):
    """One token.

    Attributes:
        text: as it stands in the source.
        line: where it begins, counted from 1.
    """

    kind: Kind
    text: str
    line: int

    @property
    def value(self) -> str:
        """Of a string or of a name in backticks what it stands for, as far as its escapes are simple ones."""
        text = self.text
        if self.kind == "string" and text[0] in "rR":
            opening = _RAW.match(text)
            assert opening
            return text[opening.end() : -opening.end() + 1]
        if self.kind == "string" or text.startswith("`"):
            return _ESCAPE.sub(_unescaped, text[1:-1])
        return text


_PLAIN = {"n": "\n", "t": "\t", "r": "\r", "a": "\a", "b": "\b", "f": "\f", "v": "\v"}
_ESCAPE = re.compile(r"\\(x[0-9A-Fa-f]{1,2}|[0-7]{1,3}|u\{?[0-9A-Fa-f]{1,4}\}?|U\{?[0-9A-Fa-f]{1,8}\}?|.)", re.DOTALL)
_RAW = re.compile(r"""[rR](["'])(-*)([(\[{])""")
_CLOSING = {"(": ")", "[": "]", "{": "}"}
_TOKEN = re.compile(
    r"""
    (?P<space>[\s\f\ufeff]+)
    | (?P<comment>\#[^\n]*)
    | (?P<raw>[rR]["']-*[(\[{])
    | (?P<string>"(?:[^"\\]|\\.)*"|'(?:[^'\\]|\\.)*')
    | (?P<quoted>`(?:[^`\\]|\\.)*`)
    | (?P<number>0[xX](?:[0-9A-Fa-f]+(?:\.[0-9A-Fa-f]*)?|\.[0-9A-Fa-f]+)(?:[pP][+-]?[0-9]+)?[Li]?
        |(?:[0-9]+\.?[0-9]*|\.[0-9]+)(?:[eE][+-]?[0-9]+)?[Li]?)
    | (?P<name>(?:[^\W\d_]|\.)[\w.]*|_)
    | (?P<operator>%[^%\n]*%|->>|<<-|:::|->|<-|<=|>=|==|!=|::|:=|\|>|=>|\|\||&&|\*\*|[^\w\s"'`\#])
    """,
    re.VERBOSE | re.DOTALL,
)


def _unescaped(found: re.Match[str]) -> str:
    what = found[1]
    if what[0].isdigit() or (what[0] in "xuU" and len(what) > 1):
        number = int(what, 8) if what[0].isdigit() else int(what[1:].strip("{}"), 16)
        return chr(number) if number < 0x110000 else ""
    return _PLAIN.get(what, what)


def tokens(text: str) -> Iterator[Token]:
    """The tokens of a text, comments among them.

    Raises:
        Broken: a string has no end.
    """
    at, line = 0, 1
    end = len(text)
    while at < end:
        found = _TOKEN.match(text, at)
        if found is None:
            what = "a name in backticks" if text[at] == "`" else "a string"
            raise Broken(f"{what} that begins here has no end", line)
        kind, stop = found.lastgroup, found.end()
        if kind == "raw":
            stop = _end_of_raw(text, at, line)
            yield Token("string", text[at:stop], line)
        elif kind == "comment":
            yield Token("comment", found[0].rstrip("\r"), line)
        elif kind == "quoted":
            yield Token("name", found[0], line)
        elif kind != "space":
            yield Token(kind, found[0], line)  # type: ignore[arg-type]
        line += text.count("\n", at, stop)
        at = stop


def _end_of_raw(text: str, at: int, line: int) -> int:
    """Where a raw string that begins at `at` ends (R's help page Quotes)."""
    opening = _RAW.match(text, at)
    assert opening
    quote, dashes, bracket = opening.groups()
    closing = f"{_CLOSING[bracket]}{dashes}{quote}"
    stop = text.find(closing, opening.end())
    if stop < 0:
        raise Broken("a raw string that begins here has no end", line)
    return stop + len(closing)
