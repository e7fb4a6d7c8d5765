"""What one piece of R source loads, starts, opens, and names on a person's own machine: read from its tokens."""

from __future__ import annotations

import re
import shlex
from collections.abc import Sequence
from typing import Literal, NamedTuple

from lapidar.core.languages.r.requirements import NAME
from lapidar.core.languages.r.survey.tokens import Token, tokens
from lapidar.core.languages.surveying import PERSONAL, SourceUses, Use

__all__ = ["read", "read_namespace"]

Manner = Literal["plain", "in a function", "tried", "by name", "rendered", "declared"]

_NAME = re.compile(NAME)
# Functions that load a package by a symbol or a string, and those that take a string alone.
_ATTACHING = frozenset(("library", "require"))
_LOADING = frozenset(("requireNamespace", "loadNamespace", "attachNamespace", "getNamespace", "asNamespace"))
# Functions that look into a package that an argument names, and which argument that is where it has no name.
_LOOKING = {"data": None, "system.file": None, "vignette": 1, "demo": 1, "packageVersion": 0, "getFromNamespace": 1}
_STARTING = frozenset(("system", "system2", "pipe", "shell"))
_TRYING = frozenset(("try", "tryCatch", "withCallingHandlers", "suppressWarnings", "try_fetch"))
_IMPORTING = frozenset(("import", "importFrom", "importClassesFrom", "importMethodsFrom"))
_OPENING = {"(": ")", "[": "]", "{": "}"}
_CLOSING = frozenset(_OPENING.values())
_VARIABLE = re.compile(r"[A-Za-z_]\w*=")


class _Argument(NamedTuple):
    """An argument of a call: its name ("" where it has none), and its tokens."""

    name: str
    tokens: Sequence[Token]

    @property
    def literal(self) -> Token | None:
        """The one token that it consists of."""
        return self.tokens[0] if len(self.tokens) == 1 else None

    @property
    def text(self) -> str | None:
        """The string that it is, where it is one."""
        one = self.literal
        return one.value if one and one.kind == "string" else None


def read(code: str) -> SourceUses:
    """Read a piece of source.

    Raises:
        Broken: it is no R from some line on.
    """
    return _uses_of([token for token in tokens(code) if token.kind != "comment"])


def read_namespace(code: str) -> SourceUses:
    """Read the NAMESPACE of a package: the packages that it imports from (Writing R Extensions, 1.5.1).

    Raises:
        Broken: it is none from some line on.
    """
    found = SourceUses.none()
    parts = [token for token in tokens(code) if token.kind != "comment"]
    for at, token in enumerate(parts):
        if token.text in _IMPORTING and parts[at + 1 : at + 2] and parts[at + 1].text == "(":
            arguments = [one for one in _arguments(parts, at + 1) if not one.name and one.literal]
            named = arguments if token.text == "import" else arguments[:1]
            for one in named:
                assert one.literal
                found.modules.append(Use(one.literal.value, one.literal.line, "plain"))
    return found


def _uses_of(code: Sequence[Token]) -> SourceUses:
    """What a sequence of tokens, without comments, uses."""
    found = SourceUses.none()
    around: list[str] = []  # what each bracket that is open was opened by: the function called, "" where none was
    for at, token in enumerate(code):
        if token.kind == "string":
            _text(token, found)
        elif token.text in ("::", ":::"):
            _qualified(code, at, around, found)
        if token.kind == "operator" and token.text in _OPENING:
            before = code[at - 1] if at else None
            is_call = token.text == "(" and before is not None and before.kind == "name"
            name = before.value if is_call and before else ""
            around.append(_body_of(code, at) if token.text == "{" else name)
            if is_call:
                _call(name, before or token, code, at, around, found)
        elif token.text in _CLOSING and around:
            around.pop()
    return found


def _body_of(code: Sequence[Token], at: int) -> str:
    """What a brace begins the body of: "function" for that of a function."""
    if at and code[at - 1].text == ")":
        depth = 0
        for back in range(at - 1, -1, -1):
            depth += (code[back].text == ")") - (code[back].text == "(")
            if depth == 0:
                opener = code[back - 1].text if back else ""
                return "function" if opener in ("function", "\\") else ""
    return ""


def _manner(around: Sequence[str], name: str = "") -> Manner:
    if name in ("requireNamespace", "require") and ("if" in around or "stopifnot" in around):
        return "tried"
    if name == "requireNamespace" or _TRYING.intersection(around):
        return "tried"
    return "in a function" if "function" in around else "plain"


def _qualified(code: Sequence[Token], at: int, around: Sequence[str], found: SourceUses) -> None:
    """``package::name``"""
    before = code[at - 1] if at else None
    if before and before.kind in ("name", "string") and _NAME.fullmatch(before.value):
        found.modules.append(Use(before.value, before.line, _manner(around)))


def _text(token: Token, found: SourceUses) -> None:
    if PERSONAL.match(token.value):
        found.paths.append(Use(token.value, token.line, "plain"))


def _call(name: str, at_name: Token, code: Sequence[Token], at: int, around: list[str], found: SourceUses) -> None:
    if name in _ATTACHING:
        _attached(name, at_name, _arguments(code, at), around[:-1], found)
    elif name in _LOADING:
        first = _named(_arguments(code, at), ("package", "ns", "name"), 0)
        _named_package(first, at_name, _manner(around[:-1], name), found, name)
    elif name in _LOOKING:
        looked = _named(_arguments(code, at), ("package", "pkg", "ns"), _LOOKING[name])
        if looked and looked.text:
            _named_package(looked, at_name, _manner(around[:-1]), found, name)
    elif name in _STARTING:
        _started(name, at_name, _arguments(code, at), found)
    elif name == "dyn.load":
        first = _named(_arguments(code, at), ("x",), 0)
        if first and first.text:
            found.libraries.append(Use(first.text, at_name.line, "plain"))
    elif name == "setwd":
        first = _named(_arguments(code, at), ("dir",), 0)
        if first and first.text and first.text.startswith(("/", "~")) and not PERSONAL.match(first.text):
            found.paths.append(Use(first.text, at_name.line, "plain"))


def _attached(
    name: str, at_name: Token, arguments: Sequence[_Argument], around: Sequence[str], found: SourceUses
) -> None:
    """``library`` and ``require`` take a symbol at its word, unless they are told not to."""
    first = _named(arguments, ("package",), 0)
    if first is None:
        return  # a list of what there is, or the help of a package
    by_value = any(one.name == "character.only" and one.literal and one.literal.text[0] == "T" for one in arguments)
    if not by_value and first.literal and first.literal.kind == "name":
        value = first.literal.value
        if _NAME.fullmatch(value):
            found.modules.append(Use(value, at_name.line, _manner(around, name)))
        return
    _named_package(first, at_name, _manner(around, name), found, name)


def _named_package(
    argument: _Argument | None, at_name: Token, manner: Manner, found: SourceUses, function: str
) -> None:
    text = argument.text if argument else None
    if text is not None and _NAME.fullmatch(text):
        found.modules.append(Use(text, at_name.line, manner))
    elif text is None and argument is not None and argument.tokens:
        shown = "".join(token.text for token in argument.tokens)[:40]
        found.unclear.append(Use(f"{function}({shown})", at_name.line, "by name"))


def _started(name: str, at_name: Token, arguments: Sequence[_Argument], found: SourceUses) -> None:
    """Outside programs: a command line for a shell, or (system2) a program."""
    first = _named(arguments, ("command", "description", "cmd"), 0)
    text = first.text if first else None
    if first is not None and text is None and len(first.tokens) > 2 and first.tokens[0].value in ("paste", "paste0"):
        # The program of a line that is put together stands in its first piece.
        begun = first.tokens[2]
        text = begun.value if begun.kind == "string" and begun.value.strip().find(" ") > 0 else None
    if not text:
        return
    if name == "system2":
        found.programs.append(Use(text, at_name.line, "plain"))
        return
    try:
        words = shlex.split(text)
    except ValueError:
        words = text.split()
    program = next((word for word in words if not _VARIABLE.match(word)), "")
    if program and not set(program) & set("$`|;&<>(){}"):
        found.programs.append(Use(program, at_name.line, "plain"))


def _named(arguments: Sequence[_Argument], names: Sequence[str], place: int | None) -> _Argument | None:
    """The argument of one of these names, or else the one at a place among those without a name."""
    for one in arguments:
        if one.name in names:
            return one
    without = [one for one in arguments if not one.name]
    return without[place] if place is not None and place < len(without) else None


def _arguments(code: Sequence[Token], at: int) -> list[_Argument]:
    """The arguments of the call whose bracket is at a place."""
    found: list[_Argument] = []
    depth, begun = 0, at + 1
    for here in range(at, len(code)):
        text = code[here].text if code[here].kind == "operator" else ""
        if text in _OPENING:
            depth += 1
        elif text in _CLOSING:
            depth -= 1
        if depth == 0 or (depth == 1 and text == ","):
            if here > begun:
                found.append(_argument(code[begun:here]))
            begun = here + 1
        if depth == 0:
            break
    return found


def _argument(code: Sequence[Token]) -> _Argument:
    if len(code) > 1 and code[1].text == "=" and code[0].kind in ("name", "string"):
        return _Argument(code[0].value, code[2:])
    return _Argument("", code)
