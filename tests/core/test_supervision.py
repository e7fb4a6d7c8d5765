"""The supervisor: what it sees, what it ends, and whom it leaves alone."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
import threading
import time
import unittest
from typing import Any

from core.test_system import compile_c
from lapidar.core.errors import CannotRun
from lapidar.core.system import supervision
from lapidar.core.system.supervision import Ended, RunOptions
from lapidar.core.system.written import Files
from roots import skip_loudly
from support import PROGRAM, Case, InFolder

# Opens, by the system call of 32-bit programs, a file that is named in a program of 64 bits.
NARROW = """
#include <sys/syscall.h>
static char read_it[] = "in.txt", made[] = "made.txt";
static long narrow(long number, long a, long b, long c) {
    long result;
    __asm__ volatile("int $0x80" : "=a"(result) : "a"(number), "b"(a), "c"(b), "d"(c) : "memory", "r8", "r9", "r10", "r11");
    return result;
}
int main(void) {
    return narrow(5, (long)read_it, 0, 0) < 0 || narrow(5, (long)made, 0101, 0644) < 0;
}
"""
BY_DESCRIPTOR = """
#define _GNU_SOURCE
#include <fcntl.h>
#include <stdio.h>
#include <sys/stat.h>
#include <unistd.h>
extern char **environ;
int main(void) {
    struct stat status;
    int file = open("in.txt", O_RDONLY), path = open("other.txt", O_PATH), program = open("/bin/true", O_RDONLY);
    if (fstatat(file, "", &status, AT_EMPTY_PATH) || path < 0) return 1;
    char *words[] = {"true", 0};
    fexecve(program, words, environ);
    return 2;
}
"""


class Supervised(InFolder):
    def setUp(self) -> None:
        super().setUp()
        self.root = self.root.resolve()
        self.place = self.root / "project"
        self.place.mkdir()
        (self.root / "kept").mkdir()
        (self.place / "in.txt").write_text("tin\n")
        (self.place / "other.txt").write_text("lead\n")

    def run_it(self, *words: str, **options: Any) -> Ended:
        options.setdefault("folder", str(self.place))
        program = shutil.which(words[0]) or words[0]
        return supervision.run(program, words, dict(os.environ), RunOptions(**options))

    def watched(self, *words: str, **options: Any) -> Ended:
        files = Files(str(self.place), str(self.root / "kept"))
        return self.run_it(*words, watches=True, files=files, **options)

    def names(self, paths: Any) -> set[str]:
        return {os.path.relpath(path, self.place) for path in paths}

    def python(self, code: str, **options: Any) -> Ended:
        return self.watched(sys.executable, "-c", code, **options)


class Seen(Supervised):
    def test_calls_of_programs_of_32_bits(self) -> None:
        program = compile_c(self.root, "narrow", NARROW, "-static", "-no-pie", "-O0")
        ended = self.watched(str(program))
        self.assertEqual(ended.code, 0)
        self.assertEqual(self.names(ended.touched.read), {"in.txt"})
        self.assertEqual(self.names(ended.touched.written), {"made.txt"})

    def test_a_descriptor_alone_is_no_path(self) -> None:
        program = compile_c(self.root, "by_descriptor", BY_DESCRIPTOR)
        ended = self.watched(str(program))
        self.assertEqual(ended.code, 0)
        self.assertEqual(
            self.names(ended.touched.read), {"in.txt"}, "a path that is opened without its bytes is not read"
        )
        self.assertIn(os.path.realpath("/bin/true"), {os.path.realpath(path) for path in ended.observed.executed})
        self.assertEqual(ended.touched.unseen, ())

    def test_a_program_of_the_project_is_read(self) -> None:
        program = compile_c(self.place, "fire", "int main(void) { return 0; }")
        ended = self.watched("sh", "-c", "./fire")
        self.assertIn(program.name, self.names(ended.touched.read))

    def test_through_links_of_proc(self) -> None:
        ended = self.watched(
            "sh", "-c", "exec 3<in.txt; cat /dev/fd/3 /proc/self/fd/3; exec 4>out.txt; echo > /proc/self/fd/4"
        )
        self.assertEqual(ended.code, 0)
        self.assertEqual(self.names(ended.touched.read), {"in.txt"})
        self.assertEqual(self.names(ended.touched.written), {"out.txt"})

    def test_dots_after_a_link(self) -> None:
        """``link/../x`` is beside what the link leads to."""
        (self.place / "deep" / "er").mkdir(parents=True)
        (self.place / "deep" / "x.txt").write_text("1")
        (self.place / "link").symlink_to("deep/er")
        ended = self.watched("cat", "link/../x.txt")
        self.assertEqual(ended.code, 0)
        self.assertEqual(self.names(ended.touched.read), {"deep/x.txt"})
        options = RunOptions(folder=str(self.place), watches=True, output=2)
        ended = supervision.run("/bin/cat", ["cat", "link/../x.txt"], {}, options)
        self.assertIn(str(self.place / "deep" / "x.txt"), ended.observed.opened)

    def test_in_other_namespaces(self) -> None:
        """A project that is bound elsewhere, and a root of its own."""
        if os.getuid():
            skip_loudly(self, "only root can mount here")
        elsewhere = self.root / "elsewhere"
        elsewhere.mkdir()
        script = (
            f"mount --bind '{self.place}' '{elsewhere}' && cat '{elsewhere}/in.txt' && echo > '{elsewhere}/made.txt'"
        )
        ended = self.watched("unshare", "--mount", "sh", "-c", script)
        self.assertEqual(ended.code, 0)
        self.assertEqual(self.names(ended.touched.read), {"in.txt"})
        self.assertEqual(self.names(ended.touched.written), {"made.txt"})
        (self.place / "deep").mkdir()
        script = f"mount --bind '{self.place}' '{elsewhere}' && ls '{elsewhere}/deep'"
        ended = self.watched("unshare", "--mount", "sh", "-c", script)
        self.assertEqual(self.names(ended.touched.listed), {"deep"})

    def test_folders_that_are_looked_through(self) -> None:
        """Not those that are opened to be flushed, to be asked from, to put a file without a name into."""
        (self.place / "deep").mkdir()
        for code, listed in {
            "os.fsync(os.open('deep', os.O_RDONLY)); os.fsync(os.open('.', os.O_RDONLY | os.O_DIRECTORY))": set(),
            "os.stat('in.txt', dir_fd=os.open('.', os.O_RDONLY))": set(),
            "tempfile.TemporaryFile(dir='.').write(b'x'); tempfile.TemporaryFile(dir='deep')": set(),
            "sqlite3.connect('deep/sherds.db').execute('create table kilns (name)')": set(),
            "os.listdir('.')": {"."},
            "os.listdir(os.open('deep', os.O_RDONLY))": {"deep"},
            "os.chdir('deep'); list(os.scandir())": {"deep"},
            "os.system('ls deep')": {"deep"},
            "os.system('cd deep; echo *')": {"deep"},
        }.items():
            with self.subTest(code=code):
                ended = self.watched(sys.executable, "-I", "-c", f"import os, sqlite3, tempfile; {code}")
                self.assertEqual((ended.code, self.names(ended.touched.listed)), (0, listed))

    def test_a_changed_root(self) -> None:
        busybox = shutil.which("busybox")
        if busybox is None or os.getuid():
            skip_loudly(self, "there is no static busybox here (Debian's busybox-static)")
            return
        (self.place / "bin").mkdir()
        shutil.copy(busybox, self.place / "bin" / "busybox")
        ended = self.watched("chroot", str(self.place), "/bin/busybox", "cp", "/in.txt", "/copy.txt")
        self.assertEqual(ended.code, 0)
        self.assertIn("in.txt", self.names(ended.touched.read))
        self.assertEqual(self.names(ended.touched.written), {"copy.txt"})

    def test_a_debugger_works_below(self) -> None:
        if shutil.which("strace") is None:
            skip_loudly(self, "there is no strace here (Debian's strace)")
        ended = self.watched("strace", "-f", "-o", str(self.root / "log"), "cat", "in.txt")
        self.assertEqual(ended.code, 0)
        self.assertIn("in.txt", (self.root / "log").read_text())
        self.assertEqual(self.names(ended.touched.read), {"in.txt"})

    def test_files_that_change_places(self) -> None:
        code = "import ctypes; assert not ctypes.CDLL(None).renameat2(-100, b'in.txt', -100, b'other.txt', 2)"
        ended = self.python(code)
        self.assertEqual(ended.code, 0)
        self.assertEqual(self.names(ended.touched.written), {"in.txt", "other.txt"})

    def test_many_processes_and_threads(self) -> None:
        code = (
            "import concurrent.futures as f, multiprocessing as m, os\n"
            "def work(n):\n    open(f'p{n}.txt', 'w').write(open('in.txt').read())\n"
            "if __name__ == '__main__':\n"
            "    with m.get_context('fork').Pool(8) as pool: pool.map(work, range(200))\n"
            "    with f.ThreadPoolExecutor(16) as pool: list(pool.map(work, range(200, 600)))\n"
        )
        ended = self.python(code)
        self.assertEqual(ended.code, 0)
        self.assertEqual(self.names(ended.touched.written), {f"p{n}.txt" for n in range(600)})

    def test_odd_names(self) -> None:
        names = ["new\nline.txt", "é.txt", os.fsdecode(b"\xff.txt"), " blank .txt", "a" * 250]
        code = "import os, sys\nfor name in sys.argv[1:]: open(name, 'w').write('1')"
        ended = self.watched(sys.executable, "-c", code, *names)
        self.assertEqual(self.names(ended.touched.written), set(names))


class Endings(Supervised):
    def test_every_way_to_end(self) -> None:
        for code, expected in (
            ("raise SystemExit(125)", 125),
            ("raise SystemExit(126)", 126),
            ("import os; os.abort()", -signal.SIGABRT),
            ("import os; os.kill(os.getpid(), 9)", -9),
        ):
            self.assertEqual(self.python(code).code, expected, code)
        with self.assertRaises(CannotRun) as caught:
            self.run_it("/no/such/program")
        self.assertIn("No such file", str(caught.exception.why))
        (self.place / "text").write_text("no program")
        self.assertRaises(CannotRun, self.run_it, str(self.place / "text"))

    def test_what_is_left_behind_is_ended(self) -> None:
        """Also what began a session of its own, and forked twice."""
        mark = self.root / "alive"
        code = (
            "import os, time\n"
            "if os.fork() == 0:\n"
            "    os.setsid()\n"
            "    if os.fork() == 0:\n"
            f"        while True: open({str(mark)!r}, 'w').write(str(time.time())); time.sleep(0.02)\n"
            "    os._exit(0)\n"
            "time.sleep(0.3)\n"
        )
        began = time.monotonic()
        ended = self.python(code, grace=0.2)
        self.assertEqual((ended.code, ended.left_behind), (0, 1))
        self.assertLess(time.monotonic() - began, 3)
        last = mark.read_text()
        time.sleep(0.2)
        self.assertEqual(mark.read_text(), last)

    def test_limits(self) -> None:
        ended = self.run_it("sh", "-c", "sleep 60 & sleep 60", at_most=0.3)
        self.assertTrue(ended.is_late)
        self.assertLess(ended.seconds, 3)
        code = "try: bytes(400_000_000); print('had it')\nexcept MemoryError: raise SystemExit(9)"
        self.assertEqual(self.run_it(sys.executable, "-c", code, memory=300_000_000).code, 9)
        small = self.run_it(sys.executable, "-c", "pass").memory
        large = self.run_it(sys.executable, "-c", "b'x' * 200_000_000").memory
        self.assertLess(small, 60_000_000)
        self.assertGreater(large, 200_000_000)
        self.assertLess(self.run_it(sys.executable, "-c", "pass").memory, 60_000_000, "not that of an earlier run")

    def test_where_the_caller_is_killed_all_ends(self) -> None:
        mark = self.root / "alive"
        code = (
            "import os\nfrom lapidar.core.system import supervision\n"
            f"script = 'while :; do date > {mark}; sleep 0.02; done'\n"
            "supervision.run('/bin/sh', ['sh', '-c', script], dict(os.environ))\n"
        )
        caller = subprocess.Popen([sys.executable, "-c", code])
        while not mark.exists():
            time.sleep(0.02)
        caller.kill()
        caller.wait()
        time.sleep(0.3)
        mark.unlink()
        time.sleep(0.2)
        self.assertFalse(mark.exists())

    def test_others_children_are_left_alone(self) -> None:
        """Those of a notebook that records: whoever started them hears how they ended."""
        own = subprocess.Popen([sys.executable, "-c", "import time; time.sleep(0.2); raise SystemExit(7)"])
        running = subprocess.Popen(["sleep", "60"])
        self.assertEqual(self.python("import time; time.sleep(0.5)").code, 0)
        self.assertEqual(own.wait(), 7)
        self.assertIsNone(running.poll())
        running.kill()
        running.wait()

    def test_as_many_at_once_as_one_likes(self) -> None:
        ended: dict[int, Ended] = {}

        def work(number: int) -> None:
            ended[number] = self.python(
                f"open('t{number}.txt', 'w'); open('in.txt').read(); raise SystemExit({number})"
            )

        threads = [threading.Thread(target=work, args=(number,)) for number in range(8)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual({number: one.code for number, one in ended.items()}, {number: number for number in range(8)})
        for number, one in ended.items():
            self.assertIn(f"t{number}.txt", self.names(one.touched.written))


class Isolated(Supervised):
    def test_a_network_of_its_own(self) -> None:
        code = (
            "import socket\n"
            "server = socket.create_server(('127.0.0.1', 0)); port = server.getsockname()[1]\n"
            "socket.create_connection(('127.0.0.1', port), 2)\n"
            "try: socket.create_connection(('192.0.2.1', 80), 2)\n"
            "except OSError as error: raise SystemExit(0 if error.errno in (101, 100) else 3)\n"
            "raise SystemExit(4)\n"
        )
        ended = self.python(code, network=False)
        if ended.not_isolated:
            skip_loudly(self, ended.not_isolated[0])
        self.assertEqual(ended.code, 0)

    def test_writing_in_one_folder_alone(self) -> None:
        inside, outside = self.place / "inside", self.root / "outside"
        inside.mkdir()
        outside.mkdir()
        code = (
            "import os, sys\nopen('inside/a', 'w').write('1'); os.rename('inside/a', 'inside/b'); open('in.txt').read()\n"
            "for act in (lambda: open('made', 'w'), lambda: os.remove('in.txt'), lambda: os.mkdir(sys.argv[1] + '/d'),\n"
            "            lambda: open('in.txt', 'a'), lambda: os.rename('inside/b', 'b')):\n"
            "    try: act()\n    except OSError: continue\n    raise SystemExit(3)\n"
            "open('/dev/null', 'w').write('1')\n"
        )
        for by_mounts in (False, True):
            with self.subTest(by_mounts=by_mounts):
                options = {"writable": (str(inside), "/dev/null"), "by_mounts": by_mounts, "network": by_mounts}
                ended = self.watched(sys.executable, "-c", code, str(outside), **options)
                if ended.not_isolated:
                    skip_loudly(self, ended.not_isolated[0])
                self.assertEqual(ended.code, 0)
                self.assertEqual(sorted(path.name for path in self.place.iterdir()), ["in.txt", "inside", "other.txt"])
                self.assertEqual(os.listdir(outside), [])
                self.assertEqual(self.names(ended.touched.read), {"in.txt"})
                (inside / "b").unlink()

    def test_mounts_cannot_be_undone(self) -> None:
        """Neither by root nor in a namespace of one's own; as another user too."""
        inside = self.place / "inside"
        inside.mkdir(mode=0o777)
        inside.chmod(0o777)
        undo = f"mount -o remount,rw / ; mount -o remount,bind,rw {self.root}; unshare -m true; touch {self.place}/made"
        for user in ((), ("setpriv", "--reuid=65534", "--regid=65534", "--clear-groups")):
            if user and os.getuid():
                continue
            for folder in (self.root, self.place):
                folder.chmod(0o755)
            ended = self.run_it(*user, "sh", "-c", undo, writable=(str(inside), "/dev/null"), by_mounts=True)
            if ended.not_isolated:
                skip_loudly(self, ended.not_isolated[0])
            self.assertNotEqual(ended.code, 0)
            self.assertFalse((self.place / "made").exists())


class Recording(Case):
    """What `record` does with it."""

    def setUp(self) -> None:
        super().setUp()
        self.lapidar("capture", self.environment())
        self.lapidar("restore")

    def test_an_exit_code_is_the_runs_own(self) -> None:
        self.assertIn("exit code 125", self.fails("record", "--", "python", "-c", "raise SystemExit(125)"))
        self.lapidar("record", "--even-failed", "odd", "--", "python", "-c", "raise SystemExit(125)")
        self.assertEqual(self.json("show", "results", "odd")["exit-code"], 125)

    def test_a_disk_that_is_full_ends_it(self) -> None:
        """It does not hang: what the run goes on to print is taken from it, and it is given all that it reads."""
        if os.getuid():
            skip_loudly(self, "only root can make a small disk")
        (self.project / "talk.py").write_text("import sys\nfor _ in range(4000): sys.stdout.write('glaze ' * 200)\n")
        (self.project / "read.py").write_text("import sys\nsys.stderr.write(f'{len(sys.stdin.read())} were read')\n")
        (self.folder / "sherds").write_text("sherd\n" * 200_000)
        own = self.restored.parent
        # Lapidar's folder in the project, where the recording keeps what is printed, lies on a small disk.
        words = (
            f"cp -a '{own}' '{self.folder}/own' && mount -t tmpfs -o size=300k none '{own}' && mkdir '{own}/env' && "
            f"mount --bind '{self.folder}/own/env' '{own}/env'"
        )
        sherds = self.folder / "sherds"
        for command in (
            f"'{PROGRAM}' record -- python talk.py > /dev/null",
            f"cat '{sherds}' | timeout 60 '{PROGRAM}' record -- python read.py",
            f"timeout 60 '{PROGRAM}' record -- python read.py < '{sherds}'",
        ):
            with self.subTest(command):
                done = self.in_namespace(f"{words} && {command}; code=$?; umount -R '{own}'; rm -rf '{own}'; "
                                         f"mv '{self.folder}/own' '{own}'; exit $code")  # fmt: skip
                self.assertEqual(done.returncode, 3, done.stdout[-500:] + done.stderr[-500:])
                self.assertIn("no space is left", done.stderr)
                self.assertFalse((self.project / "lapidar.results").exists())
                if "read.py" in command:
                    self.assertIn("1200000 were read", done.stderr)

    def test_inside_of_one_that_is_watched(self) -> None:
        said = self.fails("record", "outer", "--", PROGRAM, "record", "inner", "--", "python", "-c", "pass")
        self.assertIn("part of one that is observed already", said)
        self.lapidar("record", "outer", "--", PROGRAM, "run", "python", "-c", "open('made', 'w')")

    def test_from_a_notebook_with_children_of_its_own(self) -> None:
        import lapidar

        child = subprocess.Popen(["sh", "-c", "sleep 0.1; exit 5"])
        recorded = lapidar.record(["python", "-c", "print(1)"], name="one", project=self.project, cache=self.cache)
        self.assertEqual(recorded.analysis.exit_code, 0)
        self.assertEqual(child.wait(), 5)


if __name__ == "__main__":
    unittest.main()
