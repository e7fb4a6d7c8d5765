"""R packages from repositories: resolved, built in a fixed place, pinned, changed, asked about."""

from __future__ import annotations

import hashlib
import http.server
import os
import shutil
import subprocess
import unittest
from contextlib import ExitStack
from pathlib import Path

from lapidar.core.records import lockfile
from lapidar.core.records.snapshot import Package
from lapidar.standin.r_packages import write_list, write_source_package
from roots import skip_loudly
from support import Case
from toy.loopback import answering

RSCRIPT = shutil.which("Rscript")
COMPILER = shutil.which("gcc")
COMPILED = {
    "src/fire.c": "#include <R.h>\n#include <Rinternals.h>\n"
    "SEXP fire(SEXP x) { return ScalarReal(asReal(x) * 2); }\n",
    "NAMESPACE": 'useDynLib(kiln, fire)\nexport(kiln_fire)\nimport(tin)\n',
    "R/kiln.R": 'kiln_fire <- function(x) .Call(fire, x) + tin_version_number()\n',
    "man/kiln_fire.Rd": "\\name{kiln_fire}\\title{Fire}\\description{Fires.}\\usage{kiln_fire(x)}\\arguments{\\item{x}{x}}\n",
}  # fmt: skip
NUMBER = {"R/tin.R": "tin_version_number <- function() 1\n", "data/wares.csv": "a;b\n1;2\n"}


class Pinning(Case):
    def setUp(self) -> None:
        super().setUp()
        if RSCRIPT is None:
            skip_loudly(self, "there is no R here (Debian's r-base-core)")
        self.repository = self.folder / "repository"
        self.contrib = self.repository / "src" / "contrib"
        for version in ("1.0", "1.2", "2.0-1"):
            self.write("tin", version, files=NUMBER)
        self.write("lead", "1.0", Imports="tin (>= 1.0), tin (< 2.0), utils")
        self.write("lead", "0.9", Imports="tin (< 2.0)", Depends="R (>= 3.0)")
        self.write("ash", "1.0", Depends="R (>= 99.0)")
        self.write("ash", "0.5")
        write_list(self.contrib)
        self.declare('["lead"]')

    def write(self, name: str, version: str, folder: Path | None = None, **fields: object) -> Path:
        return write_source_package(folder or self.contrib, name, version, **fields)  # type: ignore[arg-type]

    def declare(self, needs: str, more: str = "") -> None:
        (self.project / "lapidar.toml").write_text(
            f'[index]\nkilns = {{ address = "{self.repository}", language = "r" }}\n[needs]\nr = {needs}\n{more}'
        )

    def packages(self) -> dict[str, Package]:
        return {one.name: one for one in lockfile.read(self.lock).packages}

    def pinned(self) -> dict[str, str]:
        return {name: one.version for name, one in self.packages().items()}

    def r(self, script: str) -> str:
        (self.project / "ask.R").write_text(script)
        return self.lapidar("-q", "run", "Rscript", "ask.R").stdout


class Pins(Pinning):
    def test_from_need_to_run(self) -> None:
        self.lapidar("pin")
        self.assertEqual(self.pinned(), {"lead": "1.0", "tin": "1.2"})
        one = self.packages()["lead"]
        self.assertEqual((one.wanted, one.requires, self.packages()["tin"].wanted), (True, ("tin",), False))
        self.assertTrue(one.built_with[0].startswith("tin 1.2 sha256:"))
        self.assertEqual(one.origin.file, "lead_1.0.tar.gz")
        self.lapidar("restore")
        self.assertEqual(
            self.r("data(wares, package = 'tin'); cat(lead::lead_version(), tin::tin_version_number(), nrow(wares))"),
            "1.0 1 1",
        )
        (self.project / "ask.R").unlink()  # what it loads is not declared
        self.assertTrue(self.json("check", "--deep", "--live")["clean"])
        before = self.lock.read_bytes()
        self.assertIn("already", self.lapidar("pin").stdout + self.lapidar("restore").stdout)
        self.assertEqual(self.lock.read_bytes(), before)

    def test_the_same_bytes_twice(self) -> None:
        """A source builds to the same tree in another cache, in another project, whatever the time and the user's
        settings; compiled code and databases included."""
        if COMPILER is None:
            skip_loudly(self, "there is no compiler here (Debian's r-base-dev)")
        self.write("kiln", "1.0", files=COMPILED, Imports="tin")
        write_list(self.contrib)
        self.declare('["kiln", "lead"]')
        self.lapidar("pin")
        first = {name: one.tree for name, one in self.packages().items()}
        self.lapidar("restore")
        self.assertEqual(self.r("cat(kiln::kiln_fire(4))"), "9")
        other = self.folder / "other"
        shutil.copytree(self.project, other, ignore=shutil.ignore_patterns(".lapidar", "lapidar.lock"))
        (self.folder / ".R").mkdir()
        (self.folder / ".R" / "Makevars").write_text("CFLAGS = -O0 -g3\n")
        variables = {**self.variables, "LAPIDAR_CACHE": str(self.folder / "elsewhere"), "TZ": "Asia/Tokyo",
                     "R_LIBS": "/nowhere", "LANG": "C"}  # fmt: skip
        self.lapidar("pin", cwd=other, env=variables)
        second = {one.name: one.tree for one in lockfile.read(other / "lapidar.lock").packages}
        self.assertEqual(second, first)

    def test_lost_bytes_are_built_again(self) -> None:
        self.lapidar("pin")
        snapshot = self.lock.read_bytes()
        self.variables["LAPIDAR_CACHE"] = str(self.folder / "empty")
        self.lapidar("restore", "--fetch")
        self.assertEqual(self.lock.read_bytes(), snapshot)
        self.assertEqual(self.r("cat(lead::lead_version())"), "1.0")

    def test_need_and_drop_and_groups(self) -> None:
        self.lapidar("need", "--yes", "tin (>= 1.0, < 1.2)")
        self.assertEqual(self.pinned()["tin"], "1.0")
        self.assertIn('"tin (>= 1.0, < 1.2)"', (self.project / "lapidar.toml").read_text())
        self.lapidar("need", "--yes", "--language", "r", "--group", "report", "ash")
        text = (self.project / "lapidar.toml").read_text()
        self.assertIn('"lead"', text)
        self.assertEqual(self.packages()["ash"].groups, ("report",))
        self.assertEqual(self.pinned()["ash"], "0.5", "the newer one needs a newer R")
        self.lapidar("drop", "--yes", "tin", "ash")
        self.assertEqual(self.pinned(), {"lead": "1.0", "tin": "1.0"}, "what stays, stays as it is pinned")
        self.lapidar("pin", "--renew", "tin", "--yes")
        self.assertEqual(self.pinned()["tin"], "1.2")
        self.assertIn("not declared", self.fails("drop", "soda"))

    def test_versions_outlook_and_why(self) -> None:
        self.lapidar("pin")
        said = self.lapidar("versions", "ash").stdout
        self.assertRegex(said, r"1\.0 .*needs R >= 99\.0")
        self.assertRegex(said, r"0\.5 .*fits")
        rows = {row["name"]: row for row in self.json("outlook")}
        self.assertEqual((rows["tin"]["pinned"], rows["tin"]["newest"]), ("1.2", "2.0-1"))
        self.assertIn("lead 1.0: tin (>= 1.0, < 2.0)", rows["tin"]["held_by"])
        self.assertIn("tin (>= 1.0, < 2.0)", self.lapidar("why", "tin").stdout)
        self.assertIn("Near to it: lead", self.fails("versions", "laed"))

    def test_what_cannot_be_met(self) -> None:
        self.declare('["lead (>= 1.0)", "tin (>= 2.0)"]')
        said = self.fails("pin")
        for part in ("you ask for tin (>= 2.0)", "lead 1.0 needs tin (>= 1.0, < 2.0)", "lapidar need 'tin"):
            self.assertIn(part, said)
        self.declare('["ash (>= 1.0)"]')
        self.assertIn("needs R >= 99.0", self.fails("pin"))
        self.declare('["leed"]')
        self.assertIn("no package called leed", self.fails("pin"))
        self.declare('["lead >= 1.0"]')
        self.assertIn("NAME (>= 1.2)", self.fails("pin"))
        self.assertFalse(self.lock.exists())

    def test_limits_overrides_digests(self) -> None:
        digest = hashlib.sha256((self.contrib / "lead_1.0.tar.gz").read_bytes()).hexdigest()
        table = f'\n[needs.r]\npackages = ["lead"]\nlimits = ["tin (< 1.2)"]\nsha256 = {{ lead = ["{digest}"] }}\n'
        index = f'[index]\nkilns = {{ address = "{self.repository}", language = "r" }}\n'
        (self.project / "lapidar.toml").write_text(index + table)
        self.lapidar("pin")
        self.assertEqual(self.pinned(), {"lead": "1.0", "tin": "1.0"})
        (self.project / "lapidar.toml").write_text(index + table.replace(digest, "0" * 64))
        self.lock.unlink()
        self.variables["LAPIDAR_CACHE"] = str(self.folder / "other-cache")
        self.assertIn("none of the digests", self.fails("pin"))
        patched = self.folder / "patched"
        self.write("tin", "2.0-1", folder=patched, files={"R/tin.R": "tin_version_number <- function() 7\n"})
        shutil.unpack_archive(patched / "tin_2.0-1.tar.gz", self.project / "sources")
        override = '[override.r.tin]\nfolder = "sources/tin"\nbecause = "mended here"\n'
        self.declare('["lead"]', override)
        self.lapidar("pin")
        self.assertEqual(self.pinned()["tin"], "2.0-1", "whatever lead says")
        self.assertEqual(self.packages()["tin"].origin.path, "sources/tin")
        self.lapidar("restore")
        self.assertEqual(self.r("cat(tin::tin_version_number())"), "7")
        self.declare('["lead"]', '[override.r.tin]\nversion = "2.0-1"\nbecause = "tried"\n')
        self.lapidar("pin")
        self.assertEqual(self.packages()["tin"].origin.file, "tin_2.0-1.tar.gz")

    def test_the_archive_and_days(self) -> None:
        archive = self.contrib / "Archive" / "tin"
        self.write("tin", "0.1", folder=archive, Packaged="2019-05-01 10:00:00 UTC; nobody")
        self.declare('["tin (< 0.5)"]')
        self.lapidar("pin")
        self.assertEqual(self.pinned(), {"tin": "0.1"})
        for path in self.contrib.glob("*.tar.gz"):
            path.unlink()
        for version, day in (("1.0", "2020-01-01"), ("1.2", "2021-06-30"), ("2.0", "2022-01-01")):
            self.write("tin", version, Published=day)
        write_list(self.contrib, packed=True)
        (self.contrib / "PACKAGES").unlink()
        self.declare('["tin"]')
        self.lapidar("pin", "--as-of", "2021-06-30")
        self.assertEqual(self.pinned(), {"tin": "1.2"})
        self.assertIn("came after", self.lapidar("versions", "tin", "--as-of", "2020-06-30").stdout)

    def test_a_build_that_fails(self) -> None:
        self.write("broken", "1.0", files={"R/broken.R": "stop('no kiln')\n"}, SystemRequirements="GNU make, libxml2")
        write_list(self.contrib)
        self.declare('["broken"]')
        said = self.fails("pin")
        for part in ("broken 1.0 could not be built", "no kiln", "libxml2", "build-broken-1.0.log"):
            self.assertIn(part, said)
        self.assertFalse(self.lock.exists())

    def test_the_projects_own_description(self) -> None:
        (self.project / "lapidar.toml").write_text(
            f'[index]\nkilns = {{ address = "{self.repository}", language = "r" }}\n'
        )
        text = "Package: kilnstudy\nVersion: 0.1\nDepends: R (>= 3.5)\nImports:\n    lead (>= 0.9)\nLicense: none\n"
        (self.project / "DESCRIPTION").write_text(text)
        self.lapidar("pin")
        self.assertEqual(self.pinned(), {"lead": "1.0", "tin": "1.2"})
        self.lapidar("need", "--yes", "ash (< 2.0)")
        changed = (self.project / "DESCRIPTION").read_text()
        self.assertIn("Imports:\n    ash (< 2.0),\n    lead (>= 0.9)\nLicense: none\n", changed)
        self.assertEqual(self.pinned(), {"ash": "0.5", "lead": "1.0", "tin": "1.2"})
        self.lapidar("drop", "--yes", "ash")
        self.assertEqual(self.pinned(), {"lead": "1.0", "tin": "1.2"})
        self.assertEqual((self.project / "DESCRIPTION").read_text(), text)

    def test_what_comes_with_the_runtime(self) -> None:
        """A recommended package that no repository has is this R's own; another machine takes it from its R too."""
        self.write("fired", "1.0", Imports="boot")
        write_list(self.contrib)
        said = self.lapidar("need", "--language", "r", "fired", "--no-restore").stderr
        self.assertRegex(said, r"no repository has boot: [\d.-]+ is taken from R [\d.]+ of this machine")
        self.assertEqual(self.packages()["boot"].origin.kind, "environment")
        before = self.lock.read_bytes()
        self.variables["LAPIDAR_CACHE"] = str(self.folder / "another")
        self.lapidar("restore", "--fetch")
        self.assertEqual(self.r("library(fired); cat(exists('boot', asNamespace('boot')))"), "TRUE")
        self.lapidar("pin")
        self.assertEqual(self.lock.read_bytes(), before)

    def test_an_installed_package_is_no_source(self) -> None:
        """By the list, where it tells; else by what lies in the package."""
        built = "R 4.0.2; ; 2020-07-01 10:00:00 UTC; unix"
        self.write("fired", "2.0", Built=built)
        self.write("fired", "1.0")
        write_list(self.contrib)
        said = self.fails("need", "--language", "r", "fired", "--no-restore")
        self.assertIn("fired_2.0.tar.gz is an installed package, and no source of one", said)
        listed = self.contrib / "PACKAGES"
        text = listed.read_text()
        at = text.index("Version: 2.0\n", text.index("Package: fired"))
        listed.write_text(f"{text[:at]}Built: {built}\n{text[at:]}")
        self.lapidar("need", "--language", "r", "fired", "--no-restore")
        self.assertEqual(self.packages()["fired"].version, "1.0")
        said = self.lapidar("versions", "--language", "r", "fired").stdout
        self.assertIn("it is an installed package, and no source: it was installed with R 4.0.2", said)

    def test_who_links_to_it(self) -> None:
        self.write("headers", "1.0")
        self.write("glazer", "1.0", LinkingTo="headers")
        write_list(self.contrib)
        self.lapidar("need", "--language", "r", "glazer", "--no-restore")
        self.assertIn("glazer 1.0 needs headers", self.lapidar("why", "headers").stdout)

    def test_what_no_repository_has(self) -> None:
        self.write("lead", "1.5", Imports="nowhere")
        write_list(self.contrib)
        said = self.lapidar("pin").stderr
        self.assertIn(
            "lead 1.5 was passed over: it needs nowhere, and no repository has a package called nowhere", said
        )
        said = self.fails("need", "--language", "r", "neither", "nor")
        self.assertRegex(said, "There is no package called (neither or nor|nor or neither)\n")
        self.assertNotIn("spelling", said)
        self.assertNotIn("neither", (self.project / "lapidar.toml").read_text())

    def test_start_takes_a_description_over(self) -> None:
        (self.project / "lapidar.toml").unlink()
        (self.project / "analysis.R").write_text("library(lead)\n")
        (self.project / "DESCRIPTION").write_text("Package: kilnstudy\nVersion: 0.1\nImports: lead (>= 0.9)\n")
        self.lapidar("start", "--yes", "--index", self.repository)
        text = (self.project / "lapidar.toml").read_text()
        self.assertNotIn("[needs]", text)
        self.assertIn('language = "r"', text)
        self.lapidar("pin")
        self.assertEqual(self.pinned(), {"lead": "1.0", "tin": "1.2"})

    def test_start_finds_what_the_source_of_both_needs(self) -> None:
        self.lapidar("pin")
        self.lapidar("restore")
        (self.project / "lapidar.toml").unlink()
        (self.project / "analysis.R").write_text("library(lead)\nlibrary(stats)\nlibrary(nowhere)\n")
        (self.project / "analysis.py").write_text("import os\n")
        self.lapidar("start", "--yes")
        text = (self.project / "lapidar.toml").read_text()
        self.assertIn('r = [\n    "lead",\n    "nowhere",\n]', text, "nobody could be asked")
        self.assertRegex(text, r'r = ">=\d')
        (self.project / "lapidar.toml").unlink()
        (self.project / "analysis.py").unlink()
        said = self.lapidar("start", "--yes", "--index", self.repository).stderr
        self.assertIn("nobody here is known to provide nowhere", said)
        self.assertIn('r = [\n    "lead",\n]', (self.project / "lapidar.toml").read_text())


class Hostile(Pinning):
    def refused(self, *parts: str, code: int = 3) -> None:
        said = self.fails("pin", code=code)
        for part in parts:
            self.assertIn(part, said)
        self.assertFalse(self.lock.exists())

    def test_a_file_that_was_changed(self) -> None:
        path = self.write("lead", "1.0", files={"R/lead.R": "system('touch pwned')\n"}, Imports="tin (< 2.0)")
        self.assertTrue(path.exists())
        self.refused("not what its repository promises")

    def test_lists_that_lead_elsewhere_or_are_none(self) -> None:
        outside = self.folder / "outside"
        self.write("lead", "9.0", folder=outside)
        for bad in (
            "Package: lead\nVersion: 9.0\nPath: ../../../outside\n",
            f"Package: lead\nVersion: 9.0\nFile: {outside}/lead_9.0.tar.gz\n",
            "Package: ../lead\nVersion: 9.0\n",
            "Package: lead\nVersion: nine\n",
        ):
            (self.contrib / "PACKAGES").write_text(bad)
            for path in self.contrib.glob("lead_*"):
                path.unlink()
            self.refused("no package called lead")
        (self.contrib / "PACKAGES").write_text("<html>not found</html>\n")
        self.refused("PACKAGES", "cannot be read")
        (self.contrib / "PACKAGES").unlink()
        (self.contrib / "PACKAGES.gz").write_bytes(b"\x1f\x8b\x08\x00broken")
        self.refused("PACKAGES.gz", "cannot be read")
        self.repository = self.folder / "nowhere"
        self.declare('["lead"]')
        self.refused("There is no folder")

    def test_a_package_that_says_it_is_another(self) -> None:
        shutil.copy(self.contrib / "tin_1.0.tar.gz", self.contrib / "soda_1.0.tar.gz")
        (self.contrib / "PACKAGES").unlink()
        self.declare('["soda"]')
        self.refused("says that it is tin 1.0")

    def test_an_archive_that_climbs_out(self) -> None:
        import io
        import tarfile

        path = self.contrib / "climb_1.0.tar.gz"
        with tarfile.open(path, "w:gz") as archive:
            for name, data in (("climb/DESCRIPTION", b"Package: climb\nVersion: 1.0\n"), ("../../pwned", b"x")):
                info = tarfile.TarInfo(name)
                info.size = len(data)
                archive.addfile(info, io.BytesIO(data))
        (self.contrib / "PACKAGES").unlink()
        self.declare('["climb"]')
        self.refused("cannot be unpacked")
        self.assertFalse(any(path.name == "pwned" for path in self.folder.rglob("*")))


class OnAHost(Pinning):
    """The same repository, asked over HTTP: lists in each form, an archive as its host shows the folder."""

    def setUp(self) -> None:
        super().setUp()

        class Handler(http.server.SimpleHTTPRequestHandler):
            def log_message(self, *_: object) -> None:
                pass

        folder = str(self.repository)
        self.host = self.enterContext(ExitStack())
        self.address = f"http://{self.host.enter_context(answering(lambda *a: Handler(*a, directory=folder)))}"
        (self.project / "lapidar.toml").write_text(
            f'[index]\nkilns = {{ address = "{self.address}", language = "r" }}\n[needs]\nr = ["lead", "tin (< 0.5)"]\n'
        )
        self.write("tin", "0.1", folder=self.contrib / "Archive" / "tin", files=NUMBER)
        self.write("lead", "1.0", Imports="tin")
        write_list(self.contrib)

    def test_each_form_of_the_list(self) -> None:
        assert RSCRIPT
        words = [RSCRIPT, "--vanilla", "-e", f"tools::write_PACKAGES('{self.contrib}', type = 'source')"]
        subprocess.run(words, check=True, capture_output=True)
        trees = set()
        for kept in ("PACKAGES", "PACKAGES.gz", "PACKAGES.rds"):
            self.assertTrue((self.contrib / kept).exists(), "R writes all three")
            aside = self.folder / "aside"
            aside.mkdir()
            for name in {"PACKAGES", "PACKAGES.gz", "PACKAGES.rds"} - {kept}:
                os.rename(self.contrib / name, aside / name)
            self.variables["LAPIDAR_CACHE"] = str(self.folder / f"cache-{kept}")
            self.lapidar("pin")
            self.assertEqual(self.pinned(), {"lead": "1.0", "tin": "0.1"})
            self.assertEqual(
                self.packages()["tin"].origin.url, f"{self.address}/src/contrib/Archive/tin/tin_0.1.tar.gz"
            )
            trees.add(self.packages()["lead"].tree)
            self.lock.unlink()
            for path in aside.iterdir():
                os.rename(path, self.contrib / path.name)
            aside.rmdir()
        self.assertEqual(len(trees), 1)

    def test_no_repository_there(self) -> None:
        shutil.rmtree(self.contrib)
        self.assertIn("no repository of R packages", self.fails("pin"))
        self.host.close()
        self.fails("pin")


if __name__ == "__main__":
    unittest.main()
