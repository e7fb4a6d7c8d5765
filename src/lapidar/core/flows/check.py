"""Check: lockfile, restored environment and cache against each other."""

from __future__ import annotations

import os
from collections import defaultdict
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from lapidar.core import progress
from lapidar.core.cache.digest import sha256_of
from lapidar.core.cache.seen import Seen
from lapidar.core.cache.store import Cache
from lapidar.core.cache.trees import LINK, Tree
from lapidar.core.cache.whole import Whole
from lapidar.core.environment import compare, manifest, marker
from lapidar.core.environment.compare import Compared
from lapidar.core.environment.listing import CACHED, Listing
from lapidar.core.environment.manifest import Manifest
from lapidar.core.environment.status import Walking
from lapidar.core.errors import CacheError, LapidarError
from lapidar.core.project import Project
from lapidar.core.records.snapshot import LIBRARIES, Snapshot, runtime_label, short

if TYPE_CHECKING:
    from lapidar.core.languages.python.load_test import Live
    from lapidar.core.system.host import Drift, Found

__all__ = ["Checked", "Finding", "check", "judge_cache", "judge_environment"]

_RESTORE = "lapidar restore"
# Listing the whole cache pays up to so many times the environment's files.
_LARGE = 6


class Finding(msgspec.Struct, frozen=True):
    """One thing that is not as the lockfile says.

    Attributes:
        layer: ``declaration``, ``runtime``, ``packages``, ``files of no package``, ``libraries``, ``tools``,
            ``environment``, ``host`` or ``cache``.
        name: the package or runtime, or the thing itself.
        problem: ``missing``, ``altered``, ``extra``, ``lost``, ``corrupt`` or a sentence.
        paths: the files concerned, as paths below the environment or in the package.
        remedy: what to type.
    """

    layer: str
    name: str
    problem: str
    paths: tuple[str, ...] = ()
    remedy: str = _RESTORE


class Checked(msgspec.Struct, frozen=True):
    """What a check found.

    Attributes:
        overrides: how each of the project's overrides acts, a sentence each.
        libraries: whose system libraries the environment runs with: ``private`` or ``host``.
        drift: how the host's libraries differ from the recorded ones.
        live: what the running environment was seen to use, where that was asked for.
        remarks: what changes nothing, and is worth knowing.
    """

    snapshot: Snapshot
    environment: Path
    deep: bool
    files: int
    findings: tuple[Finding, ...] = ()
    overrides: tuple[str, ...] = ()
    libraries: str = "host"
    drift: Drift | None = None
    live: Live | None = None
    remarks: tuple[str, ...] = ()

    @property
    def clean(self) -> bool:
        """Whether there is nothing to say."""
        return not self.findings


def check(
    project: Project,
    cache: Cache,
    snapshot: Snapshot,
    *,
    environment: Path | None = None,
    deep: bool = False,
    live: bool = False,
    walking: Walking | None = None,
    reporter: progress.Progress | None = None,
) -> Checked:
    """Compare a snapshot with its restored environment and with the cache.

    Args:
        environment: where it was restored; the project's own unless given.
        deep: read every byte instead of comparing inodes, sizes and times.
        live: run the interpreter, import everything, and read its memory map.
        walking: the walk of the environment, where it was begun already.

    Returns:
        The findings, by layer.
    """
    target = Path(os.path.abspath(environment)) if environment else project.environment
    reporter = reporter or progress.Silent()
    walking = walking or Walking(target)
    mark = marker.read(target)
    libraries = mark.libraries if mark else "host"
    with cache.in_use():
        whole, snapshot = snapshot, _without_left_out(snapshot, mark)
        restored = _restored(snapshot, target, mark)
        listed = restored if isinstance(restored, Manifest) and not deep else None
        # All that needs no walk is done while the second process walks.
        must = compare.expected(listed) if listed else {}
        linked = listed is not None and mark is not None and _is_linked_to(cache, snapshot, listed, target, mark.placed)
        host = _Host.look(snapshot, cache) if snapshot.library else None
        found = walking.result()
        if isinstance(restored, Finding):
            findings = [restored]
        elif deep:
            derived = _derive(snapshot, target, cache, project, restored, libraries)
            findings = _by_owner(snapshot, derived, compare.by_bytes(target, derived, found, reporter))
        else:
            findings = _by_owner(snapshot, restored, compare.by_status(target, restored, found, must))
        declared, overrides = _judge_declaration(project, whole, cache)
        findings = declared + findings
        if len(findings) > len(declared) or not linked:
            findings += judge_cache(snapshot, cache, deep=deep, reporter=reporter)
        if host and mark and libraries == "host":
            findings += host.judge()
        findings += _judge_tools(snapshot, libraries, cache)
        seen = None
        if live and target.is_dir():
            from lapidar.core.languages.python.load_test import look

            seen = look(project, cache, snapshot, target, reporter)
            findings += _judge_live(seen, libraries)
    files = snapshot.only_runtime.files
    files += sum(one.files for several in (snapshot.package, snapshot.remainder) for one in several)
    if libraries == "private":
        files += snapshot.libraries.files if snapshot.libraries else 0
        files += sum(tool.files for tool in snapshot.tool)
    drift = host.drift if host else None
    remarks = _remarks(snapshot)
    return Checked(snapshot, target, deep, files, tuple(findings), overrides, libraries, drift, seen, remarks)


# ---- what lies below


class _Host(msgspec.Struct, frozen=True):
    """The host's libraries as they were found, and how they differ from the recorded ones."""

    found: Found
    drift: Drift

    @classmethod
    def look(cls, snapshot: Snapshot, cache: Cache) -> _Host:
        from lapidar.core.system import host

        seen = Seen.of_system(cache.root / "seen")
        found = host.find(snapshot)
        drift = host.drift(found, seen.digest)
        if cache.writable:
            seen.save()
        return cls(found, drift)

    def judge(self) -> Iterator[Finding]:
        """What matters of it to an environment that runs with the host's libraries."""
        from lapidar.core.system import host

        private = "lapidar restore --libraries private"
        for sentence in host.lacking(self.found):
            yield Finding("host", "system libraries", sentence, remedy=private)
        for name in self.drift.different:
            yield Finding("host", name, "another library than the captured one", remedy=private)


def _judge_live(seen: Live, libraries: str) -> Iterator[Finding]:
    if libraries == "private" and seen.outside:
        remedy = "lapidar capture --observe -- COMMAND where it was captured, then lapidar restore"
        yield Finding("libraries", "memory map", "mapped from outside the environment", seen.outside, remedy)
    for name, why in seen.without_library.items():
        yield Finding("libraries", name, why, remedy="install the library where it was captured, and capture again")
    for name in seen.crashed:
        yield Finding("packages", name, "the interpreter ended when it was imported", remedy="try it by hand")


def _remarks(snapshot: Snapshot) -> tuple[str, ...]:
    if not snapshot.conditions:
        return ()
    from lapidar.core.layers import conditions

    return tuple(conditions.compare(snapshot.conditions))


def _judge_tools(snapshot: Snapshot, libraries: str, cache: Cache) -> Iterator[Finding]:
    """The outside programs that will not find their files here."""
    if libraries != "private" or not snapshot.tool:
        return
    from lapidar.core.layers import tools
    from lapidar.core.system import namespaces

    if namespaces.allowed():
        return
    for tool in snapshot.tool:
        if cache.has_tree(tool.tree) and tools.lives_off_paths(tool, cache.tree(tool.tree)):
            yield Finding(
                "tools",
                tool.name,
                "is to run in a root of its own, and this kernel lets this user make none: it may miss its files, "
                "or find this host's",
                remedy="allow user namespaces (user.max_user_namespaces), or run it as root",
            )


# ---- the declaration


def _judge_declaration(project: Project, snapshot: Snapshot, cache: Cache) -> tuple[list[Finding], tuple[str, ...]]:
    """What declaration and lockfile do not agree on, and how overrides act."""
    if not any((project.root / name).is_file() for name in ("lapidar.toml", "pyproject.toml")):
        return [], ()  # nothing is loaded for a project that declares nothing
    from lapidar.core.declaring import judge, reading

    declaration = reading.read(project)
    findings = [
        Finding("declaration", drift.name, drift.problem, remedy=drift.remedy)
        for drift in judge.drift(declaration, snapshot)
    ]
    if not declaration.overrides:
        return findings, ()
    from lapidar.core.languages.python.graph import Graph

    return findings, tuple(judge.overrides(declaration, Graph.of(snapshot, declaration, cache)))


# ---- the environment


def judge_environment(snapshot: Snapshot, target: Path) -> list[Finding]:
    """What differs between a snapshot and its restored environment, by inodes, sizes and times."""
    walking = Walking(target)
    try:
        restored = _restored(snapshot, target, marker.read(target))
        if isinstance(restored, Finding):
            return [restored]
        must = compare.expected(restored)
        return _by_owner(snapshot, restored, compare.by_status(target, restored, walking.result(), must))
    finally:
        walking.drop()


def _without_left_out(snapshot: Snapshot, mark: marker.Marker | None) -> Snapshot:
    """The part of a snapshot that was restored: without the groups that were left out then."""
    if mark is None or not mark.left_out:
        return snapshot
    from lapidar.core.records import selection  # seldom needed, and a check is to be quick

    return selection.without(snapshot, mark.left_out)


def _restored(snapshot: Snapshot, target: Path, mark: marker.Marker | None) -> Manifest | Finding:
    """The list of what was placed, or the one finding where there is no such environment of this snapshot."""
    if not target.is_dir():
        return Finding("environment", str(target), "not restored")
    if mark is None:
        return Finding("environment", str(target), "lapidar did not make it", remedy="restore with --into elsewhere")
    if mark.snapshot != snapshot.snapshot:
        problem = f"it is of snapshot {short(mark.snapshot)}, the lockfile of {short(snapshot.snapshot)}"
        return Finding("environment", str(target), problem)
    restored = manifest.read(target)
    if restored is None:
        return Finding("environment", manifest.FILE_NAME, "the list of placed files is missing or altered")
    return restored.manifest


def _derive(
    snapshot: Snapshot, target: Path, cache: Cache, project: Project, listed: Manifest, libraries: str
) -> Manifest:
    """What must be there by the lockfile and the trees alone, so that a deep check trusts no list in the
    environment itself."""
    from lapidar.core.environment import assemble

    try:
        trees = {digest: cache.tree(digest) for _, digest in snapshot.trees()}
        plan, _ = assemble.derive(snapshot, trees, cache, os.path.relpath(project.root, target), libraries)
    except (CacheError, OSError):
        return listed  # the judgement of the cache says what is lost
    derived = plan.assembled(snapshot).listing
    placed = set(listed.listing.paths)
    # Byte-code that the cache had to lose, or could not keep, is not missing from the environment.
    rows = [row for row in derived.rows() if row[0] in placed or not row[0].endswith(".pyc")]
    return Manifest(Listing.of(rows, derived.owners, derived.wanted), [])


def _by_owner(snapshot: Snapshot, listed: Manifest, judged: Compared) -> list[Finding]:
    findings = []
    for problem, rows in (("missing", judged.missing), ("altered", judged.altered)):
        grouped: dict[str, list[str]] = defaultdict(list)
        for row in rows:
            grouped[listed.listing.owners[row[1]]].append(row[0])
        for owner in sorted(grouped):
            findings.append(Finding(_layer(snapshot, owner), owner, problem, tuple(sorted(grouped[owner]))))
    return findings + list(_extras(snapshot, judged.extra))


def _layer(snapshot: Snapshot, owner: str) -> str:
    if owner == runtime_label(snapshot.only_runtime):
        return "runtime"
    if owner == marker.OWNER:
        return "environment"
    if owner == LIBRARIES:
        return "libraries"
    if owner.startswith("tool "):
        return "tools"
    return owner if owner == "files of no package" else "packages"


def _extras(snapshot: Snapshot, extra: Iterable[str]) -> Iterator[Finding]:
    """Extra packages by their names, what lies in the packages' folder beside them, and the rest."""
    site = snapshot.only_runtime.site + "/"
    in_site = sorted(path for path in extra if path.startswith(site))
    rest = sorted(path for path in extra if not path.startswith(site))
    for path in in_site:
        folder = path[len(site) :].partition("/")[0]
        if path.endswith(".dist-info/METADATA") and path.count("/") == site.count("/") + 1:
            name, _, version = folder.removesuffix(".dist-info").partition("-")
            yield Finding(
                "packages",
                f"{name} {version}",
                "extra package",
                remedy="lapidar restore to be without it, or lapidar capture of this environment to keep it",
            )
    if in_site:
        yield Finding("packages", "files of no snapshot", "extra", tuple(in_site))
    if rest:
        yield Finding("environment", "files of no snapshot", "extra", tuple(rest))


# ---- the cache


def _is_linked_to(cache: Cache, snapshot: Snapshot, listed: Manifest, target: Path, digest: str) -> bool:
    """Whether the cache still has the very files that a clean environment is linked to.

    That is told from the folders of the cache alone, which is several times as fast as asking for each file;
    where it does not hold (the environment was copied, the cache is large), the long way is taken.

    Args:
        digest: what the list of placed files is known by.
    """
    if not listed.inodes or not all(cache.has_tree(digest) for _, digest in snapshot.trees()):
        return False
    whole = Whole(cache, target, digest)
    if whole.known:
        return True
    inodes = cache.inodes(most=_LARGE * len(listed.inodes))
    if inodes is None:
        return False
    elsewhere = set(listed.inodes) - inodes  # what was written for this environment, links, and what is lost
    rows = zip(listed.listing.kinds, listed.inodes, strict=True)
    if any(inode in elsewhere and inode and kind in CACHED for kind, inode in rows):
        return False
    whole.keep()
    return True


def judge_cache(
    snapshot: Snapshot, cache: Cache, *, deep: bool = False, reporter: progress.Progress | None = None
) -> list[Finding]:
    """What the cache lacks, or holds altered, of a snapshot."""
    reporter = reporter or progress.Silent()
    findings = []
    trees: list[tuple[str, Tree]] = []
    for label, digest in snapshot.trees():
        try:
            trees.append((label, cache.tree(digest)))
        except LapidarError as error:
            findings.append(Finding("cache", label, str(error), remedy=_STOW_AGAIN))
    total = sum(tree.total_bytes for _, tree in trees) if deep else 0
    checked: set[tuple[str, str]] = set()
    with progress.task(reporter, "Reading the cache", total, "bytes"):
        for label, tree in trees:
            findings += _judge_tree(cache, label, tree, deep, checked, reporter)
    return findings


_STOW_AGAIN = "lapidar cache audit, then capture the original environment again"


def _judge_tree(
    cache: Cache, label: str, tree: Tree, deep: bool, checked: set[tuple[str, str]], reporter: progress.Progress
) -> Iterator[Finding]:
    lost, corrupt = [], []
    for entry in tree:
        if entry.kind == LINK:
            continue
        flaw = cache.flaw(entry)
        if flaw == "missing":
            lost.append(entry.path)
        elif flaw:
            corrupt.append(entry.path)
        elif deep and (entry.content, entry.kind) not in checked:
            checked.add((entry.content, entry.kind))
            if sha256_of(cache.entry_path(entry)) != entry.content:
                corrupt.append(entry.path)
        if deep:
            reporter.advance(entry.bytes)
    if lost:
        yield Finding("cache", label, "lost", tuple(lost), _STOW_AGAIN)
    if corrupt:
        yield Finding("cache", label, "corrupt", tuple(corrupt), _STOW_AGAIN)
