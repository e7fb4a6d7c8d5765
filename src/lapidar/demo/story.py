"""The demo's steps. First act: survey a project, need what is missing, from an index that runs beside it; a release of
a package changes a result, which shows; which one did it is found, and taken back; a package of the project's own is
edited, something is tried aside, an old value asked for. Second act: capture an environment, restore it, record an
analysis, run it again elsewhere, compare; two more rest on it, and an edit of the data shows which. Third act, where
there is an R: the same analysis in both languages, in one environment.

Each step is the program itself, run as the user would type it.
"""

from __future__ import annotations

import hashlib
import importlib.util
import json
import os
import shlex
import shutil
import subprocess
import sys
from collections.abc import Callable, Mapping
from importlib import resources
from pathlib import Path

from msgspec import Struct

from lapidar.core.errors import LapidarError, TargetRefused
from lapidar.demo import packages
from lapidar.standin.index import StandInIndex

__all__ = ["Compared", "Story", "Teller"]

_NEEDS = ("numpy", "scipy", "pandas", "matplotlib")
_FILES = ("sherds.csv", "analysis.py", "README.md")
RESULTS = ("scores.csv", "summary.json", "sherds.png")

_DECLARATION = """\
# What the catalogue needs.
[needs]
packages = [
    "sherdtext>=1",  # its entries
]
"""

_OF_BOTH = """\
# One analysis in two languages.
[project]
name = "sherds-twice"

[index]
kilns = { address = "../r-packages", language = "r" }

[analysis.sherds.tolerance]
"in-r/scores.csv" = { relative = 1e-9, absolute = 1e-9 } # two programs that sum in another order
"""

Teller = Callable[[str, str], None]  # kind ("say", "type"), text


class Compared(Struct, frozen=True):
    """One result file of both runs. Digests are sha256 in hex; sizes in bytes."""

    name: str
    bytes: int
    before: str
    after: str

    @property
    def identical(self) -> bool:
        return self.before == self.after


class Story:
    """The demo in a folder of its own, with a cache of its own.

    Args:
        folder: made if it is missing.
        tell: called with what to say, and with each command as the user would type it.
        quiet: keep the output of the commands back.
    """

    def __init__(self, folder: Path, tell: Teller, *, quiet: bool) -> None:
        self.folder = folder
        self.project = folder / "sherds"
        self.tell = tell
        self.quiet = quiet

    def run(self) -> list[Compared]:
        """Tell it.

        Raises:
            LapidarError: a step failed, or the packages of the analysis are not there.
        """
        self._require_packages()
        self._refuse_foreign()
        self._first_act()
        self.tell(
            "say",
            "Another one: the glaze chemistry of 204 sherds from unknown kilns, and its analysis, as it runs today.",
        )
        self._copy("sherds", _FILES, self.project)
        # A project of its own, whatever project the demo's folder lies in.
        (self.project / "lapidar.toml").write_text('[project]\nname = "sherds"\n')
        here = os.path.relpath(self.project)
        self.tell("type", f"cd {shlex.quote(here)}; export LAPIDAR_CACHE=../cache")
        self._run(
            [sys.executable, "analysis.py", "results-today"], "python analysis.py results-today", self.project, {}
        )
        self.tell(
            "say",
            "Capture the environment it ran in (lapidar's own): its runtime, its packages, and the system libraries "
            "below them, byte for byte.",
        )
        self._lapidar("capture", os.path.relpath(sys.prefix, self.project))
        self._lapidar("show")
        self.tell("say", "Build it again, from the lockfile and the cache alone.")
        self._lapidar("restore")
        self.tell("say", "Is everything what the lockfile stands for? This reads every byte.")
        self._lapidar("check", "--deep")
        self.tell("say", "Record the analysis: what it reads and writes is seen while it runs. Is the record enough?")
        self._lapidar("record", "sherds", "--verify", "--", "python", "analysis.py")
        self.tell(
            "say",
            "Would it come out elsewhere? While this machine still has everything: once more where nothing of it is in "
            "sight, as another user on another host.",
        )
        self._lapidar("prove", "sherds", codes=(0, 3))
        self.tell(
            "say",
            "Years later, on another machine: there is a small file, and the cache. The environment is restored, the "
            "analysis run again, and each result compared.",
        )
        elsewhere = self.folder / "elsewhere"
        shutil.rmtree(elsewhere, ignore_errors=True)
        elsewhere.mkdir()
        for name in ("lapidar.results", "lapidar.toml"):
            shutil.copy(self.project / name, elsewhere)
        self.tell("type", "cp lapidar.results lapidar.toml ../elsewhere; cd ../elsewhere")
        self._lapidar("rerun", "--keep-results", "results-later", at=elsewhere)
        self._in_a_parcel()
        self._what_rests_on_it()
        self._third_act()
        self.tell("type", "cd ../sherds")
        return [self._compare(name) for name in RESULTS]

    def end(self) -> None:
        """The memory map's verdict on what was restored.

        Raises:
            LapidarError: a file from outside was mapped.
        """
        self.tell("say", "Did anything of this machine take part? The running interpreter's memory map says:")
        self._lapidar("check", "--live")

    def _first_act(self) -> None:
        """From source code to pinned packages."""
        catalogue = self.folder / "catalogue"
        self._copy("catalogue", ("catalogue.py", "finds.csv"), catalogue)
        (catalogue / "lapidar.toml").write_text(_DECLARATION)
        packages.write(self.folder / "index")
        with StandInIndex(self.folder / "index") as index:
            self.tell("say", "A small project that nobody ran here yet, and a package index on this machine.")
            here = os.path.relpath(catalogue)
            self.tell("type", f"cd {shlex.quote(here)}; export LAPIDAR_CACHE=../cache LAPIDAR_INDEX={index.address}")
            more = {"LAPIDAR_INDEX": index.address, "VIRTUAL_ENV": sys.prefix}
            self.tell("say", "What does its source need? Nothing is run for that; the index is asked who has `kilns`.")
            self._lapidar("survey", at=catalogue, more=more)
            self.tell("say", "Say it once: what is needed is resolved, fetched, kept, and placed.")
            self._lapidar("need", "kiln-map", at=catalogue, more=more)
            self._lapidar("run", "python", "catalogue.py", at=catalogue, more=more)
            self.tell("say", "Why this old version of kiln-map, and not the newest?")
            self._lapidar("why", "kiln-map==1.1", at=catalogue, more=more)
            self._silent_change(catalogue, more)
            self._from_day_to_day(catalogue, more)
        self.tell("type", "cd -")

    def _silent_change(self, catalogue: Path, more: Mapping[str, str]) -> None:
        """New releases, and a result that is another than before; which of them did it, and the way back."""
        self.tell("say", "Record it: its command, what it read and wrote, and with which environment.")
        self._lapidar("record", "catalogue", "--", "python", "catalogue.py", at=catalogue, more=more)
        packages.write_releases(self.folder / "index")
        self.tell("say", "Three packages have new releases. None says of a result that it changed.")
        self._lapidar("pin", "--renew", at=catalogue, more=more)
        self._lapidar("run", "python", "catalogue.py", at=catalogue, more=more)
        self.tell("say", "It looks the same. Is it?")
        words = ("compare", "catalogue", ".", "--picture", "../difference.png")
        self._lapidar(*words, at=catalogue, more=more, codes=(1,))
        self.tell("say", "What changed since? And which of it did this?")
        self._lapidar("history", at=catalogue, more=more)
        self._lapidar("culprit", "--report", "../culprit.html", at=catalogue, more=more)
        self.tell("say", "Back to the snapshot before, lockfile and environment; and the record holds again.")
        self._lapidar("return", at=catalogue, more=more)
        self._lapidar("rerun", "catalogue", at=catalogue, more=more)

    def _from_day_to_day(self, catalogue: Path, more: Mapping[str, str]) -> None:
        """A package of one's own, edited where it lies; something tried without a trace; an old value asked for."""
        member = catalogue / "libs" / "walking"
        packages.write_member(member, 4.0)
        self.tell(
            "say", "How long does one walk to a kiln? A package of the project's own says so: edited where it is."
        )
        self._lapidar("need", "./libs/walking", at=catalogue, more=more)
        walk = ("run", "python", "-c", "from walking import minutes; print(minutes(3.2), 'minutes')")
        self._lapidar(*walk, at=catalogue, more=more)
        self.tell("type", "sed -i s,4.0,5.0, libs/walking/src/walking/__init__.py")
        packages.write_member(member, 5.0)
        self._lapidar(*walk, at=catalogue, more=more)
        self.tell("say", "And with newer words for the glazes? Tried beside the project, which stays as it is.")
        self._lapidar("aside", "glazewords>=1.5", "--", "python", "catalogue.py", at=catalogue, more=more)
        self.tell("say", "What would the snapshot with the new releases say of one find? Asked, without going there.")
        renewed = self._before_the_return(catalogue, more)
        self._lapidar("call", "--in", renewed, "kilns:nearest", "--given", "[4.0, 4.0]", at=catalogue, more=more)

    def _before_the_return(self, catalogue: Path, more: Mapping[str, str]) -> str:
        """Begin of the identity of the snapshot with the new releases, as `history` prints it."""
        words = [sys.executable, "-m", "lapidar", "history", "--json"]
        variables = {**os.environ, "LAPIDAR_CACHE": "../cache", **more}
        said = subprocess.run(words, cwd=catalogue, env=variables, check=True, capture_output=True).stdout
        renewed = next(entry["snapshot"] for entry in json.loads(said) if entry["cause"] == "renewed")
        return str(renewed).removeprefix("sha256:")[:12]

    def _in_a_parcel(self) -> None:
        """Everything in one file, opened where there is nothing."""
        self.tell("say", "A machine that has no network, and no cache either: everything in one file.")
        self.tell("type", "cd ../sherds")
        parcel = "../sherds.parcel.tar"
        words = ("parcel", "make", "--with-project", "--with-results", "--without-lapidar", "--to", parcel)
        self._lapidar(*words)
        far = self.folder / "far"
        shutil.rmtree(far, ignore_errors=True)
        far.mkdir()
        more = {"LAPIDAR_CACHE": "../far-cache"}
        self.tell("type", "mkdir ../far; cd ../far; export LAPIDAR_CACHE=../far-cache")
        self._lapidar("parcel", "open", parcel, "--into", ".", at=far, more=more)
        self.tell("say", "Its record was made elsewhere: what it runs is looked at before, and agreed to (--yes).")
        self._lapidar("rerun", "sherds", "--yes", at=far, more=more)
        self.tell("type", "export LAPIDAR_CACHE=../cache")

    def _what_rests_on_it(self) -> None:
        """Three analyses, an edit of the data, and what has to run again."""
        self.tell("say", "Two more analyses rest on the first. Nothing says so but what they are seen to read.")
        self.tell("type", "cd ../sherds")
        self._copy("sherds", ("trenches.py", "letter.py"), self.project)
        self._lapidar("record", "--", "python", "trenches.py")
        self._lapidar("record", "--", "python", "letter.py")
        self.tell("say", "Somebody finds that the last sherd is no sherd. What relied on it?")
        self.tell("type", "sed -i '$d' sherds.csv")
        file = self.project / "sherds.csv"
        file.write_text("".join(file.read_text("utf-8").splitlines(keepends=True)[:-1]), encoding="utf-8")
        self._lapidar("steps", "--picture", "../steps.svg", codes=(1,))
        self.tell("say", "Run that, in order, and nothing else: what comes out the same leaves what rests on it alone.")
        self._lapidar("refresh")
        self.tell("say", "And where does the letter come from?")
        self._lapidar("lineage", "results/letter.txt")

    def _third_act(self) -> None:
        """The same analysis in R, beside Python's, in one environment; the results compared."""
        if shutil.which("Rscript") is None:
            self.tell("say", "There is no R on this machine: the same analysis in R is left out.")
            return
        both = self.folder / "both"
        self._copy("sherds", ("sherds.csv", "analysis.py", "analysis.R"), both)
        (both / "lapidar.toml").write_text(_OF_BOTH)
        packages.write_r(self.folder / "r-packages")
        self.tell(
            "say",
            "A colleague trusts R more. The same sherds in R, with a package that comes from a repository as source: "
            "both languages in one environment.",
        )
        self.tell("type", "cd ../both")
        self._lapidar("capture", os.path.relpath(sys.prefix, both), "--language", "python", at=both)
        self._lapidar("need", "--language", "r", "sherdstats (>= 1.0)", at=both)
        self._lapidar("survey", at=both)
        self._lapidar("run", "python", "analysis.py", "in-python", at=both)
        self._lapidar("run", "Rscript", "analysis.R", "in-r", at=both)
        self.tell("say", "Do they agree? Not to the last bit: they sum in another order. Within 1e-9, yes.")
        words = ("compare", "in-python/scores.csv", "in-r/scores.csv", "--analysis", "sherds")
        self._lapidar(*words, at=both)

    def _require_packages(self) -> None:
        missing = [name for name in _NEEDS if importlib.util.find_spec(name) is None]
        if missing:
            raise LapidarError(
                f"The sample analysis needs {', '.join(missing)}, which lapidar's own environment does not have",
                remedy="Install lapidar with its demo extra (lapidar[demo]), or run `make demo` in its source folder.",
            )

    def _refuse_foreign(self) -> None:
        if self.folder.exists() and any(self.folder.iterdir()) and not (self.project / "analysis.py").is_file():
            raise TargetRefused(
                f"{self.folder} is not empty, and not from an earlier demo", remedy="Name another folder with --into."
            )

    def _copy(self, source: str, names: tuple[str, ...], target: Path) -> None:
        target.mkdir(parents=True, exist_ok=True)
        sources = resources.files("lapidar.demo").joinpath(source)
        for name in names:
            (target / name).write_bytes(sources.joinpath(name).read_bytes())

    def _lapidar(
        self,
        *words: str,
        at: Path | None = None,
        more: Mapping[str, str] | None = None,
        codes: tuple[int, ...] = (0,),
    ) -> None:
        shown = shlex.join(["lapidar", *words])
        self._run([sys.executable, "-m", "lapidar", *words], shown, at or self.project, more or {}, codes)

    def _run(
        self,
        command: list[str],
        shown: str,
        at: Path,
        more: Mapping[str, str],
        codes: tuple[int, ...] = (0,),
    ) -> None:
        self.tell("type", shown)
        sys.stdout.flush()
        variables = {**os.environ, "LAPIDAR_CACHE": "../cache", **more}
        done = subprocess.run(
            command,
            cwd=at,
            env=variables,
            check=False,
            stdin=subprocess.DEVNULL,  # at a terminal too nobody is asked: the story goes on by itself
            stdout=subprocess.DEVNULL if self.quiet else None,
        )
        if done.returncode not in codes:
            raise LapidarError(
                f"A step of the demo failed with exit code {done.returncode}",
                why=shlex.join(command),
                remedy=f"Look at {self.folder}, or run the step by hand.",
            )

    def _compare(self, name: str) -> Compared:
        before = (self.project / "results-today" / name).read_bytes()
        after = (self.folder / "elsewhere" / "results-later" / "results" / name).read_bytes()
        return Compared(name, len(before), hashlib.sha256(before).hexdigest(), hashlib.sha256(after).hexdigest())
