"""The house is as docs/architecture.md draws it: what imports what, and where words of one language stand."""

from __future__ import annotations

import ast
import re
import unittest
from collections.abc import Iterator
from functools import cache
from graphlib import TopologicalSorter
from pathlib import Path

import lapidar

CORE = Path(lapidar.__file__).parent / "core"
# Each may import those before it, beside the modules that lie in core itself.
ORDER = (
    "records",
    "stores",
    "cache",
    "system",
    "net",
    "environment",
    "languages",
    "declaring",
    "pinning",
    "layers",
    "restored",
    "results",
    "steps",
    "changes",
    "parcels",
    "exchange",
    "languages.*",
    "flows",
)
# Packages are built in an environment that is restored like any other.
EXCEPTIONS = {("languages.python.pinning.workplace", "flows"), ("languages.r.pinning.workplace", "flows")}
# Lists of names of many languages, and the list of languages.
LISTED = {"languages/__init__.py": 1, "layers/libraries.py": 1, "layers/tools.py": 1}
PYTHON = re.compile(r"python|pyc|site-packages|dist-info|wheel", re.IGNORECASE)


@cache
def _parsed(path: Path) -> ast.Module:
    return ast.parse(path.read_text("utf-8"))


def _folder(module: str) -> str:
    return "languages.*" if _language(module) else module.partition(".")[0]


def _language(module: str) -> str:
    """The language that a module is of; "" where it is of none or of all."""
    parts = module.split(".")
    return parts[1] if parts[0] == "languages" and parts[1:2] and (CORE / "languages" / parts[1]).is_dir() else ""


def _imports(tree: ast.Module, *, types: bool = False) -> Iterator[str]:
    """What a module imports of Lapidar when it is loaded or at work; for types alone only where asked."""
    for_types = (
        set()
        if types
        else {
            id(inner)
            for node in ast.walk(tree)
            if isinstance(node, ast.If) and isinstance(node.test, ast.Name) and node.test.id == "TYPE_CHECKING"
            for inner in ast.walk(node)
        }
    )
    for node in ast.walk(tree):
        if isinstance(node, ast.ImportFrom) and node.module and id(node) not in for_types:
            yield from (f"{node.module}.{alias.name}" for alias in node.names if node.module.startswith("lapidar"))


def _parameters(function: ast.FunctionDef | ast.AsyncFunctionDef) -> list[str]:
    names = [one.arg for one in (*function.args.posonlyargs, *function.args.args, *function.args.kwonlyargs)]
    return names[1:] if names[:1] in (["self"], ["cls"]) else names


class Structure(unittest.TestCase):
    def test_nothing_takes_more_than_six(self) -> None:
        """What needs more is asked for with a record of its own, as `PinRequest` is one."""
        seen = set()
        for path in CORE.rglob("*.py"):
            for node in ast.walk(_parsed(path)):
                if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef):
                    seen.add(len(_parameters(node)))
                    self.assertLessEqual(len(_parameters(node)), 6, f"{path}:{node.lineno} {node.name}")
        self.assertEqual(seen, set(range(7)))

    def test_imports_go_one_way(self) -> None:
        seen = 0
        for path in CORE.rglob("*.py"):
            module = ".".join(path.relative_to(CORE).with_suffix("").parts).removesuffix(".__init__")
            if _folder(module) not in ORDER:
                continue
            for name in _imports(_parsed(path)):
                self.assertTrue(name.startswith(("lapidar.core.", "lapidar._version")), f"{module} imports {name}")
                other = _folder(name.removeprefix("lapidar.core."))
                theirs = _language(name.removeprefix("lapidar.core."))
                self.assertIn(theirs, ("", _language(module)) if _language(module) else ("", theirs), module)
                if other not in ORDER or other == _folder(module) or (module, other) in EXCEPTIONS:
                    continue
                seen += 1
                self.assertLess(ORDER.index(other), ORDER.index(_folder(module)), f"{module} imports {name}")
        self.assertGreater(seen, 100)

    def test_paths_in_a_cache_are_put_together_there(self) -> None:
        joined = re.compile(r"cache\.root\s*/|cache\.root\.(glob|joinpath)|Path\((self\.)?_?cache\.root,")
        for path in (*CORE.rglob("*.py"), *(CORE.parent / "cli").rglob("*.py")):
            if path.parent != CORE / "cache":
                self.assertIsNone(joined.search(path.read_text("utf-8")), path)
        self.assertIsNotNone(joined.search((CORE / "cache" / "work.py").read_text("utf-8")))

    def test_no_circle_among_modules(self) -> None:
        """Neither when they are loaded, nor at work, nor for types."""
        whole = CORE.parent
        files = {
            ".".join(path.relative_to(whole.parent).with_suffix("").parts).removesuffix(".__init__"): path
            for path in whole.rglob("*.py")
        }
        graph: dict[str, set[str]] = {}
        for module, path in files.items():
            names = _imports(_parsed(path), types=True)
            graph[module] = {name if name in files else name.rpartition(".")[0] for name in names} - {module}
        self.assertGreater(sum(map(len, graph.values())), 1000)
        TopologicalSorter(graph).prepare()  # raises an error that names the circle

    def test_words_of_one_language(self) -> None:
        found: dict[str, int] = {}
        for path in (one for one in CORE.rglob("*") if one.suffix in (".py", ".c", ".sh")):
            name = path.relative_to(CORE).as_posix()
            lines = sum(bool(PYTHON.search(line)) for line in path.read_text("utf-8").splitlines())
            if lines and not name.startswith("languages/python/"):
                found[name] = lines
        self.assertEqual(found, LISTED)


if __name__ == "__main__":
    unittest.main()
