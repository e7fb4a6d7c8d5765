"""The lockfile: canonical, verified, and clear about what is wrong with it."""

from __future__ import annotations

import re
import tomllib
import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from lapidar.core.errors import LockfileError
from lapidar.core.records import lockfile
from lapidar.core.records.snapshot import (
    Conditions,
    Libraries,
    Library,
    Origin,
    Package,
    Platform,
    Remainder,
    Runtime,
    Snapshot,
    Tool,
)

# Only values of variables and names of files of no package may hold control characters.
text = st.text(st.characters(blacklist_categories=["Cs", "Cc"]), min_size=1, max_size=20)
anything = st.text(st.characters(blacklist_categories=["Cs"]), min_size=1, max_size=20)
digests = st.binary(min_size=32, max_size=32).map(lambda data: "sha256:" + data.hex())
counts = st.integers(0, 2**62)
inside = st.sampled_from([".", "src", "a b/ü", "lib/x"])
origins = st.one_of(
    st.just(Origin(kind="environment")),
    st.builds(Origin, kind=st.just("archive"), url=text, file=text, sha256=text),
    st.builds(Origin, kind=st.just("version-control"), url=text, system=st.just("git"), commit=text, revision=text),
    st.builds(Origin, kind=st.just("local"), path=inside, folders=st.lists(inside, max_size=2).map(tuple)),
)
languages = st.sampled_from(["glaze", "python"])
runtimes = st.builds(
    Runtime,
    language=languages,
    implementation=text,
    version=text,
    build=text,
    executable=inside,
    places=st.dictionaries(st.sampled_from(["site", "headers", "packages"]), inside, max_size=3),
    tree=digests,
    files=counts,
    bytes=counts,
    left_out=st.lists(text, max_size=3).map(tuple),
)
packages = st.builds(
    Package,
    language=languages,
    name=text,
    version=text,
    tree=digests,
    files=counts,
    bytes=counts,
    requires=st.lists(text, max_size=3).map(tuple),
    wanted=st.booleans(),
    origin=origins,
)
remainders = st.builds(
    Remainder,
    language=languages,
    tree=digests,
    files=counts,
    bytes=counts,
    paths=st.lists(anything, max_size=3).map(tuple),
)
sha256 = st.binary(min_size=32, max_size=32).map(bytes.hex)
several = st.lists(text, max_size=3).map(tuple)
names = st.from_regex(r"[a-z][a-z0-9-]{0,9}", fullmatch=True)
users = st.one_of(
    st.sampled_from(["project", "run", "runtime/python", "remainder/python"]),
    names.map("packages/python/{}".format),
    names.map("tools/{}".format),
)
libraries = st.builds(
    Library,
    soname=st.from_regex(r"lib[a-z]{1,9}\.so(\.[0-9]{1,2})?", fullmatch=True),
    sha256=sha256,
    bytes=counts,
    used_by=st.lists(users, max_size=3).map(tuple),
    owner=st.none() | text,
    owner_version=st.none() | text,
    versions=several,
)
tools = st.builds(
    Tool,
    name=text,
    executable=inside,
    tree=digests,
    files=counts,
    bytes=counts,
    owner=st.none() | text,
    owner_version=st.none() | text,
    interpreter=st.none() | inside,
)
conditions = st.builds(
    Conditions,
    # Also a string that is equal to the word, and another object: as it comes out of a file.
    numerics=st.sampled_from(["native", "portable", "".join(["nat", "ive"])]),
    processor=text,
    features=several,
    kernel=text,
    baseline=st.none() | text,
    umask=st.none() | st.just("0022"),
    variables=st.dictionaries(text, anything, max_size=3),
    secrets=several,
    env_file=st.none() | inside,
    host=several,
)


def sorted_by(name: str, records: st.SearchStrategy[Any]) -> st.SearchStrategy[Any]:
    """A few records, each with a name of its own, in the lockfile's order."""
    many = st.lists(records, max_size=3, unique_by=lambda record: getattr(record, name))
    return many.map(lambda found: tuple(sorted(found, key=lambda record: getattr(record, name))))


def languages_of(records: st.SearchStrategy[Any], least: int = 0) -> st.SearchStrategy[Any]:
    """One record of each of some languages."""
    many = st.lists(records, min_size=least, max_size=2, unique_by=lambda record: record.language)
    return many.map(lambda found: tuple(sorted(found, key=lambda record: record.language)))


def _of_its_languages(snapshot: Snapshot) -> Snapshot:
    """Only what there is a runtime for."""
    packages, remainders = (
        tuple(one for one in several if one.language in snapshot.languages)
        for several in (snapshot.packages, snapshot.remainders)
    )
    return lockfile.identify(replace(snapshot, packages=packages, remainders=remainders))


snapshots = st.builds(
    Snapshot,
    format=st.just(lockfile.FORMAT),
    snapshot=st.just("sha256:" + "0" * 64),
    platform=st.builds(Platform, text, text, text),
    runtimes=languages_of(runtimes, 1),
    packages=st.lists(packages, max_size=4, unique_by=lambda package: package.name).map(
        lambda many: tuple(sorted(many, key=lambda package: (package.language, package.name)))
    ),
    remainders=languages_of(remainders),
    library_layer=st.none() | st.builds(Libraries, inside, digests, counts, counts),
    libraries=sorted_by("soname", libraries),
    tools=sorted_by("name", tools),
    conditions=st.none() | conditions,
).map(_of_its_languages)

SAMPLE = lockfile.identify(
    Snapshot(
        1,
        "sha256:" + "0" * 64,
        Platform("linux", "x86_64", "glibc 2.36"),
        (
            Runtime(
                "python",
                "cpython",
                "3.11.7",
                "main",
                "bin/python3.11",
                {"headers": "include/python3.11", "site": "lib/python3.11/site-packages"},
                "sha256:" + "1" * 64,
                10,
                1000,
                ("its own test suite",),
            ),
        ),
        (Package("python", "numpy", "2.1", "sha256:" + "2" * 64, 5, 500, (), True, Origin(kind="environment")),),
    )
)


class RoundTrip(unittest.TestCase):
    @given(snapshots)
    def test_parse_of_render(self, snapshot: Snapshot) -> None:
        rendered = lockfile.render(snapshot)
        self.assertEqual(lockfile.parse(rendered), snapshot)
        self.assertEqual(lockfile.render(lockfile.parse(rendered)), rendered)

    @given(snapshots)
    def test_it_is_standard_toml(self, snapshot: Snapshot) -> None:
        data = tomllib.loads(lockfile.render(snapshot))
        self.assertEqual(data["snapshot"], snapshot.snapshot)
        self.assertEqual(
            [package["name"] for package in data.get("package", [])], [package.name for package in snapshot.packages]
        )

    @given(snapshots, snapshots)
    def test_identity_is_content(self, one: Snapshot, other: Snapshot) -> None:
        self.assertEqual(one.snapshot == other.snapshot, one == other)

    def test_line_ends_of_other_systems_do_no_harm(self) -> None:
        self.assertEqual(lockfile.parse(lockfile.render(SAMPLE).replace("\n", "\r\n")), SAMPLE)


class Faults(unittest.TestCase):
    def refuse(self, changed: str, pattern: str) -> None:
        with self.assertRaisesRegex(LockfileError, pattern) as caught:
            lockfile.parse(changed)
        self.assertTrue(caught.exception.remedy)

    def test_edited(self) -> None:
        rendered = lockfile.render(SAMPLE)
        self.refuse(rendered.replace('version = "2.1"', 'version = "2.2"'), "changed after it was written")
        self.refuse(rendered.replace("files = 5", "files = 6"), "changed after it was written")

    def test_every_line_counts(self) -> None:
        """Each line that holds a value, left out or doubled, is noticed."""
        lines = lockfile.render(SAMPLE).splitlines(keepends=True)
        for at, line in enumerate(lines):
            if "=" in line:
                with self.subTest(line=line), self.assertRaises(LockfileError):
                    lockfile.parse("".join(lines[:at] + lines[at + 1 :]))

    def test_truncated_anywhere(self) -> None:
        rendered = lockfile.render(SAMPLE)
        for end in range(0, len(rendered) - 2, 7):
            with self.subTest(end=end), self.assertRaises(LockfileError):
                lockfile.parse(rendered[:end])

    def test_of_a_newer_format(self) -> None:
        self.refuse(lockfile.render(SAMPLE).replace("format = 1", "format = 2"), "format 2.*reads formats up to 1")

    def test_no_lockfile_at_all(self) -> None:
        self.refuse("hello = 1\n", "no format number")

    def test_bad_toml_names_the_place(self) -> None:
        self.refuse("format = 1\nsnapshot = = 3\n", r"line 2, column")

    def test_wrong_types_name_the_place(self) -> None:
        rendered = lockfile.render(SAMPLE)
        self.refuse(rendered.replace("files = 5", 'files = "five"'), r"package\[0\]\.files")
        self.refuse(rendered.replace("wanted = true", "wanted = 1"), r"package\[0\]\.wanted")
        self.refuse(rendered.replace("files = 5", "files = -5"), r"package\[0\]\.files")
        self.refuse(re.sub(r'tree = "sha256:2+"', 'tree = "md5:12"', rendered), r"package\[0\]\.tree")
        self.refuse(rendered.replace("wanted = true", "wanted = true\nsurprise = 1"), "surprise")

    def test_paths_that_lead_outside(self) -> None:
        rendered = lockfile.render(SAMPLE)
        for path in ("/etc", "../x", "lib/../../x"):
            self.refuse(rendered.replace("lib/python3.11/site-packages", path), r"runtime\[0\]\.places")

    def test_an_unfinished_merge(self) -> None:
        rendered = lockfile.render(SAMPLE)
        self.refuse(rendered.replace("[platform]", "<<<<<<< HEAD\n[platform]"), "merge")

    def test_two_runtimes(self) -> None:
        two = lockfile.identify(replace(SAMPLE, runtimes=SAMPLE.runtimes * 2))
        self.refuse(lockfile.render(two), "one runtime")
