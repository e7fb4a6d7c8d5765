"""What lies below: ELF files, the loader's ways, owners, locales. The oracles are the system's own programs."""

from __future__ import annotations

import functools
import os
import random
import re
import shutil
import struct
import subprocess
import sys
import sysconfig
import tempfile
import time
import unittest
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from lapidar.core.cache.stowing import LinkDraft, StreamDraft
from lapidar.core.environment import launchers
from lapidar.core.environment.folder import Environment
from lapidar.core.languages.protocol import ObjectFile
from lapidar.core.languages.python import launchers as pythons
from lapidar.core.layers import libraries
from lapidar.core.layers.protocol import Subject
from lapidar.core.records.declaration import Declaration
from lapidar.core.records.owner import Layer, Owner
from lapidar.core.system import elf, locales, owners, rpm
from lapidar.core.system.loader import Loader, System, read_cache
from lapidar.core.system.memory import ElfMemory
from support import InFolder

LOADER = "/lib64/ld-linux-x86-64.so.2"
SYSTEM = "/usr/lib/x86_64-linux-gnu"


def compile_c(folder: Path, name: str, code: str, *options: str) -> Path:
    """Compile a few lines of C: a library, or a program where the name has no .so in it."""
    source = folder / f"{name}.c"
    source.write_text(code)
    kind = ["-shared", "-fPIC"] if ".so" in name else []
    subprocess.run(["gcc", *kind, "-o", str(folder / name), str(source), *options], check=True, capture_output=True)
    return folder / name


def elf_files(*tops: str) -> list[str]:
    found = []
    for top in tops:
        for folder, _, names in os.walk(top):
            for name in names:
                path = f"{folder}/{name}"
                if not os.path.islink(path) and (facts := elf.read(path)) and facts.bits == 64:
                    found.append(path)
    return found


class ElfFiles(InFolder):
    def test_agrees_with_a_library(self) -> None:
        from elftools.elf.dynamic import DynamicSegment
        from elftools.elf.elffile import ELFFile
        from elftools.elf.gnuversions import GNUVerNeedSection

        files = elf_files(str(Path(os.__file__).with_name("lib-dynload")), sysconfig.get_path("platlib"))
        files += [sys.executable, *elf_files(SYSTEM + "/perl-base", "/usr/bin")[:150]]
        self.assertGreater(len(files), 200)
        for path in files[::2]:
            with open(path, "rb") as stream:
                reader = ELFFile(stream)
                tags: dict[str, list[str]] = {}
                for segment in reader.iter_segments("PT_DYNAMIC"):
                    assert isinstance(segment, DynamicSegment)
                    for tag in segment.iter_tags():
                        for kind in ("needed", "soname", "rpath", "runpath"):
                            if tag.entry.d_tag == f"DT_{kind.upper()}":
                                tags.setdefault(kind, []).append(getattr(tag, kind))
                versions = {
                    version.name: sorted(one.name for one in several)
                    for section in reader.iter_sections()
                    if isinstance(section, GNUVerNeedSection)
                    for version, several in section.iter_versions()
                }
            mine = elf.read(path)
            assert mine is not None
            with self.subTest(path):
                self.assertEqual(list(mine.needed), tags.get("needed", []))
                self.assertEqual(mine.soname, "".join(tags.get("soname", [])))
                self.assertEqual(":".join(mine.runpath), "".join(tags.get("runpath", [])))
                self.assertEqual({name: sorted(several) for name, several in mine.versions}, versions)

    def test_defined_versions(self) -> None:
        said = subprocess.run(["readelf", "-VW", f"{SYSTEM}/libz.so.1"], capture_output=True, text=True, check=True)
        block = said.stdout.partition("Version definition")[2].partition("Version needs")[0]
        # The base name is no version of its own; it is flagged so.
        theirs = {name for flags, name in re.findall(r"Flags: (\w+).*?Name: (\S+)", block) if flags != "BASE"}
        self.assertTrue(theirs)
        self.assertEqual(elf.defined_versions(f"{SYSTEM}/libz.so.1"), theirs)

    def test_hostile_files_cost_neither_time_nor_memory(self) -> None:
        good = Path(elf_files(str(Path(os.__file__).with_name("lib-dynload")))[0]).read_bytes()
        random.seed(20261123)
        path = self.root / "hostile.so"
        began = time.monotonic()
        for number in range(1500):
            data = bytearray(good)
            if number % 3 == 0:
                data = data[: random.randrange(len(data))]
            else:  # the headers, the dynamic part, the tables of versions: where counts and places are
                for _ in range(random.randrange(1, 12)):
                    at = random.choice((random.randrange(min(1024, len(data))), random.randrange(len(data))))
                    data[at] = random.choice((0, 0xFF, 0x7F, random.randrange(256)))
            path.write_bytes(data)
            elf.read(str(path))
            elf.defined_versions(str(path))
        self.assertLess(time.monotonic() - began, 60, "a hostile file took far too long")

    def test_a_chain_without_end(self) -> None:
        # The table of needed versions says that there are 65,535 entries, each of which leads to itself or on and on.
        data = bytearray(compile_c(self.root, "chain.so", '#include <stdio.h>\nvoid f(void){puts("");}').read_bytes())
        facts = elf.read(str(self.root / "chain.so"))
        assert facts is not None and facts.versions
        at = data.find(struct.pack("<HH", 1, 1), 0x200)
        while at != -1 and at < len(data) - 16:
            struct.pack_into("<H", data, at + 2, 0xFFFF)
            struct.pack_into("<I", data, at + 12, 0)
            at = data.find(struct.pack("<HH", 1, 1), at + 4)
        (self.root / "chain.so").write_bytes(data)
        began = time.monotonic()
        elf.read(str(self.root / "chain.so"))
        self.assertLess(time.monotonic() - began, 5)

    def test_no_elf_at_all(self) -> None:
        os.mkfifo(self.root / "pipe")
        (self.root / "short").write_bytes(b"\x7fELF")
        (self.root / "text").write_text("#!/bin/sh\n")
        for name in ("pipe", "short", "text", "missing", "."):
            self.assertIsNone(elf.read(str(self.root / name)), name)

    def test_a_static_program(self) -> None:
        program = compile_c(self.root, "static", "int main(void){return 0;}", "-static")
        facts = elf.read(str(program))
        assert facts is not None
        self.assertTrue(facts.is_static)


class TheLoadersWays(InFolder):
    """What the system's loader traces, for every file, is what is found without running any."""

    def asked(self, path: str, **variables: str) -> tuple[set[str], set[str]]:
        done = subprocess.run(
            [LOADER, "--list", path], capture_output=True, text=True, env={"PATH": "/usr/bin:/bin", **variables}
        )
        if done.returncode:
            environment = {"PATH": "/usr/bin:/bin", "LD_TRACE_LOADED_OBJECTS": "1", **variables}
            done = subprocess.run([LOADER, path], capture_output=True, text=True, env=environment)
        found, missing = set(), set()
        for line in done.stdout.splitlines():
            arrow = re.match(r"\s+(\S+) => (not found|\S+)", line)
            if arrow and arrow[2] == "not found":
                missing.add(arrow[1])
            elif arrow or (arrow := re.match(r"\s+()(/\S+) \(0x", line)):
                found.add(os.path.realpath(arrow[2]))
        return {path for path in found if "ld-linux" not in path}, missing

    def found(self, loader: Loader, path: str) -> tuple[set[str], set[str]]:
        closure = loader.closure(path)
        found = {os.path.realpath(one) for name, one in closure.found.items() if "ld-linux" not in one}
        return found - {os.path.realpath(path)}, set(closure.missing)

    def compare(self, loader: Loader, files: list[str]) -> None:
        with ThreadPoolExecutor(4) as pool:
            asked = list(pool.map(self.asked, files))
        for path, (found, missing) in zip(files, asked, strict=True):
            self.assertEqual(self.found(loader, path), (found, missing), path)

    def test_every_file_of_this_machine(self) -> None:
        tops = ("/usr/bin", "/usr/sbin", "/usr/lib", sys.base_prefix, sysconfig.get_path("platlib"))
        files = [path for path in elf_files(*tops) if (facts := elf.read(path)) and (facts.needed or facts.interpreter)]
        self.assertGreater(len(files), 500)
        self.compare(Loader(System.here(), functools.cache(elf.read)), files)

    def test_old_and_new_ways(self) -> None:
        """DT_RPATH comes before LD_LIBRARY_PATH, DT_RUNPATH after it, and only DT_RPATH counts for what others need."""
        for name in ("old", "new", "given"):
            (self.root / name).mkdir()
            compile_c(self.root / name, "libkiln.so", "int kiln(void){return 1;}")
        origin = f"-L{self.root}/old"
        compile_c(
            self.root,
            "a.so",
            "int kiln(void); int a(void){return kiln();}",
            origin,
            "-lkiln",
            "-Wl,--disable-new-dtags,-rpath,$ORIGIN/old",
        )
        compile_c(
            self.root,
            "b.so",
            "int kiln(void); int b(void){return kiln();}",
            origin,
            "-lkiln",
            "-Wl,--enable-new-dtags,-rpath,${ORIGIN}/new",
        )
        compile_c(self.root, "c.so", "int kiln(void); int c(void){return kiln();}", origin, "-lkiln")
        given = str(self.root / "given")
        for folders in ((), (given,)):
            loader = Loader(System.here(folders), functools.cache(elf.read))
            for name in ("a.so", "b.so", "c.so"):
                path = str(self.root / name)
                asked = self.asked(path, **({"LD_LIBRARY_PATH": given} if folders else {}))
                self.assertEqual(self.found(loader, path), asked, (name, folders))

    def test_a_library_for_another_processor_is_passed_over(self) -> None:
        for name in ("wrong", "right"):
            (self.root / name).mkdir()
            compile_c(self.root / name, "libkiln.so", "int kiln(void){return 1;}")
        compile_c(
            self.root,
            "a.so",
            "int kiln(void); int a(void){return kiln();}",
            f"-L{self.root}/right",
            "-lkiln",
            f"-Wl,-rpath,{self.root}/wrong:{self.root}/right",
        )
        wrong = self.root / "wrong" / "libkiln.so"
        data = bytearray(wrong.read_bytes())
        struct.pack_into("<H", data, 18, 183)  # made for AArch64
        wrong.write_bytes(data)
        loader = Loader(System.here(), functools.cache(elf.read))
        self.assertEqual(self.found(loader, str(self.root / "a.so")), self.asked(str(self.root / "a.so")))
        self.assertIn(str(self.root / "right" / "libkiln.so"), self.found(loader, str(self.root / "a.so"))[0])

    def test_folders_of_the_processors_level(self) -> None:
        system = System.here()
        if not system.levels:
            self.skipTest("this processor reaches no level that has folders of its own")
        folder = self.root / "lib" / "glibc-hwcaps" / system.levels[-1]
        folder.mkdir(parents=True)
        compile_c(self.root / "lib", "libkiln.so", "int kiln(void){return 1;}")
        compile_c(folder, "libkiln.so", "int kiln(void){return 2;}")
        compile_c(
            self.root,
            "a.so",
            "int kiln(void); int a(void){return kiln();}",
            f"-L{self.root}/lib",
            "-lkiln",
            "-Wl,-rpath,$ORIGIN/lib",
        )
        loader = Loader(system, functools.cache(elf.read))
        self.assertEqual(self.found(loader, str(self.root / "a.so")), self.asked(str(self.root / "a.so")))

    def test_a_broken_cache_of_the_loader(self) -> None:
        whole = Path("/etc/ld.so.cache").read_bytes()
        known = read_cache()
        self.assertIn("libc.so.6", known)
        for data in (b"", b"glibc-ld.so.cache1.1", b"something else" * 40, whole[:60] + b"\xff" * 400):
            (self.root / "cache").write_bytes(data)
            self.assertEqual(read_cache(self.root / "cache"), {})
        # Of one that was cut off nothing is made up.
        (self.root / "cache").write_bytes(whole[: len(whole) // 3])
        for name, paths in read_cache(self.root / "cache").items():
            self.assertLessEqual(set(paths), set(known[name]))


class Libraries(InFolder):
    def subject(self, program: str, *objects: ObjectFile) -> Subject:
        runtime = ObjectFile(Owner(Layer.RUNTIME, "python", "cpython", "3.11.7"), program, "bin/python")
        return Subject(Environment(self.root), runtime, objects, Declaration(), ElfMemory(None, ""))

    def test_no_private_libraries_without_glibc(self) -> None:
        data = Path(os.path.realpath(sys.executable)).read_bytes()
        other = self.root / "python"
        other.write_bytes(data.replace(LOADER.encode(), b"/lib/ld-musl-x86_64.so.1".ljust(len(LOADER), b"\0")))
        observed = libraries.observe(self.subject(str(other)))
        self.assertEqual((observed.loader, observed.files), ("", []))
        self.assertIn("ld-musl", observed.notes[0])

    def test_what_belongs_to_a_device_stays(self) -> None:
        (self.root / "lib").mkdir()
        compile_c(self.root / "lib", "libcuda.so.1", "int cuda(void){return 1;}", "-Wl,-soname,libcuda.so.1")
        shutil.move(self.root / "lib" / "libcuda.so.1", self.root / "lib" / "libcuda.so.535.54.03")
        (self.root / "lib" / "libcuda.so.1").symlink_to("libcuda.so.535.54.03")
        module = compile_c(
            self.root,
            "a.so",
            "int cuda(void); int a(void){return cuda();}",
            f"{self.root}/lib/libcuda.so.1",
            "-Wl,-rpath,$ORIGIN/lib",
        )
        program = os.path.realpath(sys.executable)
        user = Owner(Layer.PACKAGES, "python", "glaze")
        observed = libraries.observe(self.subject(program, ObjectFile(user, str(module), "lib/a.so")))
        self.assertEqual(observed.host, ["libcuda.so.1 535.54.03"])
        self.assertNotIn("libcuda.so.1", observed.uses)


@unittest.skipUnless(shutil.which("dpkg-query"), "the package database of this system is not read")
class Owners(unittest.TestCase):
    _DATABASE = ("/var/lib/dpkg/status", "/var/lib/dpkg/info", "/var/lib/dpkg/updates", SYSTEM)

    def test_every_library_of_this_machine(self) -> None:
        for _ in range(60):  # other programs may be installing packages meanwhile
            before = [os.stat(path).st_mtime_ns for path in self._DATABASE]
            answers = self._mine_and_theirs()
            if before == [os.stat(path).st_mtime_ns for path in self._DATABASE]:
                self._compare(*answers)
                return
            time.sleep(1)
        self.skipTest("packages are being installed on this machine all the time")

    @staticmethod
    def _mine_and_theirs() -> tuple[list[str], dict[str, owners.SystemPackage], dict[str, set[str]], dict[str, str]]:
        """The libraries, who owns each by Lapidar, and by the database's own program; and the versions of packages."""
        files = [f"{SYSTEM}/{name}" for name in sorted(os.listdir(SYSTEM)) if ".so." in name]
        mine = owners.here().of(files)
        said = subprocess.run(
            ["dpkg-query", "-W", "-f", "${binary:Package} ${Version}\n"], capture_output=True, text=True
        )
        versions = dict(line.split() for line in said.stdout.splitlines())
        versions |= {name.partition(":")[0]: version for name, version in versions.items()}
        spellings = [
            one for path in files for real in (os.path.realpath(path),) for one in (path, real, path[4:], real[4:])
        ]
        said = subprocess.run(["dpkg-query", "-S", *spellings], capture_output=True, text=True)
        theirs: dict[str, set[str]] = {}
        for line in said.stdout.splitlines():
            names, _, path = line.partition(": ")
            if not line.startswith("diversion"):
                theirs.setdefault(path, set()).update(name.strip().partition(":")[0] for name in names.split(","))
        return files, dict(mine), theirs, versions

    def _compare(
        self,
        files: list[str],
        mine: dict[str, owners.SystemPackage],
        theirs: dict[str, set[str]],
        versions: dict[str, str],
    ) -> None:
        compared = 0
        for path in files:
            real = os.path.realpath(path)
            named = set().union(*(theirs.get(one, set()) for one in (path, real, path[4:], real[4:])))
            self.assertEqual(path in mine, bool(named), path)
            if named:
                self.assertIn(mine[path].name, named, path)
                self.assertEqual(mine[path].version, versions[mine[path].name], path)
                compared += 1
        self.assertGreater(compared, 50)

    def test_what_a_program_is_shipped_with(self) -> None:
        self.assertIn("/usr/bin/perl", owners.here().files_of("perl-base"))
        self.assertEqual(owners.here().files_of("no-such-package"), [])


KILN_SPEC = """
Name: kiln
Epoch: 2
Version: 1.5
Release: 3
Summary: Kilns
License: MIT
Requires: kiln-data, kiln-libs, glazes(colour), other-libs
%description
Kilns.
%package libs
Summary: Libraries
%description libs
Libraries.
%package data
Summary: Data
BuildArch: noarch
%description data
Data.
%install
mkdir -p %{buildroot}ROOT/usr/bin %{buildroot}ROOT/usr/lib64 %{buildroot}ROOT/usr/share/kiln
echo hello > %{buildroot}ROOT/usr/bin/kilnfire
ln -s kilnfire %{buildroot}ROOT/usr/bin/fire
echo library > %{buildroot}ROOT/usr/lib64/libkiln.so.1.5
ln -s libkiln.so.1.5 %{buildroot}ROOT/usr/lib64/libkiln.so.1
echo glaze > %{buildroot}ROOT/usr/share/kiln/glazes.txt
%files
ROOT/usr/bin/*
%files libs
ROOT/usr/lib64/libkiln*
%files data
%dir ROOT/usr/share/kiln
ROOT/usr/share/kiln/glazes.txt
"""
COLOURS_SPEC = """
Name: NAME
Version: 7
Release: 1
Summary: Colours
License: MIT
Provides: PROVIDES
MACHINE
%description
Colours.
%install
mkdir -p %{buildroot}ROOT/usr/share/NAME
echo cobalt > %{buildroot}ROOT/usr/share/NAME/colours.txt
%files
ROOT/usr/share/NAME/colours.txt
"""


@unittest.skipUnless(shutil.which("rpmbuild"), "there is no program here that makes such packages (Debian's rpm)")
class OwnersByRpm(InFolder):
    """A real database of that kind: packages are made, and installed into it; its own query program is the oracle."""

    def setUp(self) -> None:
        super().setUp()
        self.database = self.root / "database"
        self.install(KILN_SPEC)
        self.install(COLOURS_SPEC, NAME="colours", PROVIDES="glazes(colour)", MACHINE="BuildArch: noarch")
        self.install(COLOURS_SPEC, NAME="other", PROVIDES="other-libs", MACHINE="")
        self.owners = owners.Owners([rpm.Rpm(self.database)])

    def install(self, spec: str, **words: str) -> None:
        work = Path(tempfile.mkdtemp(dir=self.root))
        for word, text in {**words, "ROOT": str(self.root)}.items():
            spec = spec.replace(word, text)
        (work / "made.spec").write_text(spec)
        self.rpm("rpmbuild", "-bb", "--define", f"_topdir {work}", work / "made.spec")
        self.rpm("rpm", "--dbpath", self.database, "-i", "--nodeps", *(work / "RPMS").rglob("*.rpm"))

    def rpm(self, *words: object) -> str:
        return subprocess.run([*map(str, words)], capture_output=True, text=True, check=True).stdout

    def test_owners(self) -> None:
        files = [str(path) for path in sorted((self.root / "usr").rglob("*")) if not path.is_dir()]
        self.assertEqual(len(files), 7)
        found = self.owners.of([*files, "/usr/bin/kilnfire", str(self.root / "usr/bin/nobodys")])
        theirs = {}
        for path in files:
            form = "%{NAME} %|EPOCH?{%{EPOCH}:}|%{VERSION}-%{RELEASE}"
            said = self.rpm("rpm", "--dbpath", self.database, "-qf", "--qf", form, path)
            theirs[path] = tuple(said.split())
        self.assertEqual({path: tuple(owner) for path, owner in found.items()}, theirs)
        self.assertEqual(found[str(self.root / "usr/lib64/libkiln.so.1")].version, "2:1.5-3")

    def test_what_a_program_is_shipped_with(self) -> None:
        """All that it cannot do without; not what every system has, nor what is not there."""
        self.assertEqual(self.owners.working_with(["kiln"]), ["colours", "kiln", "kiln-data", "kiln-libs", "other"])
        self.assertEqual(self.owners.working_with(["no-such-package"]), [])
        place = self.root / "usr/share/kiln/glazes.txt"
        self.assertEqual(self.owners.files_of("kiln-data"), [str(place)])
        self.assertEqual(self.owners.files_of("no-such-package"), [])
        self.assertEqual(self.owners.has_file_named("libkiln.so.1"), "kiln-libs")
        self.assertIsNone(self.owners.has_file_named("libkiln.so.2"))

    def test_broken(self) -> None:
        """Truncated or altered, it has fewer answers; nothing goes wrong."""
        file = self.database / "rpmdb.sqlite"
        whole = file.read_bytes()
        chance = random.Random(5)
        for at in range(60):
            data = bytearray(whole[: chance.randrange(len(whole))] if at % 3 == 0 else whole)
            for _ in range(40):
                if data:
                    data[chance.randrange(len(data))] = chance.randrange(256)
            file.write_bytes(data)
            broken = owners.Owners([rpm.Rpm(self.database)])
            for owner in broken.of([str(self.root / "usr/bin/kilnfire")]).values():
                self.assertIsInstance(owner.version, str)
            broken.working_with(["kiln"])
        headers = [b"", b"\xff" * 60, struct.pack(">II", 1, 4) + struct.pack(">iIiI", 1117, 8, 0, 1 << 31) + b"abc\0"]
        for header in headers:
            with self.assertRaises((struct.error, ValueError, IndexError)):
                rpm._read(header)


class Locales(InFolder):
    def test_out_of_the_archive(self) -> None:
        """An archive of the C library's form, put together by hand: one locale with two categories."""
        texts = {0: b"the characters", 5: b"the messages"}
        name_at, record_at = 0x100, 0x140
        data = bytearray(0x400)
        struct.pack_into("<14I", data, 0, 0xDE020109, 0, 56, 1, 2, name_at, 16, 16, record_at, 1, 1, 0, 0, 0)
        struct.pack_into("<3I", data, 56 + 12, 77, name_at, record_at)
        data[name_at : name_at + 11] = b"de_DE.utf8\0"
        struct.pack_into("<I", data, record_at, 1)
        for category, text in texts.items():
            at = 0x300 + category * 16
            struct.pack_into("<2I", data, record_at + 4 + category * 8, at, len(text))
            data[at : at + len(text)] = text
        (self.root / "locale-archive").write_bytes(data)
        drafts = {draft.path: draft for draft in locales.drafts(["de_DE.UTF-8", "xx_XX"], "locale", self.root)}
        link = drafts.pop("locale/de_DE.UTF-8")
        self.assertEqual(link, LinkDraft("locale/de_DE.UTF-8", "de_DE.utf8"))
        self.assertEqual(set(drafts), {"locale/de_DE.utf8/LC_CTYPE", "locale/de_DE.utf8/LC_MESSAGES/SYS_LC_MESSAGES"})
        characters = drafts["locale/de_DE.utf8/LC_CTYPE"]
        assert isinstance(characters, StreamDraft)
        self.assertEqual(characters.opener().read(), b"the characters")
        (self.root / "locale-archive").write_bytes(data[:0x310])
        (self.root.parent / "etc").mkdir(exist_ok=True)
        self.addCleanup(os.rmdir, self.root.parent / "etc")
        (self.root / "C").mkdir()
        self.assertEqual(list(locales.drafts(["de_DE.UTF-8", "../etc", "C/../../etc"], "locale", self.root)), [])


class Launchers(InFolder):
    def test_no_name_is_for_the_shell(self) -> None:
        """Whatever a lockfile or a package calls its files, the shell takes it as a name."""
        name = 'a$(touch hacked)`touch hacked`"; touch hacked; "\\x'
        private = launchers.Private(name, {"TZDIR": name}, (name,), ("--argv0",))
        for text in (
            pythons.interpreter(name, private, {}),
            pythons.interpreter(name, launchers.Host(f"/lib/{name}", ("--argv0",)), {}),
            launchers.program(name, private),
            launchers.script(name, name, private),
            launchers.tool(name, name, name, private, "lib/lapidar/enter", links=True),
            launchers.linker(private),
        ):
            (self.root / "bin").mkdir(exist_ok=True)
            launcher = self.root / "bin" / "fire"
            launcher.unlink(missing_ok=True)
            launcher.write_bytes(text)
            launcher.chmod(0o755)
            done = subprocess.run([launcher], capture_output=True, text=True, cwd=self.root, timeout=20, check=False)
            self.assertNotEqual(done.returncode, 0)
            self.assertFalse((self.root / "hacked").exists(), text.decode())
