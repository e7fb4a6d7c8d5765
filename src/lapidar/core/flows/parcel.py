"""Parcel: snapshot, cache and project -> one file; and back, on a machine that has none of them."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import IO

from msgspec import Struct
from msgspec.structs import replace

from lapidar.core import atomic, foreign, progress
from lapidar.core.cache import sweeps
from lapidar.core.cache.contents import lacking
from lapidar.core.cache.digest import sha256_of
from lapidar.core.cache.history import History
from lapidar.core.cache.runs import Runs
from lapidar.core.cache.store import Cache
from lapidar.core.cache.taking import take
from lapidar.core.cache.trees import EXECUTABLE, LINK, Entry, Tree
from lapidar.core.declaring import reading
from lapidar.core.declaring.trust import trust
from lapidar.core.errors import LapidarError, MissingFromCache, TargetRefused
from lapidar.core.flows.choose import named_snapshot
from lapidar.core.parcels import blobs, places, project, signing, writing
from lapidar.core.parcels.blobs import WritableBlobs
from lapidar.core.parcels.form import Descriptor, Manifest
from lapidar.core.parcels.packing import Opener
from lapidar.core.parcels.parcel import Parcel
from lapidar.core.parcels.project import Project
from lapidar.core.parcels.signing import NotHolding, NotTrusted, signer
from lapidar.core.place import OWN_FOLDER, Place, lock_of
from lapidar.core.records import lockfile, results, words
from lapidar.core.records.results import Analysis, Results
from lapidar.core.records.snapshot import Snapshot

__all__ = [
    "SUFFIX",
    "Gathered",
    "Opened",
    "Wanted",
    "Written",
    "bring_trees",
    "content_of",
    "known_of",
    "lockfile_signer",
    "opened_at",
    "require_file",
    "sign_at",
    "unpack",
    "verified",
    "write",
]

SUFFIX = ".parcel.tar"


class Wanted(Struct, frozen=True):
    """What goes into a parcel.

    Attributes:
        results: the records of results too, with inputs and results.
        project: the project's files too.
        script: whose place it is; its file and its lockfile are what a project's files are. None for a project's.
    """

    results: bool = False
    project: bool = False
    script: Path | None = None


class Gathered(Struct, frozen=True):
    """What was gathered for a parcel.

    Attributes:
        notes: what is to be known of it, a sentence each.
    """

    content: writing.Content
    snapshot: Snapshot
    analyses: tuple[Analysis, ...] = ()
    project: Project | None = None
    notes: tuple[str, ...] = ()


class Written(Struct, frozen=True):
    """A parcel that was written.

    Attributes:
        bytes: of the file; None for one that went to standard output.
    """

    manifest: Manifest
    bytes: int | None = None


class Opened(Struct, frozen=True):
    """A parcel that was opened.

    Attributes:
        brought: how many trees the cache lacked.
        files: those that were put into the folder.
        kept: files that stood there and are others than the parcel has; they stay.
    """

    parcel: Parcel
    place: Place
    brought: int
    files: tuple[str, ...] = ()
    kept: tuple[str, ...] = ()


# ---- out


def content_of(place: Place, cache: Cache, snapshot: Snapshot, wanted: Wanted) -> Gathered:
    """Gather what goes into a parcel; nothing is written.

    Args:
        cache: in use by the caller.

    Raises:
        MissingFromCache: the cache lacks something of the snapshot.
        LapidarError: there are no results, or a file of the project cannot be read.
    """
    absent = lacking(cache, snapshot)
    if absent:
        raise MissingFromCache(
            f"The cache lacks {words.owner(absent[0].owner)}"
            + (f" and {len(absent) - 1} more of what the snapshot has" if len(absent) > 1 else ""),
            remedy="Bring it with `lapidar restore --fetch`, or name the cache that has it with --cache.",
        )
    notes: list[str] = []
    analyses = _analyses(place, cache, snapshot, notes) if wanted.results else ()
    digests = dict.fromkeys(
        [part.tree for part in snapshot.parts()] + [tree for one in analyses for tree in _trees_of(one)]
    )
    if wanted.results:
        lists = (sweep.listing for sweep in results.read(place.records).sweep)
        digests |= dict.fromkeys(digest for digest in lists if cache.is_whole(digest))
    trees: dict[str, tuple[Tree, Opener]] = {digest: (cache.tree(digest), _from(cache)) for digest in digests}
    declaration = reading.read(place)
    # The file of variables is secret: nobody else's business is what it holds.
    never = list(filter(None, [declaration.conditions.env_file]))
    gathered = _project_of(place, wanted, never) if wanted.project else None
    content = writing.Content(
        snapshot=snapshot.snapshot,
        lockfile=lockfile.render(snapshot).encode("utf-8"),
        name=declaration.name or (wanted.script.stem if wanted.script else place.root.name),
        trees=trees,
        project=(gathered.tree, gathered.opened) if gathered else None,
        records=place.records.read_bytes() if analyses else b"",
    )
    return Gathered(content, snapshot, analyses, gathered, (*notes, *(gathered.left if gathered else ())))


def _project_of(place: Place, wanted: Wanted, never: Sequence[str]) -> Project:
    if wanted.script is None:
        return project.gathered(place, never)
    beside = [wanted.script, lock_of(wanted.script)]
    files = [one.name for one in beside if one.is_file()]
    return project.gathered(replace(place, root=wanted.script.parent), never, files)


def _from(cache: Cache) -> Opener:
    def opened(entry: Entry) -> IO[bytes]:
        return open(cache.entry_path(entry), "rb", buffering=0)

    return opened


def _trees_of(analysis: Analysis) -> Iterator[str]:
    yield from filter(None, (analysis.given, analysis.made, analysis.lists))


def _with_runs(recorded: Results, cache: Cache) -> list[Analysis]:
    """All analyses of a file of records, with the runs of its sweeps as far as the cache has the lists of these."""
    found = list(recorded.analysis)
    for sweep in recorded.sweep:
        try:
            found += sweeps.runs_of(sweep, cache)
        except LapidarError:
            continue
    return found


def _analyses(place: Place, cache: Cache, snapshot: Snapshot, notes: list[str]) -> tuple[Analysis, ...]:
    """The recorded analyses of which the cache has everything."""
    recorded = _with_runs(results.read(place.records), cache)
    if not recorded:
        raise LapidarError(
            "No results are recorded that could go along",
            remedy="Record an analysis first: lapidar record NAME -- COMMAND; or leave --with-results out.",
        )
    found = []
    for one in recorded:
        if not all(cache.is_whole(tree) for tree in _trees_of(one)):
            notes.append(
                f"{one.name} goes along without its files: the cache has not all of them (lapidar cache audit)"
            )
            continue
        unkept = [file.path for file in (*one.source, *one.input) if not file.kept]
        if unkept:
            notes.append(f"{one.name} cannot be run again from it alone: {words.some(unkept, 3)} is in no cache")
        if one.snapshot != snapshot.snapshot:
            notes.append(
                f"{one.name} was recorded with another snapshot ({words.short(one.snapshot)}), which does not go along"
            )
        found.append(one)
    return tuple(found)


def write(
    gathered: Gathered, to: Path | IO[bytes], known: Mapping[str, Descriptor], reporter: progress.Progress
) -> Written:
    """Write a parcel into one file, or into a stream.

    Args:
        known: the blobs that the other side has: they are not in it.

    Raises:
        MissingFromCache: a file has other bytes than its digest says; nothing was written.
        OSError: it cannot be written.
    """
    if not isinstance(to, Path):
        with tempfile.TemporaryDirectory(prefix="lapidar-parcel-") as folder:
            return Written(writing.write_file(gathered.content, known, to, Path(folder), reporter))
    require_file(to)
    with atomic.WorkFolder(to.parent, f".{to.name}.lapidar-") as work:
        part = work.path / "parcel"
        with part.open("wb") as out:
            manifest = writing.write_file(gathered.content, known, out, work.path, reporter)
        size = part.stat().st_size
        atomic.put_in_place(part, to)
    return Written(manifest, size)


def require_file(to: Path) -> None:
    """Raises: TargetRefused: no file can be written there: it is a folder, or its folder is not there."""
    if to.is_dir():
        raise TargetRefused(f"{to} is a folder", remedy="Name a file with --to.")
    if to.exists() and not to.is_file():  # a device would be replaced by the file
        raise TargetRefused(f"{to} is no regular file", remedy="Name another with --to; - is standard output.")
    if not to.parent.is_dir():
        raise TargetRefused(f"There is no folder {to.parent}", remedy="Make it, or name another place with --to.")


# ---- back


def opened_at(where: str, tag: str = "", *, with_credentials: bool = True) -> Parcel:
    """The parcel at an address or a path: a file, the folder of a layout, a web server's, a registry's.

    Args:
        tag: which one, where several are there and the address names none.
        with_credentials: whether the user's own are for it: not where a project alone names it.

    Raises:
        LapidarError: there is none.
    """
    if places.is_host(where):
        found, named_tag = places.place_at(where, with_credentials=with_credentials)
        opened = Parcel(found, named_tag or tag)
    else:
        opened = _opened_here(blobs.at(foreign.expanded(where)), tag)
    opened.signed_by = trusted_signer(opened)
    return opened


def _opened_here(layout: blobs.InTar | blobs.InFolder, tag: str) -> Parcel:
    """The parcel in a layout on this machine: the only one, whatever it is called, or that of a tag."""
    return Parcel(layout, tag if len(layout.tags()) > 1 else "")


def trusted_signer(parcel: Parcel) -> str:
    """Who signed a parcel, of those whom the user trusts; "" where nobody did, and nobody has to.

    Raises:
        NotTrusted: a signature of one of them is required, or does not hold.
    """
    told = trust()
    if told.signers is None:
        return ""
    refused = NotTrusted(f"{parcel.called} is not signed", why="your configuration requires it ([trust] required)")
    for signature in parcel.blobs.attached(parcel.manifest_text, signing.SIGNATURE):
        try:
            return signer(parcel.manifest_text, signature, told.signers)
        except NotHolding as error:
            raise NotTrusted(f"{parcel.called}: {error.what}", why=error.why) from error
        except NotTrusted as error:
            refused = NotTrusted(f"{parcel.called}: {error.what}", why=error.why)
    if told.required:
        raise refused
    return ""


def sign_at(where: str, tag: str, key: Path) -> str:
    """Sign the parcel at an address or a path, or a lockfile; the signature is kept beside it, or as what refers to it.

    Returns:
        The snapshot of what was signed.

    Raises:
        LapidarError: there is no such parcel or key, or it cannot be written there.
    """
    file = foreign.expanded(where)
    if not places.is_host(where) and (identity := lockfile.identity_in(file)):
        atomic.write_file(signing.beside(file), signing.sign(foreign.read(file), key))
        return identity
    if places.is_host(where):
        found, named_tag = places.writable_at(where)
        parcel = Parcel(found, named_tag or tag)
        target: WritableBlobs | blobs.InTar = found
    else:
        target = blobs.at(file)
        parcel = _opened_here(target, tag)
    _ = parcel.snapshot  # nothing is signed that is not what it says
    signature = signing.sign(parcel.manifest_text, key)
    if isinstance(target, blobs.InTar):
        target.sign(signature)
    else:
        target.attach(parcel.manifest_text, signing.SIGNATURE, signature)
    return parcel.manifest.snapshot


def lockfile_signer(file: Path) -> str:
    """Who signed a lockfile, of those whom the user trusts.

    Raises:
        NotTrusted: nobody of them did, or it is another one.
    """
    told, signature = trust(), signing.beside(file)
    if told.signers is None:
        raise NotTrusted("You name nobody whom you trust", remedy="Write signers into [trust] of your configuration.")
    if not signature.is_file():
        raise NotTrusted(f"{file} is not signed", why=f"there is no {signature.name} beside it")
    return signer(foreign.read(file), foreign.read(signature, signing.MOST_BYTES), told.signers)


def bring_trees(parcel: Parcel, cache: Cache, digests: Iterable[str], reporter: progress.Progress) -> int:
    """Bring trees of a parcel into the cache, each file verified as it comes.

    Args:
        cache: in use by the caller.

    Returns:
        How many the cache lacked.

    Raises:
        ParcelBroken, CacheError: something is not what it must be; nothing is under a wrong name.
        MissingFromCache: neither has a tree.
    """
    wanted = list(dict.fromkeys(digests))
    lost = [digest for digest in wanted if not parcel.has_tree(digest) and not cache.is_whole(digest)]
    if lost:
        owners = {part.tree: part.owner for part in parcel.snapshot.parts()}
        what = words.owner(owners[lost[0]]) if lost[0] in owners else f"tree {lost[0]}"
        raise MissingFromCache(
            f"{parcel.called} holds only what another side lacked, and this cache lacks {what}",
            why=f"{len(lost)} trees are in neither",
            remedy="Have the whole parcel sent (made without --since), or open the one before it first.",
        )
    return len(take(wanted, parcel, cache, reporter))


def unpack(parcel: Parcel, into: Path, cache: Cache, reporter: progress.Progress) -> Opened:
    """Bring all of a parcel into the cache, and put lockfile, records and project files into a folder. Files that stand
    there and are others are not touched.

    Raises:
        TargetRefused: the folder is a project with another lockfile.
        LapidarError: see `bring_trees`.
    """
    place = Place.of_project(into.resolve())
    _require_place_for(parcel, place)
    snapshot = parcel.snapshot
    with cache.in_use():
        brought = bring_trees(parcel, cache, parcel.trees, reporter)
        tree = _project_tree(parcel, cache, reporter)
        for one in _with_runs(parcel.records, cache):
            if all(cache.is_whole(digest) for digest in _trees_of(one)):
                Runs(cache).keep(one, came=True)
        place.root.mkdir(parents=True, exist_ok=True)
        made, kept = _lay_out(tree, cache, place) if tree else ([], [])
        for path, data in ((place.records, parcel.records_text), (place.lockfile, parcel.lockfile_text)):
            if not data:
                continue
            if not path.exists():
                atomic.replace_file(path, data)
                made.append(path.name)
            elif path.read_bytes() != data:
                kept.append(path.name)
        History(cache).note_restored(snapshot, place)
    return Opened(parcel, place, brought, tuple(dict.fromkeys(made)), tuple(dict.fromkeys(kept)))


def _require_place_for(parcel: Parcel, place: Place) -> None:
    if place.root.exists() and not place.root.is_dir():
        raise TargetRefused(f"{place.root} is no folder", remedy="Name one with --into.")
    there = lockfile.identity_in(place.lockfile) if place.lockfile.is_file() else None
    if place.lockfile.exists() and there != parcel.manifest.snapshot:
        raise TargetRefused(
            f"{place.root} has a lockfile of another snapshot",
            why=f"the parcel's is {words.short(parcel.manifest.snapshot)}",
            remedy="Open it into a folder of its own with --into. Nothing was changed.",
        )


def _project_tree(parcel: Parcel, cache: Cache, reporter: progress.Progress) -> Tree | None:
    one = parcel.project
    if one is None or not parcel.has_tree(one.tree):
        return None
    take([one.tree], parcel, cache, reporter)
    return cache.tree(one.tree)


def _lay_out(tree: Tree, cache: Cache, place: Place) -> tuple[list[str], list[str]]:
    """Put the files of a project into its folder; what stands there stays.

    Returns:
        The files that were put there, and those that were not: another one stands there, or it is no project's.
    """
    made, kept = [], []
    for entry in tree:
        target = place.root / entry.path
        if _is_no_project_file(entry.path):
            kept.append(entry.path)
            continue
        if os.path.lexists(target):
            if not _is_same(target, entry, cache):
                kept.append(entry.path)
            continue
        if not _stays_inside(place.root, target.parent):
            kept.append(entry.path)
            continue
        target.parent.mkdir(parents=True, exist_ok=True)
        if entry.kind == LINK:
            target.symlink_to(entry.content)
        else:
            mode = 0o755 if entry.kind == EXECUTABLE else 0o644
            with open(cache.entry_path(entry), "rb") as stream:
                atomic.write_file(target, stream, mode=mode, flush=False)
        made.append(entry.path)
    return made, kept


def _is_no_project_file(path: str) -> bool:
    """What no parcel of ours has, and what would act by lying there: version control's own files, and our own."""
    parts = path.lower().split("/")
    return ".git" in parts or (parts[0] == OWN_FOLDER and path != f"{OWN_FOLDER}/project.toml")


def _stays_inside(root: Path, folder: Path) -> bool:
    """Whether no link that stands there leads out of the folder."""
    return folder.resolve().is_relative_to(root.resolve())


def _is_same(target: Path, entry: Entry, cache: Cache) -> bool:
    if entry.kind == LINK:
        return target.is_symlink() and os.readlink(target) == entry.content
    return target.is_file() and not target.is_symlink() and sha256_of(str(target)) == entry.content


def verified(parcel: Parcel, reporter: progress.Progress) -> tuple[int, int]:
    """Read everything of a parcel.

    Returns:
        How many blobs were read, and their bytes.

    Raises:
        ParcelBroken: something is not what it must be.
    """
    count = size = 0
    with progress.task(reporter, "Reading", sum(one.size for one in parcel.manifest.layers), "bytes"):
        for one in parcel.verify():
            count, size = count + 1, size + one.size
            reporter.advance(one.size)
    return count, size


def known_of(place: Place, cache: Cache, since: str, reporter: progress.Progress) -> Mapping[str, Descriptor]:
    """The blobs that the other side has already.

    Args:
        cache: in use by the caller.
        since: the file of a parcel that it has; or a snapshot that it has, as one names it.

    Raises:
        LapidarError: it is neither, or the cache lacks something of that snapshot.
    """
    path = Path(since)
    if path.exists() and not lockfile.identity_in(path):
        return opened_at(since).trees
    gathered = content_of(place, cache, named_snapshot(place, cache, since), Wanted())
    with tempfile.TemporaryDirectory(prefix="lapidar-parcel-") as folder:
        return writing.hand_over(gathered.content, {}, lambda one, stream: None, Path(folder), reporter).trees
