"""The whole scientific environment that the tests run in: captured, restored, used, compared.

The invariants of the design, 1 to 4, on real packages.
"""

from __future__ import annotations

import contextlib
import json
import os
import pty
import shutil
import subprocess
import sys
import threading
import unittest
from collections import Counter
from pathlib import Path
from typing import ClassVar

from packaging.utils import canonicalize_name, parse_wheel_filename

from lapidar.core.cache.store import Cache
from lapidar.core.languages.python.standards import wheel as wheels
from lapidar.core.records import lockfile
from support import PROGRAM, WHEELS, Case, seed, tree_of


class Whole(Case):
    """Captures and restores the environment of the tests once, for all tests here."""

    together = True
    first: ClassVar[Path | None] = None

    def setUp(self) -> None:
        super().setUp()
        if Whole.first is None:
            self.lapidar("capture", sys.prefix)
            Whole.first = Path(shutil.copy(self.lock, self.cache / "whole.lock"))
        else:
            shutil.copy(Whole.first, self.lock)

    def test_capturing_twice_gives_the_same_bytes(self) -> None:
        before = self.lock.read_bytes()
        self.lock.unlink()
        done = self.lapidar("capture", sys.prefix)
        self.assertEqual(self.lock.read_bytes(), before)
        self.assertIn("Wrote lapidar.lock", done.stdout)
        self.assertIn("Nothing has changed", self.lapidar("capture", sys.prefix).stdout)

    def test_round_trip(self) -> None:
        self.lapidar("restore")
        self.lapidar("capture", self.restored, "--lock", "again.lock")
        self.assertEqual((self.project / "again.lock").read_text(), self.lock.read_text())

    def test_works_with_everything_else_gone(self) -> None:
        """In a mount namespace where the captured environment, its runtime and the network are not there."""
        self.lapidar("restore", "--placement", "copy")
        gone = [sys.prefix, sys.base_prefix]
        script = (
            "import sys, numpy, scipy.stats, pandas, matplotlib.pyplot\n"
            "assert not [path for path in sys.path if path.startswith(tuple(sys.argv[1:]))], sys.path\n"
            "opened = {line.split()[-1] for line in open('/proc/self/maps')}\n"
            "assert not [path for path in opened if path.startswith(tuple(sys.argv[1:]))], opened\n"
            "print(numpy.linalg.svd(numpy.eye(3))[1].sum())\n"
        )
        hide = "".join(f"mount -t tmpfs none '{folder}' && " for folder in gone)
        python = self.restored / "bin" / "python"
        done = self.in_namespace(hide + 'exec "$@"', python, "-c", script, *gone, network=False)
        self.assertEqual((done.returncode, done.stdout.strip()), (0, "3.0"), done.stderr)

    def test_works_after_it_was_moved(self) -> None:
        self.lapidar("restore")
        moved = self.folder / "ein anderer Ort"
        self.restored.rename(moved)
        said = self.python(moved, "import sys, pandas; print(sys.prefix, pandas.__file__)")
        self.assertTrue(said.startswith(f"{moved} {moved}/lib/"), said)
        done = subprocess.run([moved / "bin" / "f2py", "-v"], capture_output=True, text=True, check=True)
        self.assertRegex(done.stdout, r"^\d+\.\d+")
        self.lapidar("check", "--env", moved)

    def test_no_absolute_path_in_what_lapidar_writes(self) -> None:
        self.lapidar("restore")
        for name in ("bin", "lapidar.toml", "lib/lapidar/placed.json"):
            place = self.restored / name
            for path in [place] if place.is_file() else place.iterdir():
                data = path.read_bytes()
                if data.startswith(b"#!/bin/sh") or b"lapidar" in data:
                    self.assertNotIn(os.fsencode(self.folder), data, path)
                    self.assertNotIn(os.fsencode(sys.prefix), data, path)
        self.assertNotIn(os.fsencode(sys.prefix), self.lock.read_bytes())

    def test_trees_equal_those_of_the_wheels(self) -> None:
        """The same package gives the same tree, unpacked from its wheel or read out of an environment."""
        trees = {package.name: package.tree for package in lockfile.read(self.lock).packages}
        kinds: Counter[str] = Counter()
        for path in sorted(WHEELS.glob("*.whl")):
            name = canonicalize_name(parse_wheel_filename(path.name)[0])
            with self.subTest(wheel=path.name):
                tree = wheels.tree(path)
                self.assertEqual(tree.digest, trees[name], self._difference(path, trees[name]))
                kinds["wheels"] += 1
                kinds["compiled"] += any(entry.path.endswith(".so") for entry in tree)
                kinds["with its own libraries"] += any(".libs/" in entry.path for entry in tree)
                kinds["with scripts"] += any(entry.path.startswith("prefix/bin/") for entry in tree)
                kinds["with entry points"] += any(entry.path.endswith("/entry_points.txt") for entry in tree)
                kinds["with headers"] += any(entry.path.startswith("prefix/include/python/") for entry in tree)
                kinds["with data"] += any(entry.path.startswith("prefix/share/") for entry in tree)
                kinds["with .pth files"] += any(entry.path.endswith(".pth") for entry in tree)
        self.assertGreaterEqual(kinds["wheels"], 10)
        for kind in (
            "compiled",
            "with its own libraries",
            "with scripts",
            "with entry points",
            "with headers",
            "with data",
        ):
            self.assertGreaterEqual(kinds[kind], 1, kind)

    def _difference(self, path: Path, digest: str) -> str:
        installed = set(Cache(self.cache).tree(digest))
        unpacked = set(wheels.tree(path))
        return (
            f"only installed: {sorted(installed - unpacked)[:5]}, only in the wheel: {sorted(unpacked - installed)[:5]}"
        )

    def test_other_tools_see_normal_packages(self) -> None:
        self.lapidar("restore")
        script = (
            "import base64, csv, hashlib, importlib.metadata as m, json, pathlib\n"
            "bad, names = [], []\n"
            "for d in m.distributions():\n"
            "    names.append(d.metadata['Name'])\n"
            "    assert d.read_text('INSTALLER') == 'lapidar\\n', d\n"
            "    for f in d.files:\n"
            "        p = f.locate()\n"
            "        if not p.exists(): bad.append(str(p)); continue\n"
            "        if f.hash:\n"
            "            h = base64.urlsafe_b64encode(hashlib.sha256(p.read_bytes()).digest()).rstrip(b'=').decode()\n"
            "            if h != f.hash.value or f.size != p.stat().st_size: bad.append(str(p))\n"
            "print(json.dumps([bad, sorted(names), m.version('numpy'), len(m.entry_points(group='console_scripts'))]))\n"
        )
        bad, names, numpy, commands = json.loads(self.python(self.restored, script))
        self.assertEqual(bad, [])
        self.assertIn("numpy", names)
        self.assertEqual(len(names), len(lockfile.read(self.lock).packages))
        self.assertEqual(numpy, {p.name: p.version for p in lockfile.read(self.lock).packages}["numpy"])
        self.assertGreater(commands, 5)

    def test_byte_code_is_placed_and_valid(self) -> None:
        """Importing writes no byte-code, and reads what was placed."""
        self.lapidar("restore")
        before = set(self.restored.rglob("*.pyc"))
        said = self.python(
            self.restored,
            "import sys; sys.flags; import numpy, pandas, json; print(json.__cached__)",
            env={**self.variables, "PYTHONVERBOSE": "1"},
        )
        self.assertEqual(set(self.restored.rglob("*.pyc")), before)
        self.assertIn("__pycache__", said)
        verbose = subprocess.run(
            [self.restored / "bin/python", "-v", "-c", "import pandas"], capture_output=True, text=True, check=True
        ).stderr
        self.assertNotIn("# wrote", verbose)
        self.assertNotIn("bytecode is stale", verbose)

    def test_deep_check_is_clean(self) -> None:
        self.lapidar("restore")
        self.assertIn("match", self.lapidar("check", "--deep").stdout)

    def test_placements_give_the_same_environment(self) -> None:
        self.lapidar("restore", "--into", self.folder / "linked", "--placement", "link")
        self.lapidar("restore", "--into", self.folder / "copied", "--placement", "copy")
        linked, copied = tree_of(self.folder / "linked"), tree_of(self.folder / "copied")
        for own in ("lapidar.toml", "lib/lapidar/placed.json"):
            del linked[own], copied[own]
        self.assertEqual(linked, copied)
        self.lapidar("check", "--deep", "--env", self.folder / "copied")
        # A copy belongs to the user: writing to it must not reach the cache.
        name = next((self.folder / "copied").glob("lib/python3*/os.py"))
        with name.open("a") as stream:
            stream.write("# edited\n")
        self.lapidar("check", "--deep", "--env", self.folder / "linked")

    def test_the_demo(self) -> None:
        ours = self.project / "lapidar.lock"
        ours.write_text("the lockfile of the project in which somebody tries the demo")
        # Over what an earlier demo left: byte-code was compiled then (`.ci/run` has the first demo of all).
        seed(self.project / "demo" / "cache", "whole")
        (self.project / "demo" / "sherds").mkdir()
        (self.project / "demo" / "sherds" / "analysis.py").write_text("of an earlier version\n")
        # Somebody sits at a terminal, and types nothing: no step may wait for an answer.
        ours_of_it, terminal = pty.openpty()
        threading.Thread(target=_emptied, args=(ours_of_it,), daemon=True).start()
        done = subprocess.run(
            [PROGRAM, "demo", "--into", self.project / "demo", "--json"],
            cwd=self.project, env=self.variables, stdin=terminal, stderr=terminal, stdout=subprocess.PIPE, timeout=400,
        )  # fmt: skip
        self.assertEqual(done.returncode, 0, done.stdout)
        said = json.loads(done.stdout)
        self.assertIn("in which somebody tries", ours.read_text())
        catalogue = (self.project / "demo/catalogue/lapidar.toml").read_text()
        self.assertIn("walking @ ./libs/walking", catalogue)
        self.assertNotIn("glazewords", catalogue, "what was tried aside")
        self.assertTrue(said["identical"])
        self.assertEqual([result["name"] for result in said["results"]], ["scores.csv", "summary.json", "sherds.png"])
        for result in said["results"]:
            self.assertEqual(result["before"], result["after"])
            self.assertGreater(result["bytes"], 1000)
        summary = json.loads((self.project / "demo/elsewhere/results-later/results/summary.json").read_text())
        self.assertEqual((summary["sherds"], summary["kilns"]), (204, 4))


def _emptied(terminal: int) -> None:
    """Read what is written to a terminal, so that nobody waits for it to be read."""
    with contextlib.suppress(OSError):
        while os.read(terminal, 65536):
            pass


if __name__ == "__main__":
    unittest.main()
