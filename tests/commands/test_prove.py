"""Proofs: what gives the same where nothing of this machine is in sight, and what does not."""

from __future__ import annotations

import contextlib
import json
import os
import pty
import re
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path
from typing import Any

import lapidar
from core.test_system import compile_c
from lapidar.core.records import results
from support import PROGRAM, Case, Ready, many

# Starts a program where the kernel answers every wish for a namespace with EPERM (seccomp(2)).
WITHOUT_NAMESPACES = """
import ctypes, os, struct, sys
steps = [(0x20, 0, 0, 0), (0x15, 0, 1, 272), (0x06, 0, 0, 0x00050001), (0x06, 0, 0, 0x7FFF0000)]
text = b"".join(struct.pack("HBBI", *step) for step in steps)
kept = ctypes.create_string_buffer(text)
program = struct.pack("HxxxxxxP", len(steps), ctypes.addressof(kept))
libc = ctypes.CDLL(None, use_errno=True)
assert libc.prctl(38, 1, 0, 0, 0) == 0 and libc.prctl(22, 2, ctypes.create_string_buffer(program), 0, 0) == 0
os.execv(sys.argv[1], sys.argv[1:])
"""


class Proofs(Ready):
    def record(self, script: str, name: str = "fire") -> None:
        (self.project / f"{name}.py").write_text(script)
        self.lapidar("record", name, "--", "python", f"{name}.py")

    def recorded_again(self, script: str) -> None:
        """With what was declared meanwhile."""
        self.lapidar("capture", self.captured, "--yes", "--scope", "whole")
        self.lapidar("restore")
        self.record(script)

    def proved(self, *words: str, code: int = 0) -> dict[str, Any]:
        found: dict[str, Any] = self.json("prove", *words, code=code)["proofs"][0]
        return found

    def outside(self, name: str) -> Path:
        """A file of this machine that lies in no temporary folder and in no package."""
        folder = Path(tempfile.mkdtemp(prefix="lapidar-outside-", dir=Path.home()))
        self.addCleanup(shutil.rmtree, folder)
        return folder / name

    def test_what_needs_nothing_of_this_machine(self) -> None:
        self.record(
            "import json, os, socket, sqlite3, subprocess, threading, zoneinfo\n"
            "told = subprocess.run('echo tin | tr a-z A-Z', shell=True, capture_output=True, text=True).stdout\n"
            "with socket.create_server(('127.0.0.1', 0)) as server:\n"
            "    socket.create_connection(server.getsockname()).close()\n"
            "thread = threading.Thread(target=print, args=('fired',)); thread.start(); thread.join()\n"
            "json.dump([told, sqlite3.connect(':memory:').execute('select 2').fetchall(), os.getcwd()[:1]], open('out.json', 'w'))\n"
        )
        before = self.proved()
        self.assertTrue(before["proven"], before)
        self.assertEqual([one["verdict"] for one in before["results"]], ["identical", "identical"])
        file = self.project / "lapidar.results"
        text = file.read_text()
        self.assertIn("[[proof]]", text)
        for word in (os.uname().nodename, str(self.project), time.strftime("%Y-%m")):
            self.assertNotIn(word, text)
        self.lapidar("prove", "fire")
        self.assertEqual(file.read_text(), text, "proven again, it is the same bytes")
        self.assertIn("proven", self.lapidar("show", "results", "fire").stdout)
        self.assertRegex(self.lapidar("history").stdout, "proved|proven")
        # What is recorded anew is not proven by what was.
        self.record("open('out.json', 'w').write('2')")
        self.assertEqual(results.read(file).proof, ())
        self.lapidar("prove")
        file.write_text(file.read_text().replace('verdict = "identical"', 'verdict = "same content"'))
        self.assertIn("proof of fire in lapidar.results was changed", self.fails("rerun"))
        for odd in ('verdict = "\\u001b[31mproven"', 'machine = "a\\nb"', 'name = "../fire"'):
            field = odd.partition(" ")[0]
            head, _, tail = text.partition("[[proof]]")
            (there,) = (line for line in tail.splitlines() if line.startswith(f"{field} ="))
            file.write_text(head + "[[proof]]" + tail.replace(there, odd))
            self.assertIn("is not valid", self.fails("rerun"))

    def test_nothing_of_the_host_is_in_sight(self) -> None:
        self.record(
            "import os, pwd, socket\n"
            "told = [socket.gethostname(), pwd.getpwuid(os.getuid()).pw_name, os.path.expanduser('~'), sorted(os.listdir('/etc'))]\n"
            "told += [sorted(os.listdir('/home')), os.path.exists('/etc/ssl'), os.listdir('/usr/share'), os.environ.get('KILN')]\n"
            "told += [os.path.exists(os.path.expanduser('~/.profile')), os.listdir('/var/lib'), os.listdir('/opt')]\n"
            "for place in '/tmp', '/var/tmp', os.path.expanduser('~'):\n"
            "    try:\n        open(place + '/lapidar-wrote', 'w').close()\n        told.append('could')\n    except OSError: pass\n"
            "print(told)\n",
        )
        for place in ("/tmp", "/var/tmp"):
            Path(place, "lapidar-wrote").unlink()
        self.variables["KILN"] = "hot"
        kept = self.folder / "kept"
        found = self.proved("--keep-results", str(kept), code=1)
        self.assertFalse(found["proven"])
        told = (kept / "printed.txt").read_text()
        self.assertTrue(told.startswith("['elsewhere', 'potter', '/home/potter', ['group', 'host"), told)
        self.assertTrue(told.endswith("['potter'], False, [], None, False, [], [], 'could', 'could', 'could']\n"), told)
        self.assertFalse(any(os.path.exists(f"{place}/lapidar-wrote") for place in ("/tmp", "/var/tmp")))

    def test_what_it_misses_is_named(self) -> None:
        data, library = self.outside("kilns.txt"), self.outside("libkiln.so")
        data.write_text("1280\n")
        compile_c(library.parent, "libkiln.so", "int heat(void) { return 1280; }", "-shared", "-fPIC")
        script = (
            "import ctypes, os\n"
            "try:\n    heat = {}\nexcept OSError:\n    heat = 900\n"
            "open('heat.txt', 'w').write(str(heat))\n"
        )
        asked = f"1280 if os.path.exists({str(data)!r}) else 900"
        for name, how, path, was_used in (
            ("read", f"int(open({str(data)!r}).read())", data, True),
            ("asked", asked, data, False),
            ("mapped", f"ctypes.CDLL({str(library)!r}).heat()", library, True),
        ):
            with self.subTest(name):
                self.record(script.format(how), name)
                found = self.proved(name, code=1)
                self.assertFalse(found["proven"])
                (missing,) = (one for one in found["missing"] if one["path"] == str(path))
                self.assertEqual((missing["package"], missing["was_used"]), (None, was_used))
                self.assertFalse(found["varies_here"])
        said = self.lapidar("prove", "read", code=1).stdout
        self.assertIn("not proven", said)
        self.assertIn(str(data), said)

    @unittest.skipUnless(Path("/etc/os-release").exists(), "this system does not say what it is")
    def test_what_each_system_has_is_named_where_nothing_else_is(self) -> None:
        self.record("import os; open('out.txt', 'w').write(str(os.path.exists('/etc/os-release')))")
        self.assertIn("/etc/os-release", [one["path"] for one in self.proved(code=1)["missing"]])

    def test_what_hangs_on_a_variable(self) -> None:
        """It is said, and what is advised cures it."""
        self.variables["KILN"] = "three"
        self.record("import os; open('out.txt', 'w').write(os.environ.get('KILN', 'none'))")
        self.assertTrue(self.proved(code=1)["by_variables"])
        said = self.lapidar("prove", code=1).stdout
        self.assertIn('[conditions] env = ["NAME"]', said)
        self.assertIn("with another user's variables", said)
        (self.project / "lapidar.toml").write_text('[conditions]\nenv = ["KILN"]\n')
        self.recorded_again("import os; open('out.txt', 'w').write(os.environ.get('KILN', 'none'))")
        self.assertTrue(self.proved()["proven"])

    def test_what_talks_to_somebody(self) -> None:
        with socket.create_server(("127.0.0.1", 0)) as server:
            port = server.getsockname()[1]
            self.record(
                "import socket\ntry:\n"
                f"    socket.create_connection(('127.0.0.1', {port}), 5).close()\n    told = 'there'\n"
                "except OSError:\n    told = 'nobody'\nopen('out.txt', 'w').write(told)\n"
            )
            found = self.proved(code=1)
            self.assertEqual((found["talks_to"], found["varies_here"]), ([f"127.0.0.1:{port}"], True))
            said = self.lapidar("prove", code=1).stdout
        self.assertIn(f"it talks to 127.0.0.1:{port}, and alone there is nobody", said)
        self.assertIn("keep what comes from there as a file of the project", said)

    def test_what_talks_to_itself_and_lacks_something(self) -> None:
        """The one is no reason, and the other is."""
        data = self.outside("kilns.txt")
        data.write_text("1280\n")
        self.record(
            "import os, socket\nwith socket.create_server(('127.0.0.1', 0)) as server:\n"
            "    socket.create_connection(server.getsockname()).close()\n"
            f"told = open({str(data)!r}).read() if os.path.exists({str(data)!r}) else 'none'\n"
            "open('out.txt', 'w').write(told)\n"
        )
        said = self.lapidar("prove", code=1).stdout
        self.assertIn("elsewhere its results would be others", said)
        self.assertIn(f"copy {data} into the project", said)

    def test_what_hangs_on_the_host_itself(self) -> None:
        self.record("import socket; open('out.txt', 'w').write(socket.gethostname())")
        self.assertIn("what the host is called", self.lapidar("prove", code=1).stdout)

    def test_what_is_run_is_this_machines(self) -> None:
        self.lapidar("record", "sum", "--", "expr", "6", "*", "7")
        self.assertIn('tools = ["expr"]', self.fails("prove", "sum"))
        (self.project / "fire.py").write_text("raise SystemExit(4)")
        self.assertIn("failed here (exit code 4)", self.fails("prove", "--", "python", "fire.py"))

    def test_a_program_that_is_linked_to_this_machine(self) -> None:
        code = '#include <stdio.h>\nint main(void) { FILE *out = fopen("out.txt", "w"); return fputs("2", out) < 0; }'
        for name, options, is_proven in (("shared", (), False), ("fixed", ("-static",), True)):
            compile_c(self.project, name, code, *options)
            self.lapidar("record", name, "--", f"./{name}")
            found = self.proved(name, code=0 if is_proven else 1)
            self.assertEqual(found["proven"], is_proven)
            self.assertEqual(any("libc.so" in path for path in found["borrowed"]), not is_proven)
        # A library that utilities of no system have by themselves.
        linked = '#include <zlib.h>\nint main(void) { return fputs(zlibVersion(), fopen("out.txt", "w")) < 0; }'
        if not Path("/usr/include/zlib.h").exists():
            return
        compile_c(self.project, "packer", "#include <stdio.h>\n" + linked, "-lz")
        self.lapidar("record", "packer", "--", "./packer")
        said = self.lapidar("prove", "packer", code=1).stdout
        self.assertRegex(said, r"next: link the program of the project that needs \S+libz\.so\.1 statically")
        self.assertNotIn("copy", said)

    def test_from_code(self) -> None:
        data = self.outside("kilns.txt")
        data.write_text("1280\n")
        self.record(f"import os; open('heat.txt', 'w').write(str(os.path.exists({str(data)!r})))")
        found = lapidar.prove("fire", project=self.project, cache=self.cache)
        self.assertEqual((found.proven, found.missing), (False, ((str(data), ""),)))
        self.assertIn("copy", found.remedies[0])
        self.record("open('heat.txt', 'w').write('1280')")
        self.assertTrue(lapidar.prove("fire", project=self.project, cache=self.cache, again=True).proven)

    def test_at_a_terminal_it_offers_to_take_along(self) -> None:
        self.record("import subprocess; subprocess.run(['git', '--version'], stdout=open('out.txt', 'w'))")
        ours, theirs = pty.openpty()
        process = subprocess.Popen(
            [PROGRAM, "prove", "fire"], cwd=self.project, env=self.variables, stdin=theirs, stdout=theirs, stderr=theirs
        )
        os.close(theirs)
        os.write(ours, b"y\n")
        said = b""
        with contextlib.suppress(OSError):
            while piece := os.read(ours, 65536):
                said += piece
        os.close(ours)
        self.assertEqual(process.wait(), 1, said)
        self.assertIn(b"tools git", said)
        self.assertEqual((self.project / "lapidar.toml").read_text(), '[needs]\ntools = ["git"]\n')
        self.recorded_again("import subprocess; subprocess.run(['git', '--version'], stdout=open('out.txt', 'w'))")
        self.assertTrue(self.proved()["proven"])

    def test_by_way_of_links(self) -> None:
        self.record("open('out.txt', 'w').write('2')")
        (self.folder / "link").symlink_to(self.project)
        self.assertTrue(self.json("--project", self.folder / "link", "prove")["proven"])

    def test_very_many_are_told_together(self) -> None:
        folder = self.outside("many")
        folder.mkdir()
        for number in range(2000):
            (folder / f"{number}.txt").write_text("x")
        self.record(
            f"import glob\nfound = 0\nfor n in range(2000):\n    try:\n        open(f'{folder}/{{n}}.txt').read()\n        found += 1\n"
            "    except OSError: pass\nopen('out.txt', 'w').write(str(found))\n"
        )
        said = self.lapidar("prove", code=1).stdout
        self.assertIn("and 1,999 more", said)
        self.assertLess(len(said.splitlines()), 30)
        self.assertEqual(len(self.proved(code=1)["missing"]), 2000)

    def test_the_remedy_for_programs_cures_it(self) -> None:
        script = (
            "import subprocess\n"
            "try:\n    heat = subprocess.run(['expr', '64', '*', '20'], capture_output=True, text=True).stdout\n"
            "except OSError:\n    heat = 'cold'\n"
            "open('heat.txt', 'w').write(heat)\n"
        )
        self.record(script)
        said = self.lapidar("prove", code=1).stdout
        (told,) = re.findall(r"write (\[needs\]) (tools = \[.*\]) into lapidar.toml, and capture or pin again", said)
        (self.project / "lapidar.toml").write_text("\n".join(told))
        self.recorded_again(script)
        self.assertEqual((self.project / "heat.txt").read_text(), "1280\n")
        self.lapidar("prove")

    def test_a_library_that_is_opened_by_its_name(self) -> None:
        """As optional parts of packages are: the system has it, no one declared it."""
        self.record(
            "import ctypes\nname = 'lib' + 'm' + 'agic.so.1'\ntry:\n    ctypes.CDLL(name)\nexcept OSError:\n    pass\n"
        )
        if not any(Path(place, "libmagic.so.1").exists() for place in ("/usr/lib/x86_64-linux-gnu", "/usr/lib64")):
            self.skipTest("this system has no libmagic")
        found = self.proved()
        self.assertTrue(found["proven"], "it is not needed for what it gives")
        self.assertTrue(any(one["path"].endswith("/libmagic.so.1") for one in found["missing"]), found["missing"])

    def test_a_record_whose_lists_are_in_the_cache(self) -> None:
        (self.project / "in").mkdir()
        for number in range(320):
            (self.project / f"in/{number}.txt").write_text(f"{number}")
        self.record(
            "import os\nfor name in os.listdir('in'): open(f'in/{name}').read()\nopen('out.txt', 'w').write('2')"
        )
        copies = {path: path.read_bytes() for path in (self.cache / "runs").glob("*.results")}
        self.lapidar("prove")
        self.assertEqual({path: path.read_bytes() for path in (self.cache / "runs").glob("*.results")}, copies)
        self.lapidar("cache", "audit")
        self.lapidar("rerun")
        self.lapidar("prove", "--", "python", "fire.py")
        self.assertEqual({path: path.read_bytes() for path in (self.cache / "runs").glob("*.results")}, copies)

    def test_what_varies_by_itself_is_no_ones_fault(self) -> None:
        self.record("import uuid; open('out.txt', 'w').write(str(uuid.uuid4()))")
        self.assertTrue(self.proved(code=1)["varies_here"])
        self.assertIn("lapidar rerun fire --times 3", self.lapidar("prove", code=1).stdout)
        said = self.lapidar("prove", "--", "python", "fire.py", code=1).stdout
        self.assertIn("lapidar record varying -- python fire.py", said)

    def test_another_machine_may_be_otherwise_besides(self) -> None:
        self.record("print(6 * 7)", "plain")
        self.assertTrue(self.proved("plain", "--again")["proven"])
        if len(os.sched_getaffinity(0)) > 1:
            self.record("import os; print(len(os.sched_getaffinity(0)))", "processors")
            self.assertTrue(self.proved("processors")["proven"])
            self.assertEqual(self.proved("processors", "--again", code=1)["others_with"], "one processor")

    def test_what_the_snapshot_holds_is_the_same_on_another_machine(self) -> None:
        self.record(
            "import locale, time\n"
            "locale.setlocale(locale.LC_ALL, '')\n"
            "print(time.strftime('%H:%M', time.localtime(0)), locale.setlocale(locale.LC_ALL))",
            "held",
        )
        self.assertTrue(self.proved("held", "--again")["proven"])

    def test_a_command_that_is_not_recorded(self) -> None:
        (self.project / "fire.py").write_text("open('out.txt', 'w').write('2')")
        self.assertIn("proven", self.lapidar("prove", "--", "python", "fire.py").stdout)
        (self.project / "fire.py").write_text("print('fired'); open('out.txt', 'w').write('2')")
        done = self.lapidar("prove", "--json", "--", "python", "fire.py")
        self.assertTrue(json.loads(done.stdout)["proven"])
        self.assertIn("fired", done.stderr)
        (self.project / "fire.py").write_text("import os; open('out.txt', 'w').write(str(os.listdir('/usr/share')))")
        self.lapidar("prove", "--", "python", "fire.py", code=1)
        self.assertFalse((self.project / "lapidar.results").exists())

    def test_what_talks_to_others_or_needs_a_screen(self) -> None:
        with socket.create_server(("127.0.0.1", 0)) as server:
            port = server.getsockname()[1]
            self.record(
                "import os, socket\n"
                f"try:\n    socket.create_connection(('127.0.0.1', {port}), 2)\nexcept OSError as error:\n    print(error)\n"
            )
            self.assertFalse(self.proved(code=1)["proven"])
        self.variables["DISPLAY"] = ":0"
        self.record("import os; print('DISPLAY' in os.environ)", "drawn")
        self.assertFalse(self.proved("drawn", code=1)["proven"])

    def test_where_the_kernel_lets_no_root_be_made(self) -> None:
        self.record("open('out.txt', 'w').write('2')")
        words = [sys.executable, "-c", WITHOUT_NAMESPACES, PROGRAM, "prove"]
        done = subprocess.run(words, cwd=self.project, env=self.variables, capture_output=True, text=True, check=False)
        self.assertEqual(done.returncode, 3, done.stderr)
        self.assertIn("no root of one's own", done.stderr)
        self.assertEqual(results.read(self.project / "lapidar.results").proof, ())

    def test_an_environment_that_uses_this_machines_libraries(self) -> None:
        self.lapidar("restore", "--libraries", "host")
        self.record("open('out.txt', 'w').write('2')")
        self.assertIn("private", self.fails("prove"))

    def test_killed_at_any_moment(self) -> None:
        self.record(
            "import subprocess, time\nsubprocess.Popen(['sleep', '41.7'])\ntime.sleep(0.4)\nopen('out.txt', 'w').write('2')"
        )
        before = Path("/proc/self/mountinfo").read_text()
        for number in range(many(60, 4)):
            process = subprocess.Popen([PROGRAM, "prove"], cwd=self.project, env=self.variables, stdout=-3, stderr=-3)
            time.sleep(0.1 + number % 6 * 0.15)
            process.send_signal(signal.SIGKILL if number % 2 else signal.SIGINT)
            process.wait(20)
        ends = time.monotonic() + 10
        while self.sleeping() and time.monotonic() < ends:
            time.sleep(0.05)
        self.assertEqual(self.sleeping(), [])
        self.assertEqual(Path("/proc/self/mountinfo").read_text(), before)
        self.assertTrue(self.proved()["proven"])
        self.assertEqual([name for name in os.listdir(self.project / ".lapidar") if name.startswith("rerun-")], [])

    def sleeping(self) -> list[str]:
        found = []
        for place in Path("/proc").glob("[0-9]*/cmdline"):
            try:
                found += [place.parent.name] if b"41.7" in place.read_bytes() else []
            except OSError:
                continue
        return found


class Completed(Case):
    """Captured, proven against the original, and completed by what it missed."""

    own_cache = True
    SCRIPT = (
        "import subprocess\n"
        "print('fired')\n"
        "told = subprocess.run(['git', 'hash-object', '--stdin'], input=b'tin', capture_output=True).stdout\n"
        "open('out.txt', 'wb').write(told)\n"
    )

    def test_until_it_gives_the_same(self) -> None:
        (self.project / "fire.py").write_text(self.SCRIPT)
        venv = self.environment()
        (self.project / "lapidar.toml").write_text('# ours\n[needs]\ntools = ["expr"]\n')
        done = json.loads(self.lapidar("--json", "capture", venv, "--prove", "--yes", "--", "python", "fire.py").stdout)
        self.assertTrue(done["proof"]["proven"], done["proof"])
        self.lapidar("cache", "audit")
        self.assertFalse((self.cache / "runs").exists(), "nothing was recorded")
        self.assertEqual([(one["key"], one["value"]) for one in done["added"]], [("tools", "git")])
        self.assertEqual((self.project / "lapidar.toml").read_text(), '# ours\n[needs]\ntools = ["expr", "git"]\n')
        lock = self.lock.read_bytes()
        self.lapidar("capture", venv, "--prove", "--", "python", "fire.py")
        self.assertEqual(self.lock.read_bytes(), lock, "what was taken along is declared: it is taken at once")
        self.lapidar("capture", self.restored)
        self.assertEqual(self.lock.read_bytes(), lock, "captured again from the restored one, it is the same")
        self.assertTrue(self.json("check")["clean"])

    def test_what_only_the_run_told_is_declared(self) -> None:
        """A later capture that watches nothing gives the same."""
        if shutil.which("tclsh") is None:
            self.skipTest("there is no tclsh here")
        (self.project / "read.tcl").write_text(
            "puts [string length [read [open [join {/usr/share common-licenses GPL-3} /]]]]\n"
        )
        (self.project / "fire.py").write_text(
            "import subprocess\nsubprocess.run(['tcl' + 'sh', 'read.tcl'], check=True)\n"
        )
        venv = self.environment()
        said = self.lapidar("capture", venv, "--prove", "--yes", "--", "python", "fire.py")
        self.assertIn("system-packages base-files", said.stdout + said.stderr)
        text = (self.project / "lapidar.toml").read_text()
        self.assertEqual(text, '[needs]\ntools = ["tclsh"]\nsystem-packages = ["base-files"]\n')
        lock = self.lock.read_bytes()
        self.lapidar("capture", venv)
        self.assertEqual(self.lock.read_bytes(), lock)
        self.lapidar("capture", self.restored)
        self.assertEqual(self.lock.read_bytes(), lock)

    def test_nothing_is_taken_that_nobody_agreed_to(self) -> None:
        (self.project / "fire.py").write_text(self.SCRIPT)
        done = self.lapidar("capture", self.environment(), "--prove", "--", "python", "fire.py", code=1)
        self.assertIn("git", done.stdout + done.stderr)
        self.assertIn("not proven", done.stdout)
        self.assertFalse((self.project / "lapidar.toml").exists())

    def test_what_fails_here_is_not_captured(self) -> None:
        (self.project / "fire.py").write_text("raise SystemExit(3)")
        self.assertIn("exit code 3", self.fails("capture", self.environment(), "--prove", "--", "python", "fire.py"))
        self.assertFalse(self.lock.exists())
        self.assertIn("no command for --prove", self.fails("capture", "--prove"))


if __name__ == "__main__":
    unittest.main()
