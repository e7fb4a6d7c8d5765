"""Makes environments of the made-up language."""

from __future__ import annotations

import json
from pathlib import Path

# It follows links to itself, as a real interpreter finds its own library.
INTERPRETER = """\
#!/bin/sh
# glaze 1.2
case $0 in */*) file=$0 ;; *) file=$(command -v -- "$0") ;; esac
home=$(CDPATH= cd -P -- "${file%/*}/.." && pwd)
packages=${GLAZE_PACKAGES:-$home/lib/glaze}
while read -r word rest; do
  case $word in
    use) cat "$packages/$rest/recipe" || exit 1 ;;
    say) echo "$rest" ;;
    call) $rest || exit 1 ;;
    seed) echo "${GLAZE_SEED:-none}" ;;
  esac
done < "$1"
"""


def make_kiln(folder: Path, **packages: tuple[str, ...]) -> Path:
    """An environment with some packages, each with what it needs."""
    interpreter = folder / "bin" / "glaze"
    interpreter.parent.mkdir(parents=True)
    interpreter.write_text(INTERPRETER)
    interpreter.chmod(0o755)
    for name, needs in packages.items():
        add_package(folder, name, "1.0", *needs)
    return folder


def add_package(folder: Path, name: str, version: str, *needs: str) -> None:
    """Install a package, or another version of it."""
    _write(folder / "lib" / "glaze" / name, name, version, needs)


def add_version(shelf: Path, name: str, version: str, *needs: str) -> None:
    """Put a version of a package on a shelf."""
    _write(shelf / f"{name}-{version}", name, version, needs)


def _write(place: Path, name: str, version: str, needs: tuple[str, ...]) -> None:
    place.mkdir(parents=True, exist_ok=True)
    (place / "manifest.json").write_text(json.dumps({"name": name, "version": version, "needs": needs}))
    (place / "recipe").write_text(f"{name} {version}\n")
