"""R with all of its packages elsewhere: python tests/acceptance/r_elsewhere.py [--r FRONT_END] ROOT ...

The R of this machine, with every package that it sees, is captured and restored below ROOT/home, moved there once, and
runs the script below from inside the root, with no network and nothing of the host's: linear and mixed models,
decompositions, clustering, ordination, sorting by locale, tables, figures to the byte, a document through pandoc. Each
digest must be the one that the original gives here; with all packages loaded no file from outside may be mapped; and
captured again from there the lockfile must be the same. A part whose package is not here is passed over and named.
ROOT is a folder with another system in it. Needs root. The last line says N passed, N failed.
"""

from __future__ import annotations

import argparse
import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))
from roots import run_in

PROGRAM = str(Path(sys.executable).with_name("lapidar"))
PARTS = {
    "svd": "svd(m)",
    "solve": "solve(m)",
    "eigen": "eigen(crossprod(m))",
    "lm": "coef(lm(y ~ x, d))",
    "glm": "coef(glm(x > 30 ~ y, binomial, d))",
    "libm": "list(exp(m), log(abs(m)), sin(m), abs(m)^1.3, pnorm(m), gamma(abs(m)))",
    "clusters": "list(hclust(dist(m))$merge, kmeans(m, 3, nstart = 5)$cluster)",
    "sorted": 'sort(c("b", "A", "a", "Z", "\\u00e4", "z", "\\u00df"))',
    "zones": 'format(as.POSIXct(1e9, origin = "1970-01-01", tz = "Europe/Rome"), "%c %Z")',
    "iconv": 'list(iconv("\\u00e4", "UTF-8", "latin1", toRaw = TRUE), iconv("\\u20ac", "UTF-8", "CP1252", toRaw = TRUE))',
    "mixed (nlme)": "nlme::fixef(nlme::lme(y ~ x, d, ~ 1 | g))",
    "mixed (lme4)": "lme4::fixef(lme4::lmer(y ~ x + (1 | g), d))",
    "smooth (mgcv)": 'coef(mgcv::gam(y ~ s(x), data = d, method = "REML"))',
    "ordination (vegan)": "vegan::scores(vegan::rda(abs(m)))$sites",
    "frames (dplyr)": "as.data.frame(dplyr::summarise(dplyr::group_by(d, g), m = mean(y)))",
    "frames (data.table)": "data.table::as.data.table(d)[, list(m = mean(y)), by = g]",
    "json (jsonlite)": "jsonlite::toJSON(d, digits = NA)",
    "digests (digest)": "digest::digest(m)",
    "text (stringi)": "stringi::stri_sort(c('z', '\\u00e4', 'a'), locale = 'de')",
    "children (callr)": "callr::r(function() sum(sqrt(1:99)))",
    "forests (randomForest)": "{ set.seed(2); randomForest::randomForest(y ~ x, d, ntree = 20)$mse }",
    "lasso (glmnet)": "as.matrix(coef(glmnet::glmnet(m, m[, 1])))",
    "maps (sf)": "sf::st_as_text(sf::st_transform(sf::st_sfc(sf::st_point(c(11, 44)), crs = 4326), 3035))",
    "trees (ape)": "ape::write.tree(ape::nj(dist(m)))",
    "xml (xml2)": "as.character(xml2::read_xml('<a><b>\\u00e4</b></a>'))",
}
FIGURES = {
    "base": 'plot(d$x, d$y, main = "Sherds \\u00e4\\u03b1", family = "serif"); legend("top", "kiln", pch = 1)',
    "grammar (ggplot2)": "print(ggplot2::ggplot(d, ggplot2::aes(x, y, colour = g)) + ggplot2::geom_point() + "
    'ggplot2::ggtitle("Kilns"))',
    "lattice (lattice)": "print(lattice::xyplot(y ~ x | g, d))",
}
HEAD = """
out <- function(name, x) {
  f <- tempfile(); saveRDS(x, f, compress = FALSE, version = 2)
  cat(name, unname(tools::md5sum(f)), "\\n")
}
part <- function(name, package, make) {
  if (nzchar(package) && !requireNamespace(package, quietly = TRUE)) cat(name, "not here\\n")
  else tryCatch(make(), error = function(e) cat(name, "failed:", conditionMessage(e), "\\n"))
}
set.seed(7)
m <- matrix(rnorm(900), 30)
d <- data.frame(x = 1:60, y = (1:60)^1.2 + rnorm(60), g = factor(rep(letters[1:6], 10)))
"""
DOCUMENT = """
part("document (rmarkdown)", "rmarkdown", function() {
  f <- file.path(tempdir(), "a.Rmd")
  writeLines(c("---", "title: Sherds", "---", "", "```{r}", "print(coef(lm(y ~ x, d)))", "```"), f)
  o <- rmarkdown::render(f, rmarkdown::md_document(), quiet = TRUE)
  out("document (rmarkdown)", readLines(o))
})
"""
MAPPED = """
for (package in list.files(.Library.site)) try(suppressMessages(loadNamespace(package)), silent = TRUE)
maps <- readLines("/proc/self/maps"); maps <- unique(sub("^[^/]*", "", maps[grepl("/", maps)]))
home <- dirname(dirname(normalizePath(R.home())))
cat("loaded", length(loadedNamespaces()), "\\n")
outside <- maps[!startsWith(maps, paste0(home, "/")) & !grepl("^/dev/|cache", maps)]
cat("mapped from outside", length(outside), head(outside), "\\n")
"""


def script() -> str:
    """What runs in each place."""
    lines = [HEAD]
    for name, expression in PARTS.items():
        package = name.partition("(")[2].rstrip(")")
        lines.append(f'part("{name}", "{package}", function() out("{name}", {expression}))')
    for name, drawing in FIGURES.items():
        package = name.partition("(")[2].rstrip(")")
        for device in ("png", "svg"):
            lines.append(
                f'part("{device} {name}", "{package}", function() {{ f <- tempfile(); {device}(f); {drawing}; dev.off(); '
                f'cat("{device} {name}", unname(tools::md5sum(f)), file.size(f) > 2000, "\\n") }})'
            )
    return "\n".join([*lines, DOCUMENT])


class Trial:
    """One R on several roots."""

    def __init__(self, front_end: str, work: Path) -> None:
        self.front_end = front_end
        self.work = work
        self.variables = {**os.environ, "LAPIDAR_CACHE": str(work / "cache"), "LANG": "C.UTF-8", "TZ": "UTC"}
        self.variables |= {"OMP_NUM_THREADS": "1", "R_DATATABLE_NUM_THREADS": "1"}
        (work / "script.R").write_text(script())
        (work / "lapidar.toml").write_text('[needs]\ntools = ["pandoc"]\n' if shutil.which("pandoc") else "")

    def lapidar(self, *words: object) -> str:
        done = subprocess.run(
            [PROGRAM, *map(str, words)], cwd=self.work, env=self.variables, capture_output=True, text=True
        )
        if done.returncode not in (0, 1):
            raise AssertionError(f"lapidar {words}\n{done.stdout}\n{done.stderr}")
        return done.stdout

    def here(self) -> str:
        """What the original says."""
        words = [self.front_end, "--vanilla", "script.R"]
        return subprocess.run(words, cwd=self.work, env=self.variables, capture_output=True, text=True).stdout

    def there(self, root: Path) -> tuple[str, str]:
        """What the restored one says in a root: of the script, and of what is mapped."""
        first, place = root / "home" / "first", root / "home" / "restored"
        for folder in (first, place):
            shutil.rmtree(folder, ignore_errors=True)
        self.lapidar("restore", "--into", first)
        first.rename(place)
        (root / "home" / "script.R").write_text(script())
        (root / "home" / "mapped.R").write_text(MAPPED)
        conditions = ["LANG=C.UTF-8", "TZ=UTC", "OMP_NUM_THREADS=1", "R_DATATABLE_NUM_THREADS=1", "HOME=/tmp",
                      "PATH=/home/restored/bin:/bin:/usr/bin"]  # fmt: skip
        start = ["env", *conditions, "/home/restored/bin/Rscript"]
        said = run_in(root, *start, "/home/script.R", check=False)
        mapped = run_in(root, *start, "/home/mapped.R", check=False)
        return said, mapped

    def again(self, root: Path) -> bool:
        """Whether captured from there the lockfile is the same."""
        before = (self.work / "lapidar.lock").read_bytes()
        self.lapidar("capture", root / "home" / "restored", "--scope", "whole")
        return (self.work / "lapidar.lock").read_bytes() == before


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--r", default=shutil.which("Rscript"))
    parser.add_argument("roots", nargs="+", type=Path)
    options = parser.parse_args()
    passed = failed = 0
    with tempfile.TemporaryDirectory() as folder:
        trial = Trial(options.r, Path(folder))
        trial.lapidar("capture", options.r, "--scope", "whole", "--language", "r")
        wanted = trial.here().splitlines()
        odd = [line for line in wanted if "not here" in line or "failed:" in line]
        print(f"{len(wanted)} parts here" + (f"; passed over: {'; '.join(odd)}" if odd else ""), flush=True)
        for root in options.roots:
            said, mapped = trial.there(root)
            lines = set(said.splitlines())
            wrong = [f"not the same: {line}" for line in wanted if line not in lines]
            wrong += [] if "mapped from outside 0" in mapped else [mapped.strip()]
            wrong += [] if trial.again(root) else ["captured again from there, the lockfile differs"]
            print(f"{root}: {mapped.strip().splitlines()[0] if mapped.strip() else ''}: ", end="")
            print("the same" if not wrong else "\n  " + "\n  ".join([*wrong, said[-2000:]]), flush=True)
            passed, failed = passed + (not wrong), failed + bool(wrong)
            shutil.rmtree(root / "home" / "restored", ignore_errors=True)
    print(f"{passed} passed, {failed} failed")
    return int(bool(failed))


if __name__ == "__main__":
    sys.exit(main())
