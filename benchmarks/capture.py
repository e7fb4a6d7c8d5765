"""Capturing into an empty cache, and again with nothing changed, against `cp -r` plus `sha256sum` of the same files."""

from __future__ import annotations

import os
from pathlib import Path

from common import ENVIRONMENT, PROGRAM, Timed, drop, ratio, workshop
from lapidar.core.cache.history import History
from lapidar.core.cache.store import Cache


def main() -> None:
    with workshop() as folder:
        project = folder / "project"
        capture = [PROGRAM, "-q", "capture", ENVIRONMENT]
        files = folder / "files.txt"
        base = Path(os.path.realpath(ENVIRONMENT / "bin" / "python3")).parents[1]
        # The reference copies and hashes the same: the packages of the environment and the runtime below it.
        script = (
            f"cp -r {ENVIRONMENT}/lib {folder}/copy-lib && cp -r {folder}/runtime {folder}/copy-runtime && "
            f"find {folder}/copy-lib {folder}/copy-runtime -type f -print0 | xargs -0 sha256sum > {files}"
        )
        _runtime_alone(folder, base)

        def drop_copies() -> None:
            for part in ("lib", "runtime"):
                drop(folder / f"copy-{part}")()

        reference = Timed(["sh", "-c", script], drop_copies)
        ratio("capture, empty cache", Timed(capture, drop(folder / "cache")), reference, 1.5, runs=3, folder=project)
        ratio("capture again, nothing changed", Timed(capture), reference, 0.3, runs=3, folder=project)
        assert History(Cache(folder / "cache")).ids()


def _runtime_alone(folder: Path, base: Path) -> None:
    """What a capture takes of the runtime, as plain files, so that the reference has no more to do than we."""
    import subprocess

    project = folder / "project"
    subprocess.run(
        [PROGRAM, "-q", "capture", str(base / "bin" / "python3"), "--lock", str(folder / "base.lock")],
        cwd=project,
        check=True,
        stdout=subprocess.DEVNULL,
    )
    subprocess.run(
        [
            PROGRAM,
            "-q",
            "restore",
            "--lock",
            str(folder / "base.lock"),
            "--into",
            str(folder / "runtime"),
            "--placement",
            "copy",
        ],
        cwd=project,
        check=True,
        stdout=subprocess.DEVNULL,
    )
    for path in sorted((folder / "runtime").rglob("__pycache__")):
        drop(path)()
    for path in (folder / "runtime").rglob("site-packages"):
        drop(path)()
    drop(folder / "cache")()


if __name__ == "__main__":
    main()
