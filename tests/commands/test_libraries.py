"""System libraries: captured, restored with a private launch, and judged, on real environments."""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
import sys
import sysconfig
from pathlib import Path
from typing import Any

from msgspec.structs import replace

from core.test_system import compile_c
from lapidar.core.records import lockfile
from lapidar.core.records.snapshot import Snapshot
from lapidar.core.system.loader import read_cache
from roots import bare_root, run_in
from support import PROGRAM, Case, install, site_of, wheel

MAPPED = (
    "import sys; print([p for p in {line.split(None, 5)[-1].strip() for line in open('/proc/self/maps') "
    "if '/' in line} if not p.startswith(sys.prefix + '/')])"
)
EXTENSION = """
#include <Python.h>
int kiln(void);
static PyObject *fire(PyObject *self, PyObject *args) { return PyLong_FromLong(kiln()); }
static PyMethodDef methods[] = {{"fire", fire, METH_NOARGS, ""}, {0}};
static struct PyModuleDef module = {PyModuleDef_HEAD_INIT, "NAME", "", -1, methods};
PyMODINIT_FUNC PyInit_NAME(void) { return PyModule_Create(&module); }
"""
# Everything of a runtime that opens libraries, data or processes.
EVERYTHING = """
import ctypes, ctypes.util, datetime, hashlib, locale, multiprocessing, os, ssl, subprocess, sys, threading, time
import bz2, curses, decimal, lzma, sqlite3, zlib, zoneinfo

def double(x):
    return 2 * x

if __name__ == "__main__":
    for method in ("spawn", "fork", "forkserver"):
        with multiprocessing.get_context(method).Pool(2) as pool:
            assert pool.map(double, [1, 2]) == [2, 4], method
    said = subprocess.run([sys.executable, "-c", "import sys; print(sys.prefix)"], capture_output=True, text=True)
    assert said.stdout.strip() == sys.prefix, said
    assert ctypes.CDLL(ctypes.util.find_library("c")).getpid() == os.getpid()
    assert ctypes.util.find_library("no-such-library") is None
    summer = datetime.datetime(2020, 7, 1, tzinfo=zoneinfo.ZoneInfo("Europe/Lisbon"))
    assert summer.utcoffset() == datetime.timedelta(hours=1)
    os.environ["TZ"] = "Asia/Kathmandu"
    time.tzset()
    assert time.strftime("%z", time.localtime(0)) == "+0530"
    assert locale.setlocale(locale.LC_ALL, "C.UTF-8") and locale.nl_langinfo(locale.CODESET) == "UTF-8"
    thread = threading.Thread(target=lambda: None)
    thread.start()
    thread.join()
    os.environ["TERM"] = "xterm"
    curses.setupterm()
    assert curses.tigetnum("colors") == 8
    ssl.create_default_context()
    hashlib.new("sha512")
    assert sqlite3.connect(":memory:").execute("select 2 + 2").fetchone() == (4,)
    print("all of it works")
"""

# A look-up in a namespace of the network that has nothing but itself: a name server of a few lines answers it.
LOOK_UP = """
import fcntl, socket, struct, threading

with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as control:
    fcntl.ioctl(control, 0x8914, struct.pack("16sh14x", b"lo", 1))  # SIOCSIFFLAGS, IFF_UP
server = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
server.bind(("127.0.0.1", 53))

def answer():
    while True:
        query, whence = server.recvfrom(512)
        end = query.index(0, 12) + 5
        kind = query[end - 4 : end - 2]
        found = b"\\xc0\\x0c\\0\\1\\0\\1\\0\\0\\0\\x3c\\0\\4" + bytes([192, 0, 2, 7]) if kind == b"\\0\\1" else b""
        head = query[:2] + b"\\x81\\x80\\0\\1\\0" + bytes([bool(found)]) + b"\\0\\0\\0\\0"
        server.sendto(head + query[12:end] + found, whence)

threading.Thread(target=answer, daemon=True).start()
print(socket.gethostbyname("kiln.example"), [at[4][0] for at in socket.getaddrinfo("kiln.example", 80, type=socket.SOCK_STREAM)])
"""


class Libraries(Case):
    def captured(self, environment: Path, *words: object) -> Snapshot:
        self.lapidar("capture", environment, "--scope", "whole", *words)
        return lockfile.read(self.lock)

    def extension(self, environment: Path, name: str, *options: str) -> None:
        """A package that was built here, against a library of this machine."""
        install(wheel(self.folder, name), environment)
        code = EXTENSION.replace("NAME", f"_{name}")
        headers = sysconfig.get_path("include", vars={"base": sys.base_prefix, "installed_base": sys.base_prefix})
        built = compile_c(self.folder, f"_{name}.so", code, f"-I{headers}", *options)
        site = site_of(environment)
        shutil.copy(built, site / built.name)
        record = next(site.glob(f"{name}-*.dist-info/RECORD"))
        record.write_text(record.read_text() + f"{built.name},,\n")

    def kiln_library(self, folder: str, answer: int) -> Path:
        place = self.folder / folder
        place.mkdir(exist_ok=True)
        return compile_c(place, "libkiln.so", f"int kiln(void){{return {answer};}}", "-Wl,-soname,libkiln.so")

    def test_round_trip_and_nothing_from_outside(self) -> None:
        environment = self.environment(wheel(self.folder, "sherdlib"))
        snapshot = self.captured(environment)
        names = {library.soname for library in snapshot.libraries}
        self.assertLessEqual({"libc.so.6", "libm.so.6", "libgcc_s.so.1", "libssl.so.3", "libsqlite3.so.0"}, names)
        before = self.lock.read_bytes()
        self.captured(environment)
        self.assertEqual(self.lock.read_bytes(), before, "captured twice, the lockfile differs")
        self.lapidar("restore")
        self.assertEqual(self.python(self.restored, MAPPED), "[]")
        checked = self.json("check", "--deep", "--live")
        self.assertTrue(checked["clean"], checked)
        self.assertGreater(checked["live"]["mapped"], 20)
        self.assertEqual(checked["live"]["outside"], [])
        self.captured(self.restored)
        self.assertEqual(self.lock.read_bytes(), before, "captured from the restored environment, the lockfile differs")

    def test_bare_names_find_nothing_of_the_host(self) -> None:
        """Every library of this host that the snapshot has not, by its name, in the interpreter and in a program."""
        environment = self.environment(wheel(self.folder, "sherdlib"))
        have = {library.soname for library in self.captured(environment).libraries}
        self.lapidar("restore")
        names = sorted(name for name in read_cache() if name not in have and "python" not in name)
        self.assertGreater(len(names), 40)
        script = (
            "import ctypes, sys\nfor name in sys.stdin.read().split():\n    try:\n        ctypes.CDLL(name)\n"
            "        print(name)\n    except OSError:\n        pass\n" + MAPPED
        )
        self.assertEqual(self.python(self.restored, script, input="\n".join(names)), "[]")
        lib = self.kiln_library("elsewhere", 4)
        leaks = {"LD_PRELOAD": str(lib), "LD_LIBRARY_PATH": str(lib.parent)}
        script = "import ctypes\ntry:\n    ctypes.CDLL('libkiln.so')\nexcept OSError:\n    pass\n" + MAPPED
        self.assertEqual(self.python(self.restored, script, env=self.variables | leaks), "[]")
        self.assertEqual(self.lapidar("run", "python", "-c", script, env=self.variables | leaks).stdout, "[]\n")

    def watched(self, script: str, code: int = 0) -> Any:
        return json.loads(self.lapidar("check", "--live", "--json", "--", "python", script, code=code).stdout)

    def test_a_devices_driver_is_the_hosts(self) -> None:
        """Its library cannot travel: the environment has a link to the one of the host that it is restored on."""
        environment = self.environment()
        place = self.folder / "driver"
        place.mkdir()
        compile_c(place, "libcuda.so.1", "int kiln(void){return 6;}", "-Wl,-soname,libcuda.so.1")
        (place / "libcuda.so").symlink_to("libcuda.so.1")
        self.extension(environment, "kilnext", f"-L{place}", "-lcuda")
        snapshot = self.captured(environment)
        assert snapshot.conditions is not None
        self.assertEqual(snapshot.conditions.host, ("libcuda.so.1",))
        self.assertNotIn("libcuda.so.1", {library.soname for library in snapshot.libraries})
        with_driver = (
            f"ldconfig -C '{self.folder}/loaders' '{place}' && mount --bind '{self.folder}/loaders' /etc/ld.so.cache && "
            '"$@"'
        )
        done = self.in_namespace(with_driver, PROGRAM, "restore")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertEqual(os.readlink(self.restored / "lib/lapidar/drivers/libcuda.so.1"), f"{place}/libcuda.so.1")
        script = "import _kilnext, ctypes; print(_kilnext.fire(), ctypes.CDLL('libcuda.so.1').kiln())"
        self.assertEqual(self.python(self.restored, script), "6 6")
        done = self.in_namespace(with_driver, PROGRAM, "check", "--deep")
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        self.lapidar("restore", "--into", self.folder / "without")
        self.assertFalse((self.folder / "without" / "lib" / "lapidar" / "drivers").exists())

    def test_the_analysis_itself_is_watched(self) -> None:
        self.captured(self.environment(wheel(self.folder, "sherdlib")))
        self.lapidar("restore")
        (self.project / "data.csv").write_text("1,2\n")
        (self.project / "good.py").write_text(
            "import sherdlib, subprocess, sys, tempfile\nopen('data.csv').read(); open('result', 'w').write('1')\n"
            "tempfile.NamedTemporaryFile().write(b'x')\nsubprocess.run([sys.executable, '-c', 'import ssl'], check=True)\n"
        )
        watched = self.watched("good.py")
        self.assertTrue(watched["clean"], watched["findings"])
        (self.project / "bad.py").write_text(
            "import subprocess, sys\nsubprocess.run([sys.executable, '-c', 'open(\"/etc/fstab\")'])\n"
            "subprocess.run(['uname']); subprocess.run(['expr', '1'])\nraise SystemExit(3)\n"
        )
        found = self.watched("bad.py", code=1)["findings"]
        told = {one["name"]: one["paths"] for one in found}
        self.assertEqual(told["files of the host"], ["/etc/fstab"])
        self.assertEqual([os.path.basename(path) for path in told["programs of the host"]], ["expr"])
        self.assertIn("the command", told)
        self.assertIn("--live", self.fails("check", "--", "python", "good.py"))
        self.lapidar("restore", "--libraries", "host")
        watched = self.watched("bad.py", code=1)
        told = {one["name"]: one["paths"] for one in watched["findings"]}
        self.assertGreater(watched["watched"]["files"], 5, "what the host's loader started is the environment's")
        self.assertNotIn("libraries of the host", told, "they are what was asked for")
        self.assertIn("/etc/fstab", told["files of the host"])

    def test_what_a_watched_run_is_advised_of_libraries_cures_it(self) -> None:
        library = Path("/usr/lib/x86_64-linux-gnu/libmagic.so.1")
        if not library.exists():
            self.skipTest("there is no libmagic here (Debian's libmagic1)")
        environment = self.environment(wheel(self.folder, "sherdlib"))
        self.captured(environment)
        self.lapidar("restore")
        (self.project / "open.py").write_text(f"import ctypes\nctypes.CDLL({str(library)!r})\n")
        (found,) = self.watched("open.py", code=1)["findings"]
        self.assertEqual(found["name"], "libraries of the host")
        self.assertIn("open them by their names alone, and declare these: libraries in [needs]", found["remedy"])
        (self.project / "open.py").write_text(f"import ctypes\nctypes.CDLL({library.name!r})\n")
        (self.project / "lapidar.toml").write_text(f'[needs]\nlibraries = ["{library.name}"]\n')
        self.lapidar("capture", environment, "--yes", "--scope", "whole")
        self.lapidar("restore")
        watched = self.watched("open.py")
        self.assertTrue(watched["clean"], watched["findings"])

    def test_on_a_bare_root(self) -> None:
        """No C library, no data, no program but a shell: the environment has all it needs."""
        root = bare_root(self, self.folder / "bare")
        environment = self.environment(wheel(self.folder, "sherdlib"), name="a venv")
        self.kiln_library("kilns", 42)
        self.extension(environment, "kilnext", f"-L{self.folder}/kilns", "-lkiln", f"-Wl,-rpath,{self.folder}/kilns")
        self.captured(environment)
        place = root / "home" / "a long way" / ("x" * 200) / "env"
        self.lapidar("restore", "--into", place)
        shutil.rmtree(environment)
        shutil.rmtree(self.folder / "kilns")
        (root / "home" / "everything.py").write_text(EVERYTHING)
        python = "/" + str((place / "bin/python").relative_to(root))
        self.assertIn("all of it works", run_in(root, python, "/home/everything.py"))
        self.assertEqual(run_in(root, python, "-c", "import _kilnext; print(_kilnext.fire())").strip(), "42")
        self.assertEqual(run_in(root, python, "-c", MAPPED).strip(), "[]")
        (root / "etc" / "resolv.conf").write_text("nameserver 127.0.0.1\n")
        self.assertEqual(run_in(root, python, "-c", LOOK_UP).strip(), "192.0.2.7 ['192.0.2.7']")
        for shell in ("dash", "bash"):  # busybox's is the root's own
            program = shutil.which(shell)
            if program:
                said = subprocess.run([program, str(place / "bin/python"), "-c", "print(1)"], capture_output=True)
                self.assertEqual(said.stdout, b"1\n", shell)

    def test_an_old_kind_of_path_does_not_win(self) -> None:
        """DT_RPATH comes before everything else: where its folder still exists, the host's library would be taken."""
        environment = self.environment()
        self.kiln_library("kilns", 1)
        way = f"-Wl,--disable-new-dtags,-rpath,{self.folder}/kilns"
        self.extension(environment, "kilnext", f"-L{self.folder}/kilns", "-lkiln", way)
        snapshot = self.captured(environment)
        assert snapshot.library_layer
        self.assertEqual([Path(path).name for path in snapshot.library_layer.absolute], ["_kilnext.so"])
        self.lapidar("restore")
        self.kiln_library("kilns", 2)  # the host's has changed since
        self.assertEqual(self.python(environment, "import _kilnext; print(_kilnext.fire())"), "2")
        self.assertEqual(self.python(self.restored, "import _kilnext; print(_kilnext.fire())"), "1")
        self.assertTrue(self.json("check", "--live")["clean"])

    def test_a_library_of_another_package_by_an_absolute_path(self) -> None:
        environment = self.environment(wheel(self.folder, "kilnlibs"))
        place = site_of(environment) / "kilnlibs_data" / "lib"
        place.mkdir(parents=True)
        shutil.copy(self.kiln_library("kilns", 5), place / "libkiln.so")
        record = next(site_of(environment).glob("kilnlibs-*.dist-info/RECORD"))
        record.write_text(record.read_text() + "kilnlibs_data/lib/libkiln.so,,\n")
        self.extension(environment, "kilnext", f"-L{place}", "-lkiln", f"-Wl,-rpath,{place}")
        self.captured(environment)
        self.lapidar("restore")
        shutil.rmtree(environment)
        self.assertEqual(self.python(self.restored, "import _kilnext; print(_kilnext.fire())"), "5")

    def test_two_libraries_of_one_name(self) -> None:
        """A package's own, and the system's for whoever else asks: as in the original, and captured again."""
        environment = self.environment()
        self.kiln_library("kilns", 1)
        self.kiln_library("others", 2)
        self.extension(environment, "kilnext", f"-L{self.folder}/kilns", "-lkiln", f"-Wl,-rpath,{self.folder}/kilns")
        self.extension(environment, "ovenext", f"-L{self.folder}/others", "-lkiln", "-Wl,-rpath,$ORIGIN/own")
        (site_of(environment) / "own").mkdir()
        shutil.copy(self.folder / "others" / "libkiln.so", site_of(environment) / "own" / "libkiln.so")
        script = "import _{0}, _{1}; print(_{0}.fire(), _{1}.fire())"
        alone = [f"import _{name}; print(_{name}.fire())" for name in ("kilnext", "ovenext")]
        orders = [script.format("kilnext", "ovenext"), script.format("ovenext", "kilnext"), *alone]
        expected = [self.python(environment, order) for order in orders]
        self.assertEqual(expected[2:], ["1", "2"])
        snapshot = self.captured(environment)
        before = self.lock.read_bytes()
        self.lapidar("restore")
        shutil.rmtree(self.folder / "kilns")
        self.assertEqual([self.python(self.restored, order) for order in orders], expected)
        self.assertEqual(self.python(self.restored, MAPPED), "[]")
        self.assertTrue(self.json("check", "--deep", "--live")["clean"])
        self.captured(self.restored)
        self.assertEqual(lockfile.read(self.lock), snapshot)
        self.assertEqual(self.lock.read_bytes(), before)

    def test_a_needed_library_that_is_nowhere(self) -> None:
        environment = self.environment()
        library = self.kiln_library("kilns", 1)
        self.extension(environment, "kilnext", f"-L{self.folder}/kilns", "-lkiln")
        library.unlink()
        said = self.lapidar("capture", environment, "--scope", "whole").stderr
        self.assertIn("libkiln.so is nowhere on this machine, and _kilnext.so needs it", said)
        self.lapidar("restore")
        said = self.lapidar("check", "--live", code=1).stdout
        self.assertIn("_kilnext", said)
        self.assertIn("libkiln.so", said)

    def test_a_library_of_the_search_path(self) -> None:
        environment = self.environment()
        self.kiln_library("kilns", 7)
        self.extension(environment, "kilnext", f"-L{self.folder}/kilns", "-lkiln")
        self.variables["LD_LIBRARY_PATH"] = str(self.folder / "kilns")
        snapshot = self.captured(environment)
        found = {library.soname: library for library in snapshot.libraries}
        self.assertEqual(found["libkiln.so"].used_by, ("packages/python/kilnext",))
        del self.variables["LD_LIBRARY_PATH"]
        self.lapidar("restore")
        self.assertEqual(self.python(self.restored, "import _kilnext; print(_kilnext.fire())"), "7")

    def test_a_library_that_the_source_names(self) -> None:
        if not Path("/usr/lib/x86_64-linux-gnu/libmagic.so.1").exists():
            self.skipTest("there is no libmagic here (Debian's libmagic1)")
        (self.project / "sherds.py").write_text("import ctypes\nmagic = ctypes.CDLL('libmagic.so.1')\n")
        found = {one.soname: one for one in self.captured(self.environment()).libraries}
        self.assertEqual(found["libmagic.so.1"].used_by, ("project",))
        self.assertIn("libmagic.so.1", self.lapidar("survey").stdout)

    def test_a_library_that_a_compiled_file_names(self) -> None:
        """It would be opened where it is, and done without where it is not, as optional parts of packages are."""
        if not Path("/usr/lib/x86_64-linux-gnu/libmagic.so.1").exists():
            self.skipTest("there is no libmagic here (Debian's libmagic1)")
        code = (
            "#include <dlfcn.h>\n"
            'int fire(void) { return dlopen("libmagic.so.1", RTLD_NOW) != 0; }\n'
            'int never(void) { return dlopen("libnowhere.so.7", RTLD_NOW) != 0; }\n'
            'int ours(void) { return dlopen("libkiln.so", RTLD_NOW) != 0; }\n'
        )
        self.kiln_library("kilns", 42)  # of no package: it is not taken for being named, and told
        self.variables["LD_LIBRARY_PATH"] = str(self.folder / "kilns")
        built = compile_c(self.folder, "_kilnopt.so", code, "-shared", "-fPIC")
        environment = self.environment(wheel(self.folder, "kilnopt", files={"_kilnopt.so": built.read_bytes()}))
        snapshot = self.captured(environment)
        found = {one.soname: one for one in snapshot.libraries}
        self.assertEqual(found["libmagic.so.1"].used_by, ("packages/python/kilnopt",))
        self.assertNotIn("libnowhere.so.7", found)
        assert snapshot.library_layer
        self.assertEqual(snapshot.library_layer.left, ("libkiln.so",))
        del self.variables["LD_LIBRARY_PATH"]
        self.lapidar("restore")
        self.assertIn("libkiln.so was there where the snapshot was captured", " ".join(self.json("check")["remarks"]))
        opens = f"import ctypes; print(ctypes.CDLL({str(site_of(self.restored) / '_kilnopt.so')!r}).fire())"
        self.assertEqual(self.python(self.restored, opens), "1")
        self.assertEqual(self.captured(self.restored), snapshot, "captured again, it is the same")
        (self.project / "fire.py").write_text(
            "import ctypes, importlib.util\n"
            "place = importlib.util.find_spec('_kilnopt').origin\n"
            "open('out.txt', 'w').write(str(ctypes.CDLL(place).fire()))\n"
        )
        self.lapidar("record", "fire", "--", "python", "fire.py")
        self.assertEqual((self.project / "out.txt").read_text(), "1")
        (proof,) = self.json("prove")["proofs"]
        self.assertEqual((proof["proven"], [one for one in proof["missing"] if "magic" in one["path"]]), (True, []))

    def test_programs_of_packages(self) -> None:
        """A compiled program in bin/ is started through the environment's own loader too."""
        environment = self.environment(wheel(self.folder, "sherdlib"))
        (self.folder / "kiln").unlink(missing_ok=True)
        program = compile_c(
            self.folder,
            "glazer",
            '#include <stdio.h>\nint main(int n, char **v){puts(v[0]); FILE *f=fopen("/proc/self/maps","r"); char l[999];'
            "while(fgets(l,999,f)) fputs(l,stdout); return n;}",
        )
        shutil.copy(program, environment / "bin" / "glazer")
        record = next(site_of(environment).glob("sherdlib-*.dist-info/RECORD"))
        record.write_text(record.read_text() + "../../../bin/glazer,,\nsherdlib_inner/fire,,\n")
        inner = site_of(environment) / "sherdlib_inner" / "fire"
        inner.parent.mkdir()
        shutil.copy(program, inner)
        itself = '#include <unistd.h>\nint main(void){char b[99]; return readlink("/proc/self/exe", b, 99) < 0;}'
        shutil.copy(compile_c(self.folder, "selfish", itself), inner.parent / "selfish")
        record.write_text(record.read_text() + "sherdlib_inner/selfish,,\n")
        said = self.lapidar("capture", environment, "--scope", "whole").stderr
        self.assertIn("run with the host's libraries, wherever they are restored (sherdlib: selfish)", said)
        before = self.lock.read_bytes()
        self.lapidar("restore")
        said = self.lapidar("run", "glazer", "one", code=2).stdout
        self.assertTrue(said.startswith(str(self.restored / "bin" / "glazer")), said[:200])
        outside = {path for path in re.findall(r" (/\S+)$", said, re.M) if not path.startswith(str(self.restored))}
        self.assertEqual(outside, set())
        fire = site_of(self.restored) / "sherdlib_inner" / "fire"
        said = subprocess.run([fire], capture_output=True, text=True, check=False).stdout
        self.assertTrue(said.startswith(str(fire)), said[:200])
        outside = {path for path in re.findall(r" (/\S+)$", said, re.M) if not path.startswith(str(self.restored))}
        self.assertEqual(outside, set())
        self.assertEqual((fire.parent / "selfish").read_bytes(), (inner.parent / "selfish").read_bytes())
        self.captured(self.restored)
        self.assertEqual(self.lock.read_bytes(), before)
        self.lapidar("check", "--deep")


class AnOldLoader(Case):
    """A loader from before glibc 2.33 cannot be told a program's name. This machine's, with the option's name made
    another one, is such a loader; it is mounted over the real one."""

    def setUp(self) -> None:
        super().setUp()
        real = Path("/lib64/ld-linux-x86-64.so.2").resolve()
        self.old = self.folder / "old-loader"
        self.old.write_bytes(real.read_bytes().replace(b"--argv0\0", b"--argvX\0"))
        self.old.chmod(0o755)
        self.there = f"mount --bind '{self.old}' '{real}' && exec \"$@\""
        (self.project / "everything.py").write_text(EVERYTHING)
        self.venv = self.environment(wheel(self.folder, "sherdlib"))

    def on_the_old_system(self, *command: object, code: int = 0) -> str:
        done = self.in_namespace(self.there, *command)
        self.assertEqual(done.returncode, code, done.stderr)
        return done.stdout

    def named_right(self, environment: Path) -> None:
        script = "import subprocess, sys; print(sys.executable, sys.prefix, sep='\\n'); "
        script += "print(subprocess.run([sys.executable, '-c', 'import sherdlib'], check=False).returncode)"
        said = self.python(environment, script)
        launcher = environment / "bin" / f"python{sys.version_info.major}.{sys.version_info.minor}"
        self.assertEqual(said.splitlines(), [str(launcher), str(environment), "0"])

    def test_captured_there_and_restored_here(self) -> None:
        self.assertIn("argv0", self.in_namespace(self.there, self.old, "--argv0", "x", sys.executable).stderr)
        self.on_the_old_system(PROGRAM, "capture", self.venv, "--scope", "whole")
        before = self.lock.read_bytes()
        self.on_the_old_system(PROGRAM, "restore")
        self.assertIn("all of it works", self.on_the_old_system(self.restored / "bin/python", "everything.py"))
        moved = self.restored.rename(self.folder / "moved on")
        said = subprocess.run([moved / "bin/python", "everything.py"], cwd=self.project, capture_output=True, text=True)
        self.assertIn("all of it works", said.stdout, said.stderr)
        self.assertEqual(self.python(moved, MAPPED), "[]")
        self.named_right(moved)
        words = [str(moved / "bin/python"), "-m", "venv", "--without-pip", str(self.folder / "virtual")]
        subprocess.run(words, check=True)
        done = subprocess.run([self.folder / "virtual/bin/python", "-c", ""], capture_output=True, text=True)
        self.assertEqual(done.returncode, 3, done)
        self.assertIn("no virtual environment can be made", done.stderr)
        moved.rename(self.restored)
        checked = self.json("check", "--deep", "--live")
        self.assertTrue(checked["clean"], checked)
        self.lapidar("capture", self.restored, "--scope", "whole")
        self.assertEqual(self.lock.read_bytes(), before, "captured from the restored environment, the lockfile differs")

    def test_restored_there_with_the_hosts_libraries(self) -> None:
        self.lapidar("capture", self.venv, "--scope", "whole")
        before = self.lock.read_bytes()
        self.lapidar("restore", "--libraries", "host")  # what is kept of this one is not taken for the other loader
        shutil.rmtree(self.restored)
        self.on_the_old_system(PROGRAM, "restore", "--libraries", "host")
        self.on_the_old_system(
            self.restored / "bin/python", "-c", "import sherdlib, sys; assert 'env/bin' in sys.executable"
        )
        self.named_right(self.restored)
        self.lapidar("capture", self.restored, "--scope", "whole")
        self.assertEqual(self.lock.read_bytes(), before)


class Hosts(Case):
    """The host's libraries instead of the snapshot's."""

    def setUp(self) -> None:
        super().setUp()
        self.lapidar("capture", self.environment(wheel(self.folder, "sherdlib")))

    def rewrite(self, **changes: str | int | tuple[str, ...]) -> None:
        """A lockfile as if its libc.so.6 were another one."""
        snapshot = lockfile.read(self.lock)
        several = tuple(replace(one, **changes) if one.soname == "libc.so.6" else one for one in snapshot.libraries)
        lockfile.write(lockfile.identify(replace(snapshot, libraries=several)), self.lock)

    def test_they_satisfy_it(self) -> None:
        self.lapidar("restore", "--libraries", "host")
        self.assertIn("/usr/lib/x86_64-linux-gnu/libc.so.6", self.python(self.restored, MAPPED))
        self.assertFalse((self.restored / "lib/lapidar/libc.so.6").exists())
        checked = self.json("check", "--deep", "--live")
        self.assertEqual((checked["libraries"], checked["clean"]), ("host", True), checked)
        before = self.lock.read_bytes()
        self.lapidar("capture", self.restored)
        self.assertEqual(self.lock.read_bytes(), before, "captured from the restored environment, the lockfile differs")
        self.assertIn("its own system libraries", self.lapidar("restore").stdout)
        self.assertEqual(self.python(self.restored, MAPPED), "[]")

    def test_a_version_that_the_host_lacks(self) -> None:
        self.rewrite(versions=("GLIBC_9.99",))
        said = self.fails("restore", "--libraries", "host")
        self.assertIn("libc.so.6", said)
        self.assertIn("GLIBC_9.99", said)
        self.assertFalse(self.restored.exists())
        self.lapidar("restore")  # with its own all is well

    def test_the_hosts_has_changed(self) -> None:
        self.rewrite(sha256="0" * 64)
        self.lapidar("restore", "--libraries", "private")
        said = self.lapidar("check").stdout
        self.assertIn("on this host 1 differ, which does not matter", said)
        self.lapidar("restore", "--libraries", "host")
        findings = self.json("check", code=1)["findings"]
        self.assertEqual([(one["layer"], one["name"]) for one in findings], [("host", "libc.so.6")])

    def test_without_libraries_of_its_own(self) -> None:
        snapshot = lockfile.read(self.lock)
        bare = replace(snapshot, library_layer=None, libraries=(), conditions=None)
        lockfile.write(lockfile.identify(bare), self.lock)
        self.assertIn("holds no system libraries", self.fails("restore", "--libraries", "private"))
        self.assertIn("the host's system libraries", self.lapidar("restore").stdout)
        self.assertIn("holds no system libraries", self.lapidar("show", "libraries").stdout)

    def test_a_c_library_that_is_not_known(self) -> None:
        snapshot = lockfile.read(self.lock)
        other = replace(snapshot.platform, libc="musl 1.2.5")
        lockfile.write(lockfile.identify(replace(snapshot, platform=other)), self.lock)
        self.assertIn("musl 1.2.5", self.fails("restore", "--libraries", "private"))
        self.assertIn("the host's system libraries", self.lapidar("restore").stderr)

    def test_a_path_that_the_loader_would_split(self) -> None:
        self.assertIn("colon", self.fails("restore", "--libraries", "private", "--into", self.folder / "a:b"))
        self.lapidar("restore", "--into", self.folder / "a b'c")
        self.assertEqual(self.python(self.folder / "a b'c", MAPPED), "[]")
        self.assertIn("colon", self.lapidar("restore", "--into", self.folder / "a:b").stderr)
        self.python(self.folder / "a:b", "import sherdlib")

    def test_virtual_environments_of_it(self) -> None:
        """Made of links or of copies: both find the environment that they were made from."""
        self.lapidar("restore")
        for manner in ("--symlinks", "--copies"):
            place = self.folder / f"made of {manner}"
            make = [str(self.restored / "bin" / "python"), "-m", "venv", "--without-pip", manner, str(place)]
            subprocess.run(make, check=True, env=self.variables)
            install(wheel(self.folder, "kilnlib"), place)
            script = "import sys, kilnlib, ssl; print(sys.prefix, sys.base_prefix, sys.executable)"
            said = self.python(place, script)
            self.assertEqual(said, f"{place} {self.restored} {place}/bin/python")
            script = MAPPED.replace("sys.prefix", "sys.base_prefix")
            self.assertEqual(self.python(place, script), "[]")

    def test_mounted_read_only_or_without_execution(self) -> None:
        self.lapidar("restore")
        remount = 'mount --bind "$1" "$1" && mount -o remount,bind,{} "$1" && shift && exec "$@"'
        words = (self.restored, PROGRAM, "run", "python", "-c", MAPPED)
        done = self.in_namespace(remount.format("ro"), *words)
        self.assertEqual((done.returncode, done.stdout), (0, "[]\n"), done.stderr)
        done = self.in_namespace(remount.format("noexec"), *words)
        self.assertEqual(done.returncode, 3, done.stderr)
        self.assertIn("noexec", done.stderr)

    def test_a_file_from_outside_is_found(self) -> None:
        """The memory-map test must see what it is there for."""
        self.lapidar("restore")
        module = site_of(self.restored) / "sherdlib.py"
        text = "import mmap\nf = open('/etc/passwd', 'rb')\nheld = mmap.mmap(f.fileno(), 0, access=mmap.ACCESS_READ)\n"
        package = next(path for path in (module, site_of(self.restored) / "sherdlib" / "__init__.py") if path.exists())
        package.unlink()
        package.write_text(text)
        findings = self.json("check", "--live", code=1)["findings"]
        mapped = [one for one in findings if one["name"] == "memory map"]
        self.assertEqual([one["paths"] for one in mapped], [["/etc/passwd"]])

    def test_a_module_that_ends_the_interpreter(self) -> None:
        self.lapidar("restore")
        package = next(site_of(self.restored).glob("sherdlib*"), None)
        assert package
        target = site_of(self.restored) / "sherdlib" / "__init__.py"
        target = target if target.exists() else site_of(self.restored) / "sherdlib.py"
        target.unlink()
        target.write_text("import os\nos.abort()\n")
        findings = self.json("check", "--live", code=1)["findings"]
        self.assertIn(("packages", "sherdlib"), [(one["layer"], one["name"]) for one in findings])

    def test_show(self) -> None:
        said = self.lapidar("show", "libraries").stdout
        self.assertIn("libc.so.6", said)
        self.assertIn("runtime", said)
        one = json.loads(self.lapidar("show", "libraries", "libc.so.6", "--json").stdout)
        self.assertEqual(one["soname"], "libc.so.6")
        self.assertTrue(one["versions"])
        self.assertIn("libc.so.6", self.fails("show", "libraries", "libc.so"))
        self.assertIn("no outside programs", self.lapidar("show", "tools").stdout)
        self.assertIn("numerics", self.lapidar("show", "conditions").stdout)
        self.assertIn(os.uname().release, self.lapidar("show").stdout)
