"""What is handed on of one's own packages: built twice the same, and published."""

from __future__ import annotations

import io
import os
import shutil
import sys
import tarfile
import time
import zipfile

from commands.test_members import BACKEND, OfMembers
from roots import skip_loudly
from toy.loopback import free_port, serving
from toy.uploads import Answers, Uploads, taking

# The same, with a source archive; and nothing that it writes is in order or of one time.
SDIST = """
import io, random, tarfile, time

def build_sdist(folder, config_settings=None):
    told = tomllib.loads(pathlib.Path("pyproject.toml").read_text())["project"]
    base = f"{told['name'].replace('-', '_')}-{told['version']}"
    paths = [path for path in pathlib.Path(".").rglob("*") if path.is_file() and "__pycache__" not in path.parts]
    random.shuffle(paths)
    with tarfile.open(os.path.join(folder, base + ".tar.gz"), "w:gz") as archive:
        for path in paths:
            archive.add(path, f"{base}/{path}")
        data = f"Metadata-Version: 2.1\\nName: {told['name']}\\nVersion: {told['version']}\\nSummary: Pots\\n\\nLong.\\n".encode()
        info = tarfile.TarInfo(f"{base}/PKG-INFO")
        info.size, info.mtime = len(data), time.time()
        archive.addfile(info, io.BytesIO(data))
    return base + ".tar.gz"
"""


class OfArchives(OfMembers):
    def setUp(self) -> None:
        super().setUp()
        self.kilns = self.member("kilns", "SLOPE = 1\n", version="1.5")
        (self.kilns / "backend.py").write_text(BACKEND + SDIST)
        (self.kilns / "src" / "kilns" / "fire.sh").write_text("#!/bin/sh\n")
        (self.kilns / "src" / "kilns" / "fire.sh").chmod(0o755)

    def built(self, *words: object) -> dict[str, bytes]:
        self.lapidar("build", *words)
        found = {path.name: path.read_bytes() for path in (self.kilns / "dist").iterdir()}
        shutil.rmtree(self.kilns / "dist")
        return found


class Building(OfArchives):
    def test_twice_the_same_bytes(self) -> None:
        first = self.built("libs/kilns")
        self.assertEqual(sorted(first), ["kilns-1.5-py3-none-any.whl", "kilns-1.5.tar.gz"])
        time.sleep(2.1)  # times in archives of wheels are of two seconds
        os.utime(self.kilns / "pyproject.toml")
        self.assertEqual(self.built("libs/kilns"), first)
        names = zipfile.ZipFile(io.BytesIO(first["kilns-1.5-py3-none-any.whl"])).namelist()
        self.assertEqual(names[0], "kilns/__init__.py")
        self.assertTrue(names[-1].startswith("kilns-1.5.dist-info/"))
        with tarfile.open(fileobj=io.BytesIO(first["kilns-1.5.tar.gz"])) as archive:
            members = {one.name: one for one in archive}
        self.assertEqual(
            {(one.uid, one.gid, one.uname, one.mtime) for one in members.values()}, {(0, 0, "", 1_000_000_000)}
        )
        self.assertEqual(members["kilns-1.5/src/kilns/fire.sh"].mode, 0o755)
        self.assertTrue((self.project / ".lapidar" / "builds" / "python-kilns.lock").is_file())
        shutil.rmtree(self.index)
        self.assertEqual(self.built("libs/kilns"), first, "and no index is asked again")
        self.lapidar("build", "libs/kilns", "--to", self.folder / "out")
        self.assertEqual(len(list((self.folder / "out").iterdir())), 2)

    def test_what_is_compiled_is_the_same_too(self) -> None:
        if not shutil.which("gcc"):
            skip_loudly(self, "there is no compiler here (Debian's gcc)")
        compiles = """
_as_before = build_wheel
def build_wheel(folder, config_settings=None, metadata_directory=None):
    import subprocess
    words = ["gcc", "-g", "-shared", "-fPIC", os.path.abspath("heat.c"), "-o", "src/kilns/heat.so"]
    subprocess.run(words, check=True)
    return _as_before(folder)
"""
        (self.kilns / "backend.py").write_text(BACKEND + SDIST + compiles)
        (self.kilns / "heat.c").write_text("const char *where(void) { return __FILE__; }\n")
        first = self.built("libs/kilns")
        with zipfile.ZipFile(io.BytesIO(first["kilns-1.5-py3-none-any.whl"])) as archive:
            compiled = archive.read("kilns/heat.so")
        self.assertIn(b"./heat.c", compiled)
        self.assertNotIn(str(self.cache).encode(), compiled)
        self.assertEqual(self.built("libs/kilns"), first)

    def test_what_cannot_be_built(self) -> None:
        (self.kilns / "broken").write_text("")
        said = self.fails("build", "libs/kilns")
        self.assertIn("the clay is too wet", said)
        self.assertEqual(list((self.kilns / "dist").iterdir()), [])
        self.assertIn("is no package of this project", self.fails("build"))
        self.assertIn("is no package of this project", self.fails("build", self.folder))
        (self.kilns / "broken").unlink()
        (self.kilns / "backend.py").write_text(BACKEND)
        self.assertIn("could not be built", self.fails("build", "libs/kilns"))

    def test_of_r(self) -> None:
        if not shutil.which("Rscript"):
            skip_loudly(self, "there is no R here (Debian's r-base-core)")
        folder = self.project / "libs" / "clay"
        (folder / "R").mkdir(parents=True)
        (folder / "src").mkdir()
        (folder / "DESCRIPTION").write_text("Package: clay\nVersion: 0.2\nTitle: T\nLicense: MIT\n")
        (folder / "NAMESPACE").write_text("export(wet)\n")
        (folder / "R" / "a.R").write_text("wet <- function() 1\n")
        (folder / "src" / "a.o").write_text("made\n")
        (folder / "notes.txt").write_text("x\n")
        (folder / ".Rbuildignore").write_text("^notes\n^dist$\n")
        self.variables["LAPIDAR_INDEX"] = f"r={self.index}"
        archives = []
        for _ in range(2):
            self.lapidar("build", folder)
            archives.append((folder / "dist" / "clay_0.2.tar.gz").read_bytes())
            shutil.rmtree(folder / "dist")
        self.assertEqual(archives[0], archives[1])
        with tarfile.open(fileobj=io.BytesIO(archives[0])) as archive:
            self.assertEqual(sorted(archive.getnames()), ["clay/DESCRIPTION", "clay/NAMESPACE", "clay/R/a.R"])


class Publishing(OfArchives):
    def test_to_an_index_and_back(self) -> None:
        self.lapidar("build", "libs/kilns", "--to", "dist")
        with taking(held := Uploads()) as address:
            self.assertIn("No index lab is configured", self.fails("publish", "--index", "lab"))
            (self.project / "lapidar.toml").write_text(f'[index]\nlab = "{address}/simple"\n')
            self.assertIn("takes no uploads", self.fails("publish", "--index", "lab"))
            (self.project / "lapidar.toml").write_text(
                f'[index]\nlab = {{ address = "{address}/simple", upload = "{address}/upload/" }}\n'
            )
            self.assertIn("nobody to ask", self.fails("publish", "--index", "lab"))
            self.assertEqual(held.files, {})
            held.password = "me:secret"
            said = self.fails("publish", "--index", "lab", "--yes")
            self.assertIn("was not taken (status 403)", said)
            self.assertIn("Invalid or non-existent", said)
            self.assertNotIn("<h1>", said)
            (self.folder / ".netrc").write_text("machine 127.0.0.1 login me password secret\n")
            (self.folder / ".netrc").chmod(0o600)

            def cut(one: Answers) -> bool:
                if "tar.gz" in "".join(held.files) or not held.files:
                    return False
                one.connection.close()
                return True

            held.fault = cut
            self.fails("publish", "--index", "lab", "--yes")
            self.assertEqual(len(held.files), 1, "what was sent before is there")
            held.fault = None
            done = self.lapidar("publish", "--index", "lab", "--yes")
            self.assertIn("is there already", done.stdout)
            self.assertIn("has no long description", self.said_of(done.stderr, "whl"))
            self.assertEqual(len(held.files), 2)
            self.assertEqual(self.json("publish", "--index", "lab", "--yes")["sent"], [])
            fields = held.fields["kilns-1.5.tar.gz"]
            self.assertEqual((fields["name"], fields["filetype"], fields["summary"]), (["kilns"], ["sdist"], ["Pots"]))
            self.assertNotIn("secret", (self.project / "lapidar.toml").read_text())
            self.lapidar("need", "kilns==1.5")
            self.assertEqual(self.ran("import kilns; print(kilns.SLOPE)"), "1")
            (self.kilns / "src" / "kilns" / "__init__.py").write_text("SLOPE = 2\n")
            self.lapidar("build", "libs/kilns", "--to", "dist")
            said = self.fails("publish", "--index", "lab", "--yes")
            self.assertIn("The index has another kilns-1.5", said)

    def test_to_a_real_server(self) -> None:
        from passlib.apache import HtpasswdFile

        users = HtpasswdFile(str(self.folder / "users"), new=True, default_scheme="sha256_crypt")
        users.set_password("potter", "clay and fire")
        users.save()
        held, port = self.folder / "held", free_port()
        held.mkdir()
        words = [
            "run",
            "-p",
            str(port),
            "-i",
            "127.0.0.1",
            "-P",
            str(self.folder / "users"),
            "-a",
            "update",
            "--disable-fallback",
        ]
        with serving([sys.executable, "-m", "pypiserver", *words, str(held)], port):
            address = f"http://127.0.0.1:{port}"
            (self.project / "lapidar.toml").write_text(
                f'[index]\nlab = {{ address = "{address}/simple", upload = "{address}/" }}\n'
            )
            self.lapidar("build", "libs/kilns", "--to", "dist")
            self.assertIn("status 401", self.fails("publish", "--index", "lab", "--yes"))
            netrc = self.folder / ".netrc"
            netrc.write_text("machine 127.0.0.1 login potter password wrong\n")
            netrc.chmod(0o600)
            self.assertIn("status 403", self.fails("publish", "--index", "lab", "--yes"))
            self.assertEqual(list(held.iterdir()), [])
            netrc.write_text('machine 127.0.0.1 login potter password "clay and fire"\n')
            self.lapidar("publish", "--index", "lab", "--yes")
            built = {path.name: path.read_bytes() for path in (self.project / "dist").iterdir()}
            self.assertEqual({path.name: path.read_bytes() for path in held.iterdir()}, built)
            self.assertEqual(self.json("publish", "--index", "lab", "--yes")["sent"], [])
            self.lapidar("need", "kilns==1.5")
            self.assertEqual(self.ran("import kilns; print(kilns.SLOPE)"), "1")

    def said_of(self, text: str, part: str) -> str:
        return "\n".join(line for line in text.splitlines() if part in line)

    def test_what_is_nothing_to_publish(self) -> None:
        (self.project / "lapidar.toml").write_text(
            '[index]\nlab = { address = "http://127.0.0.1:1/simple", upload = "http://127.0.0.1:1/upload/" }\n'
        )
        self.assertIn("There is nothing to publish", self.fails("publish", "--index", "lab"))
        files = {"a.txt": b"x", "x-1.0-py3-none-any.whl": b"no zip", "x-1.0.tar.gz": b"no tar"}
        for name, data in files.items():
            (self.project / name).write_bytes(data)
            self.assertIn("is nothing to publish", self.fails("publish", name, "--index", "lab"))
        self.lapidar("build", "libs/kilns", "--to", "dist")
        (self.project / "dist" / "kilns-1.5.tar.gz").rename(self.project / "dist" / "kilns-1.6.tar.gz")
        said = self.fails("publish", "dist/kilns-1.6.tar.gz", "--index", "lab")
        self.assertIn("says of itself that it is kilns 1.5", said)
        address = "https://packages.example/"
        upload = address.replace("://", "://potter:x@")
        (self.project / "lapidar.toml").write_text(
            f'[index]\nlab = {{ address = "{address}simple", upload = "{upload}" }}\n'
        )
        self.assertIn("holds a name, a password", self.fails("publish", "--index", "lab"))
