"""What a restored environment has of R: the files of the trees, and what is generated for them."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec.structs import replace

from lapidar.core.cache.store import Cache
from lapidar.core.cache.trees import EXECUTABLE, Tree
from lapidar.core.environment import kept
from lapidar.core.environment import launchers as programs
from lapidar.core.environment.launchers import Host, Private
from lapidar.core.environment.layout import Layout, Placing
from lapidar.core.languages.r import launchers, placing
from lapidar.core.languages.r.packages import KEPT, Kept
from lapidar.core.records.owner import LAPIDAR
from lapidar.core.records.snapshot import LanguageParts, Package, Runtime
from lapidar.core.system import companions

__all__ = ["deriver", "lay_out", "lay_out_derived"]

_PROFILE, _SITE = "library/base/R/Rprofile", "etc/Renviron.site"


def lay_out(parts: LanguageParts, into: Layout, at: Placing) -> None:
    """See `lapidar.core.languages.protocol.LayingOut`."""
    runtime = parts.runtime
    tree = at.trees[runtime.tree]
    _launchers(runtime, tree, into, at)
    into.add(runtime.owner, placing.runtime_entries(tree))
    for package in parts.packages:
        _package(package, at.trees[package.tree], into, at)
    into.generate(LAPIDAR, KEPT, kept.render({package.name: Kept.of(package) for package in parts.packages}))


def _launchers(runtime: Runtime, tree: Tree, into: Layout, at: Placing) -> None:
    entries = {entry.path: entry for entry in tree}
    way, certificates, bundle = _way(runtime, tree, at)
    home = placing.HOME
    written = {
        "bin/R": launchers.command(),
        f"{home}/bin/R": launchers.front_end(way, at.cache.read(entries["bin/R"]).decode("utf-8", "replace")),
        f"{home}/{placing.EXECUTABLE}": launchers.executable(way),
    }
    if "bin/Rscript" in entries:
        written["bin/Rscript"] = launchers.rscript(way, inner=False)
        written[f"{home}/bin/Rscript"] = launchers.rscript(way, inner=True)
    for path, text in written.items():
        into.generate(LAPIDAR, path, text, executable=True)
    into.generate(LAPIDAR, launchers.WHICH, launchers.WHICH_SCRIPT, executable=True)
    into.generate(LAPIDAR, f"{home}/etc/ldpaths", launchers.ldpaths(at.declared, certificates, bundle))
    for path, rewrite in ((_PROFILE, launchers.profile), (_SITE, launchers.without_libraries)):
        if path in entries:
            into.generate(LAPIDAR, f"{home}/{path}", rewrite(at.cache.read(entries[path])))


def _way(runtime: Runtime, tree: Tree, at: Placing) -> tuple[Private | Host, tuple[str, ...], str]:
    """How R is started; where systems have their certificates, and the environment's own.

    R has no moment of its own at which its libraries begin to need their data, so that all of it is named from the
    start."""
    way = at.loader_of(tree, runtime.executable)
    if not isinstance(way, Private):
        return way, (), ""
    variables = dict(way.variables)
    certificates: tuple[str, ...] = ()
    bundle = ""
    for data, name, path in companions.variables(at.data):
        if data.host_first:
            certificates, bundle = data.folders, path
        else:
            variables[name] = path
    return replace(way, variables=variables), certificates, bundle


def _package(package: Package, tree: Tree, into: Layout, at: Placing) -> None:
    """The files of a package, with a starter in the place of each compiled program."""
    live = at.project.live.get(package.key, {})
    for entry in tree:
        path = placing.of_package(package.name, entry.path)
        if entry.path in live:
            into.add_live(package.owner, path, at.project.link_to(path, live[entry.path]))
            continue
        if entry.kind == EXECUTABLE and at.private and programs.is_program_inside(entry, at.cache, at.private):
            real = programs.behind_starter(path)
            up = "/".join([".."] * path.count("/"))
            into.generate(package.owner, path, programs.program(real, at.private, up), executable=True)
            path = real
        into.add(package.owner, [(entry, path)])


def lay_out_derived(parts: LanguageParts, into: Layout, derived: Mapping[str, Tree]) -> None:
    """Nothing is derived."""


def deriver(cache: Cache, runtime: Runtime) -> None:
    """Nothing is derived."""
