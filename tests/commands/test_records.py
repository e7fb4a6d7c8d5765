"""The file of records: long lists, names, and what strangers write into it."""

from __future__ import annotations

import re
import shutil
import socket
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from typing import Any

from msgspec.structs import replace

from core.test_system import compile_c
from lapidar.core.cache.store import Cache
from lapidar.core.records import results
from lapidar.core.records.results import Analysis
from roots import skip_loudly
from support import Ready, writable

COPIES = """import os
os.makedirs("out", exist_ok=True)
for name in sorted(os.listdir("in")):
    with open(f"in/{name}") as source, open(f"out/{name}", "w") as result:
        result.write(source.read().upper())
"""


class Records(Ready):
    def setUp(self) -> None:
        super().setUp()
        (self.project / "in").mkdir()
        (self.project / "copies.py").write_text(COPIES)
        self.inputs(3)

    def inputs(self, many: int) -> None:
        for number in range(many):
            (self.project / f"in/{number:03} ü.txt").write_text(f"sherd {number}\n")

    @property
    def file(self) -> Path:
        return self.project / "lapidar.results"

    def analysis(self, name: str = "copies") -> Analysis:
        found = results.read(self.file).named(name)
        assert found is not None
        return found

    def record(self, name: str = "copies") -> None:
        self.lapidar("record", name, "--", "python", "copies.py")

    def written(self, **changes: object) -> None:
        """The record, changed by somebody who gives it a right digest."""
        changed = results.identified(replace(self.analysis(), **changes))
        self.file.write_text(results.render(results.Results(analysis=(changed,))))

    # ---- long lists

    def test_long_lists_are_kept_in_the_cache(self) -> None:
        self.inputs(400)
        odd = self.project.joinpath("in").as_posix().encode() + b"/\xff.txt"
        with open(odd, "w") as stream:
            stream.write("no UTF-8\n")
        self.record()
        self.assertLess(self.file.stat().st_size, 2_000)
        one = self.analysis()
        self.assertEqual((one.input, one.result, len(one.source)), ((), (), 1))
        self.assertEqual(one.amount("input").files, 401)
        text = self.file.read_bytes()
        self.record()
        self.assertEqual(self.file.read_bytes(), text, "recorded again it is the same bytes")
        self.assertIn("result: 401 files", self.lapidar("show", "results", "copies").stdout)
        listed = self.json("show", "results", "copies")["result"]
        self.assertEqual((len(listed), listed[0]["path"]), (401, "out/000 ü.txt"))
        (told,) = self.json("rerun")["reruns"]
        self.assertEqual({found["verdict"] for found in told["results"]}, {"identical"})
        self.assertEqual(len(told["results"]), 402)
        (self.project / "out/007 ü.txt").write_text("edited\n")
        self.assertEqual(self.json("check", code=1)["findings"][0]["paths"], ["out/007 ü.txt"])
        self.lapidar("cache", "prune", "--history-days", "0")
        self.lapidar("rerun")
        (self.project / "in/007 ü.txt").write_text("another\n")
        self.assertIn(
            "Not as recorded before: out/007 ü.txt", self.lapidar("record", "--", "python", "copies.py").stdout
        )
        self.assertIn("copies: different", self.lapidar("history").stdout)

    def test_a_list_that_is_lost_or_altered(self) -> None:
        self.inputs(400)
        self.record()
        cache = Cache(self.cache)
        (file,) = [cache.entry_path(entry) for entry in cache.tree(self.analysis().lists) if entry.path == "result"]
        writable(Path(file)).write_text(Path(file).read_text().replace("out/0", "../0"))
        for words in (["rerun"], ["compare", "copies", "out"]):
            self.assertIn("is not in this cache", self.fails(*words))
        found = self.json("check", code=1)["findings"]
        self.assertIn("the list of its files is not in this cache", [one["problem"] for one in found])
        self.lapidar("show", "results")
        self.lapidar("history")
        self.record()
        self.lapidar("rerun")

    # ---- names

    def test_names_of_any_language(self) -> None:
        for name in ("my fit", "Scherben (früh)", "陶片", "it's"):
            self.lapidar("record", name, "--", "python", "copies.py")
        self.assertEqual(
            {one.name for one in results.read(self.file).analysis}, {"my fit", "Scherben (früh)", "陶片", "it's"}
        )
        said = self.lapidar("record", "my fit", "--", "python", "copies.py", "-x").stdout
        self.assertIn("lapidar rerun 'my fit'", said)
        self.lapidar("rerun", "my fit")
        self.lapidar("compare", "my fit", "陶片")
        (self.project / "lapidar.toml").write_text('[analysis."my fit"]\nleave = ["*.log"]\n')
        self.lapidar("rerun", "my fit")
        (self.project / "out/000 ü.txt").unlink()
        self.assertIn("lapidar rerun 'my fit' --keep-results DIR", self.lapidar("check", code=1).stdout)

    def test_names_that_are_none(self) -> None:
        marker = self.project / "ran"
        for name in ("a/b", "../a", " a", "a\nb", ".a", "a@b", "x" * 81, "e\u0301", "a\u202eb"):
            said = self.fails("record", name, "--", "python", "-c", "open('ran', 'w')")
            self.assertIn("is no name of an analysis", said)
        self.assertFalse(marker.exists() or self.file.exists(), "nothing ran")
        for text, what in (('[needs.groups]\n"a/b" = []', "a group"), ('[index]\n"a:b" = "in"', "an index")):
            (self.project / "lapidar.toml").write_text(text)
            self.assertIn(f"is no name of {what}", self.fails("pin"))
        (self.project / "lapidar.toml").unlink()
        self.assertIn("is no name of a group", self.fails("need", "clay", "--group", "a/b"))

    # ---- what strangers write

    def test_paths_are_checked_as_they_are_used(self) -> None:
        self.record()
        one = self.analysis()
        file = one.input[0]
        for path in ("\\x2ftmp\\x2foutside", "in/\\x2e\\x2e/\\x2e\\x2e/up", "in\\x2f..\\x2f..\\x2fup", "a\\x00b", ""):
            self.written(input=(replace(file, path=path, escaped=True),))
            self.assertIn("leads out of the project", self.fails("rerun"))
            self.file.write_text(results.render(results.Results(analysis=(one,))))
        for folder in ("in/../..", "/".join(["deep"] * 2000)):
            self.file.write_text(results.render(results.Results(analysis=(one,))))
            self.written(folder=folder)
            self.assertIn("leads out of the project", self.fails("rerun"))

    def test_commands_that_are_none(self) -> None:
        self.record()
        one = self.analysis()
        for command in ((), ("",), ("python", "a\0b")):
            self.written(command=command)
            self.assertIn("no command that can be run", self.fails("rerun"))
            self.file.write_text(results.render(results.Results(analysis=(one,))))

    def test_a_record_of_somebody_else_is_shown_first(self) -> None:
        """On a machine that has the bytes and never saw the record: a clone, and the cache without its runs."""
        self.record()
        shutil.rmtree(self.cache / "runs")
        said = self.fails("rerun")
        for word in ("made by somebody else", "python copies.py", "copies.py", "--yes"):
            self.assertIn(word, said)
        shutil.rmtree(self.cache / "runs", ignore_errors=True)
        own = Path(self.variables["HOME"], ".config/lapidar/config.toml")
        own.parent.mkdir(parents=True)
        self.addCleanup(shutil.rmtree, own.parent)
        (self.project / "lapidar.toml").write_text("[record]\nby-digest-only = []\n")
        for folder, is_trusted in (("/nowhere", False), (self.project / "in", False), (self.project.parent, True)):
            own.write_text(f'[rerun]\ntrusts = ["{folder}"]\n')
            self.lapidar("rerun", code=0 if is_trusted else 3)
            shutil.rmtree(self.cache / "runs", ignore_errors=True)
        own.write_text("[rerun]\ntrusted = []\n")
        self.assertIn("[rerun]", self.fails("rerun"))
        own.unlink()
        self.lapidar("rerun", "--yes")
        self.lapidar("rerun")

    # ---- what a run may do, and is given

    def script(self, script: str, *words: str, **settings: Any) -> None:
        (self.project / "copies.py").write_text(script)
        self.lapidar("record", "copies", *words, "--", "python", "copies.py", **settings)

    def test_a_rerun_is_kept_apart(self) -> None:
        place = tempfile.mkdtemp(dir="/var/tmp")
        self.addCleanup(shutil.rmtree, place)
        outside = Path(place, "outside.txt")
        with socket.create_server(("127.0.0.1", 0)) as server:
            port = server.getsockname()[1]
            self.script(
                "import socket, tempfile\n"
                f"def tried(what):\n    try:\n        what()\n        return 'could'\n    except OSError:\n        return 'could not'\n"
                f"print(tried(lambda: open({str(outside)!r}, 'w').close()))\n"
                f"print(tried(lambda: socket.create_connection(('127.0.0.1', {port}), 2).close()))\n"
                "print(tried(lambda: tempfile.NamedTemporaryFile().close()))\n"
            )
            outside.unlink()
            (told,) = self.json("rerun", code=1)["reruns"]
            if told["not_apart"]:
                skip_loudly(self, told["not_apart"][0])
            (printed,) = [one for one in told["results"] if one["path"] == "(what it printed)"]
            self.assertEqual(
                printed["details"], ["line 1: could -> could not", "line 2: could -> could not"], told["results"]
            )
            self.assertFalse(outside.exists())
            self.lapidar("rerun", "--open")
            self.assertTrue(outside.exists())

    def test_what_it_is_given_on_standard_input(self) -> None:
        code = "import sys\nopen('got.txt', 'w').write(sys.stdin.read().upper())\n"
        given = self.folder / "given.txt"
        given.write_text("through a file\n")
        with given.open() as stream:
            self.script(code, stdin=stream)
        self.assertEqual(self.analysis().typed_bytes, 15)
        self.lapidar("rerun")
        self.script(code, input="through a pipe\n")
        self.assertEqual((self.project / "got.txt").read_text(), "THROUGH A PIPE\n")
        self.lapidar("rerun")
        self.script("import sys\nopen('got.txt', 'w').write(sys.stdin.readline())\n", input="one\n" * 100_000)
        self.lapidar("rerun")
        self.script(code, stdin=subprocess.DEVNULL)
        self.assertEqual(self.analysis().typed, "")
        self.lapidar("rerun")

    def test_from_code_nobody_elses_input_is_taken(self) -> None:
        (self.project / "copies.py").write_text(COPIES)
        code = (
            "import lapidar, sys\n"
            "lapidar.record(['python', 'copies.py'])\nlapidar.record(['python', 'copies.py'])\n"
            "print('left', sys.stdin.read())\n"
        )
        done = subprocess.run(
            [sys.executable, "-c", code], cwd=self.project, env=self.variables, input="mine\n", text=True,
            capture_output=True, check=True,
        )  # fmt: skip
        self.assertIn("left mine", done.stdout)

    def test_a_script_that_says_its_interpreter(self) -> None:
        (self.project / "copies.py").write_text("#!/usr/bin/env python\n" + COPIES)
        (self.project / "copies.py").chmod(0o755)
        self.lapidar("record", "copies", "--", "./copies.py")
        one = self.analysis()
        self.assertEqual([file.path for file in one.source], ["copies.py"])
        self.assertEqual((len(one.input), len(one.result)), (3, 3))
        self.lapidar("rerun")

    def test_folders_of_data_that_were_looked_through(self) -> None:
        (self.project / "data").mkdir()
        for name in ("a.csv", "b.csv", "notes.txt"):
            (self.project / "data" / name).write_text(f"{name}\n")
        self.script(
            "import os\nopen('names.txt', 'w').write(','.join(sorted(os.listdir('data'))))\nopen('data/a.csv').read()\n"
        )
        self.assertEqual([file.path for file in self.analysis().input], ["data/a.csv", "data/b.csv", "data/notes.txt"])
        self.lapidar("rerun")
        # As a shell and others look through folders: with a slash at the end, with two, with dots.
        for words in (["sh", "-c", "for one in data/*; do cat $one; done"], ["sh", "-c", "ls .//data/ data/../data/."]):
            self.lapidar("record", "copies", "--", *words)
            self.assertEqual(
                [file.path for file in self.analysis().input], ["data/a.csv", "data/b.csv", "data/notes.txt"]
            )

    def test_whom_it_talked_to_is_told(self) -> None:
        (self.project / "copies.py").write_text(
            "import socket, sys\nport = int(sys.argv[1])\n"
            "socket.create_connection(('127.0.0.1', port), 2).close()\n"
            "one = socket.socket(socket.AF_UNIX)\none.connect(sys.argv[2])\none.close()\n"
            "try:\n    socket.socket(socket.AF_UNIX).connect('/nobody/there')\nexcept OSError:\n    print('alone')\n"
        )
        place = str(self.folder / "socket")
        with socket.create_server(("127.0.0.1", 0)) as server, socket.socket(socket.AF_UNIX) as other:
            other.bind(place)
            other.listen()
            port = server.getsockname()[1]
            said = self.lapidar("record", "copies", "--", "python", "copies.py", port, place).stderr
        self.assertIn(f"it talked to {place}, 127.0.0.1:{port}: what came from there is not recorded", said)
        (self.project / "copies.py").write_text(COPIES)
        self.assertNotIn("talked", self.lapidar("record", "copies", "--", "python", "copies.py").stderr)

    def test_programs_and_libraries_of_the_project(self) -> None:
        library, program = self.project / "libkiln.so", self.project / "fire"
        compile_c(self.project, "libkiln.so", "int twice(int n) { return 2 * n; }")
        compile_c(self.project, "fire", "int main(void) { return 0; }", "-static")
        self.script(
            "import ctypes, subprocess\nsubprocess.run(['sh', '-c', './fire'], check=True)\n"
            "open('n.txt', 'w').write(str(ctypes.CDLL('./libkiln.so').twice(4)))\n"
        )
        self.assertEqual([file.path for file in self.analysis().source], ["copies.py", "fire", "libkiln.so"])
        library.unlink()
        program.unlink()
        self.lapidar("rerun")

    def test_verified_at_once(self) -> None:
        said = self.lapidar("record", "--verify", "--", "python", "copies.py").stdout
        self.assertIn("Verified: run again from the record alone, nothing differs (identical).", said)
        self.script("import random\nopen('n.txt', 'w').write(str(random.random()))\n", "--verify", code=1)
        self.script(
            f"open('n.txt', 'w').write(open({str(self.project / 'in/000 ü.txt')!r}).read())\n", "--verify", code=1
        )
        said = self.lapidar("record", "copies", "--verify", "--", "python", "copies.py", code=1).stderr
        self.assertIn("it opened files of the project by where they lie here: in/000 ü.txt", said)
        self.script("print(len(open('in/000 ü.txt').read()))", "--largest", "1B", "--verify", code=3)

    def test_what_would_hinder_a_rerun_is_told(self) -> None:
        for code, word in (
            ("import os; open('n.txt', 'w').write('in ' + os.getcwd())", "the project's folder stands in it"),
            ("import datetime; open('n.txt', 'w').write(f'at {datetime.datetime.now()}')", "the time of the run"),
            ("open('n.txt', 'w').write(repr(object()))", "addresses in memory"),
            ("import uuid; open('n.json', 'w').write('{\"id\": \"%s\"}' % uuid.uuid4())", "uuid"),
        ):
            (self.project / "copies.py").write_text(code)
            said = self.lapidar("record", "copies", "--", "python", "copies.py").stderr
            self.assertIn(word, said, code)
        (self.project / "copies.py").write_text("open('n.txt', 'w').write('2020-01-01 10:00 0x12 plain')")
        self.assertEqual(self.lapidar("record", "copies", "--", "python", "copies.py").stderr, "")

    def test_today_instead_of_then(self) -> None:
        self.record()
        self.lapidar("rerun", "--here")
        (self.project / "in/001 ü.txt").write_text("another\n")
        self.lapidar("rerun")
        self.assertIn("out/001 ü.txt", self.lapidar("rerun", "--here", code=1).stdout)

    # ---- what must not be kept

    def in_the_cache(self, text: str) -> bool:
        return any(file.read_bytes() == text.encode() for file in (self.cache / "files").rglob("*") if file.is_file())

    def test_by_digest_alone(self) -> None:
        (self.project / "lapidar.toml").write_text('[record]\nby-digest-only = ["in/001*", "out/001*"]\n')
        said = self.lapidar("record", "--", "python", "copies.py").stderr
        self.assertIn("no bytes are kept of in/001 ü.txt, out/001 ü.txt", said)
        self.assertFalse(self.in_the_cache("sherd 1\n") or self.in_the_cache("SHERD 1\n"))
        self.lapidar("rerun")
        (self.project / "in/001 ü.txt").unlink()
        self.assertIn("neither in the cache nor in the project", self.fails("rerun"))

    def test_what_is_forgotten_is_gone_for_good(self) -> None:
        self.record()
        private = self.project / "in/001 ü.txt"
        said = self.lapidar("cache", "forget", private).stdout
        self.assertIn("copies: cannot be run again", said)
        self.assertFalse(self.in_the_cache("sherd 1\n"))
        self.assertEqual(self.lapidar("cache", "audit").returncode, 0)
        self.lapidar("cache", "prune")
        self.lapidar("rerun")  # the file lies in the project
        self.record()
        self.assertFalse(self.in_the_cache("sherd 1\n"), "it is not kept again")
        private.rename(self.folder / "elsewhere")
        self.assertIn("neither in the cache nor in the project", self.fails("rerun"))
        self.assertIn("no file that can be read", self.fails("cache", "forget", "nothing.txt"))
        library = next(self.restored.glob("lib/python3*/os.py"))
        self.assertIn("part of an environment", self.fails("cache", "forget", library))
        self.lapidar("check", code=0)

    # ---- what cannot be read

    def test_a_prune_stops_where_a_record_of_a_project_cannot_be_read(self) -> None:
        self.record()
        sound = self.file.read_text()
        for text in (sound.replace("format = 1", "format = 9"), "<<<<<<< ours\n" + sound):
            self.file.write_text(text)
            self.assertIn("Nothing was removed", self.fails("cache", "prune"))
        self.file.write_text(sound)
        copy = next((self.cache / "runs").glob("*.results"))
        copy.unlink()
        self.lapidar("cache", "prune")
        self.lapidar("rerun", "--yes")  # what the project's own record needs was kept without its copy

    def test_an_audit_sets_nothing_aside_that_it_cannot_read(self) -> None:
        self.record()
        copy = next((self.cache / "runs").glob("*.results"))
        newer = re.sub("format = 1", "format = 9", copy.read_text())
        copy.write_text(newer)
        self.lapidar("cache", "audit", code=1)
        self.assertEqual(copy.read_text(), newer)

    def test_what_cannot_be_added_to_shows_before_anything_runs(self) -> None:
        self.file.write_text("format = 9\n")
        self.assertIn("newer lapidar", self.fails("record", "--", "python", "-c", "open('ran', 'w')"))
        self.assertFalse((self.project / "ran").exists())


if __name__ == "__main__":
    unittest.main()
