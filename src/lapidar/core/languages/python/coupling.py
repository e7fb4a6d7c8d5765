"""Which changed files of a package go together: who takes a name from a module needs the version of it that has that
name. Read off the sources, without running any; what they do not say is no need."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from functools import cached_property

from msgspec import Struct

from lapidar.core.cache.store import Cache
from lapidar.core.cache.trees import LINK, Entry, Tree
from lapidar.core.errors import LapidarError

__all__ = ["needs_between"]

_ROOT = re.compile(r"(?:site|lib/python[\d.]+t?)/")
_TESTS = re.compile(r"/tests?/|/conftest\.py$")  # which take from all of a package, and nobody takes from them
_EXTENSION = re.compile(r"\.(?:cpython-[\w-]+\.|abi3\.)?so$")
# Sources are read by patterns: to parse all of a large package, and walk through it, takes most of a minute.
_OPEN = ("globals()", "sys.modules[", "import *", "def __getattr__(name")  # whose names the source does not tell
_WORD = re.compile(r"[A-Za-z_]\w*")
_COMPILED_WORD = re.compile(rb"(?<![\w.])[A-Za-z_][A-Za-z0-9_]{2,}(?=\0)")
_TOP = re.compile(r"^(?:async def|def|class)[ \t]+(\w+)|^(\w+)[ \t]*(?::[^=\n]*)?=(?!=)", re.MULTILINE)
_DEFINED = re.compile(r"^[ \t]*(?:async[ \t]+def|def|class)[ \t]+(\w+)", re.MULTILINE)
_PARAMETERS = re.compile(r"^[ \t]*(?:async[ \t]+)?def[ \t]+(\w+)[ \t]*\(((?:[^()]|\([^()]*\))*)\)", re.MULTILINE)
_PARAMETER = re.compile(r"(?:^|,)\s*(\*\*|\*?\w*)")
_ANY = "**"
_GIVEN = re.compile(r"(?:^|,)\s*(\w+)\s*=(?!=)")
_ATTRIBUTE = re.compile(r"\.([A-Za-z_]\w*)")
_BINDING = re.compile(
    r"\b(?:def|class|import|as|global|for)\s+(\w+)"  # and what stands after commas, or alone on a line of a list
    r"|,[ \t]*(\w+)"
    r"|^[ \t]*(\w+)[ \t]*(?::[^=\n]+)?=(?!=)"
    r"|^[ \t]+(\w+),?[ \t]*(?:\#.*)?$",
    re.MULTILINE,
)
_LISTED = r"(\([^)]*\)|[^\n\\#;]*(?:\\\n[^\n\\#;]*)*)"
_FROM = re.compile(r"^[ \t]*from[ \t]+(\.*)[ \t]*([\w.]*)[ \t]+import[ \t]*" + _LISTED, re.MULTILINE)
_IMPORT = re.compile(r"^[ \t]*import[ \t]+" + _LISTED, re.MULTILINE)
_NAMED = re.compile(r"(?:^|,)[\s\\]*(?:\#[^\n]*\s*)*([\w.]+)(?:\s+as\s+(\w+))?")
_CHAIN = re.compile(r"(?<![\w.])([A-Za-z_]\w*)((?:\.[A-Za-z_]\w*)+)")
_CHECKED_ONLY = re.compile(
    r"^([ \t]*)if (?:t\.|typing\.)?TYPE_CHECKING:[^\n]*\n(?:\1[ \t]+[^\n]*\n|[ \t]*\n)*", re.MULTILINE
)


def needs_between(before: Tree, after: Tree, cache: Cache) -> tuple[dict[str, set[str]], list[str]]:
    """What goes together of the files that differ between two trees.

    Args:
        before, after: of two versions of a package, or of a runtime.
        cache: has their files.

    Returns:
        By a path, those without whose change its own cannot be; and the compiled modules, which are made together, and
        look into one another in ways that cannot be read off them.
    """
    old, new = _Side(before, after, cache), _Side(after, before, cache)
    found: dict[str, set[str]] = {}
    for path, provider in new.lacking_in(old):
        found.setdefault(path, set()).add(provider)
    for path, provider in old.lacking_in(new):
        found.setdefault(provider, set()).add(path)
    return found, sorted(old.compiled & new.compiled)


class _Source(Struct, frozen=True, dict=True):
    """The source of a module.

    Attributes:
        names: what it binds, at its top or elsewhere.
        tops: those that plainly stand at its top.
        is_open: there may be others.
    """

    module: str
    path: str
    text: str
    names: frozenset[str] = frozenset()
    tops: frozenset[str] = frozenset()
    is_open: bool = False

    @cached_property
    def words(self) -> set[str]:
        return set(_WORD.findall(self.text))


class _Side:
    """One of two trees: its modules, and what those of its files say that the other has not in the same way."""

    def __init__(self, tree: Tree, other: Tree, cache: Cache) -> None:
        same = {(entry.path, entry.content) for entry in other}
        self.paths: dict[str, str] = {}  # by a module's dotted name
        self.compiled: set[str] = set()
        self.changed: dict[str, _Source] = {}
        for entry in tree:
            name = _module_name(entry.path)
            if name is None:
                continue
            self.paths[name] = entry.path
            if (entry.path, entry.content) in same or entry.kind == LINK or _TESTS.search(entry.path):
                continue
            self.changed[entry.path] = _source(name, entry, cache)
            if not entry.path.endswith(".py"):
                self.compiled.add(entry.path)

    def lacking_in(self, other: _Side) -> Iterator[tuple[str, str]]:
        """Files that take what the other side does not have, and the files that have it here."""
        yield from self._names_lacking_in(other)
        yield from self._attributes_lacking_in(other)
        yield from self._arguments_lacking_in(other)

    def _names_lacking_in(self, other: _Side) -> Iterator[tuple[str, str]]:
        """By names that modules have here and not there."""
        only_here = self._names_missing_in(other)
        for path, source in self.changed.items():
            if self._may_take(source, only_here):
                for use in _uses(source):
                    module, provider = self._provider(use)
                    if provider and provider != path and not other.has(use, module):
                        yield path, provider

    def _attributes_lacking_in(self, other: _Side) -> Iterator[tuple[str, str]]:
        """By functions and classes of whose names no changed file there says a word."""
        there = set().union(*(source.words for source in other.changed.values()))
        defined: dict[str, set[str]] = {}
        for path, source in self.changed.items():
            for name in _DEFINED.findall(source.text):
                if name not in there:
                    defined.setdefault(name, set()).add(path)
        for path, source in self.changed.items():
            for name in set(_ATTRIBUTE.findall(source.text)) & defined.keys():
                yield from ((path, provider) for provider in defined[name] - {path})

    def _arguments_lacking_in(self, other: _Side) -> Iterator[tuple[str, str]]:
        """By named arguments that a function has here and not there."""
        added: dict[str, list[tuple[str, set[str]]]] = {}
        for path, source in self.changed.items():
            there = _parameters(other.changed[path].text) if path in other.changed else {}
            for function, names in _parameters(source.text).items() if there else ():
                new = names - there.get(function, names)
                if new and _ANY not in there[function]:
                    added.setdefault(function, []).append((path, new))
        for path, source in self.changed.items():
            for function in source.words & added.keys():
                others = [(at, new) for at, new in added[function] if at != path and new & source.words]
                given = set(_given(source.text, function)) if others else set()
                yield from ((path, provider) for provider, new in others if new & given)

    def _may_take(self, source: _Source, only_here: Mapping[str, set[str]]) -> bool:
        """Whether a source has the words of such a name, and of the module that it is in: most have not."""
        words = source.words
        return any(
            path != source.path
            and (path.endswith("/__init__.py") or self.changed[path].module.rpartition(".")[2] in words)
            for word in words & only_here.keys()
            for path in only_here[word]
        )

    def _names_missing_in(self, other: _Side) -> dict[str, set[str]]:
        """The names that modules have here and not there, with the files; of a module that is not there, its own."""
        found: dict[str, set[str]] = {}
        for path, source in self.changed.items():
            there = other.changed.get(path)
            names = source.tops - there.names if there else {source.module.rpartition(".")[2]}
            for name in names:
                found.setdefault(name, set()).add(path)
        return found

    def _provider(self, use: str) -> tuple[str, str | None]:
        """The module that has a dotted name, and its file where that is changed; None where none is known to."""
        module, name = self._split(use)
        path = self.paths.get(module)
        source = self.changed.get(path or "")
        return module, path if source and (not name or name in source.names) else None

    def has(self, use: str, provider: str) -> bool:
        """Whether a dotted name is there, as far as can be told.

        Args:
            provider: the module that has it on the other side.
        """
        module, name = self._split(use)
        source = self.changed.get(self.paths.get(module, ""))
        if source is None:  # both sides have the module as it is: what they do not share is modules within it
            return bool(module) and module == provider
        return not name or source.is_open or name in source.names

    def _split(self, use: str) -> tuple[str, str]:
        """The module that a dotted name begins with, and the name that is taken from it."""
        module, rest = use, ""
        while module and module not in self.paths:
            module, _, last = module.rpartition(".")
            rest = f"{last}.{rest}" if rest else last
        return module, rest.partition(".")[0]


def _module_name(path: str) -> str | None:
    """The dotted name of the module that a file of a tree is; None where it is none."""
    root = _ROOT.match(path)
    if root is None:
        return None
    inner = path[root.end() :]
    plain = inner.removesuffix(".py") if inner.endswith(".py") else _EXTENSION.sub("", inner)
    if plain == inner:
        return None
    return plain.removesuffix("/__init__").replace("/", ".")


def _source(module: str, entry: Entry, cache: Cache) -> _Source:
    """The source of a module; one that may have any name where it cannot be read."""
    try:
        data = cache.read(entry)
        if not entry.path.endswith(".py"):  # the names that a compiled module gives stand in it as texts
            words = frozenset(word.decode("ascii") for word in _COMPILED_WORD.findall(data))
            return _Source(module, entry.path, "", words, words)
        text = data.decode("utf-8")
    except (LapidarError, OSError, UnicodeDecodeError):
        return _Source(module, entry.path, "", is_open=True)
    names = frozenset(name for found in _BINDING.findall(text) for name in found if name)
    tops = {name for found in _TOP.findall(text) for name in found if name}
    if entry.path.endswith("/__init__.py"):  # elsewhere hardly anybody takes what a module imported itself
        tops.update(word for _, _, listed in _FROM.findall(text) for word in _WORD.findall(listed))
    return _Source(module, entry.path, text, names, frozenset(tops & names), any(mark in text for mark in _OPEN))


def _parameters(text: str) -> dict[str, set[str]]:
    """By the name of a function, those of its parameters; of several with one name, of all of them."""
    found: dict[str, set[str]] = {}
    for function, listed in _PARAMETERS.findall(text):
        found.setdefault(function, set()).update(_PARAMETER.findall(listed))
    return found


def _given(text: str, function: str) -> Iterator[str]:
    """The named arguments that a source calls a function with."""
    for called in re.findall(rf"\b{function}\s*\(((?:[^()]|\([^()]*\))*)\)", text):
        yield from _GIVEN.findall(called)


def _uses(source: _Source) -> set[str]:
    """The dotted names that a source takes from modules, but for what only type checkers read."""
    text = _CHECKED_ONLY.sub("", source.text)
    package = source.module if source.path.endswith("/__init__.py") else source.module.rpartition(".")[0]
    found: set[str] = set()
    aliases: dict[str, str] = {}
    for dots, module, listed in _FROM.findall(text):
        origin = _absolute(len(dots), module, package)
        for name, alias in _NAMED.findall(listed.strip("()")):
            found.add(f"{origin}.{name}")
            aliases[alias or name] = f"{origin}.{name}"
    for listed in _IMPORT.findall(text):
        for name, alias in _NAMED.findall(listed):
            found.add(name)
            root = name if alias else name.partition(".")[0]
            aliases[alias or root] = root
    for root, rest in set(_CHAIN.findall(text)):
        if root in aliases:
            found.add(aliases[root] + rest)
    return found


def _absolute(dots: int, module: str, package: str) -> str:
    """The dotted name of the module that names are taken from.

    Args:
        dots: how many stand before the name.
        package: what one dot stands for.
    """
    if not dots:
        return module
    parts = package.split(".")
    above = ".".join(parts[: len(parts) - dots + 1])
    return f"{above}.{module}" if module else above
