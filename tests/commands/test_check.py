"""lapidar check, show and cache."""

from __future__ import annotations

import json
import os
import re
import shutil
import time
import unittest
from pathlib import Path

from lapidar.core.cache.files import FILE_TIME_NS
from lapidar.core.cache.store import Cache
from lapidar.core.environment.manifest import digest_of
from lapidar.core.records import lockfile
from support import Case, install, site_of, tree_of, wheel, writable


class Checking(Case):
    own_cache = False

    def setUp(self) -> None:
        super().setUp()
        # A cache of its own, begun as a copy of the shared one: these tests break it.
        self.venv = self.environment(
            wheel(self.folder, "sherdlib", files={"sherdlib/__init__.py": "X = 1\n", "sherdlib/table.csv": "a,b\n"})
        )
        self.lapidar("capture", self.venv)
        self.lapidar("restore")
        self.site = site_of(self.restored)

    def findings(self, *words: object) -> list[tuple[str, str, str, list[str]]]:
        said = self.json("check", *words, code=1)
        self.assertFalse(said["clean"])
        return [(f["layer"], f["name"], f["problem"], f["paths"]) for f in said["findings"]]

    def below(self, path: Path) -> str:
        return path.relative_to(self.restored).as_posix()

    def unlink_and_write(self, path: Path, data: bytes) -> None:
        path.unlink()
        path.write_bytes(data)

    def test_clean(self) -> None:
        for words in ((), ("--deep",)):
            self.assertTrue(self.json("check", *words)["clean"])

    def test_not_restored(self) -> None:
        shutil.rmtree(self.restored)
        self.assertEqual(self.findings()[0][2], "not restored")

    def test_missing_altered_extra(self) -> None:
        module, table = self.site / "sherdlib/__init__.py", self.site / "sherdlib/table.csv"
        library = self.restored / "lib" / self.site.parent.name / "os.py"
        table.unlink()
        self.unlink_and_write(module, b"X = 2\n")
        self.unlink_and_write(library, b"")
        (self.site / "stray.py").write_text("")
        (self.restored / "notes.txt").write_text("")
        runtime = f"cpython {lockfile.read(self.lock).runtimes[0].version}"
        for words in ((), ("--deep",)):
            self.assertEqual(
                self.findings(*words),
                [
                    ("packages", "sherdlib 1.0", "missing", [self.below(table)]),
                    ("runtime", runtime, "altered", [self.below(library)]),
                    ("packages", "sherdlib 1.0", "altered", [self.below(module)]),
                    ("packages", "files of no snapshot", "extra", [self.below(self.site / "stray.py")]),
                    ("environment", "files of no snapshot", "extra", ["notes.txt"]),
                ],
            )

    def test_an_extra_package(self) -> None:
        install(wheel(self.folder, "kilnlib"), self.restored)
        names = [(layer, name, problem) for layer, name, problem, _ in self.findings()]
        self.assertIn(("packages", "kilnlib 1.0", "extra package"), names)

    def test_generated_files_count_too(self) -> None:
        launcher = self.restored / "bin" / "python"
        text = launcher.read_bytes()
        launcher.write_bytes(text.replace(b"-s ", b""))
        self.assertEqual([finding[:3] for finding in self.findings()], [("environment", "lapidar", "altered")])
        # Put back with the right size and time but other bytes, only reading shows it.
        launcher.write_bytes(text.replace(b"-s ", b"-v "))
        os.utime(launcher, ns=(FILE_TIME_NS, FILE_TIME_NS))
        self.lapidar("check")
        self.assertEqual([finding[:3] for finding in self.findings("--deep")], [("environment", "lapidar", "altered")])

    def test_the_executable_bit_and_links(self) -> None:
        self.lapidar("restore", "--into", self.folder / "copy", "--placement", "copy")
        table = site_of(self.folder / "copy") / "sherdlib/table.csv"
        table.chmod(0o755)
        self.assertEqual(self.findings("--env", self.folder / "copy")[0][2], "altered")
        table.unlink()
        table.symlink_to("__init__.py")
        self.assertEqual(self.findings("--env", self.folder / "copy")[0][2], "altered")

    def test_byte_code_from_running_is_no_finding(self) -> None:
        caches = self.site / "sherdlib" / "__pycache__"
        (caches / "made-by-running.cpython-399.pyc").write_bytes(b"")
        self.lapidar("check")

    def test_the_list_of_files_is_not_trusted_blindly(self) -> None:
        listed = self.restored / "lib/lapidar/placed.json"
        listed.write_bytes(listed.read_bytes().replace(b"sherdlib/table.csv", b"sherdlib/tabel.csv"))
        self.assertEqual(self.findings()[0][2], "the list of placed files is missing or altered")

    def test_a_forged_list_does_not_fool_a_deep_check(self) -> None:
        module = self.site / "sherdlib/__init__.py"
        forged = b"X = 9\n"
        self.unlink_and_write(module, forged)
        os.utime(module, ns=(FILE_TIME_NS, FILE_TIME_NS))
        listed, mark = self.restored / "lib/lapidar/placed.json", self.restored / "lapidar.toml"
        before = digest_of(listed.read_bytes())
        data = json.loads(listed.read_bytes())
        at = data["listing"]["paths"].index(self.below(module))
        data["inodes"][at] = 0  # as of a file that was copied
        listed.write_bytes(json.dumps(data).encode())
        mark.write_text(mark.read_text().replace(before, digest_of(listed.read_bytes())))
        self.lapidar("check")
        self.assertEqual(self.findings("--deep")[0][:3], ("packages", "sherdlib 1.0", "altered"))

    def test_another_snapshot(self) -> None:
        self.lapidar("capture", self.environment(name="other"))
        self.assertIn("it is of snapshot", self.findings()[0][2])

    def test_a_copied_environment_is_judged_as_a_copy(self) -> None:
        copy = self.folder / "copied"
        shutil.copytree(self.restored, copy, symlinks=True, copy_function=shutil.copy2)
        self.lapidar("check", "--env", copy)

    def test_what_it_says_to_people(self) -> None:
        (self.site / "sherdlib/table.csv").unlink()
        said = self.lapidar("check", code=1).stdout
        self.assertIn("sherdlib 1.0: 1 file missing: lib/", said)
        self.assertIn("next: lapidar restore", said)


class BrokenCache(Case):
    """Entries lost or altered: found, named, and mended by capturing again."""

    own_cache = True

    def setUp(self) -> None:
        super().setUp()
        self.venv = self.environment(
            wheel(self.folder, "sherdlib", files={"sherdlib.py": "X = 'sherd'\n"}),
            wheel(self.folder, "kilnlib", files={"kilnlib.py": "X = 'kiln'\n"}),
        )
        self.lapidar("capture", self.venv)
        self.files = {
            package.name: self._file(package.tree, f"site/{package.name}.py")
            for package in lockfile.read(self.lock).packages
        }

    def _file(self, tree: str, path: str) -> Path:
        cache = Cache(self.cache)
        entry = next(entry for entry in cache.tree(tree) if entry.path == path)
        return Path(cache.entry_path(entry))

    def test_restore_names_each_and_places_nothing(self) -> None:
        shutil.rmtree(self.venv)  # else the cache is healed by its files, once they are no longer new
        self.files["sherdlib"].unlink()
        writable(self.files["kilnlib"]).write_text("shorter\n")
        said = self.fails("restore")
        self.assertIn("sherdlib 1.0: site/sherdlib.py (missing)", said)
        self.assertIn("kilnlib 1.0: site/kilnlib.py (altered", said)
        self.assertFalse(self.restored.exists())
        findings = [(f["layer"], f["name"], f["problem"]) for f in self.json("check", code=1)["findings"]]
        self.assertIn(("cache", "sherdlib 1.0", "lost"), findings)
        self.assertIn(("cache", "kilnlib 1.0", "corrupt"), findings)

    def test_every_bit_counts(self) -> None:
        """Any flipped bit of a cached file is found by reading, even with its size and time as before."""
        shutil.rmtree(self.venv)
        path = writable(self.files["sherdlib"])
        whole = path.read_bytes()
        for at in range(len(whole)):
            path.write_bytes(whole[:at] + bytes([whole[at] ^ 1 << (at % 8)]) + whole[at + 1 :])
            os.utime(path, ns=(FILE_TIME_NS, FILE_TIME_NS))
            if at % 4 == 0:
                said = self.fails("restore", "--verify")
                self.assertIn("sherdlib 1.0: site/sherdlib.py (corrupt)", said)
                self.assertFalse(self.restored.exists())
        findings = [(f["layer"], f["name"], f["problem"]) for f in self.json("check", "--deep", code=1)["findings"]]
        self.assertIn(("cache", "sherdlib 1.0", "corrupt"), findings)

    def test_audit_sets_aside_and_capture_mends(self) -> None:
        path = writable(self.files["sherdlib"])
        path.write_bytes(path.read_bytes().replace(b"sherd", b"shard"))
        os.utime(path, ns=(FILE_TIME_NS, FILE_TIME_NS))
        said = self.lapidar("cache", "audit", code=1).stdout
        self.assertIn("sherdlib 1.0: 1 file corrupt: site/sherdlib.py", said)
        self.assertFalse(path.exists())
        self.assertEqual(self.json("cache", "summary")["set_aside"], 1)
        self.lapidar("capture", self.venv)
        self.lapidar("cache", "audit")
        self.lapidar("restore")
        self.assertEqual(self.python(self.restored, "import sherdlib; print(sherdlib.X)"), "sherd")
        self.lapidar("cache", "prune")
        self.assertEqual(self.json("cache", "summary")["set_aside"], 0)

    def test_capture_mends_by_itself_what_it_can_see(self) -> None:
        writable(self.files["sherdlib"]).write_text("truncat")
        time.sleep(0.01)
        self.lapidar("capture", self.venv)
        self.lapidar("cache", "audit")

    def test_a_corrupt_listing(self) -> None:
        package = lockfile.read(self.lock).packages[1]
        for path in Cache(self.cache).listing_paths(package.tree):
            writable(path).write_bytes(path.read_bytes()[:-5])
        self.assertIn("listing", self.fails("restore"))
        self.assertIn("listing is corrupt", self.lapidar("cache", "audit", code=1).stdout)
        self.lapidar("capture", self.venv)
        self.lapidar("cache", "audit")

    def test_editing_through_a_hard_link_shows(self) -> None:
        self.lapidar("restore", "--placement", "link")
        module = site_of(self.restored) / "sherdlib.py"
        module.chmod(0o644)
        with module.open("a") as stream:
            stream.write("# edited\n")
        said = self.json("check", code=1)["findings"]
        self.assertEqual([(f["layer"], f["problem"]) for f in said], [("packages", "altered"), ("cache", "corrupt")])

    def test_what_a_short_cut_vouched_for_shows_once_it_is_gone(self) -> None:
        """A quick check that found the cache whole notes how its folders were; any change of them undoes that."""
        self.lapidar("restore", "--placement", "link")
        folders = [path for path in (self.cache / "files").iterdir() if path.is_dir()]
        for damage in (Path.unlink, lambda path: os.replace(path, self.folder / "elsewhere")):
            for folder in folders:  # as if they had not changed for a minute
                os.utime(folder, (time.time() - 60, time.time() - 60))
            self.lapidar("check")
            self.assertTrue(list((self.cache / "seen").glob("whole-*")))
            self.lapidar("check")
            damage(self.files["kilnlib"])
            said = self.json("check", code=1)["findings"]
            self.assertEqual([(f["layer"], f["name"], f["problem"]) for f in said], [("cache", "kilnlib 1.0", "lost")])
            self.lapidar("capture", self.venv)
            self.lapidar("restore", "--into", self.folder / "again", "--placement", "link")
            shutil.rmtree(self.restored)
            shutil.move(self.folder / "again", self.restored)

    def test_a_forged_short_cut_places_nothing_outside(self) -> None:
        """What an environment consists of is kept in the cache. Whoever writes a way out into it gets no file there."""
        self.lapidar("restore")
        (kept,) = (self.cache / "assembled").iterdir()
        whole = kept.read_bytes().partition(b"\n")[2]
        own = {"lapidar.toml", "lib/lapidar/placed.json"}  # they hold inodes

        def placed() -> dict[str, tuple[str, bool, str]]:
            return {path: file for path, file in tree_of(self.restored).items() if path not in own}

        good = placed()
        link = next(path.relative_to(self.restored) for path in self.restored.rglob("*") if path.is_symlink())
        ways_out = {
            "up": {rb'"[^"]*/site-packages/kilnlib.py"': '"lib/../../outside.py"'},
            "absolute": {rb'"[^"]*/site-packages/kilnlib.py"': f'"{self.folder}/outside.py"'},
            "by a link": {
                rb'"[^"]*/site-packages/kilnlib.py"': f'"{link}/outside.py"',
                b'"%b"' % os.fsencode(os.readlink(self.restored / link)): f'"{self.folder}"',
            },
        }
        for way_out, changes in ways_out.items():
            with self.subTest(way_out):
                data = whole
                for pattern, text in changes.items():
                    before, data = data, re.sub(pattern, text.encode(), data, count=1)
                    self.assertNotEqual(data, before)
                kept.write_bytes(digest_of(data).encode("ascii") + b"\n" + data)
                shutil.rmtree(self.restored)
                self.lapidar("restore")
                self.assertEqual(placed(), good)
                self.assertEqual([*self.folder.rglob("outside.py")], [])

    def test_not_a_cache(self) -> None:
        other = self.folder / "documents"
        other.mkdir()
        (other / "thesis.txt").write_text("")
        self.assertIn("not a lapidar cache", self.fails("capture", self.venv, "--cache", other))
        self.assertIn("not a lapidar cache", self.fails("restore", "--cache", other))
        self.assertIn("no cache", self.fails("restore", "--cache", self.folder / "nothing"))
        self.assertIn("not a folder", self.fails("capture", self.venv, "--cache", other / "thesis.txt"))
        mark = self.cache / "lapidar-cache.toml"
        mark.write_text("format = 9\n")
        self.assertIn("format 9", self.fails("restore"))
        mark.write_text("format = = 9\n")
        self.assertIn("cannot be read", self.fails("restore"))


class Pruning(Case):
    own_cache = True

    def test_it_keeps_what_the_history_and_projects_need(self) -> None:
        venv = self.environment(wheel(self.folder, "sherdlib"))
        self.lapidar("capture", venv)
        first = lockfile.read(self.lock).snapshot
        self.assertIn("nothing to prune", self.lapidar("cache", "prune").stdout)
        install(wheel(self.folder, "kilnlib"), venv)
        self.lapidar("capture", venv)
        second = lockfile.read(self.lock).snapshot
        self.lapidar("cache", "prune")
        self.lapidar("restore", "--snapshot", first[7:])
        plan = self.json("cache", "prune", "--history-days", "0", "--dry-run")
        self.assertEqual(plan["dropped"], [first])
        self.lapidar("restore", "--snapshot", first[7:], "--into", self.folder / "still")
        self.lapidar("cache", "prune", "--history-days", "0")
        self.fails("restore", "--snapshot", first[7:], "--into", self.folder / "gone")
        self.lapidar("restore", "--snapshot", second[7:])
        self.lapidar("cache", "audit")

    def test_it_removes_what_nobody_needs(self) -> None:
        venv = self.environment(wheel(self.folder, "sherdlib"))
        self.lapidar("capture", venv)
        self.lapidar("restore")
        self.lock.unlink()
        before = self.json("cache", "summary")
        said = self.lapidar("cache", "prune", "--history-days", "0").stdout
        self.assertIn("dropping snapshot", said)
        after = self.json("cache", "summary")
        self.assertGreater(before["files"], 1000)
        self.assertEqual((after["files"], after["trees"], after["bytecode"], after["snapshots"]), (0, 0, 0, []))
        self.python(self.restored, "import sherdlib")  # what was restored is not touched

    def test_summary(self) -> None:
        self.lapidar("capture", self.environment(wheel(self.folder, "sherdlib")))
        said = self.json("cache", "summary")
        self.assertEqual([kept["current"] for kept in said["snapshots"]], [True])
        self.assertIn("current", self.lapidar("cache", "summary").stdout)


class Showing(Case):
    def setUp(self) -> None:
        super().setUp()
        environment = self.environment(wheel(self.folder, "top", requires=["low"]))
        install(wheel(self.folder, "low", "2.5"), environment, requested=False)
        self.lapidar("capture", environment)

    def test_layers(self) -> None:
        self.assertIn("asked for  top", self.lapidar("show").stdout)
        table = self.lapidar("show", "packages").stdout.splitlines()
        self.assertRegex(table[1], r"^low +2\.5 .* top$")
        self.assertIn("python", self.lapidar("show", "runtime").stdout)
        self.assertIn("Every file belongs", self.lapidar("show", "remainder").stdout)
        self.assertEqual(self.json("show", "packages")[1]["requires"], ["low"])

    def test_one_package(self) -> None:
        said = self.lapidar("show", "packages", "Low").stdout
        self.assertIn("needed by     top", said)
        self.assertIn("site/low.py", said)
        self.assertIn("Near to it: low", self.fails("show", "packages", "lowe"))

    def test_without_the_cache(self) -> None:
        self.assertIn("low", self.lapidar("show", "packages", "low", "--cache", self.folder / "none").stdout)


if __name__ == "__main__":
    unittest.main()
