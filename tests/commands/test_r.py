"""R, as one has it from Debian: captured, restored, run, checked, alone and together with Python."""

from __future__ import annotations

import os
import shutil
import subprocess
import unittest
from pathlib import Path

from lapidar.core.records import lockfile
from lapidar.core.records.snapshot import Snapshot
from roots import bare_root, run_in, skip_loudly
from support import Case, make_environment, tree_of

RSCRIPT = shutil.which("Rscript")
FROM_DEBIAN = "there is no R here (Debian's r-base-core and r-recommended; `make test-tools` installs them)"

# Digests of what R computes and draws, a line each; its results are to be the same bits wherever it runs.
NUMBERS = """
out <- function(name, x) {
  f <- tempfile(); saveRDS(x, f, compress = FALSE, version = 2)
  cat(name, unname(tools::md5sum(f)), "\\n")
}
set.seed(7)
m <- matrix(rnorm(900), 30)
d <- data.frame(x = 1:60, y = (1:60)^1.2 + rnorm(60), g = factor(rep(letters[1:6], 10)))
out("svd", svd(m)); out("solve", solve(m)); out("eigen", eigen(crossprod(m)))
out("lm", unclass(coef(lm(y ~ x, d)))); out("glm", coef(glm(x > 30 ~ y, binomial, d)))
v <- rnorm(20000); out("libm", list(exp(v), log(abs(v)), sin(v * 9), abs(v)^1.3)); out("pnorm", pnorm(m))
out("random", runif(5))
out("mixed", nlme::fixef(nlme::lme(y ~ x, d, ~ 1 | g)))
out("clusters", cluster::pam(m, 3)$clustering); out("tree", hclust(dist(m))$merge)
out("sorted", sort(c("b", "A", "a", "Z", "\\u00e4", "z")))
out("zones", format(as.POSIXct(0, origin = "1970-01-01", tz = "Asia/Tokyo")))
out("iconv", iconv("\\u00e4", "UTF-8", "latin1", toRaw = TRUE))
for (device in c("png", "svg")) {
  f <- tempfile()
  get(device)(f); plot(d$x, d$y, main = "sherds \\u00e4", family = "serif"); text(9, 9, "kiln"); invisible(dev.off())
  cat(device, unname(tools::md5sum(f)), file.size(f) > 900, "\\n")
}
"""
# What is mapped when all of it ran, but for the environment.
OUTSIDE = """
maps <- readLines("/proc/self/maps"); maps <- unique(sub("^[^/]*", "", maps[grepl("/", maps)]))
home <- dirname(dirname(normalizePath(R.home())))
cat(maps[!startsWith(maps, paste0(home, "/")) & !grepl("^/dev/|fontconfig", maps)], sep = "\\n")
"""


class RCase(Case):
    def setUp(self) -> None:
        super().setUp()
        if RSCRIPT is None:
            skip_loudly(self, FROM_DEBIAN)
        (self.project / "analysis.R").write_text(NUMBERS)

    def captured(self, *words: object) -> Snapshot:
        self.lapidar("capture", *words)
        return lockfile.read(self.lock)

    def r(self, script: str, *, code: int = 0, **settings: object) -> str:
        """Run a script in the restored environment."""
        (self.project / "asked.R").write_text(script)
        return self.lapidar("-q", "run", "Rscript", "asked.R", code=code, **settings).stdout.strip()

    def here(self, script: str) -> str:
        """Run a script with the R of this machine, under the same locale."""
        assert RSCRIPT
        words = [RSCRIPT, "--vanilla", "-e", script]
        return subprocess.run(words, env=self.variables, capture_output=True, text=True, check=True).stdout.strip()

    def package(self, library: Path, name: str, version: str = "1.0", **fields: str) -> Path:
        """An installed package, as far as a capture looks at it."""
        folder = library / name
        (folder / "R").mkdir(parents=True)
        told = {"Package": name, "Version": version, "Built": "R 4.0.0; ; 2026-01-01 00:00:00 UTC; unix"} | fields
        (folder / "DESCRIPTION").write_text("".join(f"{key}: {value}\n" for key, value in told.items() if value))
        (folder / "R" / name).write_text(f"{name} <- 1\n")
        return folder


class Restored(RCase):
    def test_the_same_bits_moved_and_with_nothing_of_the_host(self) -> None:
        snapshot = self.captured()
        self.assertEqual(snapshot.languages, ("r",), "nothing of Python, although there is one on PATH")
        names = {package.name for package in snapshot.packages}
        self.assertLessEqual({"nlme", "cluster"}, names)
        self.assertNotIn("MASS", names, "the project does not use it")
        before = self.lock.read_bytes()
        there = self.here(NUMBERS)
        self.lapidar("restore")
        self.assertEqual(self.lapidar("-q", "run", "Rscript", "analysis.R").stdout.strip(), there)
        self.assertTrue(self.json("check", "--deep", "--live")["clean"])
        for path in tree_of(self.restored):
            self.assertNotIn("python", path.lower())
        self.lapidar("capture", self.restored, "--scope", "whole")
        self.assertEqual(self.lock.read_bytes(), before, "captured again, it is the same")
        root = bare_root(self, self.folder / "bare")
        (root / "bin" / "rm").symlink_to("busybox")
        self.lapidar("restore", "--into", root / "home" / "first")
        (root / "home" / "first").rename(root / "home" / "an other")
        (root / "home" / "analysis.R").write_text(NUMBERS + OUTSIDE)
        said = run_in(root, "/bin/env", *self._conditions(snapshot), "/home/an other/bin/Rscript", "/home/analysis.R")
        self.assertEqual(said.strip(), there, "nothing of the host mapped, the same digests")

    def _conditions(self, snapshot: Snapshot) -> list[str]:
        assert snapshot.conditions
        return [f"{name}={value}" for name, value in snapshot.conditions.variables.items()]

    def test_what_r_starts_of_itself(self) -> None:
        """Clusters, children by every name that R code knows, programs inside of strings, blanks in arguments."""
        self.captured()
        self.lapidar("restore")
        home = self.r("cat(R.home())")
        self.assertEqual(home, str(self.restored / "lib" / "R"))
        said = self.r(
            """
            library(parallel)
            cl <- makeCluster(2)
            cat(unlist(clusterEvalQ(cl, R.home())), unlist(mclapply(1:2, function(i) R.home(), mc.cores = 2)), "\\n")
            stopCluster(cl)
            for (path in c(file.path(R.home("bin"), c("R", "Rscript")), commandArgs()[1], "Rscript", "R"))
              cat(grep("^/.*a  b$", system2(path, c("--vanilla", "-e", shQuote("cat(R.home(), 'a  b\\n')")),
                                       stdout = TRUE), value = TRUE), "\\n")
            cat(nzchar(Sys.which("sh")), Sys.which("no-such-program") == "", "\\n")
            """
        )
        self.assertEqual(said.count(home), 4 + 5, said)
        self.assertIn("TRUE TRUE", said)
        done = self.lapidar("-q", "run", "R", "--no-echo", "-e", "cat('a  b\\nc', commandArgs(TRUE))", "--args", "x y")
        self.assertEqual(done.stdout, "a  b\nc x y")
        self.assertIn("Usage: R", self.lapidar("-q", "run", "R", "--help").stdout)
        self.assertIn("4.", self.lapidar("-q", "run", "R", "CMD", "config", "--version", code=0).stdout)

    def test_nothing_of_the_user_leaks_in(self) -> None:
        """Neither libraries nor profiles nor saved sessions, from the home folder or from variables."""
        self.captured()
        self.lapidar("restore")
        library = self.package(self.folder / "library", "stowaway").parent
        for place in (self.folder, self.project):
            (place / ".Rprofile").write_text(f'cat("profile\\n"); .libPaths("{library}")\n')
            (place / ".Renviron").write_text(f"R_LIBS={library}\nKILN=leaked\n")
        self.here(f"stray <- 'session'; save(stray, file = '{self.project}/.RData')")
        self.variables |= {
            "R_LIBS": str(library), "R_LIBS_USER": str(library), "R_PROFILE_USER": str(self.folder / ".Rprofile"),
            "R_HOME": "/nowhere", "R_ENVIRON_USER": str(self.folder / ".Renviron"),
        }  # fmt: skip
        asked = 'cat(.libPaths(), Sys.getenv("KILN"), exists("stray"))'
        (self.project / "asked.R").write_text(asked)
        own = f"{self.restored}/lib/R/site-library {self.restored}/lib/R/library  FALSE"
        self.assertEqual(self.lapidar("-q", "run", "Rscript", "asked.R").stdout, own)
        self.assertEqual(self.lapidar("-q", "run", "R", "--no-echo", "--no-save", "-f", "asked.R").stdout, own)
        for options, found in ({}, "FALSE"), ({"R_BATCH_OPTIONS": "--restore"}, "TRUE"):  # it asks for one by itself
            words = ("-q", "run", "R", "CMD", "BATCH", "--no-save", "--slave", "--no-timing", "asked.R", "told")
            self.lapidar(*words, env={**self.variables, **options})
            told = (self.project / "told").read_text()
            self.assertTrue(told.endswith(found), told)
        start = [str(self.restored / "bin" / "Rscript"), "asked.R"]
        direct = subprocess.run(start, cwd=self.project, env=self.variables, capture_output=True, text=True)
        self.assertEqual(direct.stdout, own, "nor where the launcher is started by its path")
        said = self.lapidar("capture", self.restored, "--scope", "whole").stderr
        for name in (".Rprofile", ".Renviron", ".RData"):
            self.assertIn(name, said)

    def test_a_profile_that_is_declared_is_read(self) -> None:
        (self.project / "lapidar.toml").write_text('[conditions.env]\nR_PROFILE_USER = ".Rprofile"\n')
        (self.project / ".Rprofile").write_text("options(kiln = 7)\n")
        self.captured()
        self.lapidar("restore")
        self.assertEqual(self.r('cat(getOption("kiln", "none"))'), "7")

    def test_what_changed_is_found_and_mended(self) -> None:
        self.captured()
        self.lapidar("restore", "--placement", "copy")
        library = self.restored / "lib" / "R" / "site-library"
        (library / "nlme" / "DESCRIPTION").unlink()
        self.package(library, "soda")
        findings = self.json("check", code=1)["findings"]
        self.assertIn(("extra package", "soda"), {(one["problem"], one["name"]) for one in findings})
        self.assertTrue(any(one["name"].startswith("nlme") for one in findings), findings)
        self.lapidar("restore", "--replace")
        self.assertTrue(self.json("check", "--deep")["clean"])

    def test_shown_and_asked_about(self) -> None:
        self.captured()
        self.assertIn("R 4.", self.lapidar("show").stdout)
        self.assertIn("nlme", self.lapidar("show", "packages").stdout)
        said = self.lapidar("why", "lattice").stdout
        self.assertIn("nlme", said)
        self.assertIn("R ", self.lapidar("runtimes").stdout)
        self.assertIn(RSCRIPT, {one["interpreter"] for one in self.json("runtimes")})


class Numbers(RCase):
    def test_the_same_bits_on_an_older_processor(self) -> None:
        """The portable profile holds R's mathematics too, on an emulated processor without AVX."""
        emulator = shutil.which("qemu-x86_64")
        if emulator is None:
            skip_loudly(self, "there is no emulator here (Debian's qemu-user)")
        told = {}
        for profile in ("portable", "native"):
            (self.project / "lapidar.toml").write_text(f'[conditions]\nnumerics = "{profile}"\n')
            self.captured()
            self.lapidar("restore")
            start = (
                f'R_HOME={self.restored}/lib/R; . "$R_HOME/etc/ldpaths"; own={self.restored}/lib/lapidar; '
                f'exec {emulator} -cpu Nehalem "$own/ld-linux-x86-64.so.2" --inhibit-cache '
                '--argv0 "$R_HOME/bin/exec/R" --library-path "$own:$R_HOME/lib" "$own/R" '
                "--no-echo --no-restore --file=analysis.R"
            )
            here = self.lapidar("-q", "run", "Rscript", "analysis.R").stdout
            threads = self.lapidar("-q", "run", "env").stdout
            self.assertEqual("R_DATATABLE_NUM_THREADS=1" in threads, profile == "portable")
            told[profile] = (here, self.lapidar("-q", "run", "sh", "-c", start).stdout)
        self.assertEqual(told["portable"][0].count("\n"), 16)
        self.assertEqual(*told["portable"])
        if "avx2" in Path("/proc/cpuinfo").read_text():
            self.assertNotEqual(*told["native"], "natively libm is another there, and the test would see it")


class WithPython(RCase):
    def test_both_in_one_environment(self) -> None:
        make_environment(self.project / ".venv")
        (self.project / "ask.py").write_text("import subprocess, sys\nprint(sys.prefix)\n")
        snapshot = self.captured()
        self.assertEqual(snapshot.languages, ("python", "r"))
        before = self.lock.read_bytes()
        self.lapidar("restore")
        self.assertEqual(self.lapidar("-q", "run", "python", "ask.py").stdout.strip(), str(self.restored))
        said = self.r('cat(system2("python", c("-c", shQuote("import sys; print(sys.prefix)")), stdout = TRUE))')
        self.assertEqual(said, str(self.restored), "Python started from R is the environment's")
        started = (
            "import subprocess; print(subprocess.run(['Rscript', '-e', 'cat(R.home())'], stdout=-1).stdout.decode())"
        )
        self.assertEqual(
            self.lapidar("-q", "run", "python", "-c", started).stdout.strip(), str(self.restored / "lib" / "R")
        )
        where = "import sysconfig; print(sysconfig.get_config_var('INCLUDEPY'))"
        self.assertTrue(
            self.lapidar("-q", "run", "python", "-c", where).stdout.startswith(str(self.restored)),
            "R, which loads Python as a library, asks it where that is",
        )
        self.assertTrue(self.json("check", "--live")["clean"])
        self.lapidar("capture", self.restored, "--scope", "whole")
        self.assertEqual(self.lock.read_bytes(), before)
        alone = self.captured("--language", "r")
        self.assertEqual(alone.languages, ("r",))


class BadInput(RCase):
    """Libraries as they are met: the original R with a library of one's own before its own ones."""

    def setUp(self) -> None:
        super().setUp()
        self.library = self.folder / "library"
        self.library.mkdir()
        self.variables["R_LIBS"] = str(self.library)
        (self.project / "analysis.R").write_text("library(tin)\n")

    def capture_whole(self, code: int = 0) -> str:
        done = self.lapidar("capture", RSCRIPT, "--scope", "whole", "-v", code=code)
        return done.stdout + done.stderr

    def test_half_installed_and_shadowed_and_odd(self) -> None:
        self.package(self.library, "tin", URL="https://kiln.example/tin", RemoteSha="a" * 40)
        (self.library / "00LOCK-lead").mkdir()
        (self.library / "notes").mkdir()
        self.package(self.library, "Tin")
        (self.project / "a.py").write_text("import csv\n")  # the R that is named is meant
        self.package(self.library, "old", Built="R 3.2.1; ; 2015-01-01; unix")
        if (Path("/usr/lib/R/library") / "nlme").is_dir():
            self.package(self.library, "nlme", "99.1")
        os.symlink("/etc/shadow", self.library / "tin" / "secret")
        said = self.capture_whole()
        for part in (
            "00LOCK-lead",
            "notes",
            "differ only by case",
            "R 3.2.1",
            "nlme",
            "nothing explains",
            "/etc/shadow",
        ):
            self.assertIn(part, said)
        packages = {one.name: one for one in lockfile.read(self.lock).packages}
        self.assertEqual((packages["tin"].origin.kind, packages["tin"].origin.commit), ("version-control", "a" * 40))
        self.assertEqual(packages["nlme"].version, "99.1", "the first library wins")

    def test_packages_that_are_none(self) -> None:
        broken = self.package(self.library, "tin")
        (broken / "DESCRIPTION").write_text("no field\n")
        self.assertIn("DESCRIPTION cannot be read", self.fails("capture", RSCRIPT, "--scope", "whole"))
        (broken / "DESCRIPTION").write_text("Package: lead\nVersion: 1.0\n")
        self.assertIn("says that it is lead", self.fails("capture", RSCRIPT, "--scope", "whole"))
        (broken / "DESCRIPTION").write_text("Package: tin\nVersion: 1.0\n")
        self.assertIn("is the source of a package", self.fails("capture", RSCRIPT, "--scope", "whole"))
        (broken / "DESCRIPTION").unlink()
        os.mkfifo(broken / "DESCRIPTION")
        self.assertIn("tin", self.capture_whole(), "a pipe of that name is not waited for")

    def test_other_encodings(self) -> None:
        tin = self.package(self.library, "tin", Encoding="latin1")
        (tin / "DESCRIPTION").write_bytes((tin / "DESCRIPTION").read_bytes() + "Author: Töpfer\n".encode("latin1"))
        self.capture_whole()
        self.lapidar("restore")
        self.assertEqual(
            (self.restored / "lib/R/site-library/tin/DESCRIPTION").read_bytes(), (tin / "DESCRIPTION").read_bytes()
        )

    def test_no_r(self) -> None:
        fake = self.folder / "bin" / "Rscript"
        fake.parent.mkdir()
        fake.write_text("#!/bin/sh\necho nothing\n")
        fake.chmod(0o755)
        self.assertIn("is no R that works", self.fails("capture", fake))
        fake.write_text(
            "#!/bin/sh\nprintf 'lapidar-probe %s\\n' 'version 3.1.0' 'build r1' 'platform p' 'arch x86_64' end\n"
        )
        self.assertIn("too old", self.fails("capture", fake))
        said = (
            "'version 4.2.2' 'build r1' 'platform p' 'arch sparc64' 'home /' 'share /' 'include /' 'doc /' 'own /' end"
        )
        fake.write_text(f"#!/bin/sh\nprintf 'lapidar-probe %s\\n' {said}\n")
        self.assertIn("sparc64", self.fails("capture", fake))


if __name__ == "__main__":
    unittest.main()
