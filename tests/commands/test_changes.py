"""What changed, going back, and which change did it: with made-up packages, and no network."""

from __future__ import annotations

import json
import os
import random
import shutil
import signal
import subprocess
import time
import unittest
from collections.abc import Sequence
from pathlib import Path
from typing import Any, ClassVar
from unittest import mock

from msgspec.structs import replace

from core.test_system import compile_c
from lapidar.core.cache.history import Cause, Deed, History
from lapidar.core.cache.store import Cache
from lapidar.core.flows.culprit import CulpritOptions, culprit
from lapidar.core.languages.python.bytecode import Compiler
from lapidar.core.place import Place
from lapidar.core.records import lockfile
from lapidar.standin.packages import write_wheel
from standins import Pinning
from support import PROGRAM, Case, many

ROBUST = "def centre(values):\n    values = sorted(values)\n    return {}\n"
MEDIAN = ROBUST.format("values[len(values) // 2]")
MEAN = ROBUST.format("sum(values) / len(values)")
ANALYSIS = """\
import json
import sherdstats.robust, glazes, slips
result = {"centre": sherdstats.robust.centre([1, 2, 9]), "pair": glazes.FACTOR * slips.FACTOR}
open("result.json", "w").write(json.dumps(result) + "\\n")
"""
SNAPSHOTS = int(os.environ.get("LAPIDAR_TESTS_SNAPSHOTS", "11"))
OTHERS = [f"clay{number:02d}" for number in range(24)]


class Stories(Pinning):
    """A project with many packages, of which a renewal changes most."""

    others: ClassVar[Sequence[str]] = OTHERS

    def setUp(self) -> None:
        super().setUp()
        shutil.rmtree(self.files)
        self.files.mkdir()
        for version, body in (("1.0", MEDIAN), ("1.1", MEDIAN), ("1.2", MEAN), ("1.3", MEAN)):
            self.release("sherdstats", version, {"robust.py": body, "other.py": f"N = {version!r}\n"})
        self.release("glazes", "1.0", {"__init__.py": "FACTOR = 1\n"})
        self.release("slips", "1.0", {"__init__.py": "FACTOR = 1\n"})
        for name in self.others:
            self.release(name, "1.0", {"__init__.py": "X = 1\n"})
        (self.project / "analysis.py").write_text(ANALYSIS)
        needs = ", ".join(f'"{name}"' for name in ("glazes", "slips", *self.others))
        self.text = f'[needs]\npackages = ["sherdstats=={{}}", {needs}]\n'
        (self.project / "lapidar.toml").write_text(self.text.format("1.0"))
        self.pin()
        self.lapidar("restore")
        self.first = lockfile.read(self.lock).snapshot[7:19]

    def release(self, name: str, version: str, files: dict[str, str]) -> None:
        content = {f"{name}/{path}": text for path, text in files.items()}
        content.setdefault(f"{name}/__init__.py", "")
        content[f"{name.replace('-', '_')}.dist-data/about"] = version
        write_wheel(self.files, name, version, {path: text for path, text in content.items() if "data/" not in path})

    def renew(self, stats: str = "1.3", glazes: str = "FACTOR = 1\n", slips: str = "FACTOR = 1\n") -> str:
        for name in self.others:
            self.release(name, "2.0", {"__init__.py": "X = 2\n"})
        self.release("glazes", "2.0", {"__init__.py": glazes})
        self.release("slips", "2.0", {"__init__.py": slips})
        (self.project / "lapidar.toml").write_text(self.text.format(stats))
        self.pin("--renew")
        self.lapidar("restore")
        return lockfile.read(self.lock).snapshot[7:19]


PREPARE = """\
import json, sherdstats.robust
centre = sherdstats.robust.centre([1, 2, 9])
open("centre.json", "w").write(json.dumps(centre))
"""
REPORT = """\
import json, glazes
open("report.txt", "w").write(f"{json.load(open('centre.json')) * glazes.FACTOR:g}\\n")
"""


class OfChains(Stories):
    """A change that alters what an earlier step makes."""

    others: ClassVar[Sequence[str]] = OTHERS[:5]

    def setUp(self) -> None:
        super().setUp()
        (self.project / "prepare.py").write_text(PREPARE)
        (self.project / "report.py").write_text(REPORT)
        self.lapidar("record", "prepare", "--", "python", "prepare.py")
        self.lapidar("record", "report", "--", "python", "report.py")

    def test_the_step_where_it_begins(self) -> None:
        self.renew("1.3")
        said = self.lapidar("culprit", "report").stdout
        self.assertIn("It is sherdstats 1.0 -> 1.3", said)
        self.assertIn("The first step whose result differs with it is prepare, and then report.", said)
        self.assertIn("sherdstats 1.1 is good, 1.2 is the first that is bad", said)
        self.assertIn("robust.py", said)

    def test_after_all_was_run_again(self) -> None:
        """The records are of the new snapshot then: those before are found by what they made."""
        second = self.renew("1.3")
        self.lapidar("refresh")
        self.assertEqual((self.project / "report.txt").read_text(), "4\n")
        done = self.lapidar("culprit", "report", "--packages-only", "--json")
        told = json.loads(done.stdout)
        self.assertEqual([one["name"] for one in told["guilty"]], ["sherdstats"])
        self.assertEqual(told["differing"], [["prepare", "report"]])
        self.assertEqual((told["good"][7:19], told["bad"][7:19]), (self.first, second))
        self.assertNotIn(
            "centre.json changed", " ".join(told["notes"]), "a step made it: it is no file that was edited"
        )

    def test_of_the_last_step_alone(self) -> None:
        self.renew("1.0", glazes="FACTOR = 3\n")
        told = self.json("culprit", "report", "--packages-only")
        self.assertEqual(([one["name"] for one in told["guilty"]], told["differing"]), (["glazes"], [[]]))
        told = self.json("culprit", "report", "--packages-only", "--from-raw")
        self.assertEqual(([one["name"] for one in told["guilty"]], told["differing"]), (["glazes"], [["report"]]))

    def test_a_step_before_that_cannot_run(self) -> None:
        """What breaks it is the answer, since the bad side ends so."""
        self.release("sherdstats", "1.4", {"robust.py": "raise RuntimeError('kaput')\n"})
        self.renew("1.4")
        said = self.lapidar("culprit", "report", "--packages-only")
        self.assertIn("It is sherdstats 1.0 -> 1.4", said.stdout)
        self.assertIn("whose result differs with it is prepare.", said.stdout)

    def test_no_step_differs(self) -> None:
        self.renew("1.1")
        self.assertIn("Both snapshots give the recorded results of report", self.fails("culprit", "report"))


class Changed(Stories):
    def test_the_history_tells_it(self) -> None:
        self.lapidar("record", "kilns", "--", "python", "analysis.py")
        second = self.renew()
        self.lapidar("record", "kilns", "--", "python", "analysis.py")
        self.lapidar("drop", "--yes", "clay00")
        entries = self.json("history")
        self.assertEqual([one["cause"] for one in entries][-1], "pinned")
        by_cause = {one["cause"]: one for one in entries}
        self.assertEqual(by_cause["dropped"]["about"], "clay00")
        self.assertTrue(by_cause["dropped"]["current"])
        renewed = by_cause["renewed"]
        self.assertEqual(renewed["snapshot"][7:19], second)
        self.assertIn("sherdstats 1.0 -> 1.3", renewed["changed"])
        self.assertEqual((renewed["results"][0]["same"], renewed["results"][0]["differing"]), (False, ["result.json"]))
        self.assertIsNone(by_cause["pinned"]["results"][0]["same"])
        self.lapidar("history", "note", self.first, "the paper's figures")
        said = self.lapidar("history").stdout
        for part in ("the paper's figures", "kilns: different", "dropped clay00", f"* {entries[0]['snapshot'][7:19]}"):
            self.assertIn(part, said)
        self.assertIn("more", said)
        self.assertIn("begins with 'ffff'", self.fails("history", "note", "ffff", "x"))
        # A clone of the project has the same history.
        clone = self.folder / "clone"
        clone.mkdir()
        for name in ("lapidar.toml", "lapidar.lock"):
            shutil.copy(self.project / name, clone)
        (clone / ".lapidar").mkdir()
        shutil.copy(self.project / ".lapidar" / "project.toml", clone / ".lapidar")
        self.assertIn("the paper's figures", self.lapidar("history", cwd=clone).stdout)
        # What has a note, or a record, is pruned only where it is named.
        self.lapidar("cache", "prune", "--history-days", "0")
        kept = {one["snapshot"][7:19] for one in self.json("history")}
        self.assertLessEqual({self.first, second}, kept)
        self.assertIn("sound", self.lapidar("cache", "audit").stdout)

    def test_what_is_different_and_how(self) -> None:
        second = self.renew()
        rows = self.json("changes")["changes"]
        self.assertEqual(len(rows), 27)
        self.assertEqual({row["kind"] for row in rows}, {"newer"})
        self.assertEqual(self.json("changes", self.first, second)["changes"], rows)
        back = {row["name"]: row for row in self.json("changes", second, self.first)["changes"]}
        self.assertEqual((back["sherdstats"]["kind"], back["sherdstats"]["from"]), ("older", "1.3"))
        said = self.lapidar("changes", "--files", "sherdstats").stdout
        self.assertIn("-    return values[len(values) // 2]", said)
        self.assertIn("+    return sum(values) / len(values)", said)
        self.assertIn("sherdstats/robust.py", self.lapidar("changes", "-v").stdout)
        self.assertIn("Near to it: sherdstats", self.fails("changes", "--files", "sherdstat"))
        self.assertIn("Nothing is different", self.lapidar("changes", self.first, self.first).stdout)
        shutil.copy(self.lock, self.folder / "a.lock")
        self.assertFalse(self.json("changes", self.folder / "a.lock")["changes"])

    def test_an_environment_as_it_is(self) -> None:
        lock, moments = self.lock.read_bytes(), len(self.json("history"))
        self.lapidar("restore", "--placement", "copy")
        self.assertEqual(self.json("changes", "lapidar.lock", ".lapidar/env")["changes"], [])
        edited = next(self.restored.glob("lib/python*/site-packages")) / "sherdstats" / "robust.py"
        edited.chmod(0o644)
        edited.write_text("# mine\n")
        (one,) = self.json("changes", "lapidar.lock", ".lapidar/env")["changes"]
        self.assertEqual((one["name"], one["kind"]), ("sherdstats", "replaced"))
        said = self.lapidar("changes", "lapidar.lock", ".lapidar/env", "-v").stdout
        self.assertIn("changed  site/sherdstats/robust.py", said)
        self.assertEqual((self.lock.read_bytes(), len(self.json("history"))), (lock, moments))

    def test_revisions_and_merges(self) -> None:
        def git(*words: str) -> None:
            subprocess.run(["git", "-c", "user.name=a", "-c", "user.email=a@b", *words], cwd=self.project, check=True,
                           capture_output=True)  # fmt: skip

        git("init", "-q")
        git("add", "lapidar.lock", "lapidar.toml")
        git("commit", "-qm", "first")
        self.renew()
        self.assertEqual(len(self.json("changes", "HEAD:")["changes"]), 27)
        self.assertIn("no lapidar.lock of the revision", self.fails("changes", "nothing:"))
        self.assertIn("is no revision", self.fails("changes", " \t:"))
        self.lapidar("return", "HEAD:", "--declaration", "--yes")
        self.assertEqual(lockfile.read(self.lock).snapshot[7:19], self.first)
        self.assertIn("sherdstats==1.0", (self.project / "lapidar.toml").read_text())
        text = self.lock.read_text()
        other = text.replace('version = "1.0"', 'version = "1.9"', 1)
        self.lock.write_text(f"<<<<<<< ours\n{text}=======\n{other}>>>>>>> theirs\n")
        self.assertEqual(len(self.json("changes")["changes"]), 1)

    def test_a_question_before_an_update(self) -> None:
        before = self.lock.read_bytes()
        declared = (self.project / "lapidar.toml").read_bytes()
        for name in OTHERS:
            self.release(name, "2.0", {"__init__.py": "X = 2\n"})
        for words in (["pin", "--renew"], ["need", "clay00>=2"], ["drop", "clay01"]):
            for answer, kept in (("n", True), ("y", False)):
                with self.subTest(words=words, answer=answer):
                    said = self.at_a_terminal(words, answer)
                    self.assertIn("Change the lockfile so?", said)
                    self.assertEqual(self.lock.read_bytes() == before, kept)
                    self.lock.write_bytes(before)
                    (self.project / "lapidar.toml").write_bytes(declared)


class Tried(Stories):
    """What an update would make of the recorded results, before it is done."""

    def setUp(self) -> None:
        super().setUp()
        self.lapidar("record", "kilns", "--", "python", "analysis.py")
        self.release("clay01", "2.0", {"__init__.py": "X = 2\n"})

    def as_before(self, lock: bytes) -> None:
        self.assertEqual(self.lock.read_bytes(), lock)
        self.assertEqual([one["cause"] for one in self.json("history")], ["pinned"])
        self.assertFalse(list((self.project / ".lapidar").glob("trial-*")))

    def test_nobody_to_ask(self) -> None:
        lock = self.lock.read_bytes()
        said = self.lapidar("pin", "--renew", "--try", code=1).stdout
        self.assertIn("kilns: nothing differs", said)
        self.assertIn("Nothing was changed", said)
        self.as_before(lock)

    def test_it_is_done_where_nothing_differs(self) -> None:
        lock = self.lock.read_bytes()
        self.release("sherdstats", "1.0.1", {"robust.py": MEAN})
        (self.project / "lapidar.toml").write_text(self.text.replace("=={}", ">=1.0,<1.1"))
        done = self.json("pin", "--renew", "--try", "--yes", code=1)
        (tried,) = done["tried"]
        result = tried["results"][0]
        self.assertEqual((tried["analysis"], tried["good"], done["snapshot"]), ("kilns", False, None))
        self.assertEqual((result["path"], result["verdict"]), ("result.json", "different"))
        self.as_before(lock)
        text = (self.project / "lapidar.toml").read_text()
        self.lapidar("need", "sherdstats>=1.2", "--try", "--yes", code=1)
        self.assertEqual((self.project / "lapidar.toml").read_text(), text)
        self.pin("--renew", "clay01", "--try", "--yes")
        self.assertEqual(self.json("history")[0]["about"], "clay01")
        self.assertTrue(self.json("rerun")["good"])

    def test_killed_at_any_moment(self) -> None:
        before = self.lock.read_bytes()
        began = time.monotonic()
        self.pin("--renew", "--try", "--yes")
        took = time.monotonic() - began
        after = self.lock.read_bytes()
        self.assertNotEqual(before, after)
        for number in (signal.SIGKILL, signal.SIGINT):
            for moment in range(moments := many(4, 2)):
                self.lock.write_bytes(before)
                process = subprocess.Popen([PROGRAM, "pin", "--renew", "--try", "--yes"], cwd=self.project,
                                           env=self.variables, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)  # fmt: skip
                time.sleep(took * (moment + 0.5) / moments)
                process.send_signal(number)
                process.wait()
                self.assertIn(self.lock.read_bytes(), (before, after))
        self.lock.write_bytes(before)
        self.pin("--renew", "--try", "--yes")
        self.assertEqual(self.lock.read_bytes(), after)
        self.assertFalse([one for one in os.listdir(self.project / ".lapidar") if one.startswith(("trial", "rerun-"))])
        self.assertTrue(self.json("rerun")["good"])

    def test_nothing_to_try(self) -> None:
        (self.project / "lapidar.results").unlink()
        self.assertIn("no analysis is recorded", self.fails("pin", "--renew", "--try"))


class Returned(Stories):
    def test_there_and_back(self) -> None:
        first = self.lock.read_bytes()
        second = self.renew()
        self.lapidar("return")
        self.assertEqual(self.lock.read_bytes(), first, "byte for byte")
        asked = "import sherdstats.robust as r; print(r.centre([1, 2, 9]))"
        self.assertEqual(self.lapidar("-q", "run", "python", "-c", asked).stdout, "2\n")
        self.assertIn("sherdstats==1.3", (self.project / "lapidar.toml").read_text())
        self.lapidar("return", second, "--declaration")
        self.lapidar("return", self.first, "--declaration")
        self.assertIn("sherdstats==1.0", (self.project / "lapidar.toml").read_text())
        self.assertTrue(self.json("check", "--deep")["clean"])
        self.assertEqual([one["cause"] for one in self.json("history")][:3], ["returned"] * 3)

    def test_nothing_is_lost_without_a_word(self) -> None:
        second = self.renew()
        self.lapidar("restore", "--placement", "copy")
        site = next(self.restored.glob("lib/python*/site-packages"))
        edited = site / "sherdstats" / "robust.py"
        edited.chmod(0o644)
        edited.write_text("# mine\n")
        said = self.fails("return", self.first)
        self.assertIn("the environment was changed since it was restored", said)
        self.assertEqual(edited.read_text(), "# mine\n")
        self.assertEqual(lockfile.read(self.lock).snapshot[7:19], second)
        self.assertIn("gone:", self.lapidar("return", self.first, "--yes").stderr)
        self.lock.write_text("no lockfile\n")
        self.assertIn("cannot be read as it is", self.fails("return", self.first))
        self.lapidar("return", self.first, "--yes")

    def test_every_snapshot_of_a_history_in_any_order(self) -> None:
        texts = {self.first: self.lock.read_bytes()}
        for number in range(2, SNAPSHOTS + 1):
            self.release("clay03", f"{number}.0", {"__init__.py": f"X = {number}\n"})
            self.pin("--renew", "clay03")
            texts[lockfile.read(self.lock).snapshot[7:19]] = self.lock.read_bytes()
        self.assertEqual(len(texts), SNAPSHOTS)
        order = list(texts)
        random.Random(3).shuffle(order)
        for name in order:
            self.lapidar("return", name)
            self.assertEqual(self.lock.read_bytes(), texts[name])
            self.assertTrue(self.json("check", "--deep")["clean"])

    def test_killed_at_any_moment(self) -> None:
        first = self.lock.read_bytes()
        second = self.renew()
        after = self.lock.read_bytes()
        began = time.monotonic()
        self.lapidar("return", self.first)
        took = time.monotonic() - began
        self.lapidar("return", second)
        for moment in range(6):
            for number in (signal.SIGKILL, signal.SIGINT):
                process = subprocess.Popen([PROGRAM, "return", self.first], cwd=self.project, env=self.variables,
                                           stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)  # fmt: skip
                time.sleep(took * (moment + 0.5) / 6)
                process.send_signal(number)
                process.wait()
                self.assertIn(self.lock.read_bytes(), (first, after))
                self.lapidar("return", second)
                self.assertTrue(self.json("check")["clean"])


class Sought(Stories):
    """What stands before a search for the culprit, and what it says first."""

    others = OTHERS[:3]

    def record(self) -> None:
        self.lapidar("record", "kilns", "--", "python", "analysis.py")

    def test_recorded_again_in_the_natural_order(self) -> None:
        self.record()
        self.renew()
        self.record()
        done = self.lapidar("culprit", "--packages-only")
        self.assertIn("It is sherdstats 1.0 -> 1.3.", done.stdout)
        self.assertIn(f"the record before, of {self.first}, judges", done.stderr)

    def test_the_record_before_is_taken_from_version_control(self) -> None:
        self.record()
        author = ["-c", "user.name=kiln", "-c", "user.email=kiln@sherds.example"]
        for words in (["init", "-q"], ["add", "-A"], [*author, "commit", "-qm", "fired"]):
            subprocess.run(["git", *words], cwd=self.project, check=True)
        self.renew()
        self.record()
        (self.cache / "runs" / "log.jsonl").unlink()
        self.assertIn("It is sherdstats 1.0 -> 1.3.", self.lapidar("culprit", "--packages-only").stdout)

    def test_a_record_that_nobody_can_reproduce(self) -> None:
        (self.project / "analysis.py").write_text("import os\nopen('r.txt', 'w').write(os.urandom(8).hex())\n")
        self.record()
        self.renew()
        said = self.fails("culprit")
        self.assertIn(f"is not reproduced by its own snapshot {self.first}: each run gives something else", said)
        self.assertIn("next: lapidar rerun kilns --times 3", said)
        self.assertIn("r.txt", self.lapidar("rerun", "kilns", "--times", "3", code=1).stdout)

    def test_it_is_the_files_and_no_package(self) -> None:
        (self.project / "analysis.py").write_text("open('r.txt', 'w').write('1')\n")
        self.record()
        self.renew()
        (self.project / "analysis.py").write_text("open('r.txt', 'w').write('2')\n")
        said = self.fails("culprit")
        self.assertIn("Both snapshots give the recorded results of kilns today", said)
        self.assertIn("analysis.py is not as recorded", said)
        self.assertIn("next: lapidar rerun kilns --current-files", said)
        self.assertIn("r.txt", self.lapidar("rerun", "kilns", "--current-files", code=1).stdout)

    def test_wrong_in_another_way_each_time_is_no_agreement(self) -> None:
        (self.project / "analysis.py").write_text(
            ANALYSIS
            + "import os\nif result['centre'] != 2: open('result.json', 'w').write('x' + os.urandom(8).hex())\n"
        )
        self.record()
        self.renew()
        self.assertIn("its runs do not agree with one another", self.fails("culprit", "--times", "3"))

    def test_a_crash_may_be_what_is_bad(self) -> None:
        crash = "import sherdstats.robust as r, os\nif r.centre([1, 2, 9]) != 2: os.kill(os.getpid(), 11)\n"
        (self.project / "judge.py").write_text(crash)
        self.renew()
        words = ("culprit", "--packages-only", "--good", self.first)
        said = self.fails(*words, "--", "python", "judge.py")
        self.assertIn("--crash-is-bad", said)
        said = self.lapidar(*words, "--crash-is-bad", "--", "python", "judge.py").stdout
        self.assertIn("It is sherdstats 1.0 -> 1.3.", said)
        (self.project / "judge.py").write_text(
            crash.replace("os.kill(os.getpid(), 11)", "__import__('time').sleep(60)")
        )
        late = ("--at-most", "4", "--crash-is-bad", "--", "python", "judge.py")
        self.assertIn("It is sherdstats", self.lapidar(*words, *late).stdout)

    def test_a_side_that_the_history_does_not_know_is_named_by_its_path(self) -> None:
        self.record()
        kept = self.folder / "the good one.lock"
        shutil.copy(self.lock, kept)
        self.renew()
        shutil.rmtree(self.cache / "snapshots")  # a cache that was carried here without its history
        (self.cache / "snapshots").mkdir()
        said = self.lapidar("culprit", "--packages-only", "--good", kept).stdout
        self.assertIn(f"Go back with: lapidar return '{kept}'", said)
        self.lapidar("return", kept, "--yes")
        self.assertEqual(self.lock.read_bytes(), kept.read_bytes())

    def test_known_before_its_files_are(self) -> None:
        self.record()
        self.renew()
        done = self.lapidar("culprit", "--budget", "0")
        self.assertIn("versions and files were looked for for 0 s", done.stderr)
        self.assertIn("It is sherdstats 1.0 -> 1.3.", done.stdout)
        self.assertNotIn("The change lies in", done.stdout)
        self.assertIn("The change lies in site/sherdstats/robust.py", self.lapidar("culprit").stdout)

    def test_what_only_moved_with_it(self) -> None:
        self.record()
        write_wheel(
            self.files, "sherdstats", "1.4", {"sherdstats/__init__.py": "", "sherdstats/robust.py": MEAN},
            requires=["glazes>=2"],
        )  # fmt: skip
        self.renew("1.4")
        found = json.loads(self.lapidar("culprit", "--json", "--packages-only").stdout)
        (one,) = found["guilty"]
        self.assertEqual((one["name"], [moved["name"] for moved in one["companions"]]), ("sherdstats", ["glazes"]))
        self.assertIn("1 package moved with it: glazes 1.0 -> 2.0.", self.lapidar("culprit", "--packages-only").stdout)


class Guilty(Stories):
    def found(self, *words: object, code: int = 0) -> dict[str, Any]:
        return dict(json.loads(self.lapidar("culprit", "--json", *words, code=code).stdout))

    def test_one_of_many_its_version_and_its_file(self) -> None:
        self.lapidar("record", "kilns", "--", "python", "analysis.py")
        for version in ("1.1", "1.2"):  # which the cache has then
            (self.project / "lapidar.toml").write_text(self.text.format(version))
            self.pin()
        self.renew()
        found = self.found("--report", self.folder / "culprit.html")
        (one,) = found["guilty"]
        self.assertEqual((one["name"], one["last_good"], one["first_bad"]), ("sherdstats", "1.1", "1.2"))
        self.assertEqual(one["files"], ["site/sherdstats/robust.py"])
        self.assertTrue(found["certain"])
        self.assertLessEqual(len(found["trials"]), 2 * 5 + 10 + 8)
        page = (self.folder / "culprit.html").read_text()
        parts = ("sherdstats", "robust.py", "<svg", "+    return sum(values)", "Without what was found", "result.json")
        for part in parts:
            self.assertIn(part, page)
        again = self.found()
        self.assertTrue(all(trial["remembered"] for trial in again["trials"]))
        said = self.lapidar("culprit").stdout
        self.assertIn("It is sherdstats 1.0 -> 1.3", said)
        self.assertIn("The change lies in site/sherdstats/robust.py", said)
        self.assertIn("+    return sum(values) / len(values)", said)
        self.assertFalse(any((self.project / ".lapidar" / "culprit").glob("trials/*")))
        self.assertIn("other way round", self.fails(
            "culprit", "kilns", "--good", lockfile.read(self.lock).snapshot[7:19], "--bad", self.first))  # fmt: skip

    def test_versions_that_only_the_index_has(self) -> None:
        self.renew()
        (self.project / "judge.py").write_text(
            "import sherdstats.robust as r, sys\nsys.exit(r.centre([1, 2, 9]) == 4)\n"
        )
        judged = ("--good", self.first, "--", "python", "judge.py")
        self.assertEqual(self.told(*judged), ("1.1", "1.2"))
        self.lapidar("cache", "prune")  # nobody holds the versions between
        self.index.stop()
        shutil.rmtree(self.project / ".lapidar" / "culprit")
        found = self.found(*judged)
        self.assertEqual(found["guilty"][0]["files"], ["site/sherdstats/robust.py"])
        self.assertIn("only versions that the cache has", found["notes"][0])

    def test_what_took_too_long_is_tried_again_with_more_time(self) -> None:
        self.renew()
        (self.project / "judge.py").write_text(
            "import sherdstats.robust as r, sys, time\ntime.sleep(1.5)\nsys.exit(r.centre([1, 2, 9]) == 4)\n"
        )
        ask = ("--packages-only", "--good", self.first, "--", "python", "judge.py")
        self.assertIn("ended after 0.3 s", self.fails("culprit", "--at-most", "0.3", *ask))
        self.assertIn("ended after 0.3 s", self.fails("culprit", "--at-most", "0.2", *ask))
        self.assertEqual(self.found("--at-most", "60", *ask)["guilty"][0]["name"], "sherdstats")
        self.assertTrue(all(trial["remembered"] for trial in self.found(*ask)["trials"]))

    def test_what_a_package_says_of_itself(self) -> None:
        self.renew()
        (self.project / "judge.py").write_text(
            "import sys\nfrom importlib.metadata import version\nsys.exit(version('sherdstats') > '1.1')\n"
        )
        found = self.found("--good", self.first, "--", "python", "judge.py")
        (one,) = found["guilty"]
        self.assertEqual(
            (one["name"], one["last_good"], one["first_bad"], one["files"]), ("sherdstats", "1.1", "1.2", [])
        )
        self.assertIn("what it says of itself", " ".join(found["notes"]))

    def told(self, *words: object) -> tuple[str, str]:
        (one,) = self.found(*words)["guilty"]
        return one["last_good"], one["first_bad"]

    def test_a_pair_that_only_together_does_it(self) -> None:
        self.renew("1.0", glazes="FACTOR = 3\n", slips="FACTOR = 2\n")
        judge = self.project / "judge.py"
        judge.write_text("import glazes, slips, sys\nsys.exit(1 if glazes.FACTOR * slips.FACTOR == 6 else 0)\n")
        found = self.found("--good", self.first, "--jobs", "2", "--", "python", "judge.py")
        self.assertEqual({one["name"] for one in found["guilty"]}, {"glazes", "slips"})
        self.assertEqual((found["also"], found["without"]), ([], "good"))

    def test_two_that_do_it_each_by_itself(self) -> None:
        self.renew("1.3", glazes="FACTOR = 3\n")
        (self.project / "judge.py").write_text(
            "import glazes, sherdstats.robust as r, sys\nsys.exit(glazes.FACTOR == 3 or r.centre([1, 2, 9]) == 4)\n"
        )
        found = self.found("--good", self.first, "--", "python", "judge.py")
        sets = [[one["name"] for one in those] for those in (found["guilty"], *found["also"])]
        self.assertEqual(sorted(sets), [["glazes"], ["sherdstats"]])
        self.assertEqual(found["without"], "good")
        said = self.lapidar("culprit", "--good", self.first, "--", "python", "judge.py").stdout
        self.assertIn("It, by itself too, is", said)

    def test_a_variable_and_what_cannot_be_told(self) -> None:
        text = (self.project / "lapidar.toml").read_text()
        (self.project / "lapidar.toml").write_text(text + '[conditions.env]\nOMP_NUM_THREADS = "4"\n')
        self.renew("1.0")
        (self.project / "lapidar.toml").write_text(
            self.text.format("1.0") + '[conditions.env]\nOMP_NUM_THREADS = "4"\n'
        )
        self.pin()
        (self.project / "judge.py").write_text(
            "import os, sys, clay05, clay06\n"
            "if clay05.X != clay06.X: sys.exit(125)\n"  # which nobody said
            "sys.exit(os.environ.get('OMP_NUM_THREADS') == '4')\n"
        )
        found = self.found("--good", self.first, "--", "python", "judge.py")
        self.assertEqual([one["name"] for one in found["guilty"]], ["variable OMP_NUM_THREADS"])

    def test_where_there_is_nothing_to_find(self) -> None:
        second = self.renew("1.0")
        (self.project / "judge.py").write_text("import sys; sys.exit(0)\n")
        ask = ("--good", self.first, "--", "python", "judge.py")
        self.assertIn("Both are good", self.fails("culprit", *ask))
        (self.project / "judge.py").write_text("import sys; sys.exit(3)\n")
        self.assertIn("Both are bad", self.fails("culprit", *ask))
        (self.project / "judge.py").write_text("import sys; sys.exit(125)\n")
        self.assertIn("cannot be told", self.fails("culprit", *ask))
        (self.project / "judge.py").write_text("import time; time.sleep(99)\n")
        self.assertIn("cannot be told", self.fails("culprit", "--at-most", "1", *ask))
        self.assertIn("hold the same", self.fails("culprit", "--good", second, "--", "python", "judge.py"))
        self.assertIn("nothing is recorded", self.fails("culprit"))
        self.assertIn("is not said", self.fails("culprit", "--", "python", "judge.py"))

    def test_numbers_and_lists_of_a_variable(self) -> None:
        text = (self.project / "lapidar.toml").read_text()
        second = '[conditions.env]\nOMP_NUM_THREADS = "{}"\nGLAZE_FLAGS = "{}"\n'
        (self.project / "lapidar.toml").write_text(text + second.format(1, "soft:thin:warm"))
        self.pin()
        good = lockfile.read(self.lock).snapshot[7:19]
        (self.project / "lapidar.toml").write_text(text + second.format(9, "soft:cold:thick:warm"))
        self.pin()
        (self.project / "judge.py").write_text(
            "import os, sys\nflags = os.environ['GLAZE_FLAGS'].split(':')\n"
            "sys.exit('thick' in flags if sys.argv[1] == 'flags' else int(os.environ['OMP_NUM_THREADS']) > 3)\n"
        )
        self.assertEqual(self.told("--good", good, "--", "python", "judge.py", "threads"), ("3", "4"))
        (one,) = self.found("--good", good, "--", "python", "judge.py", "flags")["guilty"]
        self.assertEqual((one["name"], one["entries"]), ("variable GLAZE_FLAGS", ["thick"]))
        said = self.lapidar("culprit", "--good", good, "--", "python", "judge.py", "flags").stdout
        self.assertIn("The change lies in thick\n", said)

    def test_nothing_is_compiled_that_is_known(self) -> None:
        for version, body in (("1.1", MEDIAN), ("1.2", MEAN)):
            self.release(
                "sherdstats", version, {"robust.py": body, "other.py": f"N = {str(self.folder)!r}, {version}\n"}
            )
            (self.project / "lapidar.toml").write_text(self.text.format(version))
            self.pin("--no-restore")  # which would compile it
        self.renew()
        self.lapidar("restore", "--snapshot", self.first, "--into", self.folder / "first")
        (self.project / "judge.py").write_text(
            "import sherdstats.robust as r, sys\nsys.exit(r.centre([1, 2, 9]) == 4)\n"
        )
        compiled: list[str] = []
        run = Compiler._run

        def listening(self: Compiler, jobs: Any, *rest: Any) -> set[str]:
            compiled.extend(entry.path for _, entry in jobs)
            return run(self, jobs, *rest)

        with mock.patch.object(Compiler, "_run", listening), mock.patch.dict(os.environ, self.variables):
            options = CulpritOptions(good=self.first, command=("python", "judge.py"))
            found = culprit(Place.of_project(self.project), Cache(self.cache), options)
        self.assertEqual([file.path for file in found.guilty[0].files], ["site/sherdstats/robust.py"])
        # Of the versions between, what neither side has; of the hybrids of their files nothing.
        self.assertEqual(compiled, ["site/sherdstats.py", "site/sherdstats/other.py"] * 2)

    def test_a_judge_that_was_changed_is_asked_again(self) -> None:
        """However it is called: what an earlier judge said is not taken for its answer."""
        self.renew("1.3")
        judge, helper = self.project / "judge.py", self.project / "helper.py"
        helper.write_text("def bad(centre):\n    return centre == 4\n")
        judge.write_text("import sys, helper, sherdstats.robust as r\nsys.exit(helper.bad(r.centre([1, 2, 9])))\n")
        for command in (("sh", "-c", "python judge.py"), ("env", "KILN=1", "python", "-c", "import judge")):
            ask = ("--good", self.first, "--", *command)
            self.assertEqual([one["name"] for one in self.found(*ask)["guilty"]], ["sherdstats"])
            self.assertTrue(all(trial["remembered"] for trial in self.found(*ask)["trials"]))
            for file in (judge, helper):
                file.write_text(file.read_text() + "# looked at again\n")
                self.assertFalse(all(trial["remembered"] for trial in self.found(*ask)["trials"]), file)

    def test_what_a_run_says_is_told_where_nothing_else_can_be(self) -> None:
        self.renew("1.3")
        (self.project / "judge.py").write_text(
            "import sys, clay00, clay23, sherdstats.robust as r\nprint('soaking', file=sys.stderr)\n"
            "if clay00.X != clay23.X: sys.exit(125)\nsys.exit(r.centre([1, 2, 9]) == 4)\n"
        )
        ask = ("--good", self.first, "--", "python", "judge.py")
        done = self.lapidar("culprit", *ask)
        lines = (done.stdout + done.stderr).splitlines()
        told = [number for number, line in enumerate(lines) if "soaking" in line]
        self.assertTrue(told)
        for number in told:
            self.assertEqual([lines[number - 1].strip(), lines[number].strip()],
                             ["it ended with exit code 125", "soaking"])  # fmt: skip
            self.assertIn("cannot tell", lines[number - 2])
        trials = self.found(*ask)["trials"]
        self.assertEqual({bool(trial["said"]) for trial in trials if trial["outcome"] == "cannot tell"}, {True})
        self.assertEqual({bool(trial["said"]) for trial in trials if trial["outcome"] != "cannot tell"}, {False})
        said = self.fails("culprit", "--good", self.first, "--", "nosuchthing")
        self.assertIn("cannot be told", said)
        self.assertIn("There is no command 'nosuchthing'", said)

    def test_killed_at_any_moment(self) -> None:
        self.lapidar("record", "kilns", "--", "python", "analysis.py")
        self.renew()
        lock = self.lock.read_bytes()
        began = time.monotonic()
        whole = self.found()
        took = time.monotonic() - began
        shutil.rmtree(self.project / ".lapidar" / "culprit")
        for moment in range(6):
            process = subprocess.Popen([PROGRAM, "culprit"], cwd=self.project, env=self.variables,
                                       stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)  # fmt: skip
            time.sleep(took * (moment + 0.5) / 12)
            process.send_signal(signal.SIGKILL)
            process.wait()
            self.assertEqual(self.lock.read_bytes(), lock)
        again = self.found()
        self.assertEqual(again["guilty"], whole["guilty"])
        self.assertTrue(any(trial["remembered"] for trial in again["trials"]))
        self.nothing_is_left()
        self.lapidar("cache", "audit")

    def nothing_is_left(self) -> None:
        there = os.listdir(self.project / ".lapidar")
        self.assertEqual([one for one in there if one.startswith(("trial", "judging-", "rerun-"))], [])

    def test_no_space_is_no_answer(self) -> None:
        self.renew()
        (self.project / "judge.py").write_text(
            "import os, pathlib, sys, sherdstats.robust as r\n"
            "if r.centre([1, 2, 9]) == 4 and os.path.exists('fill'):\n"
            "    open(os.environ['TMPDIR'] + '/filled', 'wb', 0).write(bytes(9000000))\n"
            "sys.exit(r.centre([1, 2, 9]) == 4)\n"
        )
        ask = (PROGRAM, "culprit", "--json", "--good", self.first, "--", "python", "judge.py")
        own = self.project / ".lapidar"
        for size in ("300k", "6m", "20m"):
            with self.subTest(size=size):
                script = f"mount -t tmpfs -o size={size} none '{own}' && \"$@\"; code=$?; ls -A '{own}' >&2; exit $code"
                done = self.in_namespace(script, *ask)
                self.assertEqual(done.returncode, 3, done.stdout + done.stderr)
                self.assertIn("no space is left", done.stdout)
                self.assertNotIn("trials-", done.stderr)
        (self.project / "fill").touch()
        (self.folder / "tmp").mkdir()
        self.variables["TMPDIR"] = str(self.folder / "tmp")
        done = self.in_namespace(f"mount -t tmpfs -o size=2m none '{self.folder}/tmp' && \"$@\"", *ask)
        self.assertEqual(done.returncode, 3, done.stdout + done.stderr)
        self.assertIn("is full: what a run says then is no answer", done.stdout)
        (self.project / "fill").unlink()
        self.nothing_is_left()
        (one,) = self.found(*ask[3:])["guilty"]
        self.assertEqual(one["name"], "sherdstats")

    def test_a_flaky_judge_is_noticed(self) -> None:
        self.renew("1.3")
        (self.project / "judge.py").write_text(
            "import os, pathlib, sys, sherdstats.robust as r\n"
            "seen = pathlib.Path('seen'); n = len(seen.read_text()) if seen.exists() else 0; seen.write_text('x' * (n + 1))\n"
            "sys.exit(n % 2)\n"
        )
        self.assertIn(
            "do not agree", self.fails("culprit", "--times", "2", "--good", self.first, "--", "python", "judge.py")
        )

    def test_interrupted_it_goes_on(self) -> None:
        self.lapidar("record", "kilns", "--", "python", "analysis.py")
        self.renew()
        process = subprocess.Popen([PROGRAM, "culprit"], cwd=self.project, env=self.variables, stdout=subprocess.PIPE,
                                   stderr=subprocess.STDOUT, text=True)  # fmt: skip
        assert process.stdout
        for _ in range(3):
            process.stdout.readline()
        process.send_signal(signal.SIGINT)
        process.communicate()
        self.assertEqual(process.returncode, 130)
        found = self.found()
        self.assertGreaterEqual(sum(trial["remembered"] for trial in found["trials"]), 2)
        self.assertEqual([one["name"] for one in found["guilty"]], ["sherdstats"])
        self.assertTrue(Path(self.project / ".lapidar" / "culprit").is_dir())


class Lost(Stories):
    """Bytes of an earlier snapshot are gone."""

    own_cache = True

    def lose(self) -> None:
        (package,) = (one for one in self.before.packages if one.name == "sherdstats")
        (entry,) = (one for one in Cache(self.cache).tree(package.tree) if one.path.endswith("robust.py"))
        Path(Cache(self.cache).entry_path(entry)).unlink()

    def test_which_they_are_and_where_they_come_from(self) -> None:
        self.before = lockfile.read(self.lock)
        self.renew()
        lock = self.lock.read_bytes()
        (self.project / "judge.py").write_text(
            "import sherdstats.robust as r, sys\nsys.exit(r.centre([1, 2, 9]) == 4)\n"
        )
        ask = ("culprit", "--packages-only", "--good", self.first, "--", "python", "judge.py")
        self.lose()
        for words in (ask, ("return", self.first)):
            said = self.fails(*words)
            self.assertIn("sherdstats 1.0", said)
            self.assertIn("--fetch", said)
            self.assertEqual(self.lock.read_bytes(), lock)
        self.assertIn("It is sherdstats 1.0 -> 1.3", self.lapidar("culprit", "--fetch", *ask[1:]).stdout)
        self.lose()
        self.lapidar("return", "--fetch", "--declaration", self.first)
        self.assertTrue(self.json("check", "--deep")["clean"])


class Below(Case):
    """What lies below the packages can be guilty too."""

    CONDITION = '[needs]\ntools = ["{}"]\n[conditions.env]\nOMP_NUM_THREADS = "{}"\n'
    JUDGE = """\
import ctypes, glob, os, subprocess, sys
def asked(name): return getattr(ctypes.CDLL(glob.glob(sys.prefix + "/lib/python*/site-packages/firing.so")[0]), name)()
def library(): return asked("fired") == 7
def several(): return asked("fired") + asked("soaked") < 17
def program(): return subprocess.run(["hottest"], capture_output=True, text=True).stdout == "1280\\n"
def variable(): return os.environ["OMP_NUM_THREADS"] == "1"
def both(): return library() or program()
sys.exit(not globals()[sys.argv[1]]())
"""

    def capture(self, answer: int, degrees: int, threads: int) -> str:
        fire = compile_c(
            self.folder, "libfire.so.1", f"int fire(void) {{ return {answer}; }}", "-Wl,-soname,libfire.so.1"
        )
        soak = compile_c(
            self.folder, "libsoak.so.1", f"int soak(void) {{ return {answer + 1}; }}", "-Wl,-soname,libsoak.so.1"
        )
        code, link = "int fire(void), soak(void); int fired(void) { return fire(); }", f"-Wl,-rpath,{self.folder}"
        code += " int soaked(void) { return soak(); }"
        firing = compile_c(self.folder, "firing.so", code, str(fire), str(soak), link)
        if not (self.folder / "venv").exists():
            self.environment(write_wheel(self.folder, "firing", "1.0", {"firing.so": firing.read_bytes()}))
        program = self.folder / "hottest"
        program.write_text(f"#!/bin/sh\necho {degrees}\n")
        program.chmod(0o755)
        (self.project / "lapidar.toml").write_text(self.CONDITION.format(program, threads))
        (self.project / "judge.py").write_text(self.JUDGE)
        self.lapidar("capture", self.folder / "venv", "--scope", "whole")
        return lockfile.read(self.lock).snapshot[7:19]

    def test_a_library_a_program_a_variable(self) -> None:
        first = self.capture(7, 1280, 1)
        self.capture(8, 1290, 4)
        shutil.rmtree(self.folder / "venv")
        for name in ("libfire.so.1", "libsoak.so.1", "hottest"):
            (self.folder / name).unlink()
        for judge, guilty in {
            "library": [("libraries", "libfire.so.1")],
            "program": [("tools", "hottest")],
            "variable": [("conditions", "variable OMP_NUM_THREADS")],
            "both": [("libraries", "libfire.so.1"), ("tools", "hottest")],
        }.items():
            with self.subTest(judge):
                command = ("culprit", "--json", "--good", first, "--", "python", "judge.py", judge)
                found = json.loads(self.lapidar(*command).stdout)
                self.assertEqual(sorted((one["layer"], one["name"]) for one in found["guilty"]), guilty)
                self.assertEqual((found["also"], found["without"], found["certain"]), ([], "good", True))

    def shipped(self, version: str) -> str:
        """The snapshot as if the operating system shipped both libraries in one package."""
        snapshot = lockfile.read(self.lock)
        libraries = tuple(
            replace(one, owner="libkiln1", owner_version=version)
            if one.soname in ("libfire.so.1", "libsoak.so.1")
            else one
            for one in snapshot.libraries
        )
        made = lockfile.identify(replace(snapshot, libraries=libraries))
        lockfile.write(made, self.lock)
        with Cache(self.cache).in_use():
            History(Cache(self.cache)).add(made, Place.of_project(self.project), Deed(Cause.CAPTURED))
        return made.snapshot[7:19]

    def test_libraries_that_ship_together(self) -> None:
        ids = []
        for version, answer in (("1.0-1", 7), ("1.0-2", 7), ("1.2-1", 8), ("2.0-1", 8)):
            self.capture(answer, 1280, 1)
            ids.append(self.shipped(version))
        command = ("culprit", "--json", "--good", ids[0], "--", "python", "judge.py")
        (one,) = json.loads(self.lapidar(*command, "library").stdout)["guilty"]
        self.assertEqual((one["name"], one["ships_with"]), ("libfire.so.1", ["libsoak.so.1"]))
        self.assertEqual((one["last_good"], one["first_bad"]), ("1.0-2", "1.2-1"))
        self.assertEqual(one["lines"], {"libfire.so.1": ["of the same size, with other bytes: fire"]})
        found = json.loads(self.lapidar(*command, "several").stdout)
        self.assertEqual([one["name"] for one in found["guilty"]], ["libfire.so.1", "libsoak.so.1"])
        said = self.lapidar("culprit", "--good", ids[0], "--", "python", "judge.py", "library").stdout
        self.assertIn("libfire.so.1 1.0-2 is good, 1.2-1 is the first that is bad.", said)
        self.assertIn("It does it without what the system ships with it: libsoak.so.1.", said)


if __name__ == "__main__":
    unittest.main()
