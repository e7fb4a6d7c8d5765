"""The ground that attacks are made on: a small project of the made-up language, an index, a cache, and what must hold
after anything that was done to them."""

from __future__ import annotations

import json
import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import ClassVar

from lapidar.core.cache.digest import sha256_of
from lapidar.core.cache.store import Cache
from lapidar.core.cache.trees import LINK
from lapidar.core.errors import LapidarError
from lapidar.core.records import lockfile, results
from lapidar.standin.packages import write_wheel
from toy.kiln import add_package, make_kiln

__all__ = ["Broken", "Ground", "PinGround", "RecordGround"]

PROGRAM = str(Path(sys.executable).with_name("lapidar"))
GOOD_CODES = (0, 1, 3)


class Broken(Exception):
    """Something that must hold does not."""


class Ground:
    """A project with a captured and restored environment.

    Args:
        place: an empty folder.
    """

    def __init__(self, place: Path) -> None:
        self.place = place
        self.project, self.cache = place / "project", place / "cache"
        self.project.mkdir()
        self.variables = self._variables() | {
            "LAPIDAR_LANGUAGES": "toy.glaze",
            "PYTHONPATH": str(Path(__file__).parents[1]),
            "PYTHONDONTWRITEBYTECODE": "1",
        }
        self.kiln = make_kiln(self.project / "kiln", tin=("lead",), lead=(), ash=())
        (self.project / "fire.glz").write_text("use tin\nuse lead\n")
        self.run("capture")
        self.run("restore")
        self._kept = place / "kept"
        self.keep()

    def _variables(self) -> dict[str, str]:
        """The variables of the program, without those of whoever attacks."""
        kept = {name: value for name, value in os.environ.items() if name not in ("VIRTUAL_ENV", "PYTHONPATH")}
        return kept | {"HOME": str(self.place), "LAPIDAR_CACHE": str(self.cache)}

    def run(self, *words: object, more: dict[str, str] | None = None) -> subprocess.CompletedProcess[str]:
        """Run the program; whatever was done to it, it ends with one of its exit codes and no fault of its own."""
        try:
            done = subprocess.run(
                [PROGRAM, *map(str, words)],
                cwd=self.project,
                env=self.variables | (more or {}),
                stdin=subprocess.DEVNULL,
                capture_output=True,
                text=True,
                errors="backslashreplace",
                timeout=120,
                check=False,
            )
        except subprocess.TimeoutExpired as error:
            raise Broken(f"lapidar {' '.join(map(str, words))} does not end") from error
        if done.returncode not in GOOD_CODES or "Something unexpected" in done.stderr or "Traceback" in done.stderr:
            raise Broken(f"lapidar {' '.join(map(str, words))}: {done.returncode} {done.stderr[-600:]}")
        return done

    def keep(self) -> None:
        """Keep the state of project and cache, to go `back` to."""
        shutil.rmtree(self._kept, ignore_errors=True)
        self._kept.mkdir()
        subprocess.run(["cp", "-a", str(self.project), str(self.cache), str(self._kept)], check=True)

    def back(self) -> None:
        """Go back to the state that was kept."""
        for folder in (self.project, self.cache):
            shutil.rmtree(folder)
        subprocess.run(["cp", "-a", f"{self._kept}/project", f"{self._kept}/cache", str(self.place)], check=True)

    def change(self) -> None:
        """Something new, so that a capture has something to do, and the environment is of another snapshot."""
        add_package(self.kiln, "soda", "2.0")

    def texts(self) -> Iterator[tuple[Path, tuple[str, ...]]]:
        """Texts that the program reads, each with a command that does."""
        environment = self.project / ".lapidar" / "env"
        yield self.project / "lapidar.lock", ("check",)
        yield self.project / "lapidar.toml", ("need", "--dry-run", "clay")
        yield self.project / "pyproject.toml", ("survey",)
        yield self.project / "requirements.txt", ("start", "--yes")
        yield self.project / ".lapidar" / "project.toml", ("capture",)
        yield environment / "lapidar.toml", ("check",)
        yield environment / "lib" / "lapidar" / "placed.json", ("restore",)
        yield self.cache / "lapidar-cache.toml", ("cache", "summary")
        yield self.cache / "snapshots" / "log.jsonl", ("cache", "prune", "--dry-run")

    def nothing_is_half_there(self) -> None:
        """The lockfile is one, and what a listing of the cache speaks of has its bytes."""
        try:
            lockfile.read(self.project / "lapidar.lock")
            cache = Cache(self.cache)
            for digest in cache.all_trees():
                for entry in cache.tree(digest):
                    if entry.kind != LINK and sha256_of(cache.entry_path(entry)) != entry.content:
                        raise Broken(f"{entry.path} of {digest} has other bytes")
        except (LapidarError, OSError) as error:
            raise Broken(f"after it: {error}") from error

    def all_is_well_again(self) -> None:
        """The same commands, undisturbed, bring everything in order."""
        for words in (["capture"], ["restore"], ["cache", "prune"]):
            done = self.run(*words)
            if done.returncode:
                raise Broken(f"lapidar {' '.join(words)} afterwards: {done.stderr}")
        checked = json.loads(self.run("check", "--deep", "--json").stdout)
        if not checked["clean"]:
            raise Broken(f"check afterwards: {checked['findings']}")
        audited = self.run("cache", "audit")
        if audited.returncode:
            raise Broken(f"audit afterwards: {audited.stdout}")
        left = os.listdir(self.cache / "staging")
        if left:
            raise Broken(f"left behind: {left}")


class PinGround(Ground):
    """A project that is pinned from a folder of made-up packages, with a runtime that the cache has."""

    def __init__(self, place: Path) -> None:
        self.place = place
        self.project, self.cache = place / "project", place / "cache"
        self.project.mkdir()
        index = place / "index"
        index.mkdir()
        for name, needs in (("slip", []), ("glaze", ["slip"]), ("kiln", ["glaze", "clay"]), ("clay", [])):
            write_wheel(index, name, "1.0", {f"{name}.py": f"NAME = {name!r}\n"}, requires=needs)
        self.variables = self._variables() | {"LAPIDAR_INDEX": str(index)}
        self._declare("slip")
        self.run("pin")
        self._kept = place / "kept"
        self.keep()

    def _declare(self, *names: str) -> None:
        (self.project / "lapidar.toml").write_text(f"[needs]\npackages = {json.dumps(names)}\n")

    def change(self) -> None:
        """More is needed, so that a pin has something to do."""
        self._declare("slip", "kiln")

    def all_is_well_again(self) -> None:
        """Pinned again, all that is needed is locked, and the cache has it."""
        done = self.run("pin")
        locked = {package.name for package in lockfile.read(self.project / "lapidar.lock").packages}
        if done.returncode or locked != {"slip", "kiln", "glaze", "clay"}:
            raise Broken(f"pin afterwards: {locked} {done.stderr}")
        audited = self.run("cache", "audit")
        left = os.listdir(self.cache / "staging")
        if audited.returncode or left:
            raise Broken(f"audit afterwards: {audited.stdout} {left}")


class RecordGround(Ground):
    """A project with a recorded analysis, whose results were changed since."""

    SCRIPT = """mkdir -p out
for name in in/*; do tr a-z A-Z < $name > out/${name##*/}; done
cat in/* | sort > out/all.csv
"""
    RECORD = ("record", "sherds", "--", "sh", "work.sh")
    COMMANDS: ClassVar[dict[str, Sequence[str]]] = {
        "record": RECORD,
        "rerun": ("rerun", "sherds"),
        "compare": ("compare", "sherds", "out"),
        "results": ("show", "results"),
    }

    def __init__(self, place: Path) -> None:
        super().__init__(place)
        (self.project / "in").mkdir()
        for number in range(40):
            (self.project / f"in/{number:02}.csv").write_text(f"S{number},clay\n")
        (self.project / "work.sh").write_text(self.SCRIPT)
        self.run(*self.RECORD)
        self.keep()

    def change(self) -> None:
        """Other results, so that there is something to record and to tell."""
        with (self.project / "work.sh").open("a") as script:
            script.write("echo more > out/more.txt\n")
        (self.project / "out/03.csv").write_text("S3,LOAM\n")

    def texts(self) -> Iterator[tuple[Path, tuple[str, ...]]]:
        for command in (
            ("check",),
            ("rerun", "sherds"),
            ("history",),
            ("compare", "sherds", "out"),
            ("show", "results"),
        ):
            yield self.project / "lapidar.results", command
            for copy in sorted((self.cache / "runs").rglob("*.*")):
                yield copy, command
        for name in ("03.csv", "all.csv"):
            yield self.project / "out" / name, ("compare", "sherds", "out")

    def nothing_is_half_there(self) -> None:
        super().nothing_is_half_there()
        try:
            if results.read(self.project / "lapidar.results").named("sherds") is None:
                raise Broken("the record is gone")
        except LapidarError as error:
            raise Broken(f"the file of records: {error}") from error

    def all_is_well_again(self) -> None:
        """Recorded again, it can be rerun, and nothing lies about."""
        for words in (self.RECORD, ("rerun", "sherds"), ("cache", "prune"), ("cache", "audit")):
            done = self.run(*words)
            if done.returncode:
                raise Broken(f"lapidar {' '.join(words)} afterwards: {done.stdout} {done.stderr}")
        left = [name for name in os.listdir(self.project / ".lapidar") if name.startswith(("rerun-", "recording-"))]
        left += os.listdir(self.cache / "staging")
        if left:
            raise Broken(f"left behind: {left}")

    def several_at_once(self, chance: random.Random) -> str:
        """Several record at once, and one of them is killed: what the others recorded is all there."""
        names = [f"sherds {number}" for number in range(5)]
        processes = [self._begun("record", name, "--", "sh", "work.sh") for name in names]
        killed = chance.randrange(5)
        time.sleep(chance.random() * 0.8)
        processes[killed].send_signal(signal.SIGKILL)
        codes = [process.wait(60) for process in processes]
        self.nothing_is_half_there()
        there = results.read(self.project / "lapidar.results")
        lost = [name for name, code in zip(names, codes, strict=True) if code == 0 and there.named(name) is None]
        bad = [code for number, code in enumerate(codes) if code and number != killed]
        if lost or bad:
            raise Broken(f"of several that recorded at once {lost} are lost; exit codes {codes}")
        self.all_is_well_again()
        return f"the {killed}th of five was killed"

    def _begun(self, *words: str) -> subprocess.Popen[bytes]:
        return subprocess.Popen([PROGRAM, *words], cwd=self.project, env=self.variables, stdin=-3, stdout=-3, stderr=-3)


def new() -> tuple[Ground, tempfile.TemporaryDirectory[str]]:
    """A ground in a temporary folder."""
    folder = tempfile.TemporaryDirectory(prefix="lapidar-attack-")
    return Ground(Path(folder.name).resolve()), folder
