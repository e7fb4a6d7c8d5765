"""A runnable image from nothing but a snapshot: read and unpacked by others' tools, run where nothing else is."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import tarfile
from pathlib import Path
from typing import Any

from roots import skip_loudly
from support import Case, tree_of, wheel
from toy.registry import debians_own

WORK = """\
import getpass, json, subprocess, sys, pathlib
import sherdplot
told = {"prefix": sys.prefix, "executable": sys.executable, "who": getpass.getuser(), "plot": sherdplot.GREEN}
told["child"] = subprocess.check_output([sys.executable, "-c", "import sys; print(sys.prefix)"], text=True)
text = pathlib.Path("in/clay.csv").read_text()
pathlib.Path("out").mkdir(exist_ok=True)
pathlib.Path("out/sorted.csv").write_text("".join(sorted(text.splitlines(True))))
if len(sys.argv) > 1:
    print(json.dumps(told))
"""
_CHROOT = shutil.which("chroot", path="/usr/sbin:/sbin:/usr/bin:/bin") or "chroot"
VENV = """\
import os, subprocess, sys, venv
# What a caller has set that no launcher lets through, at the end of its variables.
for name in ("LD_LIBRARY_PATH", "LD_PRELOAD", "LD_AUDIT", "PYTHONHOME"):
    os.environ[name] = "/nowhere"
venv.create("/tmp/own")
print(subprocess.check_output(["/tmp/own/bin/python", "-c", "import sys; print(sys.prefix, sys.base_prefix)"], text=True))
with open("/tmp/script", "w") as file:
    file.write("#!/env/bin/python\\nimport sys; print(sys.executable)\\n")
os.chmod("/tmp/script", 0o755)
print(subprocess.check_output(["/tmp/script"], text=True))
os.chdir("/env/bin")
print(subprocess.check_output(["./python", "-c", "import sys; print(sys.executable)"], text=True))
"""


class OfAnalysis(Case):
    own_cache = True

    def setUp(self) -> None:
        super().setUp()
        plot = wheel(
            self.folder,
            "sherdplot",
            files={"sherdplot/__init__.py": b"GREEN = 'green'\n\n\ndef main():\n    print(GREEN)\n"},
            entry_points="[console_scripts]\nsherd = sherdplot:main\n",
        )
        self.venv = self.environment(plot)
        (self.project / "in").mkdir()
        (self.project / "in" / "clay.csv").write_text("b,2\na,1\n")
        (self.project / "work.py").write_text(WORK)
        (self.project / "lapidar.toml").write_text('[project]\nname = "sherds"\n')
        self.image = self.folder / "image.tar"

    def captured(self) -> None:
        self.lapidar("capture", self.venv, "--scope", "whole")
        self.lapidar("restore")
        self.lapidar("record", "kilns", "--", "python", "work.py")

    def need(self, *names: str) -> None:
        for name in names:
            if not shutil.which(name):
                skip_loudly(self, f"there is no {name} (Debian's {name})")
        if os.getuid() != 0:
            skip_loudly(self, "only root can change the root")

    def unpacked(self, image: Path | None = None) -> dict[str, Any]:
        """The image's root at `self.root`, by another's tool; what it says of how it is run."""
        layout = self.folder / "layout"
        with tarfile.open(image or self.image) as archive:
            archive.extractall(layout, filter="data")
        told = json.loads((layout / "index.json").read_text())["manifests"][0]
        name = told["annotations"]["org.opencontainers.image.ref.name"]
        subprocess.run(
            ["umoci", "unpack", "--image", f"{layout}:{name}", self.folder / "bundle"], check=True, capture_output=True
        )
        self.root = self.folder / "bundle" / "rootfs"
        manifest = json.loads((layout / "blobs" / told["digest"].replace(":", "/")).read_text())
        config = json.loads((layout / "blobs" / manifest["config"]["digest"].replace(":", "/")).read_text())
        how: dict[str, Any] = config["config"]
        self.how = how
        return how

    def run_it(self, *command: str, code: int = 0) -> str:
        """Run a command as the image says; its own where none is named."""
        words = [*self.how["Entrypoint"], *(command or self.how["Cmd"])]
        done = subprocess.run(
            [_CHROOT, self.root, *words],
            env=dict(one.split("=", 1) for one in self.how["Env"]),
            capture_output=True,
            text=True,
            check=False,
        )
        self.assertEqual(done.returncode, code, done.stdout + done.stderr)
        return done.stdout + done.stderr


class OfPython(OfAnalysis):
    def test_it_runs_with_nothing_else(self) -> None:
        self.need("umoci")
        os.umask(0o027)
        try:
            self.captured()
        finally:
            os.umask(0o022)
        before = tree_of(self.project / "out")
        (self.project / "in" / "clay.csv").write_text("edited since\n")
        (self.project / ".env").write_text("TOKEN=secret\n")
        said = self.lapidar("export", "image", "--to", self.image).stderr
        self.assertIn("there is no shell in it", said)
        self.assertNotIn("secret", self.image.read_bytes().decode("latin-1"))
        how = self.unpacked()
        self.assertEqual((how["Cmd"], how["WorkingDir"]), (["python", "work.py"], "/project"))
        self.assertEqual(sorted(os.listdir(self.root / "usr/bin")), [])
        self.assertFalse((self.root / "project/.env").exists())
        shutil.rmtree(self.root / "project" / "out")
        # A plain change of the root knows no folder to start in.
        told = json.loads(
            self.run_it("python", "-c", "import os, runpy; os.chdir('project'); runpy.run_path('work.py')", "say")
        )
        self.assertEqual(
            told, {"prefix": "/env", "executable": "/env/bin/python", "who": "root", "plot": "green", "child": "/env\n"}
        )
        after = tree_of(self.root / "project" / "out")
        self.assertEqual(after, before)
        self.assertEqual((self.root / "project/out/sorted.csv").stat().st_mode & 0o777, 0o640)
        self.assertEqual(self.run_it("sherd"), "green\n")
        lines = self.run_it("python", "-c", VENV).split()
        self.assertEqual(lines, ["/tmp/own", "/env", "/env/bin/python", "/env/bin/python"])
        self.assertIn("nothing cannot be started", self.run_it("nothing", code=127))

    def test_the_same_bytes_from_another_cache(self) -> None:
        self.captured()
        self.lapidar("export", "image", "--to", self.image)
        first = self.image.read_bytes()
        self.lapidar("export", "image", "--to", self.image)
        self.assertEqual(self.image.read_bytes(), first)
        parcel = self.folder / "p.tar"
        self.lapidar("parcel", "make", "--with-results", "--with-project", "--without-lapidar", "--to", parcel)
        self.variables["LAPIDAR_CACHE"] = str(self.folder / "other-cache")
        self.lapidar("parcel", "open", parcel, "--into", "elsewhere/project")
        other = self.folder / "other.tar"
        self.lapidar("--project", "elsewhere/project", "export", "image", "--to", other)
        self.assertEqual(other.read_bytes(), first)

    def test_through_stores(self) -> None:
        self.need("umoci", "skopeo", "docker-registry")
        self.captured()
        store = self.folder / "store"
        store.mkdir()
        self.lapidar("parcel", "send", store)
        self.lapidar("export", "image", "--to", store)
        self.assertEqual(len(self.json("parcel", "list", store)), 2)
        self.lapidar("parcel", "fetch", store, "--into", "x")
        with debians_own(self.folder) as host:
            self.lapidar("export", "image", "kilns", "--to", f"oci+http://{host}/lab/kilns:paper")
            passed = self.folder / "passed.tar"
            subprocess.run(
                [
                    "skopeo",
                    "copy",
                    "-q",
                    "--src-tls-verify=false",
                    f"docker://{host}/lab/kilns:paper",
                    f"oci-archive:{passed}:paper",
                ],
                check=True,
            )
        self.unpacked(passed)
        self.assertEqual(self.run_it("sherd"), "green\n")

    def test_where_a_parcel_is_meant(self) -> None:
        self.captured()
        self.lapidar("export", "image", "--to", self.image)
        for words in (("parcel", "show"), ("parcel", "open"), ("restore", "--into", "x", "--from")):
            said = self.fails(*words, self.image)
            self.assertIn("holds something else than a parcel", said)
            self.assertIn("a runnable image", said)
        self.lapidar("parcel", "make", "--ready", "--to", self.folder / "ready.tgz")
        self.assertIn("tar xzf FILE; sh NAME/run", self.fails("parcel", "show", self.folder / "ready.tgz"))

    def test_a_shell_is_the_snapshots(self) -> None:
        self.need("umoci")
        (self.project / "lapidar.toml").write_text('[needs]\ntools = ["sh"]\n')
        self.captured()
        self.assertNotIn("shell", self.lapidar("export", "image", "--to", self.image).stderr)
        self.unpacked()
        said = self.run_it("python", "-c", "import os; os.system('echo b a | tr a-z A-Z; echo $0')")
        self.assertEqual(said, "B A\nsh\n")
        self.assertEqual(self.run_it("sh", "-c", "sort /project/in/clay.csv"), "a,1\nb,2\n")

    def test_what_cannot_be(self) -> None:
        self.captured()
        self.assertIn("There is no folder", self.fails("export", "image", "--to", "no/such/image.tar"))
        self.assertIn("is not empty, and no store", self.fails("export", "image", "--to", self.project))
        self.assertIn("no record of an analysis other", self.fails("export", "image", "other", "--to", self.image))
        self.lapidar("record", "again", "--", "python", "work.py")
        said = self.fails("export", "image", "--to", self.image)
        self.assertIn("recorded are again, kilns", said)
        self.assertIn("lapidar export image NAME", said)
        self.assertFalse(self.image.exists())


class OfOthers(OfAnalysis):
    def test_r_and_outside_programs(self) -> None:
        self.need("umoci", "Rscript", "perl")
        (self.project / "work.py").unlink()
        work = self.project / "work.R"
        work.write_text('d <- read.csv("in/clay.csv", header = FALSE)\nprint(sort(d[[2]]))\n')
        self.lapidar("capture")
        said = self.fails("export", "image", "--to", self.image)
        self.assertIn("bin/R is started by a shell script", said)
        self.assertIn('tools = ["sh"]', said)
        work.write_text(
            work.read_text() + 'cat(system("perl -MPOSIX -MEncode -e \'print floor(2.5)\'", intern = TRUE), "\\n")\n'
        )
        self.lapidar("capture")
        self.lapidar("restore")
        self.lapidar("record", "kilns", "--", "Rscript", "work.R")
        self.lapidar("export", "image", "--to", self.image)
        how = self.unpacked()
        self.assertEqual(how["Cmd"], ["Rscript", "work.R"])
        told = self.run_it("Rscript", "-e", "setwd('/project'); source('work.R')")
        self.assertEqual(told, "[1] 1 2\n2 \n")
        self.assertEqual(self.run_it("perl", "-e", "print $^X"), "/usr/bin/perl")
