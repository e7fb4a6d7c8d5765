"""Ready: an environment as it lies when it is used, in a tar that needs nothing but `tar` and `sh`; and Lapidar's own,
which goes along in parcels so that a machine that has neither it nor a runtime can open them."""

from __future__ import annotations

import hashlib
import os
import shlex
import sys
import tempfile
from pathlib import Path

from lapidar.core import atomic, languages
from lapidar.core.cache.placing import Placement
from lapidar.core.cache.store import Cache
from lapidar.core.cache.stowing import FileDraft, stow
from lapidar.core.environment.folder import Environment
from lapidar.core.environment.marker import WhoseLibraries
from lapidar.core.errors import LapidarError
from lapidar.core.flows.capture import CaptureOptions, capture
from lapidar.core.flows.parcel import Gathered, require_file
from lapidar.core.flows.restore import RestoreOptions, restore
from lapidar.core.parcels import tar
from lapidar.core.place import Place
from lapidar.core.progress import Progress, Silent, task
from lapidar.core.restored import running

__all__ = ["ITSELF", "OPEN_SCRIPT", "README", "is_packed", "itself", "write_ready"]

ITSELF = "lapidar.tar.gz"

README = """\
This is a parcel: an environment that a project was captured with, every byte of it, made by Lapidar. It is an OCI image
layout: blobs/, index.json, oci-layout.

Where Lapidar is installed:

    lapidar parcel open THIS-FILE
    lapidar restore

Where it is not: unpack this file into a folder, and run open.sh there. It brings its own Lapidar, and needs nothing but
sh and tar.

    mkdir parcel && tar xf THIS-FILE -C parcel
    sh parcel/open.sh PROJECT-FOLDER
"""

OPEN_SCRIPT = """\
#!/bin/sh
# Restores what is in this parcel, with the Lapidar that lies beside it: sh open.sh [PROJECT-FOLDER]
# Needs nothing but sh and tar. The cache is LAPIDAR_CACHE, else the folder `cache` beside the project's folder.
set -eu
case $0 in */*) here=${0%/*} ;; *) here=. ;; esac
here=$(CDPATH= cd -- "$here" && pwd)
into=${1:-$here/project}
mkdir -p "$into"
into=$(CDPATH= cd -- "$into" && pwd)
own=${LAPIDAR_HERE:-$here}
if [ ! -x "$own/lapidar/env/bin/lapidar" ]; then
    [ -w "$own" ] || own=$into/.lapidar/itself
    mkdir -p "$own"
    tar xzf "$here/lapidar.tar.gz" -C "$own"
fi
LAPIDAR_CACHE=${LAPIDAR_CACHE:-${into%/*}/cache}
export LAPIDAR_CACHE
"$own/lapidar/env/bin/lapidar" -q parcel open "$here" --into "$into"
"$own/lapidar/env/bin/lapidar" -q --project "$into" restore
echo "Run in it:   '$own/lapidar/env/bin/lapidar' --project '$into' run COMMAND"
echo "The cache:   export LAPIDAR_CACHE='$LAPIDAR_CACHE'"
"""

_RUN = """\
#!/bin/sh
# Runs a command in the environment that lies beside this file, under the conditions it was captured with:
#     sh run {shown}
# Written by lapidar parcel make --ready. The whole folder can be moved; nothing else is needed.
case $0 in */*) here=${{0%/*}} ;; *) here=. ;; esac
here=$(CDPATH= cd -- "$here" && pwd) || exit 3
unset {hidden} 2> /dev/null
{variables}
VIRTUAL_ENV=$here/env PATH=$here/env/bin:${{PATH:-/usr/bin:/bin}}
export VIRTUAL_ENV PATH
{umask}
cd "$here/{folder}" || exit 3
{default}
exec "$@"
"""
_NO_DEFAULT = 'if [ $# -eq 0 ]; then echo "sh run COMMAND [WORD ...]" >&2; exit 2; fi'


# ---- of a project


def write_ready(place: Place, cache: Cache, gathered: Gathered, to: Path, reporter: Progress) -> int:
    """Write an environment as it is used, with the project's files and a script that runs in it, as one packed tar.

    Args:
        cache: in use by the caller.
        gathered: the snapshot, and what else goes along.
        to: the file; it is written whole or not at all.

    Returns:
        Its size in bytes.

    Raises:
        LapidarError: the environment cannot be restored, or has not its own system libraries.
    """
    require_file(to)
    name = gathered.content.name
    with atomic.WorkFolder(to.parent, f".{to.name}.lapidar-") as work:
        folder = work.path / "env"
        options = RestoreOptions(into=folder, placement=Placement.COPY, libraries=WhoseLibraries.PRIVATE)
        done = restore(place, cache, gathered.snapshot, options, reporter)
        part = work.path / "packed"
        with part.open("wb") as file, tar.packed(file) as out, task(reporter, "Packing", done.bytes, "bytes"):
            archive = tar.Writer(out)
            archive.below(f"{name}/env", str(folder), reporter.advance)
            if gathered.project:
                for entry in gathered.project.tree:
                    archive.path(f"{name}/project/{entry.path}", str(gathered.project.root / entry.path))
            text = _run_script(place, folder, gathered)
            archive.data(f"{name}/run", text.encode("utf-8", "surrogateescape"), executable=True)
            archive.end()
        size = part.stat().st_size
        atomic.put_in_place(part, to)
    return size


def _run_script(place: Place, folder: Path, gathered: Gathered) -> str:
    """The script that holds a run to its conditions, as `lapidar run` does."""
    environment = Environment(folder)
    nowhere = Place.of_project(folder.parent / "project")
    prepared = running.prepare(nowhere, environment, {}, env_file=False)
    variables = {name: text for name, text in prepared.variables.items() if name not in ("PATH", "VIRTUAL_ENV")}
    analysis = gathered.analyses[0] if gathered.analyses else None
    command = shlex.join(analysis.command) if analysis and gathered.project else ""
    inside = "project" if gathered.project else "."
    return _RUN.format(
        shown="[COMMAND [WORD ...]]" if command else "COMMAND [WORD ...]",
        hidden=" ".join(sorted(set(running.hidden_names(environment)) - variables.keys())),
        variables="\n".join(
            f"{name}={_quoted(text, str(folder))}; export {name}" for name, text in sorted(variables.items())
        ),
        umask=f"umask {prepared.umask:04o}" if prepared.umask is not None else "",
        folder=f"{inside}/{analysis.folder}" if command and analysis and analysis.folder != "." else inside,
        default=f"[ $# -gt 0 ] || set -- {command}" if command else _NO_DEFAULT,
    )


def _quoted(text: str, folder: str) -> str:
    """A value for the shell; the environment's folder in it is where the script finds it."""
    return '"$here/env"'.join(shlex.quote(part) if part else "" for part in text.split(folder)) or "''"


# ---- Lapidar's own


def itself(cache: Cache, reporter: Progress) -> Path:
    """The environment that this Lapidar runs in, less what it does not need, as a packed tar; the cache keeps it.

    Args:
        cache: in use by the caller.

    Raises:
        LapidarError: that cannot be captured.
    """
    key = _key()
    made = cache.made(key)
    if made is None:
        with tempfile.TemporaryDirectory(prefix="lapidar-itself-") as folder:
            file = Path(folder) / ITSELF
            _pack_itself(Place.of_project(Path(folder)), cache, file, reporter)
            tree = stow(cache, {"": [FileDraft(ITSELF, str(file))]}, None, Silent())[""].tree
        cache.put_made(key, tree.digest)
    else:
        tree = cache.tree(made.tree)
    return Path(cache.entry_path(tree.entries[0]))


def is_packed(cache: Cache) -> bool:
    """Whether the cache has it already."""
    return cache.made(_key()) is not None


def _key() -> str:
    """What is another where anything was installed into our own environment since, or into the runtime below it."""
    seen = [sys.version, str(tar.LEVEL)]
    for path in (sys.executable, os.path.realpath(sys.executable), *sys.path):
        try:
            status = os.stat(path)
        except OSError:
            continue
        seen.append(f"{path} {status.st_mtime_ns} {status.st_size}")
        if os.path.isdir(path):
            kept = [one for one in os.scandir(path) if not one.name.startswith("__")]
            seen += sorted(f"{one.name} {one.stat().st_mtime_ns}" for one in kept)
    return hashlib.sha256("\n".join(seen).encode("utf-8", "surrogateescape")).hexdigest()


def _pack_itself(place: Place, cache: Cache, file: Path, reporter: Progress) -> None:
    (place.root / "itself.py").write_text("import lapidar\n", encoding="utf-8")
    asked = CaptureOptions(
        environment=Path(sys.prefix), scope="used", writes=False, starts=False, languages=(languages.usual().name,)
    )
    snapshot = capture(place, cache, asked, reporter).snapshot
    if not snapshot.libraries:
        raise LapidarError("Lapidar's own environment has no system libraries that could go along")
    folder = place.root / "env"
    options = RestoreOptions(into=folder, placement=Placement.COPY, libraries=WhoseLibraries.PRIVATE)
    done = restore(place, cache, snapshot, options, reporter)
    with (
        file.open("wb") as packed,
        tar.packed(packed) as out,
        task(reporter, "Packing Lapidar itself", done.bytes, "bytes"),
    ):
        archive = tar.Writer(out)
        archive.below("lapidar/env", str(folder), reporter.advance)
        archive.end()
