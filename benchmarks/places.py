"""Places: how much longer a script's second start is than its interpreter's, what an aside that is known costs, and
what `pin` takes where nothing of fifty packages of a project's own has changed."""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Mapping, Sequence
from pathlib import Path

from lapidar.standin.packages import write_wheel

PROGRAM = str(Path(sys.executable).with_name("lapidar"))
TIMES = 15
MEMBERS = 50
BACKEND = """\
import os, zipfile
def build_wheel(folder, config_settings=None, metadata_directory=None):
    name = open("name").read()
    target = f"{name}-1.0-py3-none-any.whl"
    with zipfile.ZipFile(os.path.join(folder, target), "w") as z:
        z.write(f"{name}.py")
        z.writestr(f"{name}-1.0.dist-info/METADATA", f"Metadata-Version: 2.1\\nName: {name}\\nVersion: 1.0\\n")
        z.writestr(f"{name}-1.0.dist-info/WHEEL", "Wheel-Version: 1.0\\nRoot-Is-Purelib: true\\nTag: py3-none-any\\n")
        z.writestr(f"{name}-1.0.dist-info/RECORD", "")
    return target
"""


def seconds(command: Sequence[str], folder: Path, variables: Mapping[str, str], times: int = TIMES) -> float:
    """The middle of several runs."""
    found = []
    for _ in range(times):
        began = time.perf_counter()
        subprocess.run(command, cwd=folder, env=variables, check=True, stdout=-3, stderr=-3)
        found.append(time.perf_counter() - began)
    return statistics.median(found)


def main() -> None:
    """Print the figures, and what was asked."""
    with tempfile.TemporaryDirectory(prefix="lapidar-places-") as name:
        folder = Path(name)
        index, project = folder / "index", folder / "project"
        index.mkdir()
        project.mkdir()
        write_wheel(index, "glaze", "1.0")
        write_wheel(index, "glaze", "2.0")
        variables = {**os.environ, "LAPIDAR_CACHE": str(folder / "cache"), "LAPIDAR_INDEX": str(index), "HOME": name}
        script = project / "fit.py"
        script.write_text("# /// script\n# dependencies = ['glaze']\n# ///\nimport glaze\n")
        subprocess.run([PROGRAM, "run", script], cwd=project, env=variables, check=True, stderr=-3)
        (environment,) = (folder / "cache" / "scripts").glob("*/env")
        python = [str(environment / "bin" / "python"), str(script)]
        bare = seconds(python, project, variables)
        ours = seconds([PROGRAM, "run", str(script)], project, variables)
        print(
            f"run SCRIPT, again: {1000 * (ours - bare):.0f} ms more than its interpreter's {1000 * bare:.0f} (80 asked)"
        )
        subprocess.run([PROGRAM, "need", "glaze<2"], cwd=project, env=variables, check=True, stdout=-3, stderr=-3)
        words = [PROGRAM, "aside", "glaze>=2", "--", "python", "-c", "import glaze"]
        subprocess.run(words, cwd=project, env=variables, check=True, stderr=-3)
        known = seconds(words, project, variables)
        print(f"aside, known: {1000 * (known - bare):.0f} ms more (150 asked)")
        needs = []
        for number in range(MEMBERS):
            member = project / "libs" / f"m{number}"
            member.mkdir(parents=True)
            (member / "pyproject.toml").write_text(
                f'[project]\nname = "m{number}"\nversion = "1.0"\n[build-system]\nrequires = []\n'
                'build-backend = "backend"\nbackend-path = ["."]\n'
            )
            (member / "backend.py").write_text(BACKEND)
            (member / "name").write_text(f"m{number}")
            (member / f"m{number}.py").write_text("X = 1\n")
            needs.append(f"./libs/m{number}")
        subprocess.run([PROGRAM, "need", *needs], cwd=project, env=variables, check=True, stdout=-3, stderr=-3)
        again = seconds([PROGRAM, "pin", "--yes"], project, variables, 3)
        print(f"pin of {MEMBERS} members, nothing changed: {again:.2f} s (2 asked)")
        started = seconds([PROGRAM, "run", "python", "-c", "import m1"], project, variables)
        print(
            f"run with {MEMBERS} members, nothing changed: {1000 * (started - bare):.0f} ms more than the interpreter"
        )


if __name__ == "__main__":
    main()
