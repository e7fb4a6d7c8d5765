"""What a restored environment has of Python: the files of the trees, and what is generated for them."""

from __future__ import annotations

import os
import posixpath
from collections.abc import Iterator, Mapping

import msgspec
from msgspec import Struct, field

from lapidar.core.cache.store import Cache
from lapidar.core.cache.trees import LINK, Entry, Tree
from lapidar.core.environment import launchers as programs
from lapidar.core.environment.layout import Layout, Placing
from lapidar.core.languages.protocol import Deriver
from lapidar.core.languages.python import launchers, placing, shipped, startup
from lapidar.core.languages.python.placing import SCRIPTS, SITE
from lapidar.core.languages.python.standards import direct_url, entry_points, layout, managed, record
from lapidar.core.records.owner import LAPIDAR
from lapidar.core.records.snapshot import LanguageParts, Package, PackageFacts, Runtime
from lapidar.core.system import elf

__all__ = ["deriver", "lay_out", "lay_out_derived"]


def lay_out(parts: LanguageParts, into: Layout, at: Placing) -> None:
    """See `lapidar.core.languages.protocol.LayingOut`."""
    runtime = parts.runtime
    into.add(runtime.owner, placing.runtime_entries(runtime, at.trees[runtime.tree]))
    named = [one for package in parts.packages for one in shipped.naming_modules(at.trees[package.tree], at.cache)]
    # Only where it is: what the environments of earlier versions have is as they have it.
    named += [(module, []) for module in startup.FONT_PLACES_OF if any(one.name == "pillow" for one in parts.packages)]
    _launchers(runtime, named, into, at)
    for package in parts.packages:
        _PackageLayout(into, runtime, package, at.trees[package.tree], at).add()
    for rest in parts.remainders:
        into.add(rest.owner, placing.package_entries(runtime, at.trees[rest.tree]))


def deriver(cache: Cache, runtime: Runtime) -> Deriver:
    """Compiles."""
    from lapidar.core.languages.python.bytecode import Compiler

    return Compiler(cache, runtime)


def lay_out_derived(parts: LanguageParts, into: Layout, derived: Mapping[str, Tree]) -> None:
    """Add byte-code.

    Args:
        derived: by the digests of the trees that it was compiled from.
    """
    runtime, nothing = parts.runtime, Tree(())
    entries = placing.runtime_entries(runtime, derived.get(runtime.tree, nothing))
    into.add(runtime.owner, entries, derived=True)
    for one in parts.above_runtime:
        entries = placing.package_entries(runtime, derived.get(one.tree, nothing))
        # What may be edited is compiled when it is imported.
        made = (found for found in entries if _source_of(found[1]) not in into.live)
        into.add(one.owner, made, derived=True)


def _source_of(path: str) -> str:
    """The module that byte-code was compiled from (PEP 3147)."""
    folder, _, name = path.rpartition("/")
    return f"{posixpath.dirname(folder)}/{name.partition('.')[0]}.py"


def _launchers(runtime: Runtime, named: list[tuple[str, list[str]]], into: Layout, at: Placing) -> None:
    """What starts the interpreter, and what it does then: the lines, and to learn its name where no other way is.

    Args:
        named: modules that name data of packages by the places of the system.
    """
    executable = posixpath.basename(runtime.executable)
    way = at.loader_of(at.trees[runtime.tree], runtime.executable)
    files = (posixpath.basename(one.path) for one in at.trees[runtime.tree])
    of_build = [name.removesuffix(".py") for name in files if name.startswith("_sysconfigdata")]
    start = startup.of(at.data, named, of_build) if at.private else None
    text = launchers.interpreter(executable, way, start.variables if start else {})
    major, minor = runtime.version.split(".")[:2]
    for name in dict.fromkeys(("python", f"python{major}", f"python{major}.{minor}", executable)):
        into.command(name, text)
    library = next((posixpath.dirname(one.path) for one in at.trees[runtime.tree] if one.path.endswith("/os.py")), "")
    if library and f"{library}/{managed.FILE_NAME}" not in into.items:
        into.generate(LAPIDAR, f"{library}/{managed.FILE_NAME}", managed.TEXT)
    line = b"" if "--argv0" in way.options else startup.naming(f"bin/{executable}")
    if start:
        into.generate(LAPIDAR, startup.SCRIPT, start.script)
        line += start.line
    telling, script = startup.telling()
    path_file = f"{runtime.places[SITE]}/{startup.PATH_FILE}"
    into.generate(LAPIDAR, startup.SEEKER, script)
    into.generate(LAPIDAR, path_file, line + telling)
    into.earlier |= {startup.SEEKER: None, path_file: line or None}


class _PackageLayout(Struct):
    """A package's files, and what an installer would write beside them."""

    into: Layout
    runtime: Runtime
    package: Package
    tree: Tree
    at: Placing
    listed: list[str] = field(default_factory=list)

    def add(self) -> None:
        """Add all of it."""
        starters = dict(self._starters())
        live = self.at.project.live.get(self.package.key, {})
        for entry, path in placing.package_entries(self.runtime, self.tree):
            if entry.path in live:
                target = self.at.project.link_to(path, live[entry.path])
                self.into.add_live(self.package.owner, path, target)
                self.listed.append(path)
                continue
            if entry.path in starters:
                path = f"{SCRIPTS}/{posixpath.basename(path)}"
            elif self._is_program_inside(entry):
                real = programs.behind_starter(path)
                self._command(
                    path, programs.program(real, self._private, posixpath.relpath(".", posixpath.dirname(path)))
                )
                path = real
            else:
                self.listed.append(path)
            self.into.add(self.package.owner, [(entry, path)])
        for path, text in starters.items():
            self._command(path.removeprefix("prefix/"), text)
        for script in _entry_points(self.at.cache, self.tree):
            self._command(f"bin/{script.name}", launchers.entry_point(script))
        metadata = _metadata_folder(self.runtime, self.tree)
        if metadata is None:
            self._facts_of_its_own()
            return
        for path, data in _installers_files(self.runtime, self.package, metadata, self.at.project.way):
            self.into.generate(self.package.owner, path, data)
            self.listed.append(path)
        if metadata.endswith(".dist-info"):
            data = _record(self.into, self.runtime, metadata, self.listed)
            self.into.generate(self.package.owner, f"{metadata}/RECORD", data)

    def _facts_of_its_own(self) -> None:
        """The facts of a package whose metadata is a single file, which has no room beside it."""
        facts = PackageFacts.of(self.package, says_needs=False)
        if facts != PackageFacts():
            self.into.generate(LAPIDAR, placing.facts_of(self.package.name), msgspec.json.encode(facts) + b"\n")

    @property
    def _private(self) -> programs.Private:
        assert self.at.private is not None
        return self.at.private

    def _is_program_inside(self, entry: Entry) -> bool:
        """Whether it is a compiled program in a folder of the package, which is to run with the environment's own
        libraries."""
        return entry.path.startswith("site/") and programs.is_program_inside(entry, self.at.cache, self.at.private)

    def _command(self, path: str, text: bytes) -> None:
        self.into.generate(self.package.owner, path, text, executable=True)
        self.listed.append(path)

    def _starters(self) -> Iterator[tuple[str, bytes]]:
        """What in bin/ is started by something that stands in its place: tree path, the starter."""
        for entry in self.tree:
            if not entry.path.startswith("prefix/bin/") or entry.kind == LINK:
                continue
            path = self.at.cache.entry_path(entry)
            with open(path, "rb") as stream:
                first = stream.read(len(layout.NEUTRAL_LINE))
            if first == layout.NEUTRAL_LINE:
                yield entry.path, launchers.starter(SCRIPTS)
            elif self.at.private and first.startswith(b"\x7fELF") and _has_loader(path):
                place = f"{SCRIPTS}/{posixpath.basename(entry.path)}"
                yield entry.path, programs.program(place, self.at.private)


def _has_loader(path: str) -> bool:
    facts = elf.read(path)
    return facts is not None and bool(facts.interpreter)


def _metadata_folder(runtime: Runtime, tree: Tree) -> str | None:
    for entry in tree:
        if layout.is_metadata(entry.path):
            return f"{runtime.places[SITE]}/{entry.path.split('/')[1]}"
    return None


def _entry_points(cache: Cache, tree: Tree) -> list[entry_points.Script]:
    for entry in tree:
        if entry.path.count("/") == 2 and entry.path.endswith("-info/entry_points.txt"):
            return entry_points.scripts(cache.read(entry).decode("utf-8", "replace"))
    return []


def _installers_files(
    runtime: Runtime, package: Package, metadata: str, way_to_project: str
) -> Iterator[tuple[str, bytes]]:
    """What an installer writes of its own act (Recording installed projects), and the way to local code."""
    if metadata.endswith(".dist-info"):
        yield f"{metadata}/INSTALLER", b"lapidar\n"
        if package.asked_for:
            yield f"{metadata}/REQUESTED", b""
    # Older metadata, of packages that an operating system ships, does not say it.
    facts = PackageFacts.of(package, says_needs=metadata.endswith(".dist-info"))
    if facts != PackageFacts():
        yield f"{metadata}/{layout.ORIGIN_FILE}", msgspec.json.encode(facts) + b"\n"
    url = direct_url.render(package.origin)
    if url:
        yield f"{metadata}/direct_url.json", url.encode("utf-8")
    if package.origin.folders:
        # Relative lines of a .pth file are read from the folder it lies in: nothing absolute is needed.
        site = runtime.places[SITE]
        up = posixpath.relpath(".", site)
        lines = [posixpath.normpath(f"{up}/{way_to_project}/{folder}") + "\n" for folder in package.origin.folders]
        yield f"{site}/local-{package.name}.pth", "".join(lines).encode("utf-8")


def _record(into: Layout, runtime: Runtime, metadata: str, listed: list[str]) -> bytes:
    # Paths are written as seen from the packages' folder; the common case needs no path arithmetic.
    site = runtime.places[SITE]
    prefix = site + "/"
    rows = []
    for path in dict.fromkeys(listed):
        entry = into.items[path].entry
        shown = path[len(prefix) :] if path.startswith(prefix) else os.path.relpath(path, site)
        is_link = entry.kind == LINK
        rows.append(record.RecordedFile(shown, "" if is_link else entry.content, None if is_link else entry.bytes))
    rows.append(record.RecordedFile(f"{metadata}/RECORD"[len(prefix) :], "", None))
    return record.render(rows).encode("utf-8")
