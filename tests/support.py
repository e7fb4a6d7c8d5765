"""What the tests share: temporary projects, real environments, made-up wheels, and the program itself."""

from __future__ import annotations

import atexit
import fcntl
import functools
import hashlib
import json
import os
import pty
import re
import shutil
import stat
import subprocess
import sys
import tempfile
import unittest
import zipfile
from collections.abc import Sequence
from pathlib import Path
from typing import Any, ClassVar

import forks
from lapidar.core.languages.python.standards.entry_points import scripts as declared_scripts
from lapidar.standin.packages import record_line, write_wheel

PROGRAM = str(Path(sys.executable).with_name("lapidar"))
WHEELS = Path(sys.prefix) / "wheels"


def many(whole: int, some: int) -> int:
    """How often to try something: where all tests are run, as in CI, more often than in `make test`."""
    return whole if os.environ.get("LAPIDAR_TEST_ALL") else some


# Byte-code takes long to compile: caches that hold it are made once for all processes of tests, when the first asks.
SHARED_CACHE = Path(tempfile.mkdtemp(prefix="lapidar-tests-cache-"))
atexit.register(shutil.rmtree, SHARED_CACHE, ignore_errors=True)
SEEDS = "LAPIDAR_TESTS_SEEDS"  # the variable that names the folder where they are


def seed(cache: Path, name: str = "runtime") -> None:
    """Begin a cache as a copy of one that is made for all: that of the `runtime` of these tests, or of the `whole` of
    their environment, with system libraries and byte-code, and nothing that is anyone's snapshot."""
    seeds = Path(os.environ.get(SEEDS) or os.devnull)
    if not seeds.is_dir():
        return
    with (seeds / f"{name}.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not (seeds / name).exists():
            _make_seed(seeds, name)
    cache.parent.mkdir(parents=True, exist_ok=True)
    subprocess.run(["cp", "-aT", seeds / name, cache], check=True)  # in a third of the time that shutil takes


def _make_seed(seeds: Path, name: str) -> None:
    project = Path(tempfile.mkdtemp(dir=seeds))
    making = project / "cache"
    environment: str | Path = sys.prefix
    if name == "whole":
        seed(making)
    else:
        make_environment(environment := project / "venv")
    variables = {**os.environ, "HOME": str(project), "LAPIDAR_CACHE": str(making)}
    for words in (["capture", environment], ["restore"]):
        subprocess.run([PROGRAM, "-q", *words], cwd=project, env=variables, check=True, stdout=subprocess.DEVNULL)
    for folder in ("snapshots", "assembled"):  # what was seen of this machine's files stays
        shutil.rmtree(making / folder, ignore_errors=True)
        (making / folder).mkdir()
    making.rename(seeds / name)
    shutil.rmtree(project)


@functools.cache
def shared_cache() -> Path:
    """The cache that those tests of this process share that do not break it."""
    seed(SHARED_CACHE)
    return SHARED_CACHE


class InFolder(unittest.TestCase):
    """A test with a folder of its own, for what needs no program."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.root = Path(folder.name)


class Case(unittest.TestCase):
    """A test with a folder, a project and a cache of its own."""

    maxDiff = None
    own_cache = False
    seeded = True  # whether a cache of its own has the runtime already

    def setUp(self) -> None:
        folder = Path(tempfile.mkdtemp(prefix="lapidar-test-")).resolve()
        self.addCleanup(shutil.rmtree, folder, ignore_errors=True)
        self._lay(folder)

    def _lay(self, folder: Path) -> None:
        self.folder = folder
        self.project = self.folder / "project"
        self.project.mkdir(exist_ok=True)
        self.cache = self.folder / "cache" if self.own_cache else shared_cache()
        if self.own_cache and self.seeded:
            seed(self.cache)
        self.variables = {
            name: value
            for name, value in os.environ.items()
            if name not in ("VIRTUAL_ENV", "PYTHONPATH", "LAPIDAR_CACHE", "PYTHONHOME")
        }
        self.variables |= {"HOME": str(self.folder), "LAPIDAR_CACHE": str(self.cache), "TERM": "dumb"}

    def at_a_terminal(self, words: Sequence[object], *answers: str) -> str:
        """Run the program with somebody at a terminal, who answers its questions in turn; what was shown."""
        ours, theirs = pty.openpty()
        with subprocess.Popen(
            [PROGRAM, *map(str, words)], cwd=self.project, env=self.variables, stdin=theirs, stdout=theirs,
            stderr=theirs, close_fds=True,
        ) as process:  # fmt: skip
            os.close(theirs)
            said, left = b"", list(answers)
            while True:
                try:
                    piece = os.read(ours, 4096)
                except OSError:
                    break  # the other end is closed: it has ended
                if not piece:
                    break
                said += piece
                if left and re.search(rb"\[[^\]\n]*\]:? $", said):
                    os.write(ours, left.pop(0).encode() + b"\n")
            process.wait()
        os.close(ours)
        return said.decode("utf-8", "replace")

    def lapidar(self, *words: object, code: int = 0, **settings: Any) -> subprocess.CompletedProcess[str]:
        """Run the program in the project; its exit code must be the one given."""
        settings.setdefault("cwd", self.project)
        settings.setdefault("env", self.variables)
        command = [PROGRAM, *map(str, words)]
        if settings.keys() <= {"cwd", "env", "input"} and forks.can_run(settings["env"]):
            done = forks.run(command, **settings)
        else:
            done = subprocess.run(
                command, capture_output=True, text=True, errors="surrogateescape", check=False, **settings
            )
        self.assertEqual(done.returncode, code, f"lapidar {words}\n{done.stdout}\n{done.stderr}")
        self.assertNotIn("Traceback", done.stderr)
        return done

    def json(self, *words: object, code: int = 0) -> Any:
        return json.loads(self.lapidar(*words, "--json", code=code).stdout)

    def fails(self, *words: object, code: int = 3, **settings: Any) -> str:
        """Run the program, which must fail; what it says. It must say what to do next."""
        said = self.lapidar(*words, code=code, **settings).stderr
        self.assertIn("next:", said)
        return said

    def python(self, environment: Path, script: str, *words: str, **settings: Any) -> str:
        """Run a script in an environment."""
        settings.setdefault("env", self.variables)
        done = subprocess.run(
            [str(environment / "bin" / "python"), "-c", script, *words],
            capture_output=True,
            text=True,
            check=False,
            **settings,
        )
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        return str(done.stdout).strip()

    def environment(self, *wheels: Path, name: str = "venv", python: str = sys.executable) -> Path:
        """A virtual environment with wheels in it."""
        place = self.folder / name
        make_environment(place, python)
        for wheel in wheels:
            install(wheel, place)
        return place

    def in_namespace(self, script: str, *command: object, network: bool = True) -> subprocess.CompletedProcess[str]:
        """Run a shell script, with a command as its words, where it may mount things (and with no network)."""
        options = ["--mount"] if network else ["--mount", "--net"]
        done = subprocess.run(
            ["unshare", *options, "sh", "-c", script, "sh", *map(str, command)],
            cwd=self.project,
            env=self.variables,
            capture_output=True,
            text=True,
            check=False,
        )
        if "unshare" in done.stderr and os.getuid() != 0:
            self.skipTest("only root can make namespaces here")
        return done

    @property
    def lock(self) -> Path:
        return self.project / "lapidar.lock"

    @property
    def restored(self) -> Path:
        return self.project / ".lapidar" / "env"


class WithIndex(Case):
    """A project with an environment whose programs are on PATH, and a folder of packages as its index."""

    own_cache = True

    def setUp(self) -> None:
        super().setUp()
        self.environment()
        self.index = self.folder / "index"
        self.index.mkdir()
        self.variables["PATH"] = f"{self.folder}/venv/bin:{self.variables['PATH']}"
        self.variables["LAPIDAR_INDEX"] = str(self.index)


class Ready(Case):
    """A test in a project with a captured and restored environment, and a cache of its own. They are made once for all
    tests of a class: what one of them added is taken away before the next, and where one changed or lost what was
    there, they are made anew."""

    own_cache = True
    _made: ClassVar[Path | None] = None
    _captured: ClassVar[Path] = Path()
    _state: ClassVar[dict[str, tuple[os.stat_result, bytes | None]]] = {}

    @classmethod
    def setUpClass(cls) -> None:
        cls._made = None

    @classmethod
    def tearDownClass(cls) -> None:
        if cls._made:
            shutil.rmtree(cls._made, ignore_errors=True)

    def setUp(self) -> None:
        kind = type(self)
        if kind._made is None or not self._brought_back(kind._made):
            self.tearDownClass()
            kind._made = Path(tempfile.mkdtemp(prefix="lapidar-test-")).resolve()
            self._lay(kind._made)
            kind._captured = self.environment()
            self.lapidar("capture", kind._captured)
            self.lapidar("restore")
            kind._state = {str(path): _state_of(path) for path in kind._made.rglob("*")}
        self.own_cache, self.seeded = True, False
        self._lay(kind._made)
        self.captured = kind._captured

    def _brought_back(self, folder: Path) -> bool:
        for path in sorted(folder.rglob("*"), reverse=True):
            if str(path) not in self._state:
                if path.is_dir() and not path.is_symlink():
                    shutil.rmtree(path, ignore_errors=True)
                else:
                    path.unlink(missing_ok=True)
        for name, (before, data) in self._state.items():
            try:
                now = os.lstat(name)
            except OSError:
                return False
            if stat.S_ISDIR(now.st_mode):
                continue
            if data is not None and data != Path(name).read_bytes():
                Path(name).write_bytes(data)
            elif data is None and (now.st_ino, now.st_size, now.st_mtime_ns, now.st_mode) != (
                before.st_ino, before.st_size, before.st_mtime_ns, before.st_mode
            ):  # fmt: skip
                return False
        return True


def _state_of(path: Path) -> tuple[os.stat_result, bytes | None]:
    """How a file is: its bytes, where the program writes it again and again."""
    status = path.lstat()
    is_kept = stat.S_ISREG(status.st_mode) and status.st_nlink == 1 and status.st_mode & stat.S_IWUSR
    return status, path.read_bytes() if is_kept else None


def make_environment(place: Path, python: str = sys.executable, *options: str) -> None:
    base = python if python != sys.executable else getattr(sys, "_base_executable", sys.executable)
    subprocess.run([base, "-m", "venv", "--without-pip", *options, str(place)], check=True)


def writable(path: Path) -> Path:
    """A file of the cache, made so that it can be spoiled."""
    path.chmod(0o644)
    return path


def site_of(environment: Path) -> Path:
    return next((environment / "lib").glob("python3*/site-packages"))


def pythons() -> list[str]:
    """Every CPython from 3.9 on of this machine: on PATH, the system's, and beside the one that runs the tests."""
    candidates = [shutil.which(f"python3.{minor}") for minor in range(9, 14)]
    candidates += ["/usr/bin/python3", *map(str, Path(sys.base_prefix).parent.glob("*/bin/python3"))]
    found: dict[str, str] = {}
    for candidate in candidates:
        if not candidate or not Path(candidate).exists():
            continue
        done = subprocess.run(
            [
                candidate,
                "-c",
                "import sys, os; print(sys.version_info >= (3, 9), sys.implementation.name, "
                "os.path.realpath('/proc/self/exe'), sys.base_prefix == sys.prefix)",
            ],
            capture_output=True,
            text=True,
            check=False,
        )
        said = done.stdout.split()
        if said[:2] == ["True", "cpython"] and said[3] == "True":
            found.setdefault(said[2], candidate)
    return sorted(found.values())


# ---- made-up wheels


wheel = write_wheel


def install(source: Path, environment: Path, *, requested: bool = True) -> None:
    """Install a wheel the way the standard tells installers to."""
    site = site_of(environment)
    version = site.parent.name
    interpreter = str(environment / "bin" / "python")
    lines = []
    with zipfile.ZipFile(source) as archive:
        name = source.name.split("-")[0]
        for member in archive.namelist():
            data = archive.read(member)
            if member.endswith((".dist-info/RECORD", "/")):
                continue
            target, executable = site / member, False
            if ".data/" in member.split("/")[0] + "/":
                scheme, inner = member.split("/", 2)[1:]
                places = {
                    "scripts": environment / "bin",
                    "data": environment,
                    "purelib": site,
                    "platlib": site,
                    "headers": environment / "include" / "site" / version / name,
                }
                target, executable = places[scheme] / inner, scheme == "scripts"
            if executable and data.startswith(b"#!python"):
                data = f"#!{interpreter}\n".encode() + data.split(b"\n", 1)[1]
            target.parent.mkdir(parents=True, exist_ok=True)
            target.write_bytes(data)
            target.chmod(0o755 if executable else 0o644)
            lines.append(record_line(os.path.relpath(target, site), data))
        info = next(path for path in archive.namelist() if path.endswith(".dist-info/METADATA")).split("/")[0]
        entry = f"{info}/entry_points.txt"
        for script in declared_scripts(archive.read(entry).decode()) if entry in archive.namelist() else []:
            data = launch_script(interpreter, script.module, script.attribute)
            (environment / "bin" / script.name).write_bytes(data)
            (environment / "bin" / script.name).chmod(0o755)
            lines.append(record_line(os.path.relpath(environment / "bin" / script.name, site), data))
    notes = {"INSTALLER": b"a test\n", **({"REQUESTED": b""} if requested else {})}
    for note, data in notes.items():
        (site / info / note).write_bytes(data)
        lines.append(record_line(f"{info}/{note}", data))
    (site / info / "RECORD").write_text("".join(lines) + f"{info}/RECORD,,\n")


def launch_script(interpreter: str, module: str, attribute: str) -> bytes:
    return (
        f"#!{interpreter}\n# -*- coding: utf-8 -*-\nimport sys\nfrom {module} import {attribute.split('.')[0]}\n"
        f"if __name__ == '__main__':\n    sys.exit({attribute}())\n"
    ).encode()


def tree_of(folder: Path) -> dict[str, tuple[str, bool, str]]:
    """Everything below a folder: path -> kind, executable, content (or target)."""
    found = {}
    for path in sorted(folder.rglob("*")):
        name = path.relative_to(folder).as_posix()
        if path.is_symlink():
            found[name] = ("link", False, os.readlink(path))
        elif path.is_file():
            digest = hashlib.sha256(path.read_bytes()).hexdigest()
            found[name] = ("file", os.access(path, os.X_OK) and bool(path.stat().st_mode & 0o100), digest)
    return found
