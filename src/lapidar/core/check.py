"""Check: lockfile, restored environment and cache against each other."""

from __future__ import annotations

import hashlib
import os
import stat
from collections import defaultdict
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

from lapidar.core import progress
from lapidar.core.bytecode import bytecode_of
from lapidar.core.cache.store import FILE_TIME_NS, Cache
from lapidar.core.cache.trees import EXECUTABLE, LINK, Tree
from lapidar.core.environment import assemble, manifest, marker
from lapidar.core.environment.manifest import Placed
from lapidar.core.errors import CacheError, LapidarError
from lapidar.core.project import Project
from lapidar.core.snapshot import Snapshot, runtime_label

__all__ = ["Checked", "Finding", "check", "judge_cache", "judge_environment"]

_OWN_FILES = frozenset({marker.FILE_NAME, manifest.FILE_NAME})
_PIECE_BYTES = 1 << 20
_RESTORE = "lapidar restore"
# Below this share of files that are no longer links to the cache, each is a replaced file; above it, the whole
# environment was copied, and that is no finding.
_COPIED_SHARE = 0.5


@dataclass(frozen=True, slots=True)
class Finding:
    """One thing that is not as the lockfile says.

    Attributes:
        layer: ``runtime``, ``packages``, ``files of no package``, ``environment`` or ``cache``.
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


@dataclass(frozen=True, slots=True)
class Checked:
    """What a check found."""

    snapshot: Snapshot
    environment: Path
    deep: bool
    files: int
    findings: tuple[Finding, ...] = field(default=())

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
    reporter: progress.Progress | None = None,
) -> Checked:
    """Compare a snapshot with its restored environment and with the cache.

    Args:
        environment: where it was restored; the project's own unless given.
        deep: read every byte instead of comparing inodes, sizes and times.

    Returns:
        The findings, by layer.
    """
    target = Path(os.path.abspath(environment)) if environment else project.environment
    reporter = reporter or progress.Silent()
    with cache.in_use():
        findings = judge_environment(snapshot, target, cache, project=project, deep=deep, reporter=reporter)
        findings += judge_cache(snapshot, cache, deep=deep, reporter=reporter)
    files = sum(package.files for package in snapshot.package) + snapshot.only_runtime.files
    return Checked(snapshot, target, deep, files + sum(rest.files for rest in snapshot.remainder), tuple(findings))


# ---- the environment


def judge_environment(
    snapshot: Snapshot,
    target: Path,
    cache: Cache,
    *,
    project: Project | None = None,
    deep: bool = False,
    reporter: progress.Progress | None = None,
) -> list[Finding]:
    """What differs between a snapshot and its restored environment."""
    if not target.is_dir():
        return [Finding("environment", str(target), "not restored")]
    mark = marker.read(target)
    if mark is None:
        return [Finding("environment", str(target), "lapidar did not make it", remedy="restore with --into elsewhere")]
    if mark.snapshot != snapshot.snapshot:
        return [
            Finding(
                "environment",
                str(target),
                f"it is of snapshot {short(mark.snapshot)}, the lockfile of {short(snapshot.snapshot)}",
            )
        ]
    restored = manifest.read(target)
    if restored is None:
        return [Finding("environment", manifest.FILE_NAME, "the list of placed files is missing or altered")]
    listed = restored.manifest
    if deep and project:
        listed = _derive(snapshot, target, cache, project, listed)
    judged = _compare(target, listed, deep, reporter or progress.Silent())
    return _by_owner(snapshot, listed, judged)


def short(snapshot_id: str) -> str:
    """The first digits of a snapshot's identity, as shown to people."""
    return snapshot_id.removeprefix("sha256:")[:12]


def _derive(
    snapshot: Snapshot, target: Path, cache: Cache, project: Project, listed: manifest.Manifest
) -> manifest.Manifest:
    """What must be there by the lockfile and the trees alone, so that a deep check trusts no list in the
    environment itself."""
    try:
        trees = {digest: cache.tree(digest) for _, digest in snapshot.trees()}
        plan = assemble.assemble(snapshot, trees, cache, os.path.relpath(project.root, target))
    except (CacheError, OSError):
        return listed  # the judgement of the cache says what is lost
    known = {digest: bytecode_of(cache, snapshot.only_runtime, digest) for digest in trees}
    assemble.add_bytecode(plan, snapshot, {digest: tree for digest, tree in known.items() if tree})
    was = {row.path: (row.kind, row.content) for row in listed.files}
    if was == {path: (item.entry.kind, item.entry.content) for path, item in plan.items.items()}:
        return listed
    owners: dict[str, int] = {}
    files = [
        Placed(
            path,
            owners.setdefault(item.owner, len(owners)),
            item.entry.kind,
            item.entry.content,
            item.entry.bytes,
            manifest.GENERATED,
            item.data is None,
        )
        for path, item in plan.items.items()
    ]
    return manifest.Manifest(list(owners), files, listed.wanted)


@dataclass(slots=True)
class _Judged:
    missing: list[Placed] = field(default_factory=list)
    altered: list[Placed] = field(default_factory=list)
    extra: list[str] = field(default_factory=list)


def _compare(target: Path, listed: manifest.Manifest, deep: bool, reporter: progress.Progress) -> _Judged:
    expected = {row.path: row for row in listed.files}
    judged = _Judged()
    unlinked: list[Placed] = []
    linked = 0
    # Plain tuples and strings: this loop runs once for each of tens of thousands of files.
    for path, entry in _walk(str(target)):
        row = expected.pop(path, None)
        if row is None:
            if "__pycache__/" not in path and path not in _OWN_FILES:
                judged.extra.append(path)
            continue
        _, _, kind, content, size, inode, _ = row
        if kind == LINK or entry.is_symlink():
            if kind != LINK or not entry.is_symlink() or os.readlink(entry.path) != content:
                judged.altered.append(row)
            continue
        found = entry.stat(follow_symlinks=False)
        if found.st_size != size or found.st_mtime_ns != FILE_TIME_NS or not _kind_is(found.st_mode, kind):
            judged.altered.append(row)
        elif inode:
            linked += 1
            if found.st_ino != inode:
                unlinked.append(row)
    if len(unlinked) < _COPIED_SHARE * linked:
        judged.altered += unlinked
    judged.missing = list(expected.values())
    if deep:
        judged.altered = _read_all(target, listed, judged, reporter)
    return judged


def _walk(top: str) -> Iterator[tuple[str, os.DirEntry[str]]]:
    waiting = [""]
    while waiting:
        prefix = waiting.pop()
        with os.scandir(f"{top}/{prefix}") as entries:
            for entry in entries:
                if entry.is_dir(follow_symlinks=False):
                    waiting.append(f"{prefix}{entry.name}/")
                else:
                    yield prefix + entry.name, entry


def _kind_is(mode: int, kind: str) -> bool:
    return stat.S_ISREG(mode) and bool(mode & stat.S_IXUSR) == (kind == EXECUTABLE)


def _read_all(target: Path, listed: manifest.Manifest, judged: _Judged, reporter: progress.Progress) -> list[Placed]:
    """Every file whose bytes, kind or target differ; times do not matter here."""
    missing = {row.path for row in judged.missing}
    altered = []
    with progress.task(reporter, "Reading the environment", sum(row.bytes for row in listed.files), "bytes"):
        for row in listed.files:
            if row.path in missing:
                continue
            path = f"{target}/{row.path}"
            if row.kind == LINK:
                same = os.path.islink(path) and os.readlink(path) == row.content
            else:
                same = _kind_is(os.lstat(path).st_mode, row.kind) and sha256_of(path) == row.content
            if not same:
                altered.append(row)
            reporter.advance(row.bytes)
    return altered


def sha256_of(path: str) -> str:
    """The sha256 of a file's bytes, in hex."""
    digest = hashlib.sha256()
    with open(path, "rb", buffering=0) as stream:
        while piece := stream.read(_PIECE_BYTES):
            digest.update(piece)
    return digest.hexdigest()


def _by_owner(snapshot: Snapshot, listed: manifest.Manifest, judged: _Judged) -> list[Finding]:
    findings = []
    for problem, rows in (("missing", judged.missing), ("altered", judged.altered)):
        grouped: dict[str, list[str]] = defaultdict(list)
        for row in rows:
            grouped[listed.owners[row.owner]].append(row.path)
        for owner in sorted(grouped):
            findings.append(Finding(_layer(snapshot, owner), owner, problem, tuple(sorted(grouped[owner]))))
    return findings + list(_extras(snapshot, judged.extra))


def _layer(snapshot: Snapshot, owner: str) -> str:
    if owner == runtime_label(snapshot.only_runtime):
        return "runtime"
    if owner == assemble.OWN:
        return "environment"
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
