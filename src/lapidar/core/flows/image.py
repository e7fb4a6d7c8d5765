"""Image: a snapshot, and the project -> a runnable OCI image, from nothing else: no base, no shell that is not the
snapshot's. The environment lies in ``/env``, what the machine that was captured had of libraries and outside programs
at its own places, the project in ``/project``."""

from __future__ import annotations

import io
import os
import shutil
import tempfile
from collections.abc import Iterator
from pathlib import Path

from msgspec import Struct

from lapidar.core import atomic, languages
from lapidar.core.cache.placing import Placement
from lapidar.core.cache.store import Cache
from lapidar.core.cache.trees import LINK, Entry
from lapidar.core.declaring import reading
from lapidar.core.environment import direct, marker
from lapidar.core.environment.folder import Environment
from lapidar.core.environment.marker import WhoseLibraries
from lapidar.core.errors import LapidarError
from lapidar.core.exchange import image
from lapidar.core.exchange.image import Layer, Runs, layer
from lapidar.core.flows.judges import analysis_of
from lapidar.core.flows.parcel import require_file
from lapidar.core.flows.restore import RestoreOptions, restore
from lapidar.core.layers import tools
from lapidar.core.parcels import places, project, tar, writing
from lapidar.core.parcels.blobs import WritableBlobs
from lapidar.core.parcels.form import Manifest, written
from lapidar.core.place import Place
from lapidar.core.progress import Progress, task
from lapidar.core.records import results, words
from lapidar.core.records.owner import Layer as Whose
from lapidar.core.records.results import Analysis
from lapidar.core.records.snapshot import Snapshot
from lapidar.core.restored import running
from lapidar.core.results import listing, scratch

__all__ = ["Image", "write_image"]

_ENV, _PROJECT, _HOME = "env", "project", "root"
_START = f"{_ENV}/{marker.PRIVATE}/start"
_MERGED = ("bin", "sbin", "lib", "lib64")  # what is below /usr in the image, whichever way a tool has it
_OF_TOOLS = ("usr", "etc", "opt", "var")
_LIBRARIES = ("usr/lib/x86_64-linux-gnu", "usr/lib64")  # where loaders look, of two kinds of systems
_TEXTS = {
    "etc/passwd": "root:x:0:0:root:/root:/bin/sh\npotter:x:1000:1000::/home/potter:/bin/sh\n",
    "etc/group": "root:x:0:\npotters:x:1000:\n",
    "etc/nsswitch.conf": "passwd: files\ngroup: files\nhosts: files dns\n",
}


class Image(Struct, frozen=True):
    """An image that was written.

    Attributes:
        bytes: of all its layers, packed.
        command: what it runs.
        notes: what is to be known of it, a sentence each.
    """

    manifest: Manifest
    bytes: int
    command: tuple[str, ...]
    notes: tuple[str, ...] = ()


def write_image(place: Place, cache: Cache, snapshot: Snapshot, name: str, to: str, reporter: Progress) -> Image:
    """Write a runnable image.

    Args:
        cache: in use by the caller.
        name: of the recorded analysis that it runs, "" for the only one; where none is recorded, it runs the
            interpreter.
        to: the file, or the address of a store.

    Raises:
        LapidarError: the environment cannot be restored, has no system libraries of its own, or needs a shell and has
            none; or it cannot be written there.
    """
    if to == "-":
        raise LapidarError("An image goes into a file or a store", remedy="Name one with --to.")
    target = None
    if places.is_host(to) or Path(to).is_dir():
        target, tag = places.writable_at(to)
    else:
        require_file(Path(to))
    recorded = results.read(place.records).analysis
    analysis = analysis_of(place, name, "lapidar export image") if name or recorded else None
    near = Path(to).parent if target is None else Path(tempfile.gettempdir())
    with atomic.WorkFolder(near, ".image.lapidar-") as work:
        made = _Making(place, cache, snapshot, analysis, work.path)
        made.write_layers(reporter)
        title = reading.read(place).name or place.root.name
        manifest, config, blob = image.manifest(
            made.layers, made.runs(), title, snapshot.snapshot, snapshot.platform.machine
        )
        if target is None:
            part = work.path / "image"
            with part.open("wb") as out:
                layout = writing.begun(out)
                for one in made.layers:
                    with one.file.open("rb") as stream:
                        layout.blob(one.blob, stream)
                layout.blob(blob, io.BytesIO(config))
                layout.end(manifest, words.short(snapshot.snapshot))
            atomic.put_in_place(part, Path(to))
        else:
            _send(target, made.layers, reporter)
            target.put(blob, io.BytesIO(config))
            target.put_manifest(written(manifest), tag or f"{words.short(snapshot.snapshot)}-image")
        size = sum(one.blob.size for one in made.layers)
        return Image(manifest, size, tuple(made.runs().command), tuple(made.notes))


def _send(target: WritableBlobs, layers: list[Layer], reporter: Progress) -> None:
    with task(reporter, "Sending", sum(one.blob.size for one in layers), "bytes"):
        for one in layers:
            with one.file.open("rb") as stream:
                target.put(one.blob, stream)
            reporter.advance(one.blob.size)


class _Making:
    """An image in the making."""

    def __init__(self, place: Place, cache: Cache, snapshot: Snapshot, analysis: Analysis | None, work: Path) -> None:
        self.place, self.cache, self.snapshot, self.analysis, self.work = place, cache, snapshot, analysis, work
        self.layers: list[Layer] = []
        self.notes: list[str] = []
        self._folder = work / _ENV
        self._machine = snapshot.platform.machine
        self._seen: set[str] = set()

    def write_layers(self, reporter: Progress) -> None:
        options = RestoreOptions(into=self._folder, placement=Placement.COPY, libraries=WhoseLibraries.PRIVATE)
        done = restore(self.place, self.cache, self.snapshot, options, reporter)
        self._tools_are_known()
        self._require_shell()
        own = self._of_packages()
        below = [path for path, is_folder in tar.walked(str(self._folder)) if not is_folder]
        with task(reporter, "Packing", done.bytes, "bytes"):
            with layer(self.work / "1", "libraries, runtimes and outside programs", self.layers) as archive:
                self._root(archive)
                for path in below:
                    if path not in own:
                        reporter.advance(self._environment(archive, path))
                self._tools(archive)
                self._libraries(archive)
            with layer(self.work / "2", "packages", self.layers) as archive:
                for path in below:
                    if path in own:
                        reporter.advance(self._environment(archive, path))
        with layer(self.work / "3", "the project", self.layers) as archive:
            self._project(archive)

    def _of_packages(self) -> set[str]:
        """The paths of the environment that are packages'."""
        environment = Environment(self._folder)
        if environment.manifest is None:
            return set()
        listed = environment.manifest.listing
        return {
            path
            for path, owner in zip(listed.paths, listed.owner_of, strict=True)
            if listed.owners[owner].layer in (Whose.PACKAGES, Whose.REMAINDER)
        }

    # ---- the first layer

    def _root(self, archive: tar.Writer) -> None:
        """What every root has: the folders that others are mounted on, and who there is."""
        for folder in ("proc", "sys", "dev", _HOME, "home/potter", "usr/bin", "usr/sbin", "usr/lib", "usr/lib64"):
            archive.folder(folder)
        for folder in ("tmp", "var/tmp"):
            archive.folder(folder, 0o1777)
        for name in _MERGED:
            archive.link(name, f"usr/{name}")
        archive.data(_START, direct.entry(self._umask(), self._machine), executable=True)

    def _umask(self) -> int | None:
        umask = self.snapshot.conditions.umask if self.snapshot.conditions else None
        return int(umask, 8) if umask else None

    def _environment(self, archive: tar.Writer, path: str) -> int:
        """A file of the environment; a launcher as one that needs no shell."""
        source = self._folder / path
        if source.is_file() and not source.is_symlink() and os.access(source, os.X_OK):
            started = self._directly(path)
            if started is not None:
                archive.data(f"{_ENV}/{path}", started, executable=True)
                return source.stat().st_size
        return archive.path(f"{_ENV}/{path}", str(source))

    def _directly(self, path: str) -> bytes | None:
        """What does the same as a launcher without a shell; None where there is no such thing."""
        with (self._folder / path).open("rb") as stream:
            if stream.read(len(direct.BY_SHELL)) != direct.BY_SHELL:
                return None
            text = direct.BY_SHELL + stream.read()
        return direct.directly(text, path, f"/{_ENV}", self._machine, self._tool)

    def _entries(self) -> Iterator[tuple[str, str, Entry]]:
        """Of each outside program its files that lie at a system's places: where, its name, and the file."""
        for tool in self.snapshot.tools:
            for entry in self.cache.tree(tool.tree):
                top = entry.path.partition("/")[0]
                if top in _MERGED:
                    yield f"usr/{entry.path}", tool.name, entry
                elif top in _OF_TOOLS:
                    yield entry.path, tool.name, entry

    def _tools_are_known(self) -> None:
        self._seen = {path for path, _, _ in self._entries()}

    def _tool(self, name: str, executable: str) -> tuple[str, str]:
        """See `direct.Start`."""
        top = executable.partition("/")[0]
        if top not in (*_MERGED, *_OF_TOOLS):
            path = f"/{_ENV}/{tools.FOLDER}/{name}/{executable}"
            return path, path
        return f"/{executable}", f"/usr/bin/{name}" if f"usr/bin/{name}" in self._seen else f"/{executable}"

    def _tools(self, archive: tar.Writer) -> None:
        written_already: set[str] = set()
        for path, name, entry in self._entries():
            if path in written_already:
                continue
            written_already.add(path)
            if entry.kind == LINK:
                archive.link(path, entry.content)
            else:
                archive.same(path, f"{_ENV}/{tools.FOLDER}/{name}/{entry.path}")
        for path, text in _TEXTS.items():
            if path not in written_already:
                archive.data(path, text.encode())

    def _libraries(self, archive: tar.Writer) -> None:
        """The snapshot's libraries where loaders look for them: for programs that no launcher starts."""
        for name in sorted(os.listdir(self._folder / marker.PRIVATE)):
            for folder in _LIBRARIES if ".so" in name else ():
                if f"{folder}/{name}" not in self._seen:
                    archive.link(f"{folder}/{name}", f"/{_ENV}/{marker.PRIVATE}/{name}")

    def _require_shell(self) -> None:
        if "usr/bin/sh" in self._seen:
            return
        remedy = (
            'Declare one, [needs] tools = ["sh"] in lapidar.toml, and capture again: an image is made of nothing but'
            " the snapshot."
        )
        commands = sorted(f"bin/{name}" for name in os.listdir(self._folder / "bin"))
        by_shell = [path for path in commands if self._directly(path) is None and self._is_by_shell(path)]
        if by_shell:
            raise LapidarError(
                f"No image can be made: {by_shell[0]} is started by a shell script",
                why="nothing in the snapshot is a shell",
                remedy=remedy,
            )
        self.notes.append(f"there is no shell in it: what is started through one fails there. {remedy}")

    def _is_by_shell(self, path: str) -> bool:
        with (self._folder / path).open("rb") as stream:
            return direct.is_launcher(stream.read(200))

    # ---- the project's

    def _project(self, archive: tar.Writer) -> None:
        folder = self.work / _PROJECT
        folder.mkdir()
        if self.analysis:
            whole = listing.whole(self.analysis, self.cache)
            self.notes += scratch.lay_out(whole, self.cache, folder, self.place.root, current_files=False)
            if self.analysis.snapshot != self.snapshot.snapshot:
                other = words.short(self.analysis.snapshot)
                self.notes.append(f"{self.analysis.name} was recorded with another snapshot ({other})")
        never = list(filter(None, [reading.read(self.place).conditions.env_file]))
        found = project.gathered(self.place, never)
        for entry in found.tree:
            target = folder / entry.path
            if not os.path.lexists(target):
                target.parent.mkdir(parents=True, exist_ok=True)
                shutil.copy2(self.place.root / entry.path, target, follow_symlinks=False)
        self.notes += found.left
        self.notes += [f"{one.path}, line {one.line}, looks like {one.what}" for one in found.suspects]
        (folder / self._inside()).mkdir(parents=True, exist_ok=True)
        archive.folder(_PROJECT)
        archive.below(_PROJECT, str(folder))

    def _inside(self) -> str:
        return self.analysis.folder if self.analysis else "."

    def runs(self) -> Runs:
        """What it runs."""
        nowhere = Place.of_project(self.work / "none")
        prepared = running.prepare(nowhere, Environment(self._folder), {}, env_file=False)
        variables = {name: text.replace(str(self._folder), f"/{_ENV}") for name, text in prepared.variables.items()}
        variables["PATH"] = f"/{_ENV}/bin:/usr/bin:/bin"
        usual = languages.of(self.snapshot.languages[0]).interpreters[0]
        command = self.analysis.command if self.analysis else (usual,)
        folder = f"/{_PROJECT}" if self._inside() == "." else f"/{_PROJECT}/{self._inside()}"
        return Runs([f"/{_START}"], command, folder, {"HOME": f"/{_HOME}", **variables})
