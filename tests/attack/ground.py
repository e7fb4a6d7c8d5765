"""The ground that attacks are made on: a small project of the made-up language, an index, a cache, and what must hold
after anything that was done to them."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

from lapidar.core.cache.digest import sha256_of
from lapidar.core.cache.store import Cache
from lapidar.core.cache.trees import LINK
from lapidar.core.errors import LapidarError
from lapidar.core.records import lockfile
from lapidar.standin.packages import write_wheel
from toy.kiln import add_package, make_kiln

__all__ = ["Broken", "Ground", "PinGround"]

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


def new() -> tuple[Ground, tempfile.TemporaryDirectory[str]]:
    """A ground in a temporary folder."""
    folder = tempfile.TemporaryDirectory(prefix="lapidar-attack-")
    return Ground(Path(folder.name).resolve()), folder
