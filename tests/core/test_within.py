"""What lies within a change: files that go together, byte-code that is shared, what libraries export, what lies between
two values."""

from __future__ import annotations

import itertools
import random
import shutil
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

import msgspec
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from core.test_system import compile_c
from lapidar.core.cache.store import Cache
from lapidar.core.cache.stowing import FileDraft, stow
from lapidar.core.cache.trees import Tree
from lapidar.core.changes import exports, values
from lapidar.core.changes.filewise import narrow_files
from lapidar.core.changes.hybrid import of_trees
from lapidar.core.changes.narrowing import Outcome
from lapidar.core.languages.python import bound, coupling
from lapidar.core.languages.python.bytecode import Compiler
from lapidar.core.progress import Silent
from lapidar.core.records import snapshot
from lapidar.core.records.snapshot import Runtime

VERSION = ".".join(map(str, sys.version_info[:3]))
RUNTIME = Runtime(
    language="python", implementation="cpython", version=VERSION, build="", places={}, tree="sha256:" + "0" * 64,
    executable=f"bin/python{VERSION.rpartition('.')[0]}", files=0, bytes=0, left_out=(),
)  # fmt: skip


class Trees(unittest.TestCase):
    def setUp(self) -> None:
        self.root = Path(tempfile.mkdtemp(prefix="lapidar-within-"))
        self.addCleanup(shutil.rmtree, self.root)
        self.cache = Cache(self.root / "cache", create=True)
        self.count = itertools.count()

    def tree(self, files: dict[str, str | bytes]) -> Tree:
        drafts = []
        for path, text in files.items():
            source = self.root / f"file{next(self.count)}"
            source.write_bytes(text if isinstance(text, bytes) else text.encode())
            drafts.append(FileDraft(path, str(source)))
        with self.cache.in_use():
            return stow(self.cache, {"tree": drafts}, None, Silent())["tree"].tree


class Coupling(Trees):
    def needs(self, before: dict[str, str | bytes], after: dict[str, str | bytes]) -> dict[str, set[str]]:
        old, new = ({f"site/kilns/{path}": text for path, text in side.items()} for side in (before, after))
        found, self.together = coupling.needs_between(self.tree(old), self.tree(new), self.cache)
        return {
            one.removeprefix("site/kilns/"): {other.removeprefix("site/kilns/") for other in others}
            for one, others in found.items()
        }

    def test_who_takes_a_name_needs_it(self) -> None:
        ways = {
            "from .heat import soak\n": True,
            "from kilns.heat import (\n    fire,  # the old one\n    soak as slow,\n)\n": True,
            "from kilns import heat as h\ndef f():\n    return h.soak()\n": True,
            "import kilns.heat\nprint(kilns.heat.soak)\n": True,
            "from .heat import fire, \\\n    soak\n": True,
            "from typing import TYPE_CHECKING\nif TYPE_CHECKING:\n    from .heat import soak\n": False,
            "from .heat import fire\nsoak = fire\n": False,
            "from elsewhere.heat import soak\n": False,
        }
        for text, needed in ways.items():
            with self.subTest(text):
                before: dict[str, str | bytes] = {"heat.py": "def fire(): ...\n", "use.py": "x = 1\n"}
                after: dict[str, str | bytes] = {"heat.py": "def fire(): ...\ndef soak(): ...\n", "use.py": text}
                self.assertEqual(self.needs(before, after), {"use.py": {"heat.py"}} if needed else {})
                # The other way round: the name goes only with what takes it.
                self.assertEqual(self.needs(after, before), {"heat.py": {"use.py"}} if needed else {})

    def test_modules_that_come_and_names_that_nobody_tells(self) -> None:
        use = "from .heat.slow import soak\n"
        after: dict[str, str | bytes] = {"heat/__init__.py": "", "heat/slow.py": "soak = 1\n", "use.py": use}
        before: dict[str, str | bytes] = {"heat/__init__.py": "", "use.py": ""}
        self.assertEqual(self.needs(before, after), {"use.py": {"heat/slow.py"}})
        for open_one in ("from .other import *\n", "globals().update(a=1)\n", "def __getattr__(name): ...\n"):
            before = {"heat.py": open_one, "use.py": ""}
            self.assertEqual(self.needs(before, {"heat.py": "soak = 1\n", "use.py": "from .heat import soak\n"}), {})
        broken: dict[str, str | bytes] = {"heat.py": b"\xff\xfe", "use.py": "from .heat import soak\n"}
        self.assertEqual(self.needs({"heat.py": "soak = 1\n", "use.py": ""}, broken), {})

    def test_methods_that_nobody_knew_before(self) -> None:
        before: dict[str, str | bytes] = {"heat.py": "class Kiln:\n    def fire(self): ...\n", "use.py": "x.fire()\n"}
        after: dict[str, str | bytes] = {"heat.py": "class Kiln:\n    def soak(self): ...\n", "use.py": "x.soak()\n"}
        self.assertEqual(self.needs(before, after), {"use.py": {"heat.py"}, "heat.py": {"use.py"}})
        before["third.py"] = "def soak(): ...\n"  # somebody may have had it
        self.assertEqual(self.needs(before, after), {"heat.py": {"use.py"}})

    def test_arguments_that_a_function_did_not_have(self) -> None:
        def files(heads: str, call: str) -> dict[str, str | bytes]:
            return {"heat.py": f"def soak({heads}):\n    return 1\n", "use.py": f"from .heat import soak\n{call}\n"}

        before, after = (
            files("hours, to=(1, 2)", "soak(2, to=3)"),
            files("hours,\n    to=(1, 2), slowly=0", "soak(2, slowly=1)"),
        )
        self.assertEqual(self.needs(before, after), {"use.py": {"heat.py"}})
        self.assertEqual(self.needs(after, before), {"heat.py": {"use.py"}})
        self.assertEqual(self.needs(files("hours, **rest", "soak(2)"), after), {})
        self.assertEqual(self.needs(before, files("hours, to=(1, 2), slowly=0", "soak(3, to=4)")), {})

    def test_compiled_modules_go_together(self) -> None:
        name = "_fast.cpython-311-x86_64-linux-gnu.so"
        before: dict[str, str | bytes] = {name: b"\x7fELF\0fire\0", "_other.abi3.so": b"1", "use.py": ""}
        after: dict[str, str | bytes] = {
            name: b"\x7fELF\0fire\0soak\0", "_other.abi3.so": b"2", "use.py": "from kilns._fast import soak\n"
        }  # fmt: skip
        self.assertEqual(self.needs(before, after), {"use.py": {name}})
        self.assertEqual(self.together, [f"site/kilns/{name}", "site/kilns/_other.abi3.so"])

    def test_what_holds_to_the_needs_can_be_imported(self) -> None:
        """Made-up packages, whose modules take functions from one another: hybrids with all that they need load."""
        loaded = lacking = 0
        for seed in range(12):
            source = random.Random(seed)
            before, after = self.version(source), self.version(source)
            old, new = (
                self.tree({f"site/kilns/{path}": text for path, text in side.items()}) for side in (before, after)
            )
            needs, _ = coupling.needs_between(old, new, self.cache)
            paths = sorted({entry.path for entry in (*old, *new)})
            for number in range(6):
                taken = {path for path in paths if source.random() < 0.5}
                if number % 3:  # all that it needs
                    while more := {other for one in taken for other in needs.get(one, ())} - taken:
                        taken |= more
                is_closed = all(needs.get(one, set()) <= taken for one in taken)
                works = self.loads(of_trees(old, new, taken))
                self.assertEqual(works, is_closed, (seed, sorted(taken), needs))
                loaded, lacking = loaded + works, lacking + (not works)
        self.assertGreater(min(loaded, lacking), 10)

    def version(self, source: random.Random) -> dict[str, str | bytes]:
        """Modules with functions that differ from version to version, and that take from those before them."""
        files: dict[str, str | bytes] = {"__init__.py": ""}
        given: dict[str, list[str]] = {}
        for number in range(6):
            module = f"m{number}"
            lines = []
            for other, names in given.items():
                if source.random() < 0.5:
                    name = source.choice(names)
                    way = source.choice(("from .{0} import {1}", "from kilns import {0}\nx = {0}.{1}"))
                    lines.append(way.format(other, name))
            given[module] = [f"{module}_f{one}" for one in source.sample(range(5), 2)]
            lines += [f"def {name}():\n    return {source.random()}" for name in given[module]]
            files[f"{module}.py"] = "\n".join(lines) + "\n"
        return files

    def loads(self, tree: Tree) -> bool:
        place = self.root / f"place{next(self.count)}"
        for entry in tree:
            file = place / entry.path
            file.parent.mkdir(parents=True, exist_ok=True)
            shutil.copyfile(self.cache.entry_path(entry), file)
        code = "import importlib, sys; sys.path.insert(0, sys.argv[1]); [importlib.import_module(f'kilns.m{n}') for n in range(6)]"
        done = subprocess.run([sys.executable, "-ISBc", code, place / "site"], capture_output=True, check=False)
        return done.returncode == 0


class Bound(Trees):
    """Whether a package works with another line of its runtime."""

    def works(self, version: str, files: dict[str, str | bytes], asked: str = "") -> bool:
        says = f"Metadata-Version: 2.1\nName: kilns\nVersion: 1\n{asked}\n"
        tree = self.tree({"site/kilns-1.dist-info/METADATA": says, **files})
        package = {"language": "python", "name": "kilns", "version": "1", "tree": tree.digest, "files": 1, "bytes": 1,
                   "requires": [], "wanted": True, "origin": {"kind": "environment"}}  # fmt: skip
        runtime = replace(RUNTIME, version=version)
        return bound.works_with(msgspec.convert(package, snapshot.Package), runtime, self.cache)

    def test_by_its_files_and_by_what_it_says(self) -> None:
        so = "site/kilns/_fast.{}so"
        tagged = so.format("cpython-311-x86_64-linux-gnu.")
        for version, files, asked, works in (
            ("3.12.1", {"site/kilns/__init__.py": ""}, "", True),
            ("3.12.1", {tagged: "x"}, "", False),
            ("3.11.9", {tagged: "x"}, "", True),
            ("3.1.4", {tagged: "x"}, "", False),
            ("3.12.1", {so.format("abi3."): "x"}, "", True),
            ("3.12.1", {so.format(""): "x"}, "", False),
            ("3.12.1", {"site/kilns.libs/libkiln.so": "x", "site/kilns.libs/libkiln-1.so.3": "x"}, "", True),
            ("3.12.1", {}, "Requires-Python: <3.12", False),
            ("3.12.1", {}, "Requires-Python: >=3.8", True),
            ("3.12.1", {}, "Requires-Python: whatever", True),
        ):
            with self.subTest((version, files, asked)):
                self.assertIs(self.works(version, dict(files), asked), works)


class SharedByteCode(Trees):
    def setUp(self) -> None:
        super().setUp()
        (self.root / "env" / "bin").mkdir(parents=True)
        (self.root / "env" / "bin" / "python").symlink_to(sys.executable)
        self.compiler = Compiler(self.cache, RUNTIME)

    def compiled(self, tree: Tree) -> Tree:
        with self.cache.in_use():
            return self.compiler.derive({tree.digest: tree}, self.root / "env", Silent())[tree.digest]

    def nobody_may_compile(self) -> None:
        shutil.rmtree(self.root / "env")

    def test_hybrids_have_it_from_both_sides(self) -> None:
        before = self.tree({"site/kilns.py": "HOT = 1\n", "site/glaze.py": "A = 1\n", "site/old.py": "print 1\n"})
        after = self.tree({"site/kilns.py": "HOT = 2\n", "site/glaze.py": "A = 2\n", "site/new.py": "B = 1\n"})
        hybrid = of_trees(before, after, {"site/kilns.py", "site/new.py"})
        known = {entry.path: entry for tree in (before, after) for entry in self.compiled(tree)}
        fresh = self.compiled(hybrid)
        self.compiler.forget(hybrid.digest)
        self.nobody_may_compile()
        self.compiler.share(hybrid, [before, after])
        self.assertEqual(self.compiler.known(hybrid.digest), fresh)
        self.assertEqual(len(fresh), 3, "one of its sources is none")
        self.assertLessEqual({entry.path for entry in fresh}, known.keys())

    def test_only_the_rest_is_compiled(self) -> None:
        before = self.tree({"site/kilns.py": "HOT = 1\n", "site/glaze.py": "A = 1\n"})
        later = self.tree({"site/kilns.py": "HOT = 1\n", "site/glaze.py": "A = 3\n"})
        fresh = self.compiled(later)
        self.compiler.forget(later.digest)
        self.compiled(before)
        self.compiler.share(later, [before])
        self.assertIsNone(self.compiler.known(later.digest))
        asked: list[str] = []
        run = self.compiler._run
        self.compiler._run = lambda jobs, *rest: asked.extend(entry.path for _, entry in jobs) or run(jobs, *rest)  # type: ignore[method-assign, func-returns-value]
        self.assertEqual(self.compiled(later), fresh)
        self.assertEqual(asked, ["site/glaze.py"])
        self.assertEqual([path for _, path in self.cache.all_derived() if path.name.endswith("-begun")], [])

    def test_what_the_cache_has_lost_is_compiled_again(self) -> None:
        before = self.tree({"site/kilns.py": "HOT = 1\n", "site/glaze.py": "A = 1\n"})
        later = self.tree({"site/kilns.py": "HOT = 1\n", "site/glaze.py": "A = 3\n"})
        (entry,) = (one for one in self.compiled(before) if "kilns" in one.path)
        self.compiler.share(later, [before])
        Path(self.cache.entry_path(entry)).unlink()
        made = self.compiled(later)
        self.assertTrue(self.cache.has_files(made))
        self.assertEqual(len(made), 2)


class Package:
    """A package two of whose versions differ in some files: one alters the result, and some work only with others.

    Attributes:
        known: needs that can be read off the files; true: all that there are, which may be more or fewer.
    """

    def __init__(self, seed: int) -> None:
        source = random.Random(seed)
        self.count = source.randint(2, 60)
        self.paths = [f"site/kilns/f{number:02d}.py" for number in range(self.count)]
        self.ring = source.sample(self.paths, source.choice((0, 0, min(5, self.count))))
        self.known: dict[str, set[str]] = {}
        self.true: dict[str, set[str]] = {}
        for _ in range(source.choice((0, self.count // 3, self.count))):
            one, other = source.sample(self.paths, 2)
            really, seen = source.random() < 0.8, source.random() < 0.95
            if really:
                self.true.setdefault(one, set()).add(other)
            if seen:
                self.known.setdefault(one, set()).add(other)
        if source.random() < 0.7:
            for one, other in zip(self.ring, [*self.ring[1:], *self.ring[:1]], strict=True):
                self.true.setdefault(one, set()).add(other)
        self.guilty = source.choice(self.paths)
        self.tried = 0

    def probe(self, taken: frozenset[str]) -> Outcome:
        self.tried += 1
        if any(not needed <= taken for one, needed in self.true.items() if one in taken and needed != {one}):
            return Outcome.UNKNOWN
        return Outcome.BAD if self.guilty in taken else Outcome.GOOD


class Filewise(unittest.TestCase):
    def test_the_file_among_those_that_go_together(self) -> None:
        alone = most = 0
        for seed in range(1500):
            package = Package(seed)
            with self.subTest(seed=seed):
                found = narrow_files(package.paths, package.probe, package.known, package.ring)
                every = frozenset((*found.named, *found.goes_with))
                self.assertIs(package.probe(every), Outcome.BAD)
                self.assertIn(package.guilty, every)
                is_needed = any(package.guilty in needed for one, needed in package.true.items() if one in every)
                if not is_needed and not (len(every) > 16 and package.guilty in package.ring):
                    alone += 1
                    self.assertEqual(found.named, (package.guilty,))
                most = max(most, package.tried)
        self.assertGreater(alone, 900)
        self.assertLess(most, 200)


class Exports(Trees):
    def test_what_differs_of_two_libraries(self) -> None:
        both = "int fire(void) {{ return {}; }}\n"
        one = compile_c(self.root, "one.so", both.format(7) + "int ash(void) { return 1; }\n").read_bytes()
        other = compile_c(
            self.root, "other.so", both.format(8) + "int slip(int n) { return n * n * n + 7; }\nint heat = 4;\n"
        ).read_bytes()
        self.assertEqual(
            exports.difference(one, other),
            ["new: heat, slip", "gone: ash", "of the same size, with other bytes: fire"],
        )
        longer = compile_c(self.root, "longer.so", "int fire(int n) { return n > 3 ? n * 7 : n - 1; }\n").read_bytes()
        self.assertEqual(exports.difference(one, longer), ["gone: ash", "of another size: fire"])
        self.assertEqual(exports.difference(one, one), [])
        for bad in (b"", b"\x7fELF", b"no library", one[:400], one[: len(one) // 2]):
            self.assertEqual(exports.difference(one, bad), [])


words = st.text("abc=-+123", min_size=1, max_size=4)


class Values(unittest.TestCase):
    def test_numbers(self) -> None:
        self.assertEqual(values.numbers_between("1", "4"), ["2", "3"])
        self.assertEqual(values.numbers_between("8", "5"), ["7", "6"])
        for old, new in (("1", "2"), ("1", "one"), ("", "3"), ("0", "99999"), ("-1", "4"), ("1.5", "3"), ("²", "9")):
            self.assertEqual(values.numbers_between(old, new), [], (old, new))

    @given(st.lists(words, unique=True), st.lists(words, unique=True))
    def test_lists(self, old: list[str], new: list[str]) -> None:
        found = values.lists(":".join(old), ":".join(new))
        if found is None:
            self.assertTrue(len(set(old) ^ set(new)) < 2 or (len(old) < 2 and len(new) < 2))
            return
        everything = range(len(found.differing))
        self.assertEqual(found.value(()), ":".join(old))
        self.assertEqual(sorted(found.value(everything).split(":")), sorted(":".join(new).split(":")))
        self.assertEqual(set(found.differing), set(old) ^ set(new))


if __name__ == "__main__":
    unittest.main()
