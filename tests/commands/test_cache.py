"""The cache proves what it holds: whatever of it is damaged is found, mended or named, and never used or deleted."""

from __future__ import annotations

import os
import random
import shutil
import stat
import subprocess
import sys
import threading
import unittest
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from lapidar.core.cache.files import FILE_TIME_NS
from lapidar.core.cache.history import History
from lapidar.core.cache.store import Cache
from lapidar.core.cache.trees import Tree
from lapidar.core.place import Place
from lapidar.core.records import lockfile
from support import PROGRAM, Case, install, many, site_of, wheel, writable
from toy.kiln import add_package, make_kiln

RECIPE = "recipe"


def flip(path: Path, at: int, bit: int = 0) -> None:
    """Flip a bit of a file, as a bad disk does: nothing else of it changes."""
    status = path.stat()
    data = bytearray(path.read_bytes())
    data[at] ^= 1 << bit
    writable(path).write_bytes(data)
    path.chmod(stat.S_IMODE(status.st_mode))
    os.utime(path, ns=(status.st_atime_ns, status.st_mtime_ns))


class Damaged(Case):
    """A small environment of a made-up language in a cache of its own, whole at the beginning of each test."""

    own_cache = True
    seeded = False

    def setUp(self) -> None:
        super().setUp()
        self.make()
        self.lapidar("capture", self.venv)
        self.lapidar("restore")
        self.snapshot = lockfile.read(self.lock)
        self.random = random.Random(11)
        self.whole = self.files()

    def make(self) -> None:
        self.variables |= {"LAPIDAR_LANGUAGES": "toy.glaze", "PYTHONPATH": str(Path(__file__).parents[1])}
        self.venv = make_kiln(self.project / "kiln", tin=("lead",), lead=(), ash=())
        (self.project / "fire.glz").write_text("use tin\nuse lead\nseed\n")

    def files(self) -> set[str]:
        return {entry.path for entry in Cache(self.cache).all_files()}

    def keep(self) -> Path:
        """A copy of the cache and the project's lockfile, to go back to."""
        kept = self.folder / "kept"
        subprocess.run(["cp", "-a", str(self.cache), str(kept)], check=True)
        return kept

    def back(self, kept: Path) -> None:
        shutil.rmtree(self.cache)
        subprocess.run(["cp", "-a", str(kept), str(self.cache)], check=True)

    def below(self, *patterns: str) -> list[Path]:
        found = (path for pattern in patterns for path in sorted(self.cache.glob(pattern)))
        return [path for path in found if path.is_file()]

    def listing(self, name: str) -> Path:
        tree = next(package.tree for package in self.snapshot.packages if package.name == name)
        return Cache(self.cache).tree_path(tree)

    def file_of(self, name: str, path: str) -> Path:
        cache = Cache(self.cache)
        tree = next(package.tree for package in self.snapshot.packages if package.name == name)
        return Path(next(cache.entry_path(entry) for entry in cache.tree(tree) if entry.path == path))


class Prune(Damaged):
    def test_a_bit_anywhere_that_says_what_is_needed(self) -> None:
        """Both copies of a listing, a snapshot's copy, the log, notes of byte-code: nothing good is deleted."""
        kept = self.keep()
        for pattern in ("trees/*/*", "snapshots/*"):
            for _ in range(many(3, 1)):
                path = self.random.choice(self.below(pattern))
                flip(path, self.random.randrange(path.stat().st_size), self.random.randrange(8))
                if pattern == "trees/*/*":  # the other copy too: of one alone nothing is lost
                    other = path.with_name(path.name.removesuffix(".copy"))
                    other = other if other != path else path.with_name(path.name + ".copy")
                    flip(other, self.random.randrange(path.stat().st_size))
                self.lock.rename(self.lock.with_suffix(".away"))  # so that nothing else knows what is needed
                done = subprocess.run(
                    [PROGRAM, "cache", "prune", "--history-days", "400"],
                    cwd=self.project,
                    env=self.variables,
                    capture_output=True,
                    text=True,
                    check=False,
                )
                self.lock.with_suffix(".away").rename(self.lock)
                self.assertIn(done.returncode, (0, 3), done.stderr)
                self.assertEqual(self.files(), self.whole, f"{path} {done.stdout}")
                if done.returncode:
                    self.assertIn("Nothing was removed", done.stderr)
                self.assertNotIn("sound", self.lapidar("cache", "audit", code=1).stdout)
                self.lapidar("capture", self.venv)
                self.lapidar("restore", "--verify")
                self.lapidar("cache", "audit")
                self.back(kept)

    def test_things_that_are_gone(self) -> None:
        kept = self.keep()
        copy = History(Cache(self.cache)).path(self.snapshot.snapshot)
        for path in (copy, self.listing("tin"), self.listing("tin").with_suffix(".copy")):
            path.unlink()
        self.lock.rename(self.lock.with_suffix(".away"))
        said = self.fails("cache", "prune")
        self.assertIn("is missing", said)
        self.assertEqual(self.files(), self.whole)
        self.lock.with_suffix(".away").rename(self.lock)
        self.assertIn("The cache does not have it: sha256:", self.fails("cache", "prune"))
        said = self.lapidar("cache", "audit", code=1).stdout
        self.assertIn("from a lockfile that holds it", said)
        self.assertIn("tin 1.0: its listing is corrupt, or missing", said)
        self.fails("cache", "prune")
        self.lapidar("cache", "prune", "--give-up", self.snapshot.snapshot[7:20])
        self.assertEqual(self.files(), set())
        self.back(kept)

    def test_a_log_that_is_mended_while_others_write(self) -> None:
        """No line is lost, and at no instant is there no log: that would read as no history."""
        history = History(Cache(self.cache))
        log = self.cache / "snapshots" / "log.jsonl"
        before = history.log().moments
        (snapshot,) = {moment.snapshot for moment in before}
        seen: set[bool] = set()
        ends = threading.Event()

        def watch() -> None:
            while not ends.is_set():
                seen.add(bool(history.moments()))

        def say(number: int) -> None:
            history.say(snapshot, Place.of_lockfile(self.lock), f"note {number}")

        watcher = threading.Thread(target=watch)
        watcher.start()
        with ThreadPoolExecutor(6) as pool:
            saying = [pool.submit(say, number) for number in range(60)]
            mending = [pool.submit(history.mend_log) for _ in range(25)]
            for one in (*saying, *mending):
                one.result()
        ends.set()
        watcher.join()
        self.assertEqual(seen, {True})
        told = {moment.about for moment in history.log().moments}
        self.assertLessEqual({f"note {number}" for number in range(60)}, told)
        log.write_bytes(log.read_bytes()[:-9])
        history.mend_log()
        self.assertEqual(history.log().damaged, ())
        self.assertTrue(list((self.cache / "aside").glob("snapshots-log.jsonl-*")))

    def test_a_log_that_is_damaged(self) -> None:
        log = self.cache / "snapshots" / "log.jsonl"
        whole = log.read_bytes()
        for at in range(0, len(whole), max(1, len(whole) // 12)):
            flip(log, at)
            said = self.fails("cache", "prune")
            self.assertIn("log of the history is damaged", said)
            log.write_bytes(whole)
        log.write_bytes(whole[:-9])  # cut by a power failure
        self.fails("cache", "prune")
        self.assertIn("log of the history", self.lapidar("cache", "audit", code=1).stdout)
        self.lapidar("cache", "audit")
        self.lapidar("cache", "prune")
        self.assertEqual(self.files(), self.whole)
        log.write_bytes(whole[:-9])
        self.lapidar("capture", self.venv)  # does not glue its line to the torn one
        self.assertEqual(len(History(Cache(self.cache)).log().damaged), 1)

    def test_what_projects_hold_is_known_or_kept(self) -> None:
        """Merge marks, a folder that is not here, one that was only restored here."""
        first = self.snapshot.snapshot
        add_package(self.venv, "soda", "2.0")
        other = self.folder / "other"
        other.mkdir()
        shutil.copy(self.lock, other / "lapidar.lock")
        self.lapidar("restore", cwd=other)
        self.lapidar("capture", self.venv)  # now only the other project holds the first
        plan = self.json("cache", "prune", "--history-days", "0", "--dry-run")
        self.assertEqual(plan["dropped"], [])
        marked = other / "lapidar.lock"
        marked.write_text("<<<<<<< ours\n" + marked.read_text() + "=======\n>>>>>>> theirs\n")
        plan = self.json("cache", "prune", "--history-days", "0")
        self.assertEqual((plan["dropped"], list(plan["unknown"])), ([], [first]))
        other.rename(self.folder / "unmounted")
        plan = self.json("cache", "prune", "--history-days", "0")
        self.assertEqual((plan["dropped"], list(plan["unknown"])), ([], [first]))
        self.assertIn("is not here", self.lapidar("cache", "prune", "--history-days", "0").stdout)
        self.assertEqual(self.json("cache", "prune", "--give-up", first[7:17])["dropped"], [first])

    def test_what_is_not_of_the_cache_stays(self) -> None:
        (self.cache / "files" / "notes.txt").write_text("mine")
        (self.cache / "files" / "ab").mkdir(exist_ok=True)
        (self.cache / "files" / "ab" / "notes.txt").write_text("mine")
        (self.cache / "thesis").mkdir()
        self.lapidar("cache", "prune", "--history-days", "0")
        said = self.lapidar("cache", "audit").stderr
        self.assertIn("thesis", said)
        self.assertTrue((self.cache / "files" / "ab" / "notes.txt").exists())


class Audit(Damaged):
    def test_a_bit_in_every_kind_of_file(self) -> None:
        """Audit sees it, and after it and a capture everything is as before."""
        kept = self.keep()
        patterns = ("files/*/*", "trees/*/*", "snapshots/*", "seen/*", "assembled/*")
        for pattern in patterns:
            for _ in range(many(2, 1) if self.below(pattern) else 0):
                path = self.random.choice(self.below(pattern))
                at = self.random.randrange(path.stat().st_size or 1)
                if not path.stat().st_size:
                    continue
                flip(path, at, self.random.randrange(8))
                self.lapidar("cache", "audit", code=1)
                self.lapidar("capture", self.venv)
                self.lapidar("restore", "--verify")
                self.assertTrue(self.json("check", "--deep")["clean"], path)
                self.lapidar("cache", "audit")
                self.assertEqual(lockfile.read(self.lock), self.snapshot)
                self.back(kept)

    def test_a_listing_is_mended_from_its_copy(self) -> None:
        flip(self.listing("tin"), 30)
        self.lapidar("restore", "--into", self.folder / "still")  # the copy serves
        said = self.lapidar("cache", "audit", code=1).stdout
        self.assertIn("from its other copy", said)
        self.assertIn("What was bad is mended", said)
        self.lapidar("cache", "audit")

    def test_a_listing_whose_writer_was_killed_between_its_two(self) -> None:
        digest = next(package.tree for package in self.snapshot.packages if package.name == "tin")
        tree = Tree(entry for entry in Cache(self.cache).tree(digest) if entry.path == RECIPE)
        path, copy = Cache(self.cache).listing_paths(tree.digest)
        copy.parent.mkdir(exist_ok=True)
        copy.write_bytes(tree.listing())
        self.assertNotIn("mended", self.lapidar("cache", "audit").stdout)
        self.assertEqual(path.read_bytes(), tree.listing())

    def test_the_mode_that_protects(self) -> None:
        path = self.file_of("tin", RECIPE)
        path.chmod(0o666)
        self.lapidar("cache", "audit")
        self.assertEqual(stat.S_IMODE(path.stat().st_mode), 0o444)

    def test_a_file_is_gone(self) -> None:
        self.file_of("tin", RECIPE).unlink()
        said = self.lapidar("cache", "audit", code=1).stdout
        self.assertIn(f"tin 1.0: 1 file missing: {RECIPE}", said)


class OfPython(Damaged):
    seeded = True

    def make(self) -> None:
        self.venv = self.environment(wheel(self.folder, "sherdlib", files={"sherdlib.py": b"X = 'sherd'\n"}))


class Tables(OfPython):
    def test_a_letter_in_what_was_seen(self) -> None:
        """With any bit of any table flipped, a capture gives the same lockfile."""
        text = self.lock.read_bytes()
        kept = self.keep()
        for path in self.below("seen/*"):
            for _ in range(many(2, 1)):
                flip(path, self.random.randrange(path.stat().st_size), self.random.randrange(8))
                self.lapidar("capture", self.venv)
                self.assertEqual(self.lock.read_bytes(), text, path)
                self.back(kept)

    def test_tables_that_changed_places(self) -> None:
        text = self.lock.read_bytes()
        tables = self.below("seen/*")
        contents = [path.read_bytes() for path in tables]
        for path, data in zip(tables, [*contents[1:], contents[0]], strict=True):
            path.write_bytes(data)
        self.lapidar("capture", self.venv)
        self.assertEqual(self.lock.read_bytes(), text)


class ByteCode(OfPython):
    def byte_code(self) -> tuple[Path, Path]:
        """A file of byte-code, in the environment and in the cache."""
        placed = next(site_of(self.restored).glob("__pycache__/sherdlib.*.pyc"))
        inode = placed.stat().st_ino
        return placed, next(Path(path) for path in self.files() if os.stat(path).st_ino == inode)

    def test_wrong_byte_code_of_the_right_size_and_time(self) -> None:
        _, cached = self.byte_code()
        data = cached.read_bytes().replace(b"sherd", b"shard")
        writable(cached).write_bytes(data)
        cached.chmod(0o444)
        os.utime(cached, ns=(FILE_TIME_NS, FILE_TIME_NS))
        self.assertEqual(self.python(self.restored, "import sherdlib; print(sherdlib.X)"), "shard")
        findings = self.json("check", "--deep", code=1)["findings"]
        self.assertIn("altered", {one["problem"] for one in findings})
        self.assertIn("corrupt", {one["problem"] for one in findings})
        self.lapidar("restore", "--verify")
        self.assertEqual(self.python(self.restored, "import sherdlib; print(sherdlib.X)"), "sherd")
        self.assertTrue(self.json("check", "--deep")["clean"])

    def test_and_after_an_audit(self) -> None:
        """What the environment is linked to was set aside: neither restore nor check takes it for good."""
        _, cached = self.byte_code()
        writable(cached).write_bytes(cached.read_bytes().replace(b"sherd", b"shard"))
        os.utime(cached, ns=(FILE_TIME_NS, FILE_TIME_NS))
        cached.chmod(0o444)
        self.lapidar("cache", "audit", code=1)
        self.assertFalse(self.json("check", code=1)["clean"])
        self.assertFalse(self.json("check", "--deep", code=1)["clean"])
        self.assertIn("Replaced", self.lapidar("restore").stdout)
        self.assertEqual(self.python(self.restored, "import sherdlib; print(sherdlib.X)"), "sherd")
        self.assertTrue(self.json("check", "--deep")["clean"])

    def test_a_source_was_set_aside_and_stowed_again(self) -> None:
        cached = self.file_of("sherdlib", "site/sherdlib.py")
        writable(cached).write_bytes(cached.read_bytes().replace(b"sherd", b"shard"))
        os.utime(cached, ns=(FILE_TIME_NS, FILE_TIME_NS))
        cached.chmod(0o444)
        self.lapidar("cache", "audit", code=1)
        self.lapidar("capture", self.venv)
        findings = self.json("check", code=1)["findings"]
        self.assertIn("altered", {one["problem"] for one in findings})
        self.lapidar("restore")
        self.assertTrue(self.json("check", "--deep")["clean"])

    def test_verify_reads_what_was_generated_too(self) -> None:
        for path in (self.restored / "bin" / "activate", next(site_of(self.restored).glob("sherdlib*/RECORD"))):
            flip(path, 5)
            self.assertIn("already", self.lapidar("restore").stdout)  # quick: size and time are right
            self.assertFalse(self.json("check", "--deep", code=1)["clean"])
            self.assertIn("Replaced", self.lapidar("restore", "--verify").stdout)
            self.assertTrue(self.json("check", "--deep")["clean"])
        self.assertIn("already", self.lapidar("restore", "--verify").stdout)


class CaptureHeals(Damaged):
    def test_an_entry_that_is_damaged(self) -> None:
        for path in (self.listing("tin"), self.file_of("tin", RECIPE)):
            for spoil in (lambda one: one.write_bytes(b""), lambda one: one.unlink(), _become_folder):
                with self.subTest(path=path.parent.parent.name, spoil=spoil):
                    if path.exists():
                        spoil(writable(path))
                    self.lapidar("capture", self.venv)
                    self.lapidar("restore", "--verify", "--into", self.folder / "proof")
                    self.lapidar("cache", "audit")

    def test_folders_are_gone(self) -> None:
        for name in ("files", "trees", "derived", "assembled", "snapshots", "seen", "aside", "staging"):
            with self.subTest(name=name):
                shutil.rmtree(self.cache / name)
                self.fails("restore", "--verify", "--into", self.folder / "proof") if name in (
                    "files",
                    "trees",
                ) else None
                self.lapidar("capture", self.venv)
                self.lapidar("restore", "--verify")
                self.assertTrue(self.json("check", "--deep")["clean"])
                self.lapidar("cache", "audit")


def _become_folder(path: Path) -> None:
    path.unlink()
    path.mkdir()


class NotThroughLinks(Case):
    own_cache = True

    def test_files_that_are_named_as_ours(self) -> None:
        """A package with a file where an environment keeps what is Lapidar's is refused when it comes in."""
        for at, path in enumerate(("lapidar.toml", "lib/lapidar/placed.json", "lib/lapidar/new", "bin/activate")):
            with self.subTest(path=path):
                bad = wheel(self.folder, f"bad{at}", files={f"bad{at}-1.0.data/data/{path}": b"mine"})
                venv = self.environment(wheel(self.folder, "sherdlib"), name=f"venv{at}")
                before = (
                    self.json("cache", "summary")["files"] if self.cache.joinpath("lapidar-cache.toml").exists() else 0
                )
                install(bad, venv)
                self.assertIn("lapidar's", self.fails("capture", venv))
                self.assertGreaterEqual(self.json("cache", "summary")["files"], before)


class TwoLayers(Case):
    """A cache of one's own above a lab's, that is only read."""

    own_cache = True
    seeded = False

    def test_every_command_above_one_that_is_only_read(self) -> None:
        self.variables |= {"LAPIDAR_LANGUAGES": "toy.glaze", "PYTHONPATH": str(Path(__file__).parents[1])}
        venv = make_kiln(self.project / "kiln", tin=("lead",), lead=(), ash=())
        (self.project / "work.sh").write_text("echo fired > out.txt\n")
        self.lapidar("capture", venv)
        first = lockfile.read(self.lock).snapshot
        self.lapidar("restore")
        self.lapidar("record", "kilns", "--", "sh", "work.sh")
        lab = self.cache
        before = {str(path): path.lstat().st_mtime_ns for path in lab.rglob("*")}
        self.variables["LAPIDAR_CACHE"] = str(self.folder / "mine")
        self.variables["LAPIDAR_BELOW"] = str(lab)
        shutil.rmtree(self.project / ".lapidar" / "env")
        mounts = 'mount --bind "$1" "$1" && mount -o remount,bind,ro "$1" && shift && exec "$@"'
        add_package(venv, "soda", "2.0")
        for words in (
            ["restore"], ["check", "--deep"], ["rerun", "kilns", "--yes"], ["capture", venv], ["restore"], ["record", "kilns", "--", "sh", "work.sh"],
            ["return", first[7:19]], ["changes"], ["cache", "audit"], ["cache", "prune", "--history-days", "0"],
            ["parcel", "make", "--without-lapidar"], ["restore", "--snapshot", first[7:19], "--into", "again"],
        ):  # fmt: skip
            done = self.in_namespace(mounts, lab, PROGRAM, *words)
            self.assertEqual(done.returncode, 0, f"{words} {done.stdout} {done.stderr}")
        self.assertEqual({str(path): path.lstat().st_mtime_ns for path in lab.rglob("*")}, before)
        self.assertIn("There is no cache", self.fails("restore", "--below", self.folder / "none"))


class OfAGroup(Case):
    """A cache that several people use."""

    own_cache = True
    seeded = False

    def test_the_second_user(self) -> None:
        self.shared(0o022)

    def test_a_member_whose_files_are_hers_alone(self) -> None:
        self.shared(0o077)

    def shared(self, umask: int) -> None:
        """A cache of a group, filled by one member and used by another.

        Args:
            umask: of the first.
        """
        if os.geteuid() != 0:
            self.skipTest("it takes two users")
        people = 4242
        self.cache.mkdir()
        os.chown(self.cache, 0, people)
        self.cache.chmod(0o2775)
        self.folder.chmod(0o755)
        venv = self.environment(wheel(self.folder, "sherdlib"))
        self.lapidar("capture", venv, umask=umask)
        for path in self.cache.rglob("*"):
            status = path.lstat()
            self.assertEqual(status.st_gid, people, path)
            self.assertTrue(status.st_mode & stat.S_IRGRP, f"{path} {status.st_mode:o}")
            if path.is_dir() or path.name == "log.jsonl" or path.parent.name == "seen":
                self.assertTrue(status.st_mode & stat.S_IWGRP, path)
        other = self.folder / "other"
        other.mkdir()
        os.chown(other, 4243, people)
        shutil.copy(self.lock, other / "lapidar.lock")
        variables = self.variables | {"HOME": str(other)}
        # Somebody else, who may read what is needed to start the program, wherever it lies.
        keep = "+dac_read_search"
        person = ["setpriv", "--reuid", "4243", "--regid", str(people), "--clear-groups", "--inh-caps", keep]

        def somebody_else(*words: object) -> None:
            done = subprocess.run(
                [*person, "--ambient-caps", keep, PROGRAM, *map(str, words)],
                cwd=other,
                env=variables,
                capture_output=True,
                text=True,
                check=False,
            )
            self.assertEqual(done.returncode, 0, done.stdout + done.stderr)

        somebody_else("restore")
        somebody_else("check")
        install(wheel(self.folder, "kilnlib"), venv)
        somebody_else("capture", venv)
        somebody_else("restore")
        somebody_else("cache", "audit")
        self.lapidar("cache", "audit", umask=umask)
        self.lapidar("capture", venv, umask=umask)
        somebody_else("check", "--deep")
        somebody_else("cache", "prune")


if __name__ == "__main__":
    unittest.main()


FLOCK = r"""
#include <errno.h>
int flock(int descriptor, int what) {
#ifdef LIES
    return 0;
#else
    errno = ENOLCK;
    return -1;
#endif
}
"""


class OnANetwork(Case):
    """File systems whose locks are refused, or given to everybody."""

    own_cache = True
    seeded = False

    def setUp(self) -> None:
        super().setUp()
        self.variables |= {"LAPIDAR_LANGUAGES": "toy.glaze", "PYTHONPATH": str(Path(__file__).parents[1])}
        self.variables["LAPIDAR_NEAR"] = str(self.folder)
        self.kiln = make_kiln(self.project / "kiln", tin=("lead",), lead=(), ash=())
        (self.project / "work.sh").write_text("mkdir -p out\necho fired > out/pot.csv\n")

    def locks(self, *options: str) -> None:
        library = self.folder / "flock.so"
        words = ["gcc", "-shared", "-fPIC", "-x", "c", "-", "-o", str(library), *options]
        subprocess.run(words, input=FLOCK, text=True, check=True)
        self.variables["LD_PRELOAD"] = str(library)

    def test_without_locks_everything_but_what_must_be_alone(self) -> None:
        for options, why in (((), "has no locks"), (("-DLIES",), "gives the same lock to two processes")):
            self.locks(*options)
            self.lapidar("capture", self.kiln, "--yes")
            self.lapidar("restore", "--into", f"env{len(options)}")
            self.lapidar("restore")
            self.lapidar("record", "kilns", "--", "sh", "work.sh")
            self.lapidar("rerun", "kilns")
            at_work = self.cache / "staging" / "work-of-another"
            at_work.mkdir()
            self.lapidar("parcel", "make", "--without-lapidar", "--to", self.folder / "kilns.tar")
            said = self.fails("cache", "prune", "--history-days", "0")
            self.assertIn("Nobody can know whether others use the cache", said)
            self.assertIn(why, said)
            self.assertIn(why, self.fails("run", "--from", self.folder / "kilns.tar", "--", "true"))
            shutil.rmtree(self.restored)
            self.lapidar("restore")
            self.assertTrue(at_work.is_dir(), "somebody may be at work there")
            at_work.rmdir()
            self.lapidar("cache", "audit")
        del self.variables["LD_PRELOAD"]
        (at_work := self.cache / "staging" / "work-of-another").mkdir()
        self.lapidar("capture", self.kiln, "--yes")
        add_package(self.kiln, "soda", "2.0")
        self.lapidar("capture", self.kiln, "--yes")
        self.assertFalse(at_work.exists())
        self.lapidar("cache", "prune", "--history-days", "0")

    def test_many_write_one_list(self) -> None:
        self.lapidar("capture", self.kiln)
        store = self.folder / "store"
        for options in ((), ("-DLIES",)):
            self.locks(*options)
            sent = [
                subprocess.Popen(
                    [PROGRAM, "parcel", "send", str(store)], cwd=self.project, env=self.variables, stderr=-3
                )
                for _ in range(1)
            ]
            self.assertEqual([one.wait() for one in sent], [0])
            layouts = [
                f"import sys, pathlib; from lapidar.core.parcels.blobs import InFolder\n"
                f"s = InFolder(pathlib.Path({str(store)!r})); t = s.manifest(s.tags()[0])\n"
                f"[s.put_manifest(t, f'{number}-{{n}}') for n in range(10)]"
                for number in range(4)
            ]
            several = [subprocess.Popen([sys.executable, "-c", text], env=self.variables) for text in layouts]
            self.assertEqual([one.wait() for one in several], [0] * 4)
            self.assertEqual(len(self.json("parcel", "list", store)), 41)
            self.assertFalse((store / ".lock").exists())
            shutil.rmtree(store)
