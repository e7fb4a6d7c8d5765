"""Holds the answers of two builds of the program against each other: what `--json` prints of every command.

python tests/acceptance/same_answers.py BEFORE AFTER [ENVIRONMENT ...]

BEFORE and AFTER are two `lapidar` programs; each ENVIRONMENT (a folder, or an interpreter) is captured and looked at too.
Both play the same commands in the same folder, one after the other, on the demo's catalogue with its index, on a project
of two languages (where there is an R), and on each environment. What is different each time anyway (times)
is taken out. What is left is printed as a difference of lines; exit code 1 where there is any. A person reads it: is each
of them meant?
"""

from __future__ import annotations

import argparse
import difflib
import json
import os
import re
import shutil
import socket
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parents[1]))

from lapidar.core.records import lockfile
from lapidar.demo import packages
from lapidar.standin.index import StandInIndex
from lapidar.standin.packages import write_wheel
from lapidar.standin.r_packages import write_list, write_source_package

_TIMES = {"seconds", "time", "when", "memory", "modified", "last_used", "trials"}
_STAMP = re.compile(r"\d{4}-\d\d-\d\d[T ]\d\d:\d\d(:\d\d)?")
_ABOUT_ANY = (
    "show", "show runtime", "show packages", "show libraries", "show tools", "show conditions", "show remainder",
    "show results", "show --graph", "check", "check --deep", "survey --offline", "history", "runtimes",
    "cache summary", "cache audit",
)  # fmt: skip


class Player:
    """Plays commands with one program and keeps what it answers.

    Attributes:
        answers: by the command, the exit code and the lines of the answer.
    """

    def __init__(self, program: str, place: Path) -> None:
        self.program = program
        self.place = place
        self.answers: dict[str, list[str]] = {}
        self.variables = {
            **{name: text for name, text in os.environ.items() if not name.startswith(("LAPIDAR", "VIRTUAL_ENV"))},
            "LAPIDAR_CACHE": str(place / "cache"),
            "HOME": str(place),
        }

    def say(self, project: Path, *commands: str) -> None:
        """Give commands, each a line."""
        for line in commands:
            words = line.split(" ")
            at = words.index("--") if "--" in words else len(words)
            done = subprocess.run(
                [self.program, *words[:at], "--json", *words[at:]],
                cwd=project,
                env=self.variables,
                capture_output=True,
                text=True,
                check=False,
            )
            self.answers[f"{project.name}: {line}"] = [f"exit code {done.returncode}", *self._plain(done.stdout)]

    def _plain(self, text: str) -> list[str]:
        text = _STAMP.sub("TIME", text)
        try:
            return json.dumps(_without_times(json.loads(text)), indent=1).splitlines()
        except ValueError:
            return text.splitlines()


def _without_times(value: Any) -> Any:
    if isinstance(value, dict):
        return {key: _without_times(below) for key, below in value.items() if key not in _TIMES}
    return [_without_times(below) for below in value] if isinstance(value, list) else value


def catalogue(player: Player, port: int) -> None:
    """The demo's story of a silent change.

    Args:
        port: of its index, whose address goes into the lockfile.
    """
    project = player.place / "catalogue"
    sources = Path(packages.__file__).parent / "catalogue"
    shutil.copytree(sources, project)
    (project / "lapidar.toml").write_text('[project]\nname = "catalogue"\n[needs]\npackages = ["sherdtext>=1"]\n')
    packages.write(player.place / "index")
    index = StandInIndex(player.place / "index")
    index.start(port)
    try:
        player.variables |= {"LAPIDAR_INDEX": index.address, "VIRTUAL_ENV": sys.prefix}
        player.say(
            project, "survey", "need kiln-map --yes", "why kiln-map==1.1", "why glazewords", "versions kiln-map",
            "outlook", "record catalogue -- python catalogue.py", *_ABOUT_ANY,
        )  # fmt: skip
        first = lockfile.read(project / "lapidar.lock").snapshot[7:19]
        packages.write_releases(player.place / "index")
        player.say(
            project, "outlook", "pin --renew --dry-run", "pin --renew --yes", "restore", "changes", "changes -v",
            "check", "rerun", "culprit catalogue", f"changes {first} --files kiln-map", "return", "rerun catalogue",
            "export pylock", "export requirements", "drop kiln-map --yes", "check", "history -v",
        )  # fmt: skip
    finally:
        index.stop()
    for name in ("LAPIDAR_INDEX", "VIRTUAL_ENV"):
        del player.variables[name]


def two_languages(player: Player) -> None:
    """Python and R in one environment."""
    project = player.place / "both"
    wheels, contrib = player.place / "wheels", player.place / "r" / "src" / "contrib"
    for folder in (project, wheels):
        folder.mkdir()
    write_wheel(wheels, "kilns", requires=["lead"])
    write_wheel(wheels, "lead")
    write_source_package(contrib, "tin", Imports="ash")
    write_source_package(contrib, "ash")
    write_list(contrib)
    (project / "a.R").write_text("cat(tin::tin_version())\n")
    player.variables["VIRTUAL_ENV"] = sys.prefix
    (project / "lapidar.toml").write_text(
        f'[index]\nwheels = "{wheels}"\nr-packages = {{ address = "{player.place}/r", language = "r" }}\n'
        '[needs]\nr = ["tin"]\n'
    )
    player.say(project, "pin --yes", "restore", "record r -- Rscript a.R", "rerun", *_ABOUT_ANY, "why ash", "outlook")
    del player.variables["VIRTUAL_ENV"]


def environment(player: Player, folder: str) -> None:
    """One that exists, captured whole and restored."""
    project = player.place / re.sub(r"\W+", "-", folder).strip("-")
    project.mkdir()
    player.say(project, f"capture {folder} --scope whole", "restore", *_ABOUT_ANY, "check --live", "capture .lapidar/env",
               "changes", "cache prune --dry-run")  # fmt: skip


def played(program: str, place: Path, environments: list[str], port: int) -> dict[str, list[str]]:
    """All answers of a program."""
    shutil.rmtree(place, ignore_errors=True)
    place.mkdir()
    player = Player(program, place)
    catalogue(player, port)
    if shutil.which("Rscript"):
        two_languages(player)
    for folder in environments:
        environment(player, folder)
    return player.answers


def differing(before: dict[str, list[str]], after: dict[str, list[str]]) -> Iterator[str]:
    """The lines that differ, with the command before them."""
    for command in before:
        lines = list(difflib.unified_diff(before[command], after[command], "before", "after", "", "", 1, ""))
        if lines:
            yield f"== {command}"
            yield from lines[2:]


def main() -> int:
    """The exit code: 1 where an answer is another."""
    parser = argparse.ArgumentParser(description=(__doc__ or "").partition("\n")[0])
    parser.add_argument("before")
    parser.add_argument("after")
    parser.add_argument("environments", nargs="*")
    options = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="lapidar-same-") as folder:
        place = Path(folder).resolve() / "work"
        with socket.create_server(("127.0.0.1", 0)) as free:
            port = free.getsockname()[1]
        answers = [
            played(os.path.abspath(program), place, list(map(os.path.abspath, options.environments)), port)
            for program in (options.before, options.after)
        ]
    lines = list(differing(*answers))
    print("\n".join(lines))
    print(f"{len(answers[0])} answers, {sum(line.startswith('== ') for line in lines)} of them differ")
    return 1 if lines else 0


if __name__ == "__main__":
    raise SystemExit(main())
