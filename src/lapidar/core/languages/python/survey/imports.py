"""What one piece of source imports, starts, and names on a person's own machine: read from its syntax tree."""

from __future__ import annotations

import ast
import re
import shlex
from collections.abc import Iterator
from typing import Literal

from lapidar.core.languages.surveying import PERSONAL, PERSONAL_ROOTS, SourceUses, Use

__all__ = ["read"]

Manner = Literal["plain", "in a function", "tried", "for type checking", "by name"]

# What is looked for inside expressions; a text without any of these has nothing there.
_IN_EXPRESSIONS = re.compile(
    r"subprocess|os\.system|os\.popen|shutil\.which|import_module|__import__|CDLL|LoadLibrary|dlopen|find_library"
    rf"|[\"']{PERSONAL_ROOTS}"
)
_STATEMENT_LISTS = ("body", "orelse", "finalbody", "handlers", "cases")
_OPENERS = frozenset({"CDLL", "PyDLL", "LoadLibrary", "dlopen", "find_library"})  # of ctypes and cffi
_STARTERS = frozenset({"run", "call", "check_call", "check_output", "Popen"})


def read(code: str) -> SourceUses:
    """Read a piece of source.

    Raises:
        SyntaxError: it is no Python of the version that Lapidar runs on.
    """
    reader = _Reader(deep=_IN_EXPRESSIONS.search(code) is not None)
    reader.visit(ast.parse(code))
    return reader.found


class _Reader(ast.NodeVisitor):
    """Walks a syntax tree and knows where in it it is.

    Args:
        deep: whether to look into expressions. Import statements are found without; that is most of the files, and a
            small part of each tree.
    """

    def __init__(self, *, deep: bool) -> None:
        self.found = SourceUses.none()
        self._manners: list[Manner] = []
        self._deep = deep

    def generic_visit(self, node: ast.AST) -> None:
        if self._deep:
            super().generic_visit(node)
            return
        for name in _STATEMENT_LISTS:
            children = getattr(node, name, None)
            if isinstance(children, list):  # a lambda's body is none
                for child in children:
                    self.visit(child)

    def _module(self, name: str, line: int, manner: Manner | None = None) -> None:
        # What is tried is optional wherever it stands; what is for type checking is never run.
        for strongest in ("for type checking", "tried", "in a function"):
            if strongest in self._manners:
                manner = manner or strongest
                break
        self.found.modules.append(Use(name, line, manner or "plain"))

    def visit_Import(self, node: ast.Import) -> None:
        for alias in node.names:
            self._module(alias.name, node.lineno)

    def visit_ImportFrom(self, node: ast.ImportFrom) -> None:
        if node.level == 0 and node.module:
            self._module(node.module, node.lineno)

    def _within(self, manner: Manner, nodes: list[ast.stmt]) -> None:
        self._manners.append(manner)
        for node in nodes:
            self.visit(node)
        self._manners.pop()

    def visit_FunctionDef(self, node: ast.FunctionDef) -> None:
        for decorator in node.decorator_list:
            self.visit(decorator)
        if self._deep:
            self.visit(node.args)
        self._within("in a function", node.body)

    def visit_Expr(self, node: ast.Expr) -> None:
        if self._deep:
            self.visit(node.value)

    def visit_AsyncFunctionDef(self, node: ast.AsyncFunctionDef) -> None:
        self._within("in a function", node.body)

    def visit_Try(self, node: ast.Try) -> None:
        if any(_catches_import(handler) for handler in node.handlers):
            self._within("tried", node.body)
            for handler in node.handlers:
                self._within("tried", handler.body)
        else:
            for statement in (*node.body, *(s for handler in node.handlers for s in handler.body)):
                self.visit(statement)
        for statement in (*node.orelse, *node.finalbody):
            self.visit(statement)

    def visit_If(self, node: ast.If) -> None:
        if _is_type_checking(node.test):
            self._within("for type checking", node.body)
            for statement in node.orelse:
                self.visit(statement)
        else:
            self.generic_visit(node)

    def visit_Call(self, node: ast.Call) -> None:
        name = _called(node.func)
        first = _literal(node.args[0]) if node.args else None
        if isinstance(first, str) and name in ("importlib.import_module", "import_module", "__import__"):
            if not first.startswith("."):
                self._module(first, node.lineno, "by name")
        elif node.args and _starts_program(name):
            program = _program(node.args[0])
            if program:
                self.found.programs.append(Use(program, node.lineno, "plain"))
        elif isinstance(first, str) and name.rpartition(".")[2] in _OPENERS:
            library = f"lib{first}.so" if name.endswith("find_library") else first
            if ".so" in library:
                self.found.libraries.append(Use(library, node.lineno, "plain"))
        self.generic_visit(node)

    def visit_Constant(self, node: ast.Constant) -> None:
        if isinstance(node.value, str) and PERSONAL.match(node.value):
            self.found.paths.append(Use(node.value, node.lineno, "plain"))


def _catches_import(handler: ast.ExceptHandler) -> bool:
    if handler.type is None:
        return True
    names = {node.id for node in ast.walk(handler.type) if isinstance(node, ast.Name)}
    return bool(names & {"ImportError", "ModuleNotFoundError", "Exception", "BaseException"})


def _is_type_checking(test: ast.expr) -> bool:
    return _called(test) in ("TYPE_CHECKING", "typing.TYPE_CHECKING", "t.TYPE_CHECKING")


def _called(node: ast.expr) -> str:
    """A dotted name as written, "" for anything else."""
    if isinstance(node, ast.Name):
        return node.id
    if isinstance(node, ast.Attribute):
        base = _called(node.value)
        return f"{base}.{node.attr}" if base else ""
    return ""


def _literal(node: ast.expr) -> object:
    try:
        return ast.literal_eval(node)
    except (ValueError, TypeError, SyntaxError, MemoryError, RecursionError):
        return None


def _starts_program(name: str) -> bool:
    module, _, function = name.rpartition(".")
    return (module == "subprocess" and function in _STARTERS) or name in ("os.system", "os.popen", "shutil.which")


def _program(node: ast.expr) -> str | None:
    """The program of a literal command: a string as a shell would split it, or the first word of a list."""
    if isinstance(node, ast.List | ast.Tuple) and node.elts:
        node = node.elts[0]
        word = _literal(node)
        return word if isinstance(word, str) and word else None
    command = _literal(node)
    if not isinstance(command, str):
        return None
    return next(_words(command), None)


def _words(command: str) -> Iterator[str]:
    try:
        for word in shlex.split(command):
            if not re.fullmatch(r"\w+=.*", word):
                yield word
    except ValueError:
        return
