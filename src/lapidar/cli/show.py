"""``lapidar show``"""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from lapidar.cli import show_layers, show_results
from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session, add_language_option, add_snapshot_options
from lapidar.cli.show_layers import pairs
from lapidar.cli.view import View, human_bytes, human_count, runtime_title

if TYPE_CHECKING:
    from lapidar.core.cache.store import Cache
    from lapidar.core.records.owner import PackageName
    from lapidar.core.records.snapshot import Origin, Package, Runtime, Snapshot

DESCRIPTION = """\
Show a lockfile to people: a summary, one layer, or one package in full; with --graph who needs whom.

It tells what is pinned. `lapidar why NAME` says why one package is; `lapidar versions NAME` and `lapidar outlook` what
else there is."""

EXAMPLES = """\
examples:
  lapidar show
  lapidar show packages
  lapidar show packages numpy
  lapidar show libraries
  lapidar show libraries libssl.so.3
  lapidar show results
  lapidar show results kilns
  lapidar show licences
  lapidar show --graph"""

LAYERS = ("runtime", "packages", "remainder", "libraries", "tools", "conditions", "results", "licences")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("layer", nargs="?", choices=LAYERS, metavar="LAYER", help=", ".join(LAYERS))
    parser.add_argument("name", nargs="?", metavar="NAME", help="a package, a library, or a recorded analysis")
    add_snapshot_options(parser)
    add_language_option(parser, several=False)
    parser.add_argument("--graph", action="store_true", help="the tree of needs, with the range at each step")


def run(session: Session) -> int:
    from lapidar.core.errors import LapidarError

    options, view = session.options, session.view
    if options.layer == "results":
        show_results.show(session, options.name)
        return ExitCode.DONE
    snapshot = session.snapshot()
    if options.layer == "licences":
        _licences(session, snapshot)
        return ExitCode.DONE
    if options.name and options.layer not in ("packages", "libraries"):
        raise LapidarError(f"The layer {options.layer} has no names", remedy="lapidar show packages NAME")
    if options.graph:
        _graph(session, snapshot)
    elif options.name and options.layer == "libraries":
        found = show_layers.library(snapshot, options.name, view)
        if view.json:
            view.object(found)
    elif options.name:
        package = _find(snapshot, options.name, options.language or "")
        if view.json:
            view.object(package)
        else:
            _package(package, snapshot, _cache_or_none(session), view)
    elif view.json:
        view.object(
            {
                "runtime": snapshot.runtimes,
                "packages": snapshot.packages,
                "remainder": snapshot.remainders,
                "libraries": snapshot.libraries,
                "tools": snapshot.tools,
                "conditions": snapshot.conditions,
            }.get(options.layer, snapshot)
        )
    else:
        {
            "runtime": _runtimes,
            "packages": _packages,
            "remainder": _remainder,
            "libraries": show_layers.libraries,
            "tools": show_layers.tools,
            "conditions": show_layers.conditions,
        }.get(options.layer, _summary)(snapshot, view)
    return ExitCode.DONE


def _graph(session: Session, snapshot: Snapshot) -> None:
    from lapidar.cli.why import as_values
    from lapidar.core.declaring import judge, reading
    from lapidar.core.records import words

    view = session.view
    graph = judge.graph(snapshot, reading.read(session.place), _cache_or_none(session))
    if view.json:
        view.object([as_values(edge) for several in graph.edges.values() for edge in several])
        return
    versions = {package.key: package.version for package in snapshot.packages}
    names = words.package_names({edge.target for several in graph.edges.values() for edge in several})
    told: set[PackageName] = set()

    def branch(source: PackageName | None, before: str) -> None:
        edges = sorted(graph.edges.get(source, ()), key=lambda edge: edge.target)
        for edge in edges:
            last = edge is edges[-1]
            version = versions.get(edge.target)
            again = edge.target in told and graph.edges.get(edge.target)
            shown = f"{names[edge.target]} {version or '(not locked)'}"
            asked = edge.text.removeprefix(edge.target.name)
            text = f"{before}{'└─ ' if last else '├─ '}{shown}" + (f"  {asked}" if asked else "")
            view.line(text + ("  (above)" if again else ""), "" if version else "bad")
            if not again:
                told.add(edge.target)
                branch(edge.target, before + ("   " if last else "│  "))

    view.line(session.place.root.name)
    branch(None, "")


def _cache_or_none(session: Session) -> Cache | None:
    """A lockfile can be looked at without its cache."""
    from lapidar.core.errors import CacheError

    try:
        return session.cache()
    except CacheError:
        return None


def _find(snapshot: Snapshot, name: str, language: str) -> Package:
    from lapidar.core.flows.naming import package_of

    packages = {package.key: package for package in snapshot.packages}
    return packages[package_of(name, packages.keys(), language)]


def _needed_by(snapshot: Snapshot) -> dict[PackageName, list[str]]:
    needed_by: dict[PackageName, list[str]] = {package.key: [] for package in snapshot.packages}
    for package in snapshot.packages:
        for name in package.requires:
            needed_by.setdefault(package.key._replace(name=name), []).append(package.name)
    return needed_by


def _summary(snapshot: Snapshot, view: View) -> None:
    wanted = [package.name for package in snapshot.packages if package.asked_for]
    largest = sorted(snapshot.packages, key=lambda package: package.bytes, reverse=True)[:5]
    view.line(f"Snapshot   {snapshot.snapshot.removeprefix('sha256:')}")
    view.line(f"Platform   {snapshot.platform.system} {snapshot.platform.machine}, {snapshot.platform.libc}")
    for runtime in snapshot.runtimes:
        size = f"{human_count(runtime.files, 'file')}, {human_bytes(runtime.bytes)}"
        view.line(f"Runtime    {runtime_title(runtime)}, {size}")
    view.line(
        f"Packages   {len(snapshot.packages)}, {human_count(sum(p.files for p in snapshot.packages), 'file')}, "
        f"{human_bytes(sum(p.bytes for p in snapshot.packages))}"
    )
    view.line(f"  asked for  {', '.join(wanted) or '-'}")
    view.line(f"  largest    {', '.join(f'{p.name} {human_bytes(p.bytes)}' for p in largest) or '-'}")
    for rest in snapshot.remainders:
        view.line(f"Remainder  {human_count(rest.files, 'file')} of no package: {', '.join(rest.paths[:6])}")
    show_layers.summary(snapshot, view)
    left_out = dict.fromkeys(phrase for runtime in snapshot.runtimes for phrase in runtime.left_out)
    if left_out:
        view.line(f"Left out   of the runtime: {', '.join(left_out)}")


_PLACES = {"site": "packages in", "headers": "headers in"}


def _runtimes(snapshot: Snapshot, view: View) -> None:
    for number, runtime in enumerate(snapshot.runtimes):
        if number:
            view.line()
        _runtime(runtime, view)


def _runtime(runtime: Runtime, view: View) -> None:
    rows = [
        ["language", f"{runtime.language} ({runtime.implementation})"],
        ["version", runtime.version],
        ["build", runtime.build],
        ["executable", runtime.executable],
        *([_PLACES.get(name, name), path] for name, path in sorted(runtime.places.items(), reverse=True)),
        ["tree", runtime.tree],
        ["files", f"{runtime.files:,}"],
        ["size", human_bytes(runtime.bytes)],
        ["left out", ", ".join(runtime.left_out)],
    ]
    pairs(rows, view)


def _packages(snapshot: Snapshot, view: View) -> None:
    from lapidar.core.records import words

    needed_by = _needed_by(snapshot)
    names = words.package_names(needed_by)
    rows = []
    for package in snapshot.packages:
        by = needed_by[package.key]
        who = (["asked for"] if package.wanted else []) + [f"the group {name}" for name in package.groups] + by
        shown = ", ".join(who[:4]) + (f" and {len(who) - 4} more" if len(who) > 4 else "")
        rows.append(
            [names[package.key], package.version, human_bytes(package.bytes), f"{package.files:,}", shown or "-"]
        )
    view.table(["package", "version", "size", "files", "needed by"], rows, right=(2, 3))


def _package(package: Package, snapshot: Snapshot, cache: Cache | None, view: View) -> None:
    rows = [
        ["package", f"{package.name} {package.version}"],
        ["asked for", _asked_for(package)],
        ["requires", ", ".join(package.requires) or "-"],
        ["needed by", ", ".join(_needed_by(snapshot)[package.key]) or "-"],
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
    if not snapshot.remainders:
        view.line("Every file belongs to a package.")
    for rest in snapshot.remainders:
        view.line(f"{human_count(rest.files, 'file')} of no package, {human_bytes(rest.bytes)}:")
        for path in rest.paths:
            view.line(f"  {path}")


def _licences(session: Session, snapshot: Snapshot) -> None:
    """Whose licence is what, as each says it of itself."""
    from lapidar.core.exchange.licences import licences

    view = session.view
    found = licences(snapshot, session.cache())
    if view.json:
        view.object(found)
        return
    rows = [[one.name, one.version, one.licence or "not said", one.what] for one in found]
    view.table(["name", "version", "licence", "what it is"], rows)
    unknown = sum(not one.licence for one in found)
    if unknown:
        view.note(f"Of {unknown} nothing says a licence: look where it came from.")
    if any(one.here for one in found):
        view.note("Those of the system's packages are what this machine says of the same versions.")
