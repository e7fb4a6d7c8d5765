"""What a restored environment consists of: the files of the snapshot's trees, and those generated for them."""

from __future__ import annotations

import hashlib
import os
import posixpath
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field

import msgspec

from lapidar.core.cache.store import Cache
from lapidar.core.cache.trees import EXECUTABLE, FILE, LINK, Entry, Tree
from lapidar.core.environment import activation, kept, launchers, marker
from lapidar.core.environment.listing import Assembled, Listing, Row
from lapidar.core.languages.python import packages, runtime, startup
from lapidar.core.languages.python.bytecode import bytecode_of
from lapidar.core.languages.python.standards import direct_url, entry_points, layout, record
from lapidar.core.layers import conditions, tools
from lapidar.core.layers import libraries as libraries_layer
from lapidar.core.records.snapshot import LIBRARIES, Kept, Package, Runtime, Snapshot, runtime_label, tool_label
from lapidar.core.system import elf
from lapidar.core.system.loader import options_of

__all__ = ["Item", "Plan", "add_bytecode", "assemble", "derive"]


@dataclass(frozen=True, slots=True)
class Item:
    """One thing to place: a cached file, a link, or (with `data`) a generated file."""

    entry: Entry
    owner: str
    data: bytes | None = None


@dataclass(slots=True)
class Plan:
    """Everything a restored environment holds: path below it -> item."""

    items: dict[str, Item] = field(default_factory=dict)

    def add(self, owner: str, placed: Iterable[tuple[Entry, str]]) -> None:
        """Files of a tree. Where two packages brought the same path it was one file when it was captured."""
        for entry, path in placed:
            self.items.setdefault(path, Item(entry, owner))

    def generate(self, owner: str, path: str, data: bytes, *, executable: bool = False) -> None:
        """A file that is written for this environment. What the snapshot has at that path stands."""
        kind = EXECUTABLE if executable else FILE
        entry = Entry(path, kind, hashlib.sha256(data).hexdigest(), len(data))
        self.items.setdefault(path, Item(entry, owner, data))

    def assembled(self, snapshot: Snapshot) -> Assembled:
        """The plan as a list, in the order in which things were added."""
        owners: dict[str, int] = {}
        rows: list[Row] = []
        written = {}
        for path, item in self.items.items():
            entry = item.entry
            kind = entry.kind
            if item.data is not None:
                written[path] = item.data
                kind = kind.upper()
            rows.append((path, owners.setdefault(item.owner, len(owners)), kind, entry.content, entry.bytes))
        wanted = [package.name for package in snapshot.package if package.asked_for]
        return Assembled(Listing.of(rows, list(owners), wanted), written)


def assemble(snapshot: Snapshot, trees: dict[str, Tree], cache: Cache, way_to_project: str, libraries: str) -> Plan:
    """Plan a restored environment, but for its byte-code.

    Args:
        snapshot: what is to be restored.
        trees: its trees by their digests.
        cache: holds the bytes that generated files follow from (entry points, scripts).
        way_to_project: relative path from the environment's folder to the project's.
        libraries: whose system libraries it is to run with: its own (``private``) or the ``host``'s.
    """
    plan = Plan()
    base = snapshot.only_runtime
    plan.add(runtime_label(base), runtime.place(base, trees[base.tree]))
    private, lines = _libraries(plan, snapshot, trees, cache) if libraries == "private" else (None, b"")
    _launchers(plan, base, private or _hosts_loader(base, trees[base.tree], cache), lines)
    _tools(plan, snapshot, trees, private)
    if snapshot.conditions:
        plan.generate(marker.OWNER, conditions.KEPT, kept.render(snapshot.conditions))
    for package in snapshot.package:
        _Package(plan, base, package, trees[package.tree], cache, private).add(way_to_project)
    for rest in snapshot.remainder:
        plan.add("files of no package", packages.place(base, trees[rest.tree]))
    return plan


def _libraries(
    plan: Plan, snapshot: Snapshot, trees: dict[str, Tree], cache: Cache
) -> tuple[launchers.Private | None, bytes]:
    """The layer of system libraries: how they are led to, and the lines for the start of the interpreter."""
    layer = snapshot.libraries
    if layer is None:
        return None, b""
    tree = trees[layer.tree]
    plan.add(LIBRARIES, libraries_layer.place(tree))
    plan.generate(marker.OWNER, libraries_layer.KEPT, libraries_layer.keep(snapshot.library))
    start = startup.of(entry.path for entry in tree)
    plan.generate(marker.OWNER, startup.SCRIPT, start.script)
    loader = plan.items.get(f"{marker.PRIVATE}/{layer.loader}")
    options = options_of(cache.entry_path(loader.entry)) if loader else frozenset()
    return launchers.Private(layer.loader, start.variables, layer.absolute, options), start.line


def _hosts_loader(base: Runtime, tree: Tree, cache: Cache) -> launchers.Host:
    """The loader that the runtime's executable asks for: another one on a system without glibc."""
    entry = next((entry for entry in tree if entry.path == base.executable), None)
    facts = elf.read(cache.entry_path(entry)) if entry else None
    loader = facts.interpreter if facts and facts.interpreter else launchers.LOADER
    return launchers.Host(loader, options_of(loader))


def _launchers(plan: Plan, base: Runtime, way: launchers.Private | launchers.Host, lines: bytes) -> None:
    """What starts the interpreter, and what it does then: the lines, and to learn its name where no other way is."""
    executable = posixpath.basename(base.executable)
    major, minor = base.version.split(".")[:2]
    text = launchers.interpreter(executable, way)
    for name in dict.fromkeys(("python", f"python{major}", f"python{major}.{minor}", executable)):
        plan.generate(marker.OWNER, f"bin/{name}", text, executable=True)
    for path, data in activation.FILES.items():
        plan.generate(marker.OWNER, path, data)
    if "--argv0" not in way.options:
        lines = startup.naming(f"bin/{executable}") + lines
    if lines:
        plan.generate(marker.OWNER, f"{base.site}/{startup.PATH_FILE}", lines)


def _tools(plan: Plan, snapshot: Snapshot, trees: dict[str, Tree], private: launchers.Private | None) -> None:
    """Outside programs. They come with libraries of their own, or not at all."""
    if not snapshot.tool or private is None:
        return
    helper = f"{marker.PRIVATE}/enter.py"
    plan.generate(marker.OWNER, helper, startup.entering(private.loader))
    plan.generate(marker.OWNER, f"{tools.FOLDER}/.mount/.keep", b"")
    plan.generate(marker.OWNER, tools.KEPT, kept.render(snapshot.tool))
    for tool in snapshot.tool:
        label = tool_label(tool)
        tree = trees[tool.tree]
        plan.add(label, tools.place(tool, tree))
        at = tools.folder_of(tool.name)
        if tools.lives_off_paths(tool, tree):
            text = launchers.tool(tool.name, tool.executable, tool.interpreter, helper)
        elif tool.interpreter:
            text = launchers.script(f"{at}/{tool.executable}", f"{at}/{tool.interpreter}", private)
        else:
            text = launchers.program(f"{at}/{tool.executable}", private)
        plan.generate(marker.OWNER, f"bin/{tool.name}", text, executable=True)


@dataclass(slots=True)
class _Package:
    """A package's files, and what an installer would write beside them."""

    plan: Plan
    base: Runtime
    package: Package
    tree: Tree
    cache: Cache
    private: launchers.Private | None
    listed: list[str] = field(default_factory=list)

    @property
    def owner(self) -> str:
        return f"{self.package.name} {self.package.version}"

    def add(self, way_to_project: str) -> None:
        """Add all of it to the plan."""
        starters = dict(self._starters())
        for entry, path in packages.place(self.base, self.tree):
            if entry.path in starters:
                path = f"{packages.SCRIPTS}/{posixpath.basename(path)}"
            else:
                self.listed.append(path)
            self.plan.add(self.owner, [(entry, path)])
        for path, text in starters.items():
            self._generate(path.removeprefix("prefix/"), text)
        for script in _entry_points(self.cache, self.tree):
            self._generate(f"bin/{script.name}", launchers.entry_point(script))
        metadata = _metadata_folder(self.base, self.tree)
        if metadata is None:
            return
        for path, data in _installers_files(self.base, self.package, metadata, way_to_project):
            self.plan.generate(self.owner, path, data)
            self.listed.append(path)
        if metadata.endswith(".dist-info"):
            self.plan.generate(self.owner, f"{metadata}/RECORD", _record(self.plan, self.base, metadata, self.listed))

    def _generate(self, path: str, text: bytes) -> None:
        self.plan.generate(self.owner, path, text, executable=True)
        self.listed.append(path)

    def _starters(self) -> Iterator[tuple[str, bytes]]:
        """What in bin/ is started by something that stands in its place: tree path, the starter."""
        for entry in self.tree:
            if not entry.path.startswith("prefix/bin/") or entry.kind == LINK:
                continue
            path = self.cache.entry_path(entry)
            with open(path, "rb") as stream:
                first = stream.read(len(layout.NEUTRAL_LINE))
            if first == layout.NEUTRAL_LINE:
                yield entry.path, launchers.starter(packages.SCRIPTS)
            elif self.private and first.startswith(b"\x7fELF") and _has_loader(path):
                place = f"{packages.SCRIPTS}/{posixpath.basename(entry.path)}"
                yield entry.path, launchers.program(place, self.private)


def _has_loader(path: str) -> bool:
    facts = elf.read(path)
    return facts is not None and bool(facts.interpreter)


def _metadata_folder(base: Runtime, tree: Tree) -> str | None:
    for entry in tree:
        if layout.is_metadata(entry.path):
            return f"{base.site}/{entry.path.split('/')[1]}"
    return None


def _entry_points(cache: Cache, tree: Tree) -> list[entry_points.Script]:
    for entry in tree:
        if entry.path.count("/") == 2 and entry.path.endswith("-info/entry_points.txt"):
            return entry_points.scripts(cache.read(entry).decode("utf-8", "replace"))
    return []


def _installers_files(
    base: Runtime, package: Package, metadata: str, way_to_project: str
) -> Iterator[tuple[str, bytes]]:
    """What an installer writes of its own act (Recording installed projects), and the way to local code."""
    if metadata.endswith(".dist-info"):
        yield f"{metadata}/INSTALLER", b"lapidar\n"
        if package.asked_for:
            yield f"{metadata}/REQUESTED", b""
    kept = Kept.of(package)
    if kept != Kept():
        yield f"{metadata}/{layout.ORIGIN_FILE}", msgspec.json.encode(kept) + b"\n"
    url = direct_url.render(package.origin)
    if url:
        yield f"{metadata}/direct_url.json", url.encode("utf-8")
    if package.origin.folders:
        # Relative lines of a .pth file are read from the folder it lies in: nothing absolute is needed.
        up = posixpath.relpath(".", base.site)
        lines = [posixpath.normpath(f"{up}/{way_to_project}/{folder}") + "\n" for folder in package.origin.folders]
        yield f"{base.site}/local-{package.name}.pth", "".join(lines).encode("utf-8")


def _record(plan: Plan, base: Runtime, metadata: str, listed: list[str]) -> bytes:
    # Paths are written as seen from the packages' folder; the common case needs no path arithmetic.
    prefix = base.site + "/"
    rows = []
    for path in dict.fromkeys(listed):
        entry = plan.items[path].entry
        shown = path[len(prefix) :] if path.startswith(prefix) else os.path.relpath(path, base.site)
        is_link = entry.kind == LINK
        rows.append(record.Row(shown, "" if is_link else entry.content, None if is_link else entry.bytes))
    rows.append(record.Row(f"{metadata}/RECORD"[len(prefix) :], "", None))
    return record.render(rows).encode("utf-8")


def add_bytecode(plan: Plan, snapshot: Snapshot, bytecode: dict[str, Tree]) -> None:
    """Add the byte-code of the snapshot's trees to a plan.

    Args:
        bytecode: by the digests of the trees that it was compiled from.
    """
    base = snapshot.only_runtime
    plan.add(runtime_label(base), runtime.place(base, bytecode.get(base.tree, Tree(()))))
    for package in snapshot.package:
        tree = bytecode.get(package.tree, Tree(()))
        plan.add(f"{package.name} {package.version}", packages.place(base, tree))
    for rest in snapshot.remainder:
        plan.add("files of no package", packages.place(base, bytecode.get(rest.tree, Tree(()))))


def derive(
    snapshot: Snapshot, trees: dict[str, Tree], cache: Cache, way_to_project: str, libraries: str
) -> tuple[Plan, dict[str, Tree]]:
    """Plan a restored environment with all the byte-code that the cache has.

    Returns:
        The plan, and the trees whose byte-code is still to be compiled.
    """
    plan = assemble(snapshot, trees, cache, way_to_project, libraries)
    sources = {digest: tree for digest, tree in trees.items() if digest not in _without_sources(snapshot)}
    known = {digest: bytecode_of(cache, snapshot.only_runtime, digest) for digest in sources}
    add_bytecode(plan, snapshot, {digest: tree for digest, tree in known.items() if tree is not None})
    return plan, {digest: tree for digest, tree in sources.items() if known[digest] is None}


def _without_sources(snapshot: Snapshot) -> set[str]:
    """The trees that hold nothing of the runtime's language."""
    layers = [snapshot.libraries.tree] if snapshot.libraries else []
    return {*layers, *(tool.tree for tool in snapshot.tool)}
