"""The readers of R source, versions and DESCRIPTIONs: held against R itself, and each kind of use by its own text."""

from __future__ import annotations

import itertools
import os
import random
import shutil
import subprocess
import unittest
from pathlib import Path

from lapidar.core.languages.r import description, requirements, versions
from lapidar.core.languages.r.survey import documents, sources, uses
from lapidar.core.languages.r.survey.tokens import Broken, tokens
from roots import skip_loudly
from support import InFolder

RSCRIPT = shutil.which("Rscript")
MOST = None if os.environ.get("LAPIDAR_TEST_ALL") else 300
PARSE = r"""
args <- commandArgs(TRUE)
to <- file(args[2], "w", encoding = "UTF-8")
for (f in readLines(args[1])) {
  parsed <- tryCatch(parse(f, keep.source = TRUE, encoding = "UTF-8"), error = function(e) NULL)
  if (is.null(parsed)) next
  found <- getParseData(parsed, includeText = TRUE)
  writeLines(paste0("file\t", f), to)
  if (is.null(found)) next
  found <- found[found$terminal, ]
  text <- getParseText(found, found$id)
  text <- gsub("\n", "\\n", gsub("\\", "\\\\", text, fixed = TRUE), fixed = TRUE)
  if (nrow(found)) writeLines(paste(found$line1, text, sep = "\t"), to)
}
close(to)
"""


def whole_of_machine() -> list[str]:
    """R files that somebody wrote, of R itself and of its packages."""
    found = []
    for top in ("/usr/lib/R", "/usr/share/R", "/usr/share/doc", "/usr/local/lib/R"):
        for folder, _, names in os.walk(top):
            found += [os.path.join(folder, name) for name in names if name.endswith((".R", ".r"))]
    return sorted(found)


class AgainstR(InFolder):
    def setUp(self) -> None:
        super().setUp()
        if RSCRIPT is None:
            skip_loudly(self, "there is no R here (Debian's r-base-core)")

    def ask(self, script: str, *words: object) -> str:
        assert RSCRIPT
        (self.root / "ask.R").write_text(script)
        done = subprocess.run(
            [RSCRIPT, "--vanilla", "ask.R", *map(str, words)],
            cwd=self.root,
            env={**os.environ, "LC_ALL": "C.UTF-8"},
            capture_output=True,
            text=True,
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        return done.stdout

    def test_tokens_are_those_of_its_parser(self) -> None:
        files = whole_of_machine()
        files = files[:: max(1, len(files) // MOST)] if MOST else files
        self.assertGreater(len(files), 10)
        (self.root / "files").write_text("".join(f"{file}\n" for file in files))
        self.ask(PARSE, "files", "tokens")
        compared = 0
        file, theirs = "", list[tuple[int, str]]()
        for line in [*(self.root / "tokens").read_text("utf-8", "surrogateescape").split("\n"), "file\t"]:
            first, _, rest = line.partition("\t")
            if first != "file":
                if line:
                    text = rest.replace("\\\\", "\0").replace("\\n", "\n").replace("\0", "\\")
                    theirs += [(int(first), "["), (int(first), "[")] if text == "[[" else [(int(first), text)]
                continue
            if file:
                compared += self.compare(file, theirs)
            file, theirs = rest, []
        self.assertGreater(compared, len(files) * 0.9)

    def compare(self, file: str, theirs: list[tuple[int, str]]) -> bool:
        """Whether a file could be compared; it must be the same then."""
        try:
            text = Path(file).read_text("utf-8")
        except UnicodeDecodeError:
            return False
        ours = [(token.line, token.text) for token in tokens(text) if token.text != ";"]
        theirs = [one for one in theirs if one[1] != ";"]
        if "\\1" not in text:  # R's own text of such a token is not what stands in the file
            self.assertEqual(ours, theirs, file)
        return True

    def test_versions_stand_as_r_has_them(self) -> None:
        draw = random.Random(12)
        texts = ["0.2-1", "0.2.1", "1.0", "1.10", "1.9", "2.0.0.9000", "4.2", "10.0-1"]
        texts += [".".join(str(draw.randrange(12)) for _ in range(draw.randrange(2, 5))) for _ in range(30)]
        pairs = list(itertools.product(texts, texts))
        script = "".join(f'cat(compareVersion("{one}", "{other}"), "\\n")\n' for one, other in pairs)
        said = [int(word) for word in self.ask(script).split()]
        self.assertEqual([versions.standing(one, other) for one, other in pairs], said)


class Uses(unittest.TestCase):
    def of(self, code: str) -> dict[str, str]:
        return {use.name: use.manner for use in uses.read(code).modules}

    def test_each_way_to_load_a_package(self) -> None:
        code = """
        library(tin); require("lead"); library(package = `ash`, quietly = TRUE)
        suppressPackageStartupMessages(library(glaze))
        if (!requireNamespace("soda", quietly = TRUE)) stop("no")
        if (require(kaolin)) 1
        f <- function() { library(inside); other::call() }
        g <- \\(x) lambda::call(x)
        try(library(perhaps))
        kiln::fire(1); kiln:::hidden
        data(wares, package = "catalogue"); system.file("x", package = "files")
        vignette("firing", "guide")
        loadNamespace("space")
        library(help = "nothing")
        library("by_value", character.only = TRUE)
        x$library; "library(text)" # library(comment)
        r"(library(raw))"
        """
        self.assertEqual(
            self.of(code),
            {
                "tin": "plain", "lead": "plain", "ash": "plain", "glaze": "plain", "soda": "tried", "kaolin": "tried",
                "inside": "in a function", "other": "in a function", "lambda": "plain", "perhaps": "tried",
                "kiln": "plain", "catalogue": "plain", "files": "plain", "guide": "plain", "space": "plain",
            },
        )  # fmt: skip

    def test_what_no_text_names(self) -> None:
        found = uses.read('for (p in names) library(p, character.only = TRUE)\nloadNamespace(paste0("a", b))\n')
        self.assertEqual([(use.name, use.line) for use in found.unclear], [
            ("library(p)", 1), ('loadNamespace(paste0("a",b))', 2),
        ])  # fmt: skip
        self.assertFalse(found.modules)

    def test_programs_paths_and_libraries(self) -> None:
        found = uses.read(
            'system("FAST=1 pandoc -o x y"); system2("dot", c("-T", "png")); pipe("zcat x.gz")\n'
            'system(paste("convert", x)); system(command)\n'
            'system(paste("gnuplot -e", x))\n'
            'setwd("/srv/data"); read.csv("/home/ana/sherds.csv"); x <- "C:\\\\Users\\\\ana\\\\x.csv"\n'
            'dyn.load("libkiln.so")\n'
        )
        self.assertEqual([use.name for use in found.programs], ["pandoc", "dot", "zcat", "gnuplot"])
        self.assertEqual(
            [use.name for use in found.paths], ["/srv/data", "/home/ana/sherds.csv", "C:\\Users\\ana\\x.csv"]
        )
        self.assertEqual([use.name for use in found.libraries], ["libkiln.so"])

    def test_broken_source(self) -> None:
        for code, line in (('x <- "abc\n', 1), ("1\nr'---(abc)--'", 2), ("\n\n`a", 3)):
            with self.assertRaises(Broken) as raised:
                uses.read(code)
            self.assertEqual(raised.exception.line, line)
        uses.read("library(tin))))}}}]] else + ( { [")  # a parser would refuse it

    def test_a_namespace(self) -> None:
        found = uses.read_namespace('import(tin, "lead")\nimportFrom(ash, f, g)\nexport(library)\n# import(no)\n')
        self.assertEqual([use.name for use in found.modules], ["tin", "lead", "ash"])


class Documents(InFolder):
    def read(self, name: str, text: str) -> tuple[set[str], list[str]]:
        (self.root / name).write_text(text)
        one = documents.read(self.root / name, name)
        return {
            f"{use.name}:{use.line}" for _, piece in one.pieces for use in piece.modules if use.manner != "rendered"
        }, one.problems

    def test_chunks_and_lines(self) -> None:
        text = (
            "Text library(no)\n\n```{r setup, echo=FALSE}\nlibrary(tin)\n```\n\n```{python}\nimport no\n```\n"
            "Inline `r lead::n()` here, `r` and ``library(no)``.\n> ```{r}\n> library(quoted)\n> ```\n"
            "```r\nlibrary(shown)\n```\n````{r}\nlibrary(ash)\n````\n"
        )
        for name in ("a.Rmd", "a.qmd"):
            self.assertEqual(self.read(name, text)[0], {"tin:4", "lead:10", "quoted:12", "ash:18"})

    def test_sweave_and_notebooks_and_packages(self) -> None:
        text = "\\documentclass{article}\n<<a>>=\nlibrary(tin)\n@\nlibrary(no) \\Sexpr{lead::n()}\n"
        self.assertEqual(self.read("a.Rnw", text)[0], {"tin:3", "lead:5"})
        cells = '{"cells": [{"cell_type": "code", "source": ["library(tin)"]}], "metadata": {"kernelspec": {"language": "%s"}}}'
        self.assertEqual(self.read("a.ipynb", cells % "R")[0], {"tin:1"})
        self.assertEqual(self.read("b.ipynb", cells % "python")[0], set())
        self.read("c.R", "library(x)\n")
        self.assertEqual(list(sources.find(self.root)), ["a.Rnw", "a.ipynb", "c.R"])
        (self.root / "DESCRIPTION").write_text("Package: kiln\nVersion: 1.0\nLinkingTo: glue (>= 1)\n")
        (self.root / "NAMESPACE").write_text("import(tin)\n")
        self.assertEqual(list(sources.find(self.root))[:2], ["DESCRIPTION", "NAMESPACE"])

    def test_what_cannot_be_read(self) -> None:
        self.assertIn("bad.R, line 2", self.read("bad.R", 'library(a)\n"never ends')[1][0])
        (self.root / "latin.R").write_bytes(b"library(a) # \xe4\n")
        self.assertIn("not UTF-8", documents.read(self.root / "latin.R", "latin.R").problems[0])


class Descriptions(unittest.TestCase):
    def test_fields_and_needs(self) -> None:
        one = description.parse(
            b"Package: kiln\nVersion: 1.0-2\nDepends: R (>= 4.1), tin(>=2),\n lead (>1.2), lead (< 3)\nImports:\n"
            b" ash,\n  glaze (>= 1.0, < 2), nonsense (what), methods\nEncoding: latin1\nTitle: T\xf6pfe\n"
        )
        self.assertEqual(one.fields["Title"], "Töpfe")
        self.assertEqual(str(one.runtime), ">= 4.1")
        self.assertEqual(
            [str(need) for need in one.needs("Depends", "Imports")],
            ["tin (>= 2)", "lead (> 1.2, < 3)", "ash", "glaze (>= 1.0, < 2)", "methods"],
        )

    def test_bad_ones(self) -> None:
        for data in (b" goes on\n", b"no field\n", b"two words: x\n", b"Package: \n"):
            with self.assertRaises(ValueError):
                parsed = description.parse(data)
                self.assertFalse(parsed.name)
                raise ValueError
        with self.assertRaises(ValueError):
            description.parse(b"Package: a\nVersion: 1\nImports: " + b"a, " * 6000).needs("Imports")

    def test_requirements(self) -> None:
        for text in ("sherd stats", "9x", "a (>= )", "a (~ 1)", "a (>= 1", "", "a (>= x)"):
            with self.assertRaises(ValueError, msg=text):
                requirements.parse(text)
        self.assertTrue(requirements.parse("a (>= 1.0, < 2)").range.contains("1.0-1"))
        self.assertFalse(requirements.parse("a (> 1.0)").range.contains("1.0"))


if __name__ == "__main__":
    unittest.main()
