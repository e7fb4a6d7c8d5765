"""Results: recorded, rerun, compared."""

from __future__ import annotations

import gc
import io
import json
import os
import re
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any
from unittest import mock

from lapidar.core.cache.digest import sha256_of
from lapidar.core.place import RECORDS_NAME
from lapidar.core.records import results
from lapidar.core.records.results import Analysis
from lapidar.core.system import supervision
from lapidar.core.system.supervision import RunOptions
from lapidar.core.system.written import Files
from roots import bare_root, run_in, skip_loudly
from support import PROGRAM, InFolder, Ready, tree_of, writable

# The ways by which programs write.
WAYS = {
    "subprocess": "import subprocess; subprocess.run(['sh', '-c', 'cat in.txt > out.txt'], check=True)",
    "pool": "import multiprocessing as m\ndef f(n): open(f'p{n}.txt', 'w').write(open('in.txt').read())\n"
    "if __name__ == '__main__':\n  for way in 'fork', 'spawn':\n    with m.get_context(way).Pool(2) as pool: pool.map(f, range(3))\n",
    "threads": "import threading\ndef f(n): open(f't{n}.txt', 'w').write(open('in.txt').read())\n"
    "threads = [threading.Thread(target=f, args=(n,)) for n in range(4)]\nfor t in threads: t.start()\nfor t in threads: t.join()",
    "replace": "import os; open('new.tmp', 'w').write('x'); os.replace('new.tmp', 'out.txt'); open('in.txt').read()",
    "temporary": "import os, tempfile\nf = tempfile.NamedTemporaryFile('w', dir='.', delete=False)\nf.write(open('in.txt').read()); f.close()\nos.rename(f.name, 'out.txt')",
    "map": "import mmap\nf = open('map.bin', 'w+b'); f.truncate(4096)\nm = mmap.mmap(f.fileno(), 4096); m[:4] = open('in.txt', 'rb').read(4); m.close()",
    "copy": "import shutil; shutil.copy('in.txt', 'copy.txt'); shutil.copytree('folder', 'folder2')",
    "sendfile": "import os\na = os.open('in.txt', os.O_RDONLY); b = os.open('sent.txt', os.O_WRONLY | os.O_CREAT)\nos.sendfile(b, a, 0, 100)",
    "pipeline": "import os; os.system('cat in.txt folder/deep.txt | sort | tee sorted.txt | wc -l > count.txt')",
    "database": "import sqlite3\nc = sqlite3.connect('a.db'); c.execute('create table t (x)'); c.execute('insert into t values (1)'); c.commit(); c.close()",
    "chdir": "import os; os.chdir('folder'); open('../up.txt', 'w').write(open('deep.txt').read())",
    "descriptors": "import os\nd = os.open('folder', os.O_RDONLY); a = os.open('deep.txt', os.O_RDONLY, dir_fd=d)\nb = os.open('beside.txt', os.O_WRONLY | os.O_CREAT, dir_fd=d); os.write(b, os.read(a, 99))",
    "links": "import os; open('a.txt', 'w').write('1'); os.link('a.txt', 'hard.txt'); os.symlink('a.txt', 'soft.txt'); open('in.txt').read()",
    "folders": "import os; os.mkdir('w'); open('w/x.txt', 'w').write('1'); os.rename('w', 'v'); open('in.txt').read()",
    "append": "open('both.txt', 'a').write('more'); open('in.txt').read()",
    "removed": "import os; open('gone.txt', 'w').write('1'); os.remove('gone.txt'); open('in.txt').read()",
}
_OPENED = re.compile(
    r'open(?:at2?)?\((?:AT_FDCWD<[^>]*>|\d+<[^>]*>|(?=")),? ?"((?:[^"\\]|\\.)*)", (?:\{flags=)?([A-Z_|]+)[^=]*= (\d+)<([^>]*)>'
)


class Tracer(InFolder):
    """What is seen of a run, against what the system's own tracer of calls tells."""

    def setUp(self) -> None:
        super().setUp()
        self.root = self.root.resolve()
        self.place = self.root / "project"

    def lay(self) -> None:
        shutil.rmtree(self.place, ignore_errors=True)
        (self.place / "folder").mkdir(parents=True)
        for name in ("in.txt", "both.txt", "unread.txt", "folder/deep.txt"):
            (self.place / name).write_text(f"{name}\n")

    def seen(self, script: Path) -> tuple[set[str], set[str], dict[str, str]]:
        self.lay()
        kept = Path(tempfile.mkdtemp(dir=self.root))
        files = Files(str(self.place), str(kept), ignores=lambda path: "__pycache__" in path)
        how = RunOptions(folder=str(self.place), watches=True, files=files)
        ended = supervision.run(sys.executable, [sys.executable, str(script)], dict(os.environ), how)
        self.assertEqual(ended.code, 0)
        touched = ended.touched
        relative = {os.path.relpath(path, self.place): place for path, place in touched.read.items()}
        return set(relative), {os.path.relpath(path, self.place) for path in touched.written}, relative

    def oracle(self, script: Path) -> tuple[set[str], set[str]]:
        """What the log of all calls says: files below the project that were there and were opened to be read; and, by
        looking at the folder before and after, those that are new or changed."""
        self.lay()
        there = {str(path): path.stat() for path in self.place.rglob("*") if path.is_file()}
        log = self.root / "log"
        for old in self.root.glob("log.*"):
            old.unlink()
        words = ["strace", "-ff", "-y", "-qq", "-s", "4096", "-e", "trace=open,openat,openat2,creat", "-o", str(log)]
        subprocess.run([*words, sys.executable, script], cwd=self.place, check=True, capture_output=True)
        read, written = set(), set()
        # One log a process: no line of one is cut by another's.
        for line in [
            line for one in self.root.glob("log.*") for line in one.read_text("utf-8", "replace").splitlines()
        ]:
            found = _OPENED.search(line)
            if found is None:
                continue
            path, flags = found[4], found[2]
            if path in there and "O_TRUNC" not in flags and "O_DIRECTORY" not in flags:
                read.add(os.path.relpath(path, self.place))
        for file in self.place.rglob("*"):
            if file.is_dir() and not file.is_symlink():
                continue
            before = there.get(str(file))
            now = file.lstat()
            if before is None or (before.st_ino, before.st_size, before.st_ctime_ns) != (
                now.st_ino,
                now.st_size,
                now.st_ctime_ns,
            ):
                written.add(os.path.relpath(file, self.place))
        return read, written

    def test_every_way_to_write(self) -> None:
        if shutil.which("strace") is None:
            skip_loudly(self, "there is no strace here (Debian's strace)")
        for name, code in WAYS.items():
            with self.subTest(name):
                script = self.root / "script.py"
                script.write_text(code)
                read, written, _ = self.seen(script)
                self.assertEqual((read, written), self.oracle(script))

    def test_what_was_there_before_is_kept(self) -> None:
        script = self.root / "script.py"
        script.write_text(
            "print(open('in.txt').read()); open('in.txt', 'w').write('other'); open('both.txt', 'a').write('more')"
        )
        read, written, places = self.seen(script)
        self.assertEqual(written, {"in.txt", "both.txt"})
        self.assertEqual(read, {"in.txt", "both.txt"})
        self.assertEqual(Path(places["in.txt"]).read_text(), "in.txt\n")
        self.assertEqual(Path(places["both.txt"]).read_text(), "both.txt\n")

    def test_ways_that_cannot_be_seen_are_said(self) -> None:
        script = self.root / "script.py"
        script.write_text("import ctypes; ctypes.CDLL(None).syscall(425, 1, 0)")
        self.lay()
        how = RunOptions(folder=str(self.place), watches=True, files=Files(str(self.place), str(self.root)))
        ended = supervision.run(sys.executable, [sys.executable, str(script)], dict(os.environ), how)
        self.assertEqual(ended.touched.unseen, ("io_uring, which was refused",))


class Results(Ready):
    SCRIPT = """
import csv, json, sys
rows = list(csv.DictReader(open("data/sherds.csv")))
tin = [float(row["tin"]) for row in rows]
with open("results/table.csv", "w") as out:
    out.write("sherd,share\\n")
    for row, value in zip(rows, tin):
        out.write(f"{row['sherd']},{value / sum(tin)!r}\\n")
json.dump({"mean": sum(tin) / len(tin), "sherds": len(tin)}, open("results/summary.json", "w"))
print("mean", sum(tin) / len(tin))
"""

    def setUp(self) -> None:
        super().setUp()
        for name in ("data", "results"):
            (self.project / name).mkdir()
        (self.project / "data/sherds.csv").write_text("sherd,tin\nS1,1.5\nS2,2.25\nS3,0.125\n")
        (self.project / "fit.py").write_text(self.SCRIPT)

    @property
    def file(self) -> Path:
        return self.project / RECORDS_NAME

    def analysis(self, name: str = "fit") -> Analysis:
        found = results.read(self.file).named(name)
        assert found is not None
        return found

    def verdicts(self, *words: object, code: int = 0) -> dict[str, str]:
        (told,) = self.json("rerun", *words, code=code)["reruns"]
        return {one["path"]: one["verdict"] for one in told["results"]}

    def nothing_is_left(self) -> None:
        left = [name for name in os.listdir(self.project / ".lapidar") if name.startswith(("rerun-", "recording-"))]
        self.assertEqual(left, [])


class Recording(Results):
    def test_it_learns_what_is_read_and_written(self) -> None:
        said = self.lapidar("record", "--", "python", "fit.py").stdout
        self.assertIn("mean 1.29", said)
        one = self.analysis()
        self.assertEqual([file.path for file in one.source], ["fit.py"])
        self.assertEqual([file.path for file in one.input], ["data/sherds.csv"])
        self.assertEqual(
            {file.path: file.kind for file in one.result},
            {"results/summary.json": "values", "results/table.csv": "table"},
        )
        text = self.file.read_text()
        for word in (str(self.project), str(self.folder), os.uname().nodename, time.strftime("%Y")):
            self.assertNotIn(word, text)
        self.lapidar("record", "--", "python", str(self.project / "fit.py"))
        self.assertEqual(self.file.read_text(), text, "recorded again it is the same bytes")
        self.nothing_is_left()
        self.assertTrue(self.json("check")["clean"])
        self.assertRegex(self.lapidar("show", "results", "fit").stdout, r"Recorded \d+ times with this cache")

    def test_what_fails_is_not_recorded(self) -> None:
        (self.project / "fit.py").write_text("open('results/half.csv', 'w').write('x'); raise SystemExit(4)")
        self.assertIn("exit code 4", self.fails("record", "--", "python", "fit.py"))
        self.assertFalse(self.file.exists())
        self.lapidar("record", "--even-failed", "--", "python", "fit.py")
        self.assertEqual(self.analysis().exit_code, 4)
        self.assertTrue(self.verdicts())
        (self.project / "fit.py").write_text("import time; time.sleep(60)")
        began = time.monotonic()
        self.assertIn("ended after", self.fails("record", "slow", "--at-most", "1", "--", "python", "fit.py"))
        self.assertLess(time.monotonic() - began, 20)
        self.assertIsNone(results.read(self.file).named("slow"))
        self.nothing_is_left()

    def test_what_may_surprise_is_said(self) -> None:
        outside = self.folder / "outside.txt"
        outside.write_text("kiln\n")
        (self.project / "state.txt").write_text("1\n")
        (self.project / "old.txt").write_text("old\n")
        (self.project / "fit.py").write_text(
            "import os, subprocess\n"
            f"open({str(outside)!r}).read()\n"
            "open('state.txt').read(); open('state.txt', 'a').write('2\\n')\n"
            "os.path.exists('old.txt') and os.remove('old.txt'); open('fit.py', 'a').write('# changed\\n')\n"
            "open('passing.txt', 'w').write('x'); os.remove('passing.txt')\n"
            "os.mkfifo('pipe'); os.symlink('state.txt', 'link')\n"
            "open('empty.txt', 'w'); open(b'bad\\xff.txt', 'w').write('x')\n"
            "subprocess.Popen(['sleep', '300'])\n"
        )
        before = (self.project / "fit.py").read_text()
        done = self.lapidar("record", "--", "python", "fit.py")
        for words in (
            "read files outside of the project.*outside.txt",
            "read and changed state.txt",
            "changed its own source: fit.py",
            "removed files that were there before: old.txt",
            "made what is no file.*pipe",
            "left 1 processes behind",
        ):
            self.assertRegex(done.stderr, words)
        one = self.analysis()
        self.assertEqual([file.path for file in one.outside], ["outside.txt"])
        self.assertEqual([file.path for file in one.result], ["bad\\xff.txt", "empty.txt", "link", "state.txt"])
        self.assertNotIn("passing", self.file.read_text())
        # Years later, with the project as the run left it: the source and the state as they were before.
        self.assertNotEqual((self.project / "fit.py").read_text(), before)
        verdicts = self.verdicts()
        self.assertEqual(set(verdicts.values()), {"identical"}, verdicts)

    def test_declared_analyses_in_turn(self) -> None:
        (self.project / "lapidar.toml").write_text(
            '[analysis.fit]\ncommand = "python fit.py"\nresults = ["results/*.csv"]\n'
            '[analysis.again]\ncommand = ["python", "-c", "open(\'x.txt\', \'w\').write(\'1\')"]\nleave = ["x.*"]\n'
        )
        self.lapidar("record")
        self.assertEqual([one.name for one in results.read(self.file).analysis], ["again", "fit"])
        self.assertEqual([file.path for file in self.analysis().result], ["results/table.csv"])
        self.assertEqual(self.analysis("again").result, ())
        self.assertIn("no analysis to record", self.fails("record", "--project", self.folder))
        self.lapidar("rerun")

    def test_an_input_and_a_result_of_names_that_meet(self) -> None:
        """One in the folder that results lie in in the cache, the other beside it."""
        (self.project / "results/x.txt").write_text("an input\n")
        (self.project / "fit.py").write_text("open('results/x.txt').read(); open('x.txt', 'w').write('a result\\n')")
        self.lapidar("record", "--", "python", "fit.py")
        one = self.analysis()
        for file in (*one.input, *one.result):
            self.assertEqual(file.sha256, sha256_of(str(self.project / file.path)), file.path)
        self.assertEqual(set(self.verdicts().values()), {"identical"})

    def test_large_inputs_by_digest(self) -> None:
        self.lapidar("record", "--largest", "10B", "--", "python", "fit.py")
        self.assertFalse(self.analysis().input[0].kept)
        self.assertEqual(set(self.verdicts(code=0).values()), {"identical"})
        data = self.project / "data/sherds.csv"
        data.write_text(data.read_text().replace("1.5", "1.25"))
        self.assertIn("another than recorded", self.fails("rerun"))
        data.unlink()
        self.assertIn("neither in the cache nor in the project", self.fails("rerun"))


class Rerunning(Results):
    def setUp(self) -> None:
        super().setUp()
        self.lapidar("record", "--", "python", "fit.py")

    def test_another_change_is_found_and_measured(self) -> None:
        self.assertEqual(set(self.verdicts().values()), {"identical"})
        data = self.project / "data/sherds.csv"
        data.write_text(data.read_text().replace("2.25", "2.2500000000000018"))
        self.assertEqual(set(self.verdicts().values()), {"identical"}, "the recorded input is what counts")
        picture, page = self.project / "what.png", self.project / "what.html"
        found = self.json("rerun", "--current-files", "--picture", picture, "--report", page, code=1)["reruns"][0]
        by_path = {one["path"]: one for one in found["results"]}
        numbers = by_path["results/summary.json"]["numbers"]
        self.assertEqual((numbers["differing"], numbers["at"]), (1, "mean"))
        self.assertIn(numbers["ulps"], range(1, 9))
        self.assertEqual(picture.read_bytes()[:4], b"\x89PNG")
        text = page.read_text()
        self.assertIn("data:image/png;base64", text)
        self.assertNotRegex(text, r"<script|https?://|src=\"(?!data:)")
        (self.project / "lapidar.toml").write_text('[analysis.fit.tolerance]\n"*" = { ulps = 8 }\n')
        found = self.verdicts("--current-files")
        self.assertEqual(found["results/summary.json"], "within tolerance")
        self.nothing_is_left()

    def test_the_project_is_not_touched(self) -> None:
        before = {
            path: path.stat() for path in self.project.rglob("*") if ".lapidar" not in path.parts and path.is_file()
        }
        self.lapidar("rerun", "--keep-results", self.folder / "kept")
        after = {
            path: path.stat() for path in self.project.rglob("*") if ".lapidar" not in path.parts and path.is_file()
        }
        self.assertEqual(
            {path: status.st_ctime_ns for path, status in before.items()},
            {path: status.st_ctime_ns for path, status in after.items()},
        )
        self.assertEqual(
            (self.folder / "kept/results/table.csv").read_bytes(), (self.project / "results/table.csv").read_bytes()
        )
        self.assertIn("not empty", self.fails("rerun", "--keep-results", self.folder / "kept"))

    def test_elsewhere_from_the_record_and_the_cache_alone(self) -> None:
        there = self.folder / "clone"
        there.mkdir()
        shutil.copy(self.file, there)
        shutil.rmtree(self.project)
        shutil.rmtree(self.captured)
        done = json.loads(self.lapidar("rerun", "--json", cwd=there).stdout)
        self.assertTrue(done["good"] and done["reruns"][0]["restored"])
        self.assertEqual(sorted(os.listdir(there)), [".lapidar", RECORDS_NAME])

    def test_on_a_bare_root(self) -> None:
        """Another system with nothing of this one: the same bytes."""
        root = bare_root(self, self.folder / "bare")
        self.lapidar("record", "--", "python", "fit.py")
        place, work = root / "home/env", root / "home/work"
        self.lapidar("restore", "--into", place)
        for name in ("data", "results"):
            (work / name).mkdir(parents=True)
        for name in ("fit.py", "data/sherds.csv"):
            shutil.copy(self.project / name, work / name)
        run_in(root, "sh", "-c", "cd /home/work && /home/env/bin/python fit.py")
        self.assertEqual(self.json("compare", "fit", work)["verdict"], "identical")
        table = work / "results/table.csv"
        table.write_text(table.read_text().replace("0.0", "0.1", 1).replace("0.5", "0.6", 1))
        self.assertEqual(self.json("compare", "fit", work, code=1)["verdict"], "different")

    def test_results_that_vary_by_themselves(self) -> None:
        (self.project / "vary.py").write_text(
            "import os, random, time\n"
            "open('results/set.txt', 'w').write('\\n'.join({'tin', 'lead', 'ash', 'soda', 'lime', 'iron', 'zinc', 'bone'}))\n"
            "open('results/when.txt', 'w').write(time.strftime('made %Y-%m-%d %H:%M:%S') + str(time.time_ns())[:0])\n"
            "open('results/seedless.txt', 'w').write(str(random.random()))\n"
            "open('results/where.txt', 'w').write(repr(object()))\n"
            "time.sleep(1.1)\n"
        )
        self.lapidar("record", "vary", "--", "python", "vary.py")
        told = self.json("rerun", "vary", "--times", "3", code=1)["reruns"][0]["varying"]
        self.assertIn("hash seed", told["results/set.txt"])
        self.assertEqual(told["results/when.txt"], "the time")
        self.assertIn("a missing seed", told["results/seedless.txt"])
        self.assertNotIn("results/table.csv", told)

    def test_results_whose_name_varies(self) -> None:
        (self.project / "named.py").write_text(
            "import os\nopen('results/same.txt', 'w').write('1')\n"
            "open(f'results/run-{os.getpid()}.txt', 'w').write('1')\n"
        )
        self.lapidar("record", "named", "--", "python", "named.py")
        told = self.json("rerun", "named", "--times", "3", code=1)["reruns"][0]["varying"]
        self.assertEqual(len(told), 3, told)
        self.assertNotIn("results/same.txt", told)
        for path, cause in told.items():
            self.assertRegex(path, r"results/run-\d+\.txt")
            self.assertIn("its name", cause)

    def test_an_input_that_was_altered_in_the_cache(self) -> None:
        """It is not run with: what is right comes from the project, or it is refused."""
        self.lapidar("record", "--", "python", "fit.py")
        (entry,) = (one for one in self.cache_tree(self.analysis().given) if Path(one).read_bytes().count(b"S1"))
        data = Path(entry).read_bytes()
        writable(Path(entry)).write_bytes(data.replace(b"2.25", b"9.75"))
        done = self.json("rerun")["reruns"][0]
        self.assertEqual(done["verdict"], "identical")
        self.assertIn("damaged in the cache", " ".join(done["notes"]))
        (self.project / "data/sherds.csv").unlink()
        self.assertIn("neither in the cache nor in the project", self.fails("rerun"))

    def test_two_records_at_once(self) -> None:
        """Each adds its own."""
        (self.project / "slow.py").write_text("import sys, time\ntime.sleep(0.4)\nprint(sys.argv[1])\n")
        names = [f"a{number}" for number in range(4)]
        running = [
            subprocess.Popen(
                [PROGRAM, "-q", "record", name, "--", "python", "slow.py", name], cwd=self.project, env=self.variables,
                stdout=-3, stderr=subprocess.PIPE,
            )
            for name in names
        ]  # fmt: skip
        for process in running:
            _, said = process.communicate()
            self.assertEqual(process.returncode, 0, said)
        self.assertLessEqual(set(names), {one.name for one in results.read(self.file).analysis})

    def test_what_the_cache_lost(self) -> None:
        one = self.analysis()
        for entry in list(self.cache_tree(one.made)):
            Path(entry).unlink(missing_ok=True)
        self.assertEqual(set(self.verdicts().values()), {"identical"}, "by digest")
        data = self.project / "data/sherds.csv"
        data.write_text(data.read_text().replace("2.25", "3.25"))
        found = self.json("rerun", "--current-files", code=1)["reruns"][0]["results"]
        self.assertIn("only its digest tells", found[0]["worst"])

    def cache_tree(self, digest: str) -> list[str]:
        from lapidar.core.cache.store import Cache

        cache = Cache(self.cache)
        return [str(cache.entry_path(entry)) for entry in cache.tree(digest)]

    def test_edited_newer_and_broken_records(self) -> None:
        whole = self.file.read_text()
        for old, new, why in (
            ('path = "fit.py"', 'path = "other.py"', "changed after it was written"),
            ("format = 1", "format = 9", "Install a newer lapidar"),
            ("format = 1", "format = [", "cannot be read"),
            ('path = "fit.py"', 'path = "../fit.py"', "changed after|leads out"),
        ):
            self.file.write_text(whole.replace(old, new, 1))
            self.assertRegex(self.fails("rerun"), why)
            self.assertIn("results", str(self.json("check", code=1)["findings"]))
        self.file.write_text(whole)
        self.assertRegex(self.fails("rerun", "nobody"), "no record of an analysis nobody")

    def test_killed_while_it_runs(self) -> None:
        (self.project / "fit.py").write_text("import time\nopen('started', 'w')\ntime.sleep(60)\n")
        before = self.file.read_text()
        for words, mark in (
            (["record", "--", "python", "fit.py"], self.project / "started"),
            (["rerun", "--current-files"], None),
        ):
            for how, code in ((signal.SIGINT, 130), (signal.SIGKILL, -9)):
                process = subprocess.Popen(
                    [PROGRAM, *words], cwd=self.project, env=self.variables, stdout=-3, stderr=-3
                )
                self.wait_until(lambda mark=mark: (mark or Path("/")).exists() and (mark is not None or self.scratch()))
                process.send_signal(how)
                self.assertEqual(process.wait(20), code)
                self.assertEqual(self.file.read_text(), before)
                if mark:
                    mark.unlink()
                if how is signal.SIGINT:
                    self.nothing_is_left()
        (self.project / "fit.py").write_text(self.SCRIPT)
        self.lapidar("record", "--", "python", "fit.py")
        self.lapidar("rerun")
        self.nothing_is_left()

    def scratch(self) -> bool:
        return any((self.project / ".lapidar").glob("rerun-*/run-0/project/started"))

    def wait_until(self, condition: Any) -> None:
        ends = time.monotonic() + 20
        while not condition():
            self.assertLess(time.monotonic(), ends)
            time.sleep(0.05)

    def test_prune_keeps_what_is_recorded(self) -> None:
        self.lapidar("cache", "prune", "--history-days", "0")
        self.assertEqual(set(self.verdicts().values()), {"identical"})
        self.assertEqual(self.lapidar("cache", "audit").returncode, 0)
        record = self.analysis().record
        copy = self.cache / "runs" / f"{record}.results"
        copy.write_text(copy.read_text().replace("fit.py", "fot.py", 1))
        self.assertIn("changed after it was written", self.fails("cache", "prune"))

    def test_check_tells_of_results(self) -> None:
        (self.project / "results/table.csv").write_text("edited\n")
        (self.project / "results/summary.json").unlink()
        found = {(one["problem"], *one["paths"]) for one in self.json("check", code=1)["findings"]}
        self.assertEqual(
            found, {("not what was recorded", "results/table.csv"), ("recorded, and not there", "results/summary.json")}
        )


class Comparing(Results):
    def test_records_of_two_revisions(self) -> None:
        def git(*words: str) -> None:
            settings = ["-c", "user.name=Kiln", "-c", "user.email=kiln@packages.example"]
            subprocess.run(
                ["git", *settings, *words], cwd=self.project, check=True, capture_output=True, env=self.variables
            )

        self.lapidar("record", "--", "python", "fit.py")
        git("init", "-q")
        git("add", RECORDS_NAME)
        git("commit", "-qm", "recorded")
        git("tag", "v1")
        data = self.project / "data/sherds.csv"
        data.write_text(data.read_text().replace("2.25", "2.5"))
        self.lapidar("record", "--", "python", "fit.py")
        found = self.json("compare", "fit@v1", "fit", code=1)
        self.assertEqual(
            {one["path"]: one["verdict"] for one in found["results"]},
            {"results/summary.json": "different", "results/table.csv": "different"},
        )
        self.assertEqual(self.json("compare", "fit", "results")["verdict"], "identical")
        self.assertEqual(self.json("compare", "fit", ".")["verdict"], "identical")
        self.assertEqual(self.json("compare", "fit@v1", "results", code=1)["verdict"], "different")
        for name in ("fit@nowhere", "fit@--output=x", "nobody", "fit@v1\nx"):
            self.fails("compare", name, "fit")
        self.assertFalse((self.project / "x").exists())

    def test_killed_while_it_compares(self) -> None:
        for side in ("one", "other"):
            (self.project / side).mkdir()
            with (self.project / side / "large.csv").open("w") as table:
                table.writelines(f"S{row},{row * (1.5 if side == 'one' else 1.25)}\n" for row in range(400_000))
            self.write_archive(self.project / side / "large.tar.gz", side)
        before = tree_of(self.project)
        temporary = self.folder / "temporary"
        temporary.mkdir()
        variables = {**self.variables, "TMPDIR": str(temporary)}
        words = [PROGRAM, "compare", "one", "other", "--picture", "figure.png", "--report", "page.html"]
        began = time.monotonic()
        self.lapidar("compare", "one", "other", code=1)
        takes = time.monotonic() - began
        stopped = 0
        for how, code in ((signal.SIGINT, 130), (signal.SIGKILL, -9)):
            for share in (0.3, 0.5, 0.7, 0.9):
                process = subprocess.Popen(words, cwd=self.project, env=variables, stdout=-3, stderr=-3)
                time.sleep(share * takes)
                process.send_signal(how)
                ended = process.wait(30)
                # Each is whole, or not there.
                for name, end in (("figure.png", b"IEND\xaeB`\x82"), ("page.html", b"</html>\n")):
                    if (self.project / name).exists():
                        self.assertTrue((self.project / name).read_bytes().endswith(end))
                        (self.project / name).unlink()
                if ended == 1:  # it was through already
                    continue
                stopped += 1
                self.assertEqual(ended, code)
                self.assertEqual(tree_of(self.project), before)
                if how is signal.SIGINT:
                    self.assertEqual(os.listdir(temporary), [])
        self.assertGreater(stopped, 4)
        ends = time.monotonic() + 5
        while (left := self.comparing()) and time.monotonic() < ends:
            time.sleep(0.1)
        self.assertEqual(left, [], "what compares ends with whom it compares for")

    def comparing(self) -> list[str]:
        """The processes that compare for the program in this test."""
        found = []
        for place in Path("/proc").glob("[0-9]*"):
            try:
                words, folder = (place / "cmdline").read_bytes(), os.readlink(place / "cwd")
            except OSError:
                continue
            if b"lapidar.core.results.comparing" in words and folder == str(self.project):
                found.append(place.name)
        return found

    def write_archive(self, path: Path, text: str) -> None:
        import tarfile

        with tarfile.open(path, "w:gz") as members:
            for number in range(300):
                info = tarfile.TarInfo(f"{number}.txt")
                data = f"{text} {number}\n".encode() * 1000
                info.size = len(data)
                members.addfile(info, io.BytesIO(data))

    def test_the_disk_is_full(self) -> None:
        """The page and the figure are whole or not there."""
        self.lapidar("record", "--", "python", "fit.py")
        (self.project / "results/table.csv").write_text("sherd,share\nS1,1\nS2,2\nS3,3\n")
        if os.getuid():
            skip_loudly(self, "only root can make a small disk")
        place = self.folder / "full"
        place.mkdir()
        script = 'mount -t tmpfs -o size=64k none "$0" && head -c 60000 /dev/zero > "$0/filled"; "$@"; ls -A "$0" >&2'
        for option, name in (("--report", "page.html"), ("--picture", "figure.png")):
            words = [str(PROGRAM), "compare", "fit", "results", option, str(place / name)]
            done = subprocess.run(
                ["unshare", "--mount", "sh", "-c", script, str(place), *words],
                cwd=self.project,
                env=self.variables,
                capture_output=True,
                text=True,
            )
            self.assertIn("no space is left", done.stderr)
            self.assertEqual(done.stderr.splitlines()[-1], "filled", done.stderr)

    def test_the_api_shows_itself(self) -> None:
        import lapidar

        self.lapidar("record", "--", "python", "fit.py")
        data = self.project / "data/sherds.csv"
        data.write_text(data.read_text().replace("2.25", "2.5"))
        (temporary := self.folder / "temporary").mkdir()
        with mock.patch.object(tempfile, "tempdir", str(temporary)):
            found = lapidar.rerun("fit", project=self.project, cache=self.cache, current_files=True)
        self.assertFalse(found.good)
        self.assertIn("data:image/png", found._repr_html_())
        self.assertEqual(found.draw(self.folder / "x.svg").read_text()[:5], "<?xml")
        self.assertEqual({row["verdict"] for row in found.rows()}, {"different"})
        self.assertEqual(len(list(temporary.glob("lapidar-drawn-*"))), 1)
        del found
        gc.collect()
        self.assertEqual(list(temporary.glob("lapidar-drawn-*")), [], "what was kept to be drawn goes with it")
        self.assertTrue(lapidar.compare("fit", self.project / "results", project=self.project, cache=self.cache).good)
