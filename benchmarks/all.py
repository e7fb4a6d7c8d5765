"""Runs every benchmark. Each prints figures of this machine, of this run, and their ratio; none is a test."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

from common import ENVIRONMENT


def main() -> None:
    files = [path for path in ENVIRONMENT.rglob("*") if path.is_file()]
    size = sum(path.stat().st_size for path in files)
    print(f"environment: {len(files):,} files, {size / 1e6:.0f} MB")
    for name in (
        "capture",
        "restore",
        "verify",
        "quick_check",
        "launch",
        "libraries",
        "memory",
        "survey",
        "pin",
        "results",
        "changes",
        "proving",
        "places",
        "elsewhere",
        "steps",
    ):
        subprocess.run([sys.executable, str(Path(__file__).with_name(f"{name}.py"))], check=True)


if __name__ == "__main__":
    main()
