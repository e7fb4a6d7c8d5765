"""``lapidar show``"""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from lapidar.cli import show_below
from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session
from lapidar.cli.show_below import pairs
from lapidar.cli.view import View, human_bytes, human_count

if TYPE_CHECKING:
    from lapidar.core.cache.store import Cache
    from lapidar.core.records.snapshot import Origin, Package, Snapshot

DESCRIPTION = """\
Show a lockfile to people: a summary, one layer, or one package in full."""

EXAMPLES = """\
examples:
  lapidar show
  lapidar show packages
  lapidar show packages numpy
  lapidar show libraries
  lapidar show libraries libssl.so.3
  lapidar show --graph"""

LAYERS = ("runtime", "packages", "remainder", "libraries", "tools", "conditions")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("layer", nargs="?", choices=LAYERS, metavar="LAYER", help=", ".join(LAYERS))
    parser.add_argument("name", nargs="?", metavar="NAME", help="a package, or a library")
    parser.add_argument("--lock", metavar="FILE", help="another lockfile than the project's")
    parser.add_argument("--graph", action="store_true", help="the tree of needs, with the range at each step")


def run(session: Session) -> int:
    from lapidar.core.errors import LapidarError
    from lapidar.core.records import lockfile

    options, view = session.options, session.view
    snapshot = lockfile.read(session.path("lock") or session.project.lockfile)
    if options.name and options.layer not in ("packages", "libraries"):
        raise LapidarError(f"The layer {options.layer} has no names", remedy="lapidar show packages NAME")
    if options.graph:
        _graph(session, snapshot)
    elif options.name and options.layer == "libraries":
        found = show_below.library(snapshot, options.name, view)
        if view.json:
            view.object(found)
    elif options.name:
        package = _find(snapshot, options.name)
        if view.json:
            view.object(package)
        else:
            _package(package, snapshot, _cache_or_none(session), view)
    elif view.json:
        view.object(
            {
                "runtime": snapshot.runtime,
                "packages": snapshot.package,
                "remainder": snapshot.remainder,
                "libraries": snapshot.library,
                "tools": snapshot.tool,
                "conditions": snapshot.conditions,
            }.get(options.layer, snapshot)
        )
    else:
        {
            "runtime": _runtime,
            "packages": _packages,
            "remainder": _remainder,
            "libraries": show_below.libraries,
            "tools": show_below.tools,
            "conditions": show_below.conditions,
        }.get(options.layer, _summary)(snapshot, view)
    return ExitCode.DONE


def _graph(session: Session, snapshot: Snapshot) -> None:
    from lapidar.core.declaring import reading
    from lapidar.core.languages.python.graph import Graph

    view = session.view
    graph = Graph.of(snapshot, reading.read(session.project), _cache_or_none(session))
    if view.json:
        view.object([edge._asdict() for several in graph.edges.values() for edge in several])
        return
    versions = {package.name: package.version for package in snapshot.package}
    told: set[str] = set()

    def branch(source: str, before: str) -> None:
        edges = sorted(graph.edges.get(source, ()), key=lambda edge: edge.target)
        for edge in edges:
            last = edge is edges[-1]
            version = versions.get(edge.target)
            again = edge.target in told and graph.edges.get(edge.target)
            shown = f"{edge.target} {version or '(not locked)'}"
            asked = edge.text.removeprefix(edge.target)
            text = f"{before}{'└─ ' if last else '├─ '}{shown}" + (f"  {asked}" if asked else "")
            view.line(text + ("  (above)" if again else ""), "" if version else "bad")
            if not again:
                told.add(edge.target)
                branch(edge.target, before + ("   " if last else "│  "))

    view.line(session.project.root.name)
    branch("", "")


def _cache_or_none(session: Session) -> Cache | None:
    """A lockfile can be looked at without its cache."""
    from lapidar.core.errors import CacheError

    try:
        return session.cache()
    except CacheError:
        return None


def _find(snapshot: Snapshot, name: str) -> Package:
    import difflib

    from packaging.utils import canonicalize_name

    from lapidar.core.errors import LapidarError

    packages = {package.name: package for package in snapshot.package}
    found = packages.get(canonicalize_name(name))
    if found is None:
        near = difflib.get_close_matches(canonicalize_name(name), packages, n=3)
        raise LapidarError(
            f"The snapshot has no package {name!r}",
            remedy=f"Near to it: {', '.join(near)}." if near else "`lapidar show packages` lists what it has.",
        )
    return found


def _needed_by(snapshot: Snapshot) -> dict[str, list[str]]:
    needed_by: dict[str, list[str]] = {package.name: [] for package in snapshot.package}
    for package in snapshot.package:
        for name in package.requires:
            needed_by.setdefault(name, []).append(package.name)
    return needed_by


def _summary(snapshot: Snapshot, view: View) -> None:
    runtime = snapshot.only_runtime
    wanted = [package.name for package in snapshot.package if package.asked_for]
    largest = sorted(snapshot.package, key=lambda package: package.bytes, reverse=True)[:5]
    view.line(f"Snapshot   {snapshot.snapshot.removeprefix('sha256:')}")
    view.line(f"Platform   {snapshot.platform.system} {snapshot.platform.machine}, {snapshot.platform.libc}")
    view.line(
        f"Runtime    CPython {runtime.version} ({runtime.build}), "
        f"{human_count(runtime.files, 'file')}, {human_bytes(runtime.bytes)}"
    )
    view.line(
        f"Packages   {len(snapshot.package)}, {human_count(sum(p.files for p in snapshot.package), 'file')}, "
        f"{human_bytes(sum(p.bytes for p in snapshot.package))}"
    )
    view.line(f"  asked for  {', '.join(wanted) or '-'}")
    view.line(f"  largest    {', '.join(f'{p.name} {human_bytes(p.bytes)}' for p in largest) or '-'}")
    for rest in snapshot.remainder:
        view.line(f"Remainder  {human_count(rest.files, 'file')} of no package: {', '.join(rest.paths[:6])}")
    show_below.summary(snapshot, view)
    view.line(f"Left out   of the runtime: {', '.join(runtime.left_out)}")


def _runtime(snapshot: Snapshot, view: View) -> None:
    runtime = snapshot.only_runtime
    rows = [
        ["language", f"{runtime.language} ({runtime.implementation})"],
        ["version", runtime.version],
        ["build", runtime.build],
        ["executable", runtime.executable],
        ["packages in", runtime.site],
        ["headers in", runtime.headers],
        ["tree", runtime.tree],
        ["files", f"{runtime.files:,}"],
        ["size", human_bytes(runtime.bytes)],
        ["left out", ", ".join(runtime.left_out)],
    ]
    pairs(rows, view)


def _packages(snapshot: Snapshot, view: View) -> None:
    needed_by = _needed_by(snapshot)
    rows = []
    for package in snapshot.package:
        by = needed_by[package.name]
        who = (["asked for"] if package.wanted else []) + [f"the group {name}" for name in package.groups] + by
        shown = ", ".join(who[:4]) + (f" and {len(who) - 4} more" if len(who) > 4 else "")
        rows.append([package.name, package.version, human_bytes(package.bytes), f"{package.files:,}", shown or "-"])
    view.table(["package", "version", "size", "files", "needed by"], rows, right=(2, 3))


def _package(package: Package, snapshot: Snapshot, cache: Cache | None, view: View) -> None:
    rows = [
        ["package", f"{package.name} {package.version}"],
        ["asked for", _asked_for(package)],
        ["requires", ", ".join(package.requires) or "-"],
        ["needed by", ", ".join(_needed_by(snapshot)[package.name]) or "-"],
        ["origin", _origin(package.origin)],
        *(
            [["built with", ", ".join(" ".join(text.split()[:2]) for text in package.built_with)]]
            * bool(package.built_with)
        ),
        ["tree", package.tree],
        ["files", f"{package.files:,}"],
        ["size", human_bytes(package.bytes)],
    ]
    if cache is not None:
        rows.append(["in the cache", "yes" if cache.has_tree(package.tree) else "no"])
    pairs(rows, view)
    if cache is not None and cache.has_tree(package.tree):
        tree = cache.tree(package.tree)
        largest = sorted(tree, key=lambda entry: entry.bytes, reverse=True)[: None if view.verbose else 8]
        view.line()
        view.table(
            ["size", "sha256", "all files" if view.verbose else "largest files (-v shows all)"],
            [[human_bytes(entry.bytes), entry.content[:12], entry.path] for entry in largest],
            right=(0,),
        )


def _asked_for(package: Package) -> str:
    extras = f", with its extra {', '.join(package.extras)}" if package.extras else ""
    if package.wanted:
        return "yes" + extras
    return f"by the group {', '.join(package.groups)}{extras}" if package.groups else "not by name"


def _origin(origin: Origin) -> str:
    match origin.kind:
        case "environment":
            return "only the captured environment is known"
        case "version-control":
            return f"{origin.system} {origin.url or '(a local repository)'} at {origin.commit}"
        case "archive":
            return f"the file {origin.url or origin.file}"
        case "index":
            return f"{origin.file} of {origin.index}, sha256 {(origin.sha256 or '')[:12]}"
        case "local":
            return f"the project's own folder {origin.path}" + (", used from there" if origin.folders else "")
    return origin.kind


def _remainder(snapshot: Snapshot, view: View) -> None:
    if not snapshot.remainder:
        view.line("Every file belongs to a package.")
    for rest in snapshot.remainder:
        view.line(f"{human_count(rest.files, 'file')} of no package, {human_bytes(rest.bytes)}:")
        for path in rest.paths:
            view.line(f"  {path}")
