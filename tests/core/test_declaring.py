"""What a project declares: lists, targets, edits, and the standards' own examples of versions and ranges."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path

from packaging.specifiers import SpecifierSet
from packaging.tags import sys_tags
from packaging.version import Version

from core.test_solver import Made, wish
from lapidar.core import languages
from lapidar.core.declaring import editing, reading
from lapidar.core.errors import DeclarationError
from lapidar.core.languages.python.declaring import lists as listed
from lapidar.core.languages.python.pinning.candidates import names_prerelease, wish_of
from lapidar.core.languages.python.pinning.target import Target
from lapidar.core.languages.python.requirements import requirement_of
from lapidar.core.pinning.solver import Solver, Unsolvable
from lapidar.core.place import Place
from lapidar.core.records.snapshot import Platform, Runtime
from support import InFolder

# Version specifiers specification, its own examples of what a range takes and what it does not.
RANGES = [
    ("~=2.2", ["2.2", "2.3", "2.99"], ["3.0", "2.1", "3.0a1"]),
    ("~=1.4.5", ["1.4.5", "1.4.9"], ["1.5.0", "1.4.4"]),
    ("~=2.2.post3", ["2.2.post3", "2.3"], ["2.2", "3.0"]),
    ("~=1.4.5a4", ["1.4.5a4", "1.4.5", "1.4.6"], ["1.5", "1.4.5a3"]),
    ("==1.1", ["1.1", "1.1.0", "1.1+local"], ["1.1.post1", "1.1a1", "1.1.dev1"]),
    ("==1.1.post1", ["1.1.post1"], ["1.1"]),
    ("==1.1.*", ["1.1", "1.1.post1", "1.1a1", "1.1.7"], ["1.2", "1.10"]),
    ("!=1.1", ["1.1.post1", "1.2"], ["1.1", "1.1.0"]),
    ("!=1.1.*", ["1.2"], ["1.1.post1", "1.1.9"]),
    ("<3.1", ["3.0", "3.0.9"], ["3.1", "3.1.dev0", "3.1rc1"]),
    (">1.7", ["1.7.1", "1.8"], ["1.7", "1.7.0.post1", "1.7.0+local"]),
    (">1.7.post2", ["1.7.1", "1.7.0.post3"], ["1.7.0", "1.7.post2"]),
    ("===foobar", [], ["1.0"]),
    ("===1.0", ["1.0"], ["1.0.0", "1"]),
    (">=1!1.0", ["1!1.0", "2!0.1"], ["999.0"]),
    ("<=2013.10", ["2013.10"], ["1!1.0"]),
]
# The same specification's order of versions.
ORDER = [
    "1.dev0",
    "1.0.dev456",
    "1.0a1",
    "1.0a2.dev456",
    "1.0a12.dev456",
    "1.0a12",
    "1.0b1.dev456",
    "1.0b2",
    "1.0b2.post345.dev456",
    "1.0b2.post345",
    "1.0rc1.dev456",
    "1.0rc1",
    "1.0",
    "1.0+abc.5",
    "1.0+abc.7",
    "1.0+5",
    "1.0.post456.dev34",
    "1.0.post456",
    "1.0.15",
    "1.1.dev1",
    "1!0.1",
]


class Standards(unittest.TestCase):
    def test_ranges(self) -> None:
        """Through the resolver: with nothing else to choose from, what is in a range is taken and the rest is not."""
        for text, inside, outside in RANGES:
            for version in [*inside, *outside]:
                with self.subTest(range=text, version=version):
                    made = Made({"a": [Version(version)]}, {})
                    if version in inside:
                        self.assertEqual(Solver(made, [wish(f"a{text}")]).solve(), {"a": Version(version)})
                    else:
                        self.assertRaises(Unsolvable, Solver(made, [wish(f"a{text}")]).solve)

    def test_the_newest_by_the_order_of_versions(self) -> None:
        versions = [Version(text) for text in ORDER]
        for count in range(1, len(versions) + 1):
            made = Made({"a": versions[:count]}, {})
            self.assertEqual(Solver(made, [wish("a")]).solve(), {"a": versions[count - 1]})

    def test_which_ranges_name_a_prerelease(self) -> None:
        for text, expected in ((">=1.0", False), (">=1.0rc1", True), ("<2.0.dev0", True), ("==1.0a1", True),
                               ("==1.*", False), ("===anything", False), ("", False)):  # fmt: skip
            self.assertEqual(names_prerelease(SpecifierSet(text)), expected, text)

    def test_tags_are_those_of_this_machine(self) -> None:
        """The library's own tags of the interpreter that runs the tests, worked out from the lockfile's records."""
        import platform
        import sys

        target = self.target(platform.python_version(), " ".join(platform.libc_ver()))
        mine = [tag for tag in sorted(target.tags, key=lambda tag: target.tags[tag]) if "musllinux" not in tag]
        own = [
            str(tag)
            for tag in sys_tags()
            if (tag.interpreter.startswith(("cp", "py")) and "linux" in tag.platform) or tag.platform == "any"
        ]
        newest = f"cp{sys.version_info[0]}{sys.version_info[1]}"
        self.assertEqual(
            [tag for tag in mine if tag.startswith(newest)], [tag for tag in own if tag.startswith(newest)]
        )
        self.assertEqual(set(own) - set(mine), set())

    def target(self, version: str = "3.11.7", libc: str = "glibc 2.28", machine: str = "x86_64") -> Target:
        tree = "sha256:" + "0" * 64
        runtime = Runtime("python", "cpython", version, "main", "bin/python", {"site": "lib/site"}, tree, 1, 1, ())
        return Target(runtime, Platform("linux", machine, libc))

    def test_which_wheels_fit(self) -> None:
        target = self.target()
        ranked = [
            "a-1-cp311-cp311-linux_x86_64.whl",
            "a-1-cp311-cp311-manylinux_2_28_x86_64.whl",
            "a-1-cp311-cp311-manylinux2014_x86_64.whl",
            "a-1-cp311-abi3-manylinux_2_17_x86_64.manylinux2014_x86_64.whl",
            "a-1-cp39-abi3-manylinux1_x86_64.whl",
            "a-1-py3-none-manylinux_2_5_x86_64.whl",
            "a-1-py2.py3-none-any.whl",
        ]
        ranks = [target.rank(name) for name in ranked]
        self.assertEqual(ranks, sorted(ranks, key=lambda rank: -1 if rank is None else rank))
        self.assertNotIn(None, ranks)
        for name in (
            "a-1-cp312-cp312-manylinux_2_28_x86_64.whl",
            "a-1-cp311-cp311-manylinux_2_29_x86_64.whl",
            "a-1-cp311-cp311-manylinux_2_28_aarch64.whl",
            "a-1-cp311-cp311t-manylinux_2_28_x86_64.whl",
            "a-1-cp311-cp311-musllinux_1_2_x86_64.whl",
            "a-1-cp311-cp311-win_amd64.whl",
            "a-1.whl",
        ):
            self.assertIsNone(target.rank(name), name)
        self.assertEqual(target.rank("a-1-5-py3-none-any.whl"), target.rank("a-1-py3-none-any.whl"))
        arm = self.target(machine="aarch64", libc="glibc 2.17")
        self.assertIsNotNone(arm.rank("a-1-cp311-cp311-manylinux2014_aarch64.whl"))
        self.assertIsNone(arm.rank("a-1-cp311-cp311-manylinux_2_12_aarch64.whl"))

    def test_markers_and_runtimes(self) -> None:
        target = self.target()
        self.assertEqual(target.markers["python_version"], "3.11")
        self.assertEqual(target.markers["sys_platform"], "linux")
        for text, expected in ((">=3.9", True), ("", True), (">=3.12", False), ("~=3.11.0", True), ("nonsense", True)):
            self.assertEqual(target.fits_python(text), expected, text)

    def test_a_need_in_words(self) -> None:
        for text, expected in (
            ("Numpy <3, >=2", "Numpy>=2,<3"),
            ("plot[b,a]==1.*", "plot[a,b]==1.*"),
            ("a @ https://packages.example/a.whl", "a @ https://packages.example/a.whl"),
            ("a!=1.5,~=1.4 ; python_version > '3'", "a~=1.4,!=1.5"),
        ):
            found = wish_of(requirement_of(reading.parse_need(text)))
            self.assertEqual(found.text, expected)
        self.assertEqual(wish_of(requirement_of(reading.parse_need("A_b[X_y]")))[:2], ("a-b", ("x-y",)))


class Lists(InFolder):
    def read(self, **files: str) -> listed.Listed:
        for name, text in files.items():
            (self.root / f"{name}.txt").write_text(text)
        return listed.read(self.root / f"{next(iter(files))}.txt")

    def test_what_lists_hold(self) -> None:
        found = self.read(
            first="# a comment\n\nnumpy>=2 # why\n  pandas [plot] >= 2 ; python_version >= '3.9'\nsherd @ https://packages.example/sherd.whl#sha256=ab\n"
            "-r second.txt\n-c limits.txt\n--extra-index-url=https://packages.example/simple\n-f wheels\n-e .\n",
            second="-r first.txt\nglaze==1.0 \\\n   --hash=sha256:"
            + "a" * 64
            + " \\\n   --hash sha256:"
            + "b" * 64
            + "\n",
            limits="clay<2\n",
        )
        self.assertEqual([need.name for need in found.needs], ["numpy", "pandas", "sherd", "glaze"])
        self.assertEqual(found.needs[0].where, "first.txt:3")
        self.assertEqual(requirement_of(found.needs[1]).extras, {"plot"})
        self.assertEqual([need.text for need in found.limits], ["clay<2"])
        self.assertEqual(found.sha256, {"glaze": ("a" * 64, "b" * 64)})
        self.assertEqual(found.indexes, ["https://packages.example/simple", "wheels"])
        self.assertEqual(found.problems, ["first.txt:10: -e was passed over"])

    def test_what_cannot_be_read(self) -> None:
        found = self.read(first="numpy>>2\n-r nowhere.txt\n./folder\nclay\n")
        self.assertEqual([need.name for need in found.needs], ["clay"])
        self.assertEqual(len(found.problems), 3)
        self.assertIn("first.txt:1", found.problems[0])
        self.assertIn("nowhere.txt cannot be read", found.problems[1])


class Editing(unittest.TestCase):
    def edited(self, text: str, *needs: str, group: str = "", drop: tuple[str, ...] = ()) -> str:
        place = editing.own_place(text, languages.of("python"))
        if needs:
            editing.added(place, [reading.parse_need(need, "", group) for need in needs])
        if drop:
            editing.dropped(place, drop, group or None)
        return place.text

    def test_an_empty_file(self) -> None:
        self.assertEqual(self.edited("", "clay>1"), '[needs]\npackages = [\n    "clay>1",\n]\n')

    def test_comments_and_order_stay(self) -> None:
        text = '# top\n[index]\nmain = "x" # here\n\n[needs]\n# before\npackages = ["b", "a>=1"] # beside\n'
        self.assertEqual(
            self.edited(text, "a>2", "c"),
            '# top\n[index]\nmain = "x" # here\n\n[needs]\n# before\npackages = ["b", "a>2", "c"] # beside\n',
        )
        self.assertIn("# kept", self.edited('[needs]\npackages = [\n    "a",  # kept\n    "b",\n]\n', drop=("B",)))

    def test_groups(self) -> None:
        text = self.edited("", "clay", group="report")
        self.assertIn('report = [\n    "clay",\n]', text)
        self.assertNotIn("clay", self.edited(text, drop=("clay",)))
        with self.assertRaisesRegex(DeclarationError, "not declared in the group other"):
            self.edited(text, group="other", drop=("clay",))

    def test_reading_what_was_written(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            project = Place.of_project(Path(name))
            texts = {"lapidar.toml": self.edited(self.edited("", "clay[fine]>=1", "Glaze"), "slip", group="Dev")}
            needs = reading.read(project, texts).needs
            self.assertEqual(
                [(need.name, need.group) for need in needs], [("clay", ""), ("glaze", ""), ("slip", "dev")]
            )

    def test_what_is_refused(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            path = Path(name) / "pyproject.toml"
            path.write_text('[project]\nname = "x"\ndynamic = ["dependencies"]\n')
            with self.assertRaisesRegex(DeclarationError, "dynamic"):
                editing.place_of(Path(name), languages.of("python"))
            path.write_text("[tool.x]\n")
            self.assertEqual(editing.place_of(Path(name), languages.of("python")).file, "lapidar.toml")
            path.write_text('[project]\nname = "x"\ndependencies = "clay"\n')
            with self.assertRaisesRegex(DeclarationError, "list of strings"):
                editing.place_of(Path(name), languages.of("python")).array("", create=True)


if __name__ == "__main__":
    unittest.main()
