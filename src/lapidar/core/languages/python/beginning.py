"""The first files of a new analysis, or of a new package; see `lapidar.core.languages.protocol.Beginning`."""

from __future__ import annotations

import json
from collections.abc import Mapping

__all__ = ["analysis", "package"]

_SCRIPT = '''\
"""Reads what lies in data/raw, and writes into results/."""

import csv
from pathlib import Path

RAW, RESULTS = Path("data/raw"), Path("results")


def main():
    RESULTS.mkdir(exist_ok=True)
    with (RESULTS / "files.csv").open("w", newline="") as out:
        writer = csv.writer(out, lineterminator="\\n")
        writer.writerow(["file", "lines"])
        for path in sorted(RAW.rglob("*.csv")):
            writer.writerow([path.name, len(path.read_text().splitlines())])


if __name__ == "__main__":
    main()
'''


def analysis() -> tuple[str, str]:
    """The name of the first script, and its text."""
    return "analysis.py", _SCRIPT


def package(name: str, licence: str) -> Mapping[str, str]:
    """The files of a package in the src layout."""
    module = name.replace("-", "_").lower()
    stated = f"license = {json.dumps(licence)}\n" if licence else ""
    return {
        "pyproject.toml": f"""\
[project]
name = {json.dumps(name)}
version = "0.1"
description = ""
readme = "README.md"
requires-python = ">=3.10"
{stated}dependencies = []

[build-system]
requires = ["flit_core>=3.11"]
build-backend = "flit_core.buildapi"
""",
        f"src/{module}/__init__.py": f'"""What {name} does, in one line."""\n\n__version__ = "0.1"\n\n\n'
        "def mean(values):\n"
        '    """The mean of some numbers."""\n'
        "    return sum(values) / len(values)\n",
        f"tests/test_{module}.py": f"import unittest\n\nfrom {module} import mean\n\n\n"
        "class Means(unittest.TestCase):\n"
        "    def test_of_some(self):\n"
        "        self.assertEqual(mean([1, 2, 3]), 2)\n\n\n"
        'if __name__ == "__main__":\n    unittest.main()\n',
    }
