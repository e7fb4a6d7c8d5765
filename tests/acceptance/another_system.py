"""Restore on another operating system's root, offline: python tests/acceptance/another_system.py ROOT ENVIRONMENT ...

ROOT is a folder with another system in it (Debian 11's smallest, a bare one with a static shell ...); each ENVIRONMENT is
captured, restored below ROOT/home, moved there once, and asked from inside the root, with no network: everything it has
is imported, no file of its memory map may lie outside, and the numbers must be those of here. Captured again from there,
the lockfile must be the same. Needs root. The last line says N passed, N failed.
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parents[1]))
from roots import run_in

PROGRAM = str(Path(sys.executable).with_name("lapidar"))
NUMBERS = """
import hashlib, math
try:
    import numpy as np
except ImportError:
    print(hashlib.sha256(repr([math.exp(v / 97) for v in range(999)]).encode()).hexdigest())
else:
    a = np.random.default_rng(3).standard_normal((200, 200))
    print(hashlib.sha256(b"".join(v.tobytes() for v in (*np.linalg.svd(a), np.exp(a), a @ a))).hexdigest())
"""


class Trial:
    """One environment on one root."""

    def __init__(self, root: Path, environment: Path, work: Path) -> None:
        self.root = root
        self.environment = environment
        self.work = work
        self.variables = {**os.environ, "LAPIDAR_CACHE": str(work / "cache")}

    def lapidar(self, *words: object) -> str:
        done = subprocess.run(
            [PROGRAM, *map(str, words)], cwd=self.work, env=self.variables, capture_output=True, text=True
        )
        if done.returncode not in (0, 1):
            raise AssertionError(f"lapidar {words}\n{done.stdout}\n{done.stderr}")
        return done.stdout

    def json(self, *words: object) -> Any:
        return json.loads(self.lapidar(*words, "--json"))

    def run(self) -> list[str]:
        """What went wrong, a sentence each."""
        wrong = []
        self.lapidar("capture", self.environment, "--scope", "whole")
        before = (self.work / "lapidar.lock").read_bytes()
        first, place = self.root / "home" / "first", self.root / "home" / "trial"
        for folder in (first, place):
            shutil.rmtree(folder, ignore_errors=True)
        self.lapidar("restore", "--into", first)
        first.rename(place)
        here = subprocess.run(
            [str(place / "bin/python"), "-c", NUMBERS], capture_output=True, text=True, check=True
        ).stdout
        there = run_in(self.root, "/home/trial/bin/python", "-c", NUMBERS)
        if here != there:
            wrong.append(f"the numbers differ: {here.strip()[:16]} here, {there.strip()[:16]} there")
        wrong += self.memory_map(place)
        self.lapidar("capture", place, "--scope", "whole")
        if (self.work / "lapidar.lock").read_bytes() != before:
            wrong.append("captured again from there, the lockfile differs")
        shutil.rmtree(place)
        return wrong

    def memory_map(self, place: Path) -> list[str]:
        """What `lapidar check --live` does, from inside the root."""
        modules = self.json("check", "--live", "--env", place)["live"]
        script = (
            "import importlib, sys\n"
            "for name in sorted({p.split('/')[-1].split('.')[0] for p in sys.argv[1:]}):\n"
            "    try: importlib.import_module(name)\n"
            "    except BaseException: pass\n"
            "paths = {l.split(None, 5)[-1].strip() for l in open('/proc/self/maps') if '/' in l}\n"
            "print([p for p in paths if p.startswith('/') and not p.startswith(sys.prefix + '/')])\n"
        )
        site = next((place / "lib").glob("python3*/*-packages"), place)
        names = [
            path.name for path in site.iterdir() if path.suffix in (".py", ".so") or (path / "__init__.py").exists()
        ]
        said = run_in(self.root, "/home/trial/bin/python", "-c", script, *names).strip().splitlines()[-1]
        wrong = [f"mapped from outside in the root: {said}"] if said != "[]" else []
        if modules["outside"]:
            wrong.append(f"mapped from outside here: {modules['outside']}")
        return wrong


def main() -> int:
    root, environments = Path(sys.argv[1]).absolute(), [Path(one).absolute() for one in sys.argv[2:]]
    passed = failed = 0
    for environment in environments:
        with tempfile.TemporaryDirectory(prefix="lapidar-acceptance-", dir=os.environ.get("TMPDIR")) as work:
            wrong = Trial(root, environment, Path(work)).run()
        print(f"{environment} on {root}: {'; '.join(wrong) or 'identical, and nothing from outside'}", flush=True)
        failed += bool(wrong)
        passed += not wrong
    print(f"{passed} passed, {failed} failed")
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
