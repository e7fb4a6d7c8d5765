"""What is different between two snapshots."""

from __future__ import annotations

import unittest
from typing import Any

from msgspec.structs import replace

from core.test_lockfile import SAMPLE
from lapidar.core import languages
from lapidar.core.records.difference import Kind, difference
from lapidar.core.records.owner import Layer
from lapidar.core.records.snapshot import Conditions, Library, Snapshot, Tool

OTHER = "sha256:" + "9" * 64


def standing(language: str, one: str, other: str) -> int | None:
    return languages.of(language).versions.standing(one, other)


class Difference(unittest.TestCase):
    def told(self, before: Snapshot, after: Snapshot) -> list[tuple[Any, ...]]:
        return [
            (str(one.owner.layer), one.owner.name, str(one.kind), one.old, one.new, *one.fields)
            for one in difference(before, after, standing)
        ]

    def with_package(self, **fields: Any) -> Snapshot:
        return replace(SAMPLE, packages=(replace(SAMPLE.packages[0], **fields),))

    def test_nothing(self) -> None:
        self.assertEqual(self.told(SAMPLE, SAMPLE), [])

    def test_a_package_by_its_version_and_its_bytes(self) -> None:
        newer = self.with_package(version="2.10", tree=OTHER)
        self.assertEqual(self.told(SAMPLE, newer), [("packages", "numpy", "newer", "2.1", "2.10")])
        self.assertEqual(self.told(newer, SAMPLE), [("packages", "numpy", "older", "2.10", "2.1")])
        rebuilt = self.with_package(tree=OTHER)
        self.assertEqual(self.told(SAMPLE, rebuilt), [("packages", "numpy", "replaced", "2.1", "2.1")])
        odd = self.with_package(version="two", tree=OTHER)
        self.assertEqual(self.told(SAMPLE, odd), [("packages", "numpy", "replaced", "2.1", "two")])

    def test_what_is_recorded_of_the_same_bytes(self) -> None:
        other = self.with_package(wanted=False, requires=("clay",))
        changed = ("packages", "numpy", "changed", "2.1", "2.1", "wanted", "requires")
        self.assertEqual(self.told(SAMPLE, other), [changed])

    def test_what_comes_and_goes_in_the_order_of_the_layers(self) -> None:
        after = replace(
            SAMPLE,
            runtimes=(replace(SAMPLE.runtimes[0], version="3.12.1", tree=OTHER),),
            packages=(),
            libraries=(Library("libz.so.1", "a" * 64, 9, (), "zlib1g", "1.3"),),
            tools=(Tool("tclsh", "usr/bin/tclsh", OTHER, 1, 9),),
            conditions=Conditions("native", umask="022", variables={"LANG": "C"}),
        )
        found = self.told(SAMPLE, after)
        self.assertEqual(
            found,
            [
                ("runtime", "cpython", "newer", "3.11.7", "3.12.1"),
                ("packages", "numpy", "removed", "2.1", ""),
                ("libraries", "libz.so.1", "added", "", "1.3"),
                ("tools", "tclsh", "added", "", OTHER[:19]),
                ("conditions", "numerics", "added", "", "native"),
                ("conditions", "umask", "added", "", "022"),
                ("conditions", "variable LANG", "added", "", "C"),
            ],
        )
        back = difference(after, SAMPLE, standing)
        self.assertEqual(
            {one.kind for one in back if one.owner.layer in (Layer.LIBRARIES, Layer.TOOLS, Layer.CONDITIONS)},
            {Kind.REMOVED},
        )


if __name__ == "__main__":
    unittest.main()
