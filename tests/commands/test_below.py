"""Outside programs, observed runs and conditions."""

from __future__ import annotations

import json
import os
import platform
import re
import shutil
import socket
import subprocess
import sys
import tempfile
from importlib import resources
from pathlib import Path
from typing import Any

from msgspec.structs import replace

from core.test_system import compile_c
from lapidar.core.records import lockfile
from lapidar.core.records.snapshot import Snapshot
from roots import bare_root, run_in, skip_loudly
from support import PROGRAM, WHEELS, Case, install, tree_of, wheel

# Everything whose last bits depend on the code that a library chooses by the processor.
DIGESTS = """
import hashlib, math
import numpy as np, scipy.fft, scipy.linalg
random = np.random.default_rng(20261123)
square, line = random.standard_normal((300, 300)), random.standard_normal(100_000)
short = line.astype("f4")
def told(name, *values):
    data = b"".join(np.ascontiguousarray(value).tobytes() for value in values)
    print(name, hashlib.sha256(data).hexdigest()[:16])
told("svd", *np.linalg.svd(square))
told("product", square @ square, short @ short)
told("exp", np.exp(line), np.exp(short))
told("pow", np.power(abs(line), 1.3))
told("libm", [math.exp(v) for v in line[:5000]], [math.sin(v) for v in line[:5000]], [abs(v) ** 1.7 for v in line[:5000]])
told("sums", line.sum(), short.sum(), line.mean(), np.dot(line, line))
told("sorted", np.sort(line), np.argsort(short))
told("fft", scipy.fft.fft(line), np.fft.rfft(line))
told("solved", scipy.linalg.solve(square, line[:300]))
np.save("svd.npy", np.linalg.svd(square)[0])
"""


class Below(Case):
    def captured(self, *words: object) -> Snapshot:
        self.lapidar("capture", *words)
        return lockfile.read(self.lock)

    def declare(self, text: str) -> None:
        (self.project / "lapidar.toml").write_text(text)


class Tools(Below):
    def need(self, *names: str) -> Path:
        for name in names:
            if shutil.which(name) is None:
                skip_loudly(self, f"there is no {name} here")
        self.declare(f"[needs]\ntools = {json.dumps(names)}\n")
        return self.environment()

    def script(self, name: str, text: str) -> Path:
        """A shell script in nobody's package."""
        place = self.folder / name
        place.write_text(f"#!/bin/sh\n{text}\n")
        place.chmod(0o755)
        return place

    def test_on_a_bare_root(self) -> None:
        """A compiled program with data files, and a script of another language."""
        root = bare_root(self, self.folder / "bare")
        environment = self.need("tclsh", "shasum")
        snapshot = self.captured(environment)
        self.assertEqual([tool.name for tool in snapshot.tools], ["shasum", "tclsh"])
        self.assertEqual(snapshot.tools[0].interpreter, os.path.realpath("/usr/bin/perl").lstrip("/"))
        before = self.lock.read_bytes()
        self.lapidar("restore", "--into", root / "home" / "env")
        # What it needs lies at /usr/share/tcltk, and the root has no /usr.
        (root / "home" / "ask.tcl").write_text("puts [package require http]; puts [info library]\n")
        said = run_in(root, "/home/env/bin/tclsh", "/home/ask.tcl").splitlines()
        self.assertRegex(said[0], r"^\d")
        self.assertTrue(said[1].startswith("/usr/share/tcl"), said)
        (root / "home" / "sherd").write_text("glaze\n")
        said_here = subprocess.run(
            ["shasum", "-a", "256", str(root / "home" / "sherd")], capture_output=True, text=True
        )
        said_there = run_in(root, "/home/env/bin/shasum", "-a", "256", "/home/sherd")
        self.assertEqual(said_there.split()[0], said_here.stdout.split()[0])
        self.assertFalse((root / "usr").exists(), "the root of its own was left behind")
        self.assertEqual(
            list((root / "home/env/lib/lapidar/tools/.mount").iterdir()),
            [root / "home/env/lib/lapidar/tools/.mount/.keep"],
        )
        self.lapidar("check", "--deep", "--env", root / "home" / "env")
        self.lapidar("capture", root / "home" / "env")
        self.assertEqual(self.lock.read_bytes(), before)

    def test_a_shell_script_on_a_bare_root(self) -> None:
        """It calls what every system has: the snapshot's, not another system's, and one that is a script itself."""
        root = bare_root(self, self.folder / "bare")
        script = self.script(
            "glazes",
            "printf 'tin\\nlead\\n' | sort | awk '{print NR, $1}' > here && gzip here && zcat here.gz",
        )
        self.declare(f'[needs]\ntools = ["{script}"]\n')
        self.captured(self.environment())
        before = self.lock.read_bytes()
        self.lapidar("restore", "--into", root / "home" / "env")
        script.unlink()
        said = run_in(root, "/bin/sh", "-c", "cd /tmp && exec /home/env/bin/glazes")
        self.assertEqual(said, "1 lead\n2 tin\n")
        # What it wrote is there, and nothing was made where the script had lain.
        self.assertEqual(os.listdir(root / "tmp"), ["here.gz"])
        self.assertEqual(os.listdir(root / "dev" / "shm"), [])
        self.lapidar("capture", root / "home" / "env")
        self.assertEqual(self.lock.read_bytes(), before)

    def test_one_starts_another(self) -> None:
        """Each in a root of its own, by an administrator and by a plain user."""
        for name, text in (("outer", "echo outer | cat; inner"), ("inner", "echo inner | sed s/n/N/")):
            self.script(name, text)
        self.declare(f'[needs]\ntools = ["{self.folder}/inner", "{self.folder}/outer"]\n')
        self.captured(self.environment())
        self.lapidar("restore")
        self.folder.chmod(0o755)
        variables = {**self.variables, "PATH": f"{self.restored}/bin:{os.environ['PATH']}"}
        plain = ["setpriv", "--reuid=65534", "--regid=65534", "--clear-groups"]
        for who in [], plain if os.getuid() == 0 else []:
            done = subprocess.run([*who, "outer"], cwd="/", env=variables, capture_output=True, text=True)
            if who and "none be made" in done.stderr:
                skip_loudly(self, "a plain user can make no namespace here")
            self.assertEqual((done.stdout, done.stderr), ("outer\niNner\n", ""), who)

    def test_a_program_among_others(self) -> None:
        """In a folder like /opt, others' files are at their places beside those of the program."""
        root = bare_root(self, self.folder / "bare")
        script = self.script("fire", "cat /opt/kiln/glazes /opt/other/colours; ls /opt; echo fired > /opt/other/result")
        self.declare('[needs]\ntools = ["/opt/kiln/bin/fire"]\n')
        place = "mkdir -p /opt && mount -t tmpfs none /opt && mkdir -p /opt/kiln/bin && mv {} /opt/kiln/bin && {}"
        environment = self.environment()
        done = self.in_namespace(place.format(f"'{script}'", 'exec "$@"'), PROGRAM, "capture", environment)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.lapidar("restore", "--into", root / "home" / "env")
        for path, text in (("opt/kiln/glazes", "tin\n"), ("opt/other/colours", "blue\n")):
            (root / path).parent.mkdir(parents=True)
            (root / path).write_text(text)
        self.assertEqual(run_in(root, "/home/env/bin/fire"), "tin\nblue\nkiln\nother\n")
        self.assertEqual((root / "opt/other/result").read_text(), "fired\n")
        self.assertEqual(sorted(os.listdir(root / "opt" / "kiln")), ["glazes"])

    def test_where_no_root_of_its_own_can_be_made(self) -> None:
        """A finding says what will not work; what needs no files of its own works all the same."""
        environment = self.need("tclsh", "file")
        self.captured(environment)
        self.lapidar("restore")
        self.lapidar("check")
        if os.getuid() != 0:
            self.skipTest("only root can take a plain user's rights")
        # Without the right to make mounts, and in a changed root, where no user namespace may be made.
        without = "mount --rbind / /mnt && exec chroot /mnt setpriv --bounding-set -sys_admin --inh-caps -sys_admin "
        without += """sh -c 'cd "$0" && exec "$@"' "$PWD" "$@" """
        done = self.in_namespace(without, PROGRAM, "check")
        run = self.in_namespace(without, PROGRAM, "run", "tclsh", "/dev/null")
        self.assertEqual(done.returncode, 1, done.stdout + done.stderr)
        self.assertIn("tclsh: is to run in a root of its own", done.stdout)
        self.assertIn("in a root of its own", run.stderr)

    def test_an_environment_below_usr(self) -> None:
        """Where a root of its own has another /usr, the environment must still be found."""
        environment = self.need("tclsh")
        self.captured(environment)
        self.lapidar("restore")
        script = (
            'mkdir -p /mnt/usr && mount -t tmpfs tmpfs /usr/local && cp -a "$1" /usr/local/env && cd /usr/local && '
        )
        script += 'echo "puts [package require http]" > ask.tcl && exec env/bin/tclsh ask.tcl'
        done = self.in_namespace(script, self.restored)
        self.assertRegex(done.stdout, r"^\d", done.stderr)
        self.assertEqual(done.stderr, "")

    def test_the_source_names_it(self) -> None:
        environment = self.need("shasum")
        self.declare("")
        (self.project / "a.py").write_text("import subprocess\nsubprocess.run(['shasum', 'a.py'])\n")
        self.assertEqual([tool.name for tool in self.captured(environment).tools], ["shasum"])
        self.lapidar("restore")
        said = self.lapidar("run", "python", "a.py").stdout
        self.assertTrue(said.endswith("  a.py\n"), said)
        self.assertIn("shasum", self.lapidar("show", "tools").stdout)

    def test_what_cannot_be_taken(self) -> None:
        danger = compile_c(self.folder, "danger", "int main(void){return 0;}")
        danger.chmod(0o4755)
        self.declare(f'[needs]\ntools = ["{danger}", "no-such-program-at-all"]\n')
        done = self.lapidar("capture", self.environment())
        self.assertIn("setuid", done.stderr)
        self.assertIn("no-such-program-at-all", done.stderr)
        self.assertEqual(lockfile.read(self.lock).tools, ())

    def test_a_static_program_and_one_of_nobody(self) -> None:
        static = compile_c(
            self.folder, "static", '#include <stdio.h>\nint main(void){puts("fired");return 0;}', "-static"
        )
        self.declare(f'[needs]\ntools = ["{static}"]\n')
        (tool,) = self.captured(self.environment()).tools
        self.assertEqual((tool.name, tool.owner), ("static", None))
        static.unlink()
        self.lapidar("restore")
        self.assertEqual(self.lapidar("run", "static").stdout, "fired\n")

    def test_a_compiler_compiles(self) -> None:
        """What gcc needs is in packages that its own needs; what it links runs with the environment's libraries."""
        environment = self.need("gcc")
        (self.project / "heat.c").write_text(
            "#include <stdio.h>\n#include <math.h>\n"
            'int main(int c, char **v) { printf("%.17g\\n", sin(c * 0.3)); return 0; }\n'
        )
        (self.project / "build.sh").write_text("gcc -O2 -o heat heat.c -lm && ./heat && rm heat\n")
        self.captured(environment)
        before = self.lock.read_bytes()
        self.lapidar("restore")
        self.proven("sh", "build.sh")
        self.lapidar("run", "gcc", "-o", "heat", "heat.c", "-lm")
        read = subprocess.run(["ldd", self.project / "heat"], capture_output=True, text=True, check=True).stdout
        self.assertIn(f"libm.so.6 => {self.restored}/lib/lapidar/", read)
        self.lapidar("capture", self.restored)
        self.assertEqual(self.lock.read_bytes(), before)

    def test_an_interpreter_has_its_library(self) -> None:
        """Perl's lies in packages that the program's own is only a part of."""
        self.captured(self.need("perl"))
        self.lapidar("restore")
        self.proven("perl", "-MEncode", "-MPOSIX", "-e", "print encode('UTF-8', chr(0xe4))")

    def proven(self, *command: str) -> None:
        said = json.loads(self.lapidar("--json", "prove", "--", *command).stdout)
        self.assertTrue(said["proven"], said["proofs"])

    def test_a_program_that_an_environment_module_leads_to(self) -> None:
        """It lies on PATH, and its library on the loader's own path of the caller."""
        place = self.folder / "module"
        (place / "bin").mkdir(parents=True)
        compile_c(place, "libglaze9.so", "int glaze(void){return 42;}", "-shared", "-fPIC", "-Wl,-soname,libglaze9.so")
        code = '#include <stdio.h>\nint glaze(void);int main(void){printf("%d\\n",glaze());return 0;}'
        compile_c(place / "bin", "glazer", code, f"-L{place}", "-lglaze9")
        self.variables |= {"PATH": f"{place}/bin:{os.environ['PATH']}", "LD_LIBRARY_PATH": str(place)}
        self.declare('[needs]\ntools = ["glazer"]\n')
        said = self.lapidar("capture", self.environment()).stderr
        self.assertNotIn("glazer", said)
        shutil.rmtree(place)
        del self.variables["LD_LIBRARY_PATH"]
        self.lapidar("restore")
        self.assertEqual(self.lapidar("-q", "run", "glazer").stdout, "42\n")
        self.proven("glazer")

    def test_java_is_found_by_who_loads_it(self) -> None:
        if shutil.which("java") is None:
            skip_loudly(self, "there is no java here")
        self.captured(self.need("java"))
        self.lapidar("restore")
        (self.project / "Fire.java").write_text(
            "public class Fire { public static void main(String[] words) { System.out.println(Math.sin(3)); } }\n"
        )
        self.proven("java", "Fire.java")
        text = "import os; print(os.path.exists(os.environ['JAVA_HOME'] + '/lib/server/libjvm.so'), os.environ['JAVA_HOME'])"
        said = self.lapidar("run", "python", "-c", text).stdout
        self.assertTrue(said.startswith(f"True {self.restored}/"), said)

    def in_opt(self, script: str, *words: object, code: int = 0, put: str = "", more: str = "") -> str:
        """Capture with a program in /opt/kiln/bin; what was said."""
        front = self.script("fire", script)
        self.declare(f'[needs]\ntools = ["/opt/kiln/bin/fire"]\n{more}')
        behind = self.script("behind", 'echo "$@"')
        place = "mkdir -p /opt /srv && mount -t tmpfs none /opt && mount -t tmpfs none /srv && mkdir -p /opt/kiln/bin "
        place += (
            f"/opt/kiln/lib && cp '{front}' /opt/kiln/bin && cp '{behind}' /opt/kiln/lib && echo tin > /srv/glaze && "
        )
        done = self.in_namespace(place + put + 'exec "$@"', PROGRAM, "capture", self.environment(), *words)
        self.assertEqual(done.returncode, code, done.stderr)
        return done.stderr

    def test_a_wrapper_is_followed(self) -> None:
        """What it starts is not to be read in its text: it is started once, and seen."""
        self.in_opt('exec "/opt/kiln/lib/be$(echo hi)nd" "$@"')
        self.lapidar("restore")
        self.proven("fire", "seven")

    def test_nothing_that_tells_the_machine_is_taken(self) -> None:
        """Not even where it is declared: its identity, keys, what belongs to somebody."""
        text = "echo fired"
        (self.folder / "id").write_text("0123456789abcdef0123456789abcdef\n")
        put = f"mount --bind '{self.folder}/id' /etc/machine-id && echo kept > /opt/kiln/glaze && "
        put += "sed s/^/id=/ /etc/machine-id > /opt/kiln/told && echo key > /opt/kiln/fire.key && "
        put += "mkdir -p /opt/kiln/own && echo mine > /opt/kiln/own/secret && chmod 600 /opt/kiln/own/secret && "
        if not os.path.exists("/etc/machine-id"):
            skip_loudly(self, "this machine has no identity")
        self.in_opt(text, put=put, more='files = ["/opt/kiln", "/etc/machine-id"]\n')
        self.lapidar("restore")
        lies = self.restored / "lib/lapidar/tools/fire"
        found = {str(path.relative_to(lies)) for path in lies.rglob("*") if "kiln" in str(path) and path.is_file()}
        self.assertEqual(found, {"opt/kiln/bin/fire", "opt/kiln/lib/behind", "opt/kiln/glaze"})
        self.assertFalse((lies / "etc/machine-id").exists())

    def test_what_does_not_start_is_left_out(self) -> None:
        """It reads what nobody takes along: here it starts, and from what was captured of it it does not."""
        script = 'cat "/srv/gla$(echo z)e" || { echo "no glaze" >&2; exit 4; }'
        said = self.in_opt(script)
        self.assertIn("fire was left out: it does not start from what is known of it: no glaze", said)
        self.assertEqual(lockfile.read(self.lock).tools, ())
        self.assertEqual(self.in_opt(script, "--start-nothing"), "")
        self.assertEqual([tool.name for tool in lockfile.read(self.lock).tools], ["fire"])

    def test_what_is_started_can_do_nothing(self) -> None:
        """No file is made, nobody is talked to, and what does not end is ended; it is taken all the same."""
        with socket.create_server(("127.0.0.1", 0)) as server:
            server.settimeout(0.2)
            text = f"echo made > '{self.folder}/made'\n"
            text += f'{sys.executable} -c \'import socket; socket.create_connection(("127.0.0.1", '
            text += f"{server.getsockname()[1]}), 1)'\nexit 0"
            self.declare(f'[needs]\ntools = ["{self.script("glazes", text)}"]\n')
            self.assertEqual([tool.name for tool in self.captured(self.environment()).tools], ["glazes"])
            self.assertRaises(TimeoutError, server.accept)
        self.assertFalse((self.folder / "made").exists())

    def test_in_a_rerun_it_has_its_own_root_too(self) -> None:
        """A rerun limits what is written: where that forbids mounts, the program ran with the host's files."""
        (self.project / "ask.tcl").write_text("puts [package require http]; puts [info nameofexecutable]\n")
        self.captured(self.need("tclsh"))
        self.lapidar("restore")
        self.lapidar("record", "asked", "--", "tclsh", "ask.tcl")
        said = self.lapidar("rerun", "asked")
        self.assertNotIn("root of its own", said.stderr)
        said = self.lapidar("check", "--live", "--", "tclsh", "ask.tcl")
        files = re.search(r"(\d+) files", said.stdout)
        self.assertGreater(int(files[1]) if files else 0, 5, said.stdout)

    def test_pinning_keeps_and_adds_them(self) -> None:
        environment = self.need("shasum")
        self.captured(environment, "--scope", "whole")
        before = lockfile.read(self.lock)
        (self.folder / "wheels").mkdir()
        wheel(self.folder / "wheels", "sherdlib")
        self.variables["LAPIDAR_INDEX"] = str(self.folder / "wheels")
        self.lapidar("need", "sherdlib", "--no-restore")
        after = lockfile.read(self.lock)
        self.assertEqual((after.libraries, after.tools), (before.libraries, before.tools))
        self.assertEqual([package.name for package in after.packages], ["sherdlib"])
        self.assertEqual(after.library_layer, before.library_layer)


class Declared(Below):
    """What no rule finds, said in lapidar.toml."""

    def test_what_there_is_is_taken(self) -> None:
        for path in ("/usr/lib/x86_64-linux-gnu/libmagic.so.1", "/usr/lib/locale/C.utf8"):
            if not os.path.exists(path):
                skip_loudly(self, f"there is no {path} here")
        self.declare(
            '[needs]\ntools = ["tclsh"]\nfiles = ["/usr/share/common-licenses/GPL-3"]\nlibraries = ["libmagic.so.1"]\n'
            'fonts = ["DejaVu Serif", "/usr/share/fonts/truetype/dejavu/DejaVuSans-Bold.ttf"]\nlocales = ["C.UTF-8"]\n'
            'system-packages = ["tzdata"]\n'
        )
        done = self.lapidar("capture", self.environment())
        self.assertNotIn("lapidar.toml needs", done.stderr)
        self.lapidar("restore")
        private = self.restored / "lib/lapidar"
        for path in (
            "tools/tclsh/usr/share/common-licenses/GPL-3",
            "libmagic.so.1",
            "fontconfig/fonts/truetype/dejavu/DejaVuSerif.ttf",
            "fontconfig/fonts/truetype/dejavu/DejaVuSans-Bold.ttf",
            "locale/C.utf8",
        ):
            self.assertTrue((private / path).exists(), path)
        text = "puts [string length [read [open [join {/usr/share common-licenses GPL-3} /]]]]\n"
        (self.project / "read.tcl").write_text(text)
        said = json.loads(self.lapidar("--json", "prove", "--", "tclsh", "read.tcl").stdout)
        self.assertTrue(said["proven"], said["proofs"])

    def test_what_a_watched_run_is_advised_cures_it(self) -> None:
        """An outside program reads a file of the host's; declared, it is the snapshot's."""
        (self.project / "read.tcl").write_text("puts [read [open [join {/etc debian_version} /]]]\n")
        if not os.path.exists("/etc/debian_version"):
            skip_loudly(self, "there is no /etc/debian_version here")
        self.declare('[needs]\ntools = ["tclsh"]\n')
        venv = self.environment()
        self.captured(venv)
        self.lapidar("restore")
        command = ("check", "--live", "--", "tclsh", "read.tcl")
        said = self.lapidar(*command, code=1).stdout
        self.assertIn("/etc/debian_version", said)
        self.assertIn("declare them: files in [needs]", said)
        self.declare('[needs]\ntools = ["tclsh"]\nfiles = ["/etc/debian_version"]\n')
        self.captured(venv, "--yes")
        self.lapidar("restore")
        self.lapidar(*command)

    def test_what_there_is_not_is_told(self) -> None:
        secret = Path(tempfile.mkdtemp(dir=Path.home())) / "glazes"
        self.addCleanup(shutil.rmtree, secret.parent)
        secret.write_text("tin\n")
        self.declare(
            f'[needs]\ntools = ["tclsh"]\nfiles = ["/usr/share/nothing", "/etc/shadow", "{secret}"]\n'
            'libraries = ["libnosuch.so.9"]\nfonts = ["No Such Font", "/no/such.ttf"]\nlocales = ["xx_XX.UTF-8"]\n'
            'system-packages = ["no-such-package"]\n'
        )
        said = self.lapidar("capture", self.environment()).stderr
        for what in (
            "/usr/share/nothing, which lapidar.toml needs, was not taken: it is not on this machine",
            "/etc/shadow, which lapidar.toml needs, was not taken: each machine has its own",
            f"{secret}, which lapidar.toml needs, was not taken: it is somebody's",
            "the library libnosuch.so.9, which lapidar.toml needs, is not on this machine",
            "the font No Such Font, which lapidar.toml needs, is not on this machine",
            "the font /no/such.ttf, which",
            "the locale xx_XX.UTF-8, which",
            "the system has no package no-such-package",
        ):
            self.assertIn(what, said)
        self.declare('[needs]\nfiles = ["glazes.dat"]\n')
        self.assertIn("glazes.dat is no absolute path", self.fails("need", "sherdlib"))
        self.declare('[needs]\nfiles = ["/usr/share/common-licenses"]\n')
        self.assertIn("there is no such program", self.lapidar("capture", self.environment()).stderr)


class Observing(Below):
    def test_what_a_run_uses(self) -> None:
        library = Path("/usr/lib/x86_64-linux-gnu/libmagic.so.1")
        if not library.exists() or shutil.which("shasum") is None:
            self.skipTest("there is no libmagic or no shasum here")
        environment = self.environment(
            wheel(self.folder, "sherdlib"), wheel(self.folder, "unusedlib"), wheel(self.folder, "pluginlib")
        )
        (self.project / "analysis.py").write_text(
            "import ctypes, importlib, subprocess, sherdlib\n"
            "ctypes.CDLL('lib' + 'magic' + '.so.1')\n"
            "importlib.import_module('plugin' + 'lib')\n"
            "subprocess.run('sha' + 'sum analysis.py', shell=True, check=True)\n"
        )
        snapshot = self.captured(environment, "--observe", "--", "python", "analysis.py")
        self.assertEqual([package.name for package in snapshot.packages], ["pluginlib", "sherdlib"])
        self.assertEqual([tool.name for tool in snapshot.tools], ["shasum"])
        found = {one.soname: one for one in snapshot.libraries}
        self.assertIn("run", found["libmagic.so.1"].used_by)
        before = self.lock.read_bytes()
        self.lapidar("restore")
        self.lapidar("run", "python", "analysis.py")
        self.lapidar("capture", self.restored, "--scope", "whole")
        self.assertEqual(self.lock.read_bytes(), before)

    def test_the_run_fails(self) -> None:
        environment = self.environment()
        said = self.fails("capture", environment, "--observe", "--", "python", "-c", "raise SystemExit(7)")
        self.assertIn("exit code 7", said)
        self.assertFalse(self.lock.exists())
        self.assertIn("no command", self.fails("capture", environment, "--observe", "--", "no-such-command"))
        self.assertIn("no command for --observe", self.fails("capture", environment, "--observe"))
        self.assertIn("--observe", self.fails("capture", environment, "--", "python"))

    def test_signals_threads_and_children(self) -> None:
        """A run that is watched behaves as one that is not."""
        script = (
            "import os, signal, subprocess, sys, threading\n"
            "caught = []\n"
            "signal.signal(signal.SIGUSR1, lambda *_: caught.append(1))\n"
            "os.kill(os.getpid(), signal.SIGUSR1)\n"
            "threads = [threading.Thread(target=lambda: sum(range(10**5))) for _ in range(8)]\n"
            "[one.start() for one in threads]; [one.join() for one in threads]\n"
            "child = subprocess.run([sys.executable, '-c', 'import os, signal; os.kill(os.getpid(), signal.SIGTERM)'])\n"
            "assert caught == [1] and child.returncode == -15, (caught, child)\n"
            "if os.fork() == 0: os._exit(3)\n"
            "assert os.waitstatus_to_exitcode(os.wait()[1]) == 3\n"
        )
        self.captured(self.environment(), "--observe", "--", "python", "-c", script)

    def test_its_output_is_not_ours(self) -> None:
        words = ("capture", self.environment(), "--json", "--observe", "--", "python", "-c", "print('fired')")
        done = self.lapidar(*words)
        self.assertTrue(json.loads(done.stdout)["changed"])
        self.assertIn("fired", done.stderr)


class Conditions(Below):
    def setUp(self) -> None:
        super().setUp()
        self.venv = self.environment(wheel(self.folder, "sherdlib"))

    def printed(self, *names: str) -> dict[str, str | None]:
        script = f"import json, os; print(json.dumps({{n: os.environ.get(n) for n in {names!r}}}))"
        found: dict[str, str | None] = json.loads(self.lapidar("run", "python", "-c", script).stdout)
        return found

    def test_what_a_run_is_held_to(self) -> None:
        self.declare(
            '[conditions]\nenv = ["KILN=three", "GLAZE"]\nsecrets = ["TOKEN", "OTHER"]\nenv-file = "run.env"\n'
        )
        self.variables |= {"GLAZE": "celadon", "TOKEN": "very secret", "OMP_NUM_THREADS": "3", "TZ": "Asia/Tokyo"}
        os.umask(0o027)
        self.addCleanup(os.umask, 0o022)
        held = self.captured(self.venv).conditions
        assert held
        text = self.lock.read_text()
        self.assertNotIn("very secret", text)
        self.assertEqual((held.secrets, held.umask), (("OTHER", "TOKEN"), "0027"))
        self.assertEqual(held.kernel, f"{platform.system()} {platform.release()}")
        os.umask(0o022)
        self.lapidar("restore")
        self.assertIn("run.env", self.fails("run", "true"))
        (self.project / "run.env").write_text(
            "# of this machine\nexport OTHER='from the file'\nKILN=no\n\nPLACE=here\n"
        )
        self.variables |= {"GLAZE": "ash", "OMP_NUM_THREADS": "1", "TZ": "UTC", "PYTHONHASHSEED": "7"}
        found = self.printed("KILN", "GLAZE", "OMP_NUM_THREADS", "TZ", "PYTHONHASHSEED", "TOKEN", "OTHER", "PLACE")
        self.assertEqual(
            found,
            {
                "KILN": "three",
                "GLAZE": "celadon",
                "OMP_NUM_THREADS": "3",
                "TZ": "Asia/Tokyo",
                "PYTHONHASHSEED": None,
                "TOKEN": "very secret",
                "OTHER": "from the file",
                "PLACE": "here",
            },
        )
        self.assertEqual(self.lapidar("run", "python", "-c", "import os; print(oct(os.umask(0)))").stdout, "0o27\n")
        del self.variables["TOKEN"]
        said = self.lapidar("run", "true").stderr
        self.assertIn("not set here: TOKEN", said)
        self.assertIn("held to the snapshot's: GLAZE, OMP_NUM_THREADS, PYTHONHASHSEED, TZ", said)
        for path in self.cache.rglob("*.lock"):
            self.assertNotIn("very secret", path.read_text())

    def test_another_processor(self) -> None:
        snapshot = self.captured(self.venv)
        assert snapshot.conditions
        other = replace(snapshot.conditions, processor="Kiln 9000", features=("sse2", "sherd512"))
        lockfile.write(lockfile.identify(replace(snapshot, conditions=other)), self.lock)
        self.lapidar("restore")
        said = self.lapidar("run", "true").stderr
        self.assertIn("without sherd512", said)
        self.assertIn("Kiln 9000", said)
        self.assertIn("Kiln 9000", self.lapidar("check").stderr)
        self.declare('[conditions]\nnumerics = "portable"\n')
        self.lapidar("capture", self.restored)
        self.lapidar("restore")
        said = self.lapidar("run", "true").stderr
        self.assertIn("portable, held to x86-64-v2", said)
        self.assertNotIn("Kiln 9000", said)
        self.assertEqual(self.printed("OPENBLAS_NUM_THREADS"), {"OPENBLAS_NUM_THREADS": "1"})

    def test_what_makes_no_sense(self) -> None:
        for text, told in (
            ('numerics = "exact"', "numerics"),
            ('env = ["1X=2"]', "1X"),
            ('env = ["A=1"]\nsecrets = ["A"]', "both"),
            ('env-file = "../outside"', "inside the project"),
            ("colour = 1", "colour"),
        ):
            self.declare(f"[conditions]\n{text}\n")
            with self.subTest(text):
                # A capture says so and goes on; what asks the declaration first does not.
                self.assertIn(told, self.lapidar("capture", self.venv).stderr)
                self.assertIn(told, self.fails("pin"))

    def test_a_captured_restored_environment_keeps_them(self) -> None:
        self.variables["OMP_NUM_THREADS"] = "3"
        self.captured(self.venv)
        before = self.lock.read_bytes()
        self.lapidar("restore")
        self.variables["OMP_NUM_THREADS"] = "5"
        self.lapidar("capture", self.restored)
        self.assertEqual(self.lock.read_bytes(), before)


class Numbers(Below):
    """The same bits on every processor of the family: with an emulated older one for the other processor."""

    def setUp(self) -> None:
        super().setUp()
        self.emulator = shutil.which("qemu-x86_64")
        if self.emulator is None:
            skip_loudly(self, "there is no emulator here (Debian's qemu-user)")

    def on_an_older_processor(self, *words: object) -> str:
        """What a script prints in the restored environment, on a processor without AVX."""
        at, private = self.restored, self.restored / "lib" / "lapidar"
        loader = [private / "ld-linux-x86-64.so.2", "--inhibit-cache", "--argv0", at / "bin" / "python"]
        loader += ["--library-path", f"{private}:{at}/lib"]
        real = private / Path(lockfile.read(self.lock).runtimes[0].executable).name
        return self.lapidar("run", self.emulator, "-cpu", "Nehalem", *loader, real, "-s", *words).stdout

    def test_the_demos_results(self) -> None:
        sherds = resources.files("lapidar.demo").joinpath("sherds")
        for name in ("analysis.py", "sherds.csv"):
            (self.project / name).write_bytes(sherds.joinpath(name).read_bytes())
        self.declare('[conditions]\nnumerics = "portable"\n')
        self.captured(sys.prefix)
        self.lapidar("restore")
        self.lapidar("run", "python", "analysis.py", "here")
        self.on_an_older_processor("analysis.py", "older")
        self.assertEqual(tree_of(self.project / "here"), tree_of(self.project / "older"))

    def test_what_cannot_be_held_is_named(self) -> None:
        environment = self.environment(wheel(self.folder, "torch"), wheel(self.folder, "sherdlib"))
        self.declare('[conditions]\nnumerics = "portable"\n')
        said = self.lapidar("capture", environment, "--scope", "whole").stderr
        self.assertIn('numerics = "portable" does not hold all of torch', said)
        self.lapidar("restore")
        self.assertIn("does not hold all of torch", " ".join(self.json("check")["remarks"]))
        self.declare('[conditions]\nnumerics = "native"\n')
        self.assertNotIn("torch", self.lapidar("capture", environment, "--scope", "whole").stderr)

    def test_portable_and_native(self) -> None:
        environment = self.environment()
        for name in ("numpy", "scipy"):
            install(next(WHEELS.glob(f"{name}-*.whl")), environment)
        (self.project / "digests.py").write_text(DIGESTS)
        told: dict[str, tuple[str, str, str]] = {}
        verdicts: dict[str, Any] = {}
        told_of: dict[str, str] = {}
        for profile in ("native", "portable"):
            self.declare(f'[conditions]\nnumerics = "{profile}"\n')
            self.captured(environment)
            self.lapidar("restore")
            self.lapidar("record", "svd", "--", "python", "digests.py")
            here = self.lapidar("run", "python", "digests.py").stdout
            variables = {**self.variables, "OPENBLAS_NUM_THREADS": "2", "OMP_NUM_THREADS": "2"}
            threads = self.lapidar("run", "python", "digests.py", env=variables).stdout
            told[profile] = (here, threads, self.on_an_older_processor("digests.py"))
            (verdicts[profile],) = self.json("compare", "svd", "svd.npy", code=0 if profile == "portable" else 1)[
                "results"
            ]
            again = self.json("prove", "svd", "--again", code=0 if profile == "portable" else 1)["proofs"][0]
            told_of[profile] = again["others_with"]
        # With one processor native results differ too, on a machine that has several.
        self.assertIn(told_of["native"], ("an older processor", "one processor"))
        here, threads, older = told["portable"]
        self.assertEqual(here.count("\n"), 9)
        self.assertEqual(here, older, "portable results differ on an older processor")
        self.assertEqual(here, threads, "portable results differ with another count of threads")
        self.assertEqual(verdicts["portable"]["verdict"], "identical")
        flags = Path("/proc/cpuinfo").read_text()
        if "avx2" in flags:
            here, _, older = told["native"]
            differing = [a for a, b in zip(here.splitlines(), older.splitlines(), strict=True) if a != b]
            self.assertTrue(differing, "the test does not see what it is there for: native results agree")
            self.assertIn("svd", " ".join(differing))
            self.assertEqual(verdicts["native"]["verdict"], "different")
            self.assertGreater(verdicts["native"]["numbers"]["ulps"], 0)
