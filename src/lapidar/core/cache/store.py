"""The cache's folder: where each thing lies, and who may work in it at the same time."""

from __future__ import annotations

import fcntl
import os
import stat
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from functools import cached_property
from pathlib import Path
from typing import IO, NamedTuple

import tomli

from lapidar.core import atomic, foreign, locks, sealed
from lapidar.core.cache.files import FILE_TIME_NS, FileFlaw
from lapidar.core.cache.trees import EXECUTABLE, LINK, Entry, Tree
from lapidar.core.errors import CacheError, CacheUnreadable, MissingFromCache

__all__ = ["FOLDERS", "MARK", "Cache", "default_folder"]

FORMAT = 1
MARK = "lapidar-cache.toml"
FOLDERS = ("files", "trees", "derived", "assembled", "snapshots", "seen", "aside", "staging")
_LOCK = ".lock"
_COPY = ".copy"  # every listing is kept twice: one flipped bit in the only one would lose a whole tree


def default_folder() -> Path:
    """`LAPIDAR_CACHE`, else a folder in the user's data folder (XDG Base Directory Specification).

    Not in the user's cache folder: it holds the only copy of captured bytes, and systems sweep that one.
    """
    named = os.environ.get("LAPIDAR_CACHE")
    if named:
        return foreign.expanded(named)
    data = os.environ.get("XDG_DATA_HOME") or "~/.local/share"
    return foreign.expanded(data) / "lapidar" / "cache"


class Made(NamedTuple):
    """What came of a file that was unpacked or built: the digest of its tree, and what else was noted."""

    tree: str
    notes: tuple[str, ...]


class Cache:
    """An opened cache.

    Args:
        root: its folder.
        create: whether to make it where it is missing.

    Attributes:
        below: other caches, that are only read; see `lapidar.core.cache.layered`.

    Raises:
        CacheError: there is none, the folder is something else, or its format is another one.
    """

    below: tuple[Cache, ...] = ()

    def __init__(self, root: Path, *, create: bool = False) -> None:
        self.root = Path(os.path.abspath(root))
        mark = self.root / MARK
        if not mark.is_file():
            self._begin(mark, create)
        elif create:
            self._make_folders()  # one that was lost
        self._verify_format(mark)
        self._files = str(self.root / "files")
        self._remembers = False
        self._remembered: dict[str, Tree] = {}

    def _begin(self, mark: Path, create: bool) -> None:
        if self.root.exists() and not self.root.is_dir():
            raise CacheError(f"The cache {self.root} is not a folder", remedy="Name another with --cache.")
        # Another process may be just about to begin it, and have its mark by now.
        if self.root.is_dir() and self._holds_something_else() and not mark.is_file():
            raise CacheError(
                f"The folder {self.root} is not a lapidar cache, and not empty",
                remedy="Name another folder with --cache or LAPIDAR_CACHE.",
            )
        if not create:
            raise CacheError(
                f"There is no cache at {self.root}",
                remedy="`lapidar restore --fetch` makes it, and brings what a lockfile holds; or name the one that has "
                "it with --cache or LAPIDAR_CACHE.",
            )
        try:
            self._make_folders()
            part = self.root / "staging" / f"mark-{atomic.random_name()}"
            text = f"# A lapidar package cache. See docs/cache.md of lapidar.\nformat = {FORMAT}\n"
            atomic.write_file(part, text.encode("ascii"))
            # Linked, not renamed: of two processes that begin the same cache, both must lock the same file.
            try:
                os.link(part, mark)
            except FileExistsError:
                pass
            part.unlink()
        except OSError as error:
            raise CacheError(
                f"The cache {self.root} cannot be made",
                why=error.strerror or str(error),
                remedy="Name another folder with --cache or LAPIDAR_CACHE.",
            ) from error

    def _make_folders(self) -> None:
        try:
            for name in FOLDERS:
                if not (self.root / name).is_dir():
                    atomic.make_folder(self.root / name)
        except OSError:
            if not (self.root / MARK).is_file():
                raise  # one that is only read may lack some

    def _holds_something_else(self) -> bool:
        """Whether the folder has more in it than the empty folders of a cache that is being begun."""
        for entry in os.scandir(self.root):
            if entry.name == "staging" or entry.name.startswith("."):
                continue
            if entry.name not in FOLDERS or not entry.is_dir() or any(os.scandir(entry.path)):
                return True
        return False

    def _verify_format(self, mark: Path) -> None:
        try:
            number = foreign.parsed(lambda: tomli.loads(foreign.read_text(mark))).get("format")
        except (OSError, ValueError) as error:
            raise CacheError(
                f"The cache {self.root} cannot be read", why=str(error), remedy=f"Look at {mark}."
            ) from error
        if number != FORMAT:
            raise CacheError(
                f"The cache {self.root} has format {number}, but this lapidar reads format {FORMAT}",
                remedy="Use the lapidar that wrote it, or another cache with --cache.",
            )

    # ---- who works in it

    @contextmanager
    def in_use(self) -> Iterator[None]:
        """Any number of processes may use it at a time; only `alone` keeps them out."""
        with self._locked(fcntl.LOCK_SH, None):
            yield

    @contextmanager
    def alone(self, waiting: Callable[[], None] | None = None) -> Iterator[None]:
        """No other process uses it meanwhile. `waiting` is called once where others must be waited for.

        Raises:
            CacheError: the locks of its file system do not hold, so that nobody can know that.
        """
        told = locks.of(self.root)
        if told is not locks.Locks.HOLD:
            raise CacheError(
                f"Nobody can know whether others use the cache {self.root} just now",
                why=str(told),
                remedy="Do it on the machine that has the disk, where locks hold. Nothing was removed.",
            )
        with self._locked(fcntl.LOCK_EX, waiting):
            yield

    @contextmanager
    def _locked(self, kind: int, waiting: Callable[[], None] | None) -> Iterator[None]:
        descriptor = os.open(self.root / MARK, os.O_RDONLY | os.O_CLOEXEC)
        try:
            try:
                fcntl.flock(descriptor, kind | fcntl.LOCK_NB)
            except BlockingIOError:
                if waiting:
                    waiting()
                fcntl.flock(descriptor, kind)
            except OSError as error:
                if error.errno not in locks.REFUSING:
                    raise  # without locks nobody is ever alone in it either
            yield
        finally:
            os.close(descriptor)

    @property
    def writable(self) -> bool:
        return os.access(self.root / "staging", os.W_OK) and os.access(self.root / "files", os.W_OK)

    def require_writable(self) -> None:
        """Raises: CacheError: nothing can be written into it."""
        if not self.writable:
            raise CacheError(
                f"The cache {self.root} cannot be written",
                why="it is read-only, or belongs to somebody else",
                remedy="Name another with --cache or LAPIDAR_CACHE.",
            )

    def work_folder(self) -> atomic.WorkFolder:
        """A folder for unfinished work on the cache's file system."""
        return atomic.WorkFolder(self.root / "staging", "work-")

    # ---- what only saves work

    @property
    def short_cuts(self) -> Path:
        """Where what was observed is kept for the next time."""
        return self.root / "seen"

    @property
    def answers(self) -> Path:
        """Where answers of hosts are kept."""
        return self.root / "index"

    @property
    def made_folder(self) -> Path:
        """Where what came of archives and builds is noted."""
        return self.root / "made"

    @property
    def assemblies(self) -> Path:
        """Where what environments consist of is kept."""
        return self.root / "assembled"

    @property
    def snapshots(self) -> Path:
        """Where the snapshots are, and the log of the history."""
        return self.root / "snapshots"

    @property
    def aside(self) -> Path:
        """Where what was damaged is kept for somebody to look at."""
        return self.root / "aside"

    # ---- files

    @cached_property
    def readers(self) -> int:
        """The bits of a mode that every cached file has beside those of its source: in the cache of a group, that this
        may read it."""
        return stat.S_IRGRP if atomic.is_shared(self.root) else 0

    @property
    def files(self) -> str:
        """The folder of all files."""
        return self._files

    @staticmethod
    def file_name(digest: str, executable: bool) -> str:
        """Where the bytes with a digest (hex) lie, below the folder of all files."""
        suffix = ".x" if executable else ""
        return f"{digest[:2]}/{digest[2:]}{suffix}"

    def file_path(self, digest: str, executable: bool) -> str:
        """Where the bytes with a digest (hex) lie. A plain string: this is called once a file."""
        return f"{self._files}/{self.file_name(digest, executable)}"

    @property
    def forgotten_path(self) -> Path:
        """The list of the digests whose bytes must not be kept."""
        return self.root / "forgotten"

    def forgotten(self) -> frozenset[str]:
        """The digests whose bytes must not be kept."""
        try:
            return frozenset(self.forgotten_path.read_text(encoding="ascii").split())
        except FileNotFoundError:
            return frozenset()

    def entry_path(self, entry: Entry) -> str:
        return self.file_path(entry.content, entry.kind == EXECUTABLE)

    def flaw(self, entry: Entry) -> FileFlaw | None:
        """What is wrong with the cached bytes of a file, as far as can be told without reading them."""
        try:
            found = os.stat(self.entry_path(entry))
        except (FileNotFoundError, NotADirectoryError):
            return FileFlaw.MISSING
        if found.st_size != entry.bytes:
            return FileFlaw.SIZE
        return FileFlaw.TIME if found.st_mtime_ns != FILE_TIME_NS else None

    def read(self, entry: Entry) -> bytes:
        """The bytes of a file."""
        return Path(self.entry_path(entry)).read_bytes()

    def set_aside(self, path: str) -> None:
        """Move a bad file out of the way, so that the right bytes can be stowed again."""
        atomic.make_folder(self.aside)
        name = os.path.relpath(path, self.root).replace("/", "-")
        try:
            os.rename(path, self.aside / f"{name}-{atomic.random_name()}")
        except FileNotFoundError:
            pass

    def keep_aside(self, path: str) -> None:
        """Keep a copy of a bad file beside, for somebody to look at, and leave it where it is until it is replaced."""
        atomic.make_folder(self.aside)
        name = os.path.relpath(path, self.root).replace("/", "-")
        atomic.write_file(self.aside / f"{name}-{atomic.random_name()}", Path(path).read_bytes())

    # ---- trees

    def tree_path(self, digest: str) -> Path:
        plain = digest.removeprefix("sha256:")
        return self.root / "trees" / plain[:2] / plain[2:]

    def listing_paths(self, digest: str) -> tuple[Path, Path]:
        """Where a tree's listing lies, and its copy."""
        path = self.tree_path(digest)
        return path, path.with_name(path.name + _COPY)

    def has_tree(self, digest: str) -> bool:
        """Whether there is a listing, sound or not."""
        return any(path.is_file() for path in self.listing_paths(digest))

    def holds(self, tree: Tree) -> bool:
        """Whether the listing of a tree and its copy are there as they must be."""
        listing = tree.listing()
        return all(_has_bytes(path, listing) for path in self.listing_paths(tree.digest))

    def put_tree(self, tree: Tree) -> str:
        """Keep a tree's listing; its files must be in the cache already. One that is damaged is written anew.

        Returns:
            The tree's digest.
        """
        listing = tree.listing()
        path, copy = self.listing_paths(tree.digest)
        atomic.make_folder(path.parent)
        for one in (copy, path):
            if not _has_bytes(one, listing):
                if one.is_dir():
                    self.set_aside(str(one))
                atomic.write_file(one, listing, mode=0o444, flush=one is path)
        return tree.digest

    @contextmanager
    def remembering(self) -> Iterator[None]:
        """Read each listing once, for what looks at the same trees again and again."""
        before, self._remembers = self._remembers, True
        try:
            yield
        finally:
            self._remembers = before
            if not before:
                self._remembered.clear()

    def tree(self, digest: str) -> Tree:
        """A tree by its digest, from its listing or the copy of that.

        Raises:
            MissingFromCache: it is not there.
            CacheError: its listing is corrupt.
        """
        if known := self._remembered.get(digest):
            return known
        refused: CacheError = MissingFromCache("The cache does not have it", why=digest)
        for path in self.listing_paths(digest):
            try:
                found = Tree.parse(path.read_bytes(), digest)
                if self._remembers:
                    self._remembered[digest] = found
                return found
            except (FileNotFoundError, NotADirectoryError):
                continue
            except OSError as error:
                refused = CacheUnreadable(
                    f"The listing of tree {digest} cannot be read",
                    why=error.strerror or str(error),
                    remedy="Look at who owns the cache and its modes (ls -l), or name another with --cache.",
                )
            except CacheError as error:
                refused = error
        raise refused

    # ---- as a store like others (`lapidar.core.stores.protocol`)

    @property
    def called(self) -> str:
        """What it is, for people."""
        return f"the cache {self.root}"

    def open_blob(self, digest: str) -> IO[bytes]:
        """The bytes of a file, as a program or not.

        Raises:
            FileNotFoundError: they are not there.
        """
        try:
            return open(self.file_path(digest, False), "rb")
        except FileNotFoundError:
            return open(self.file_path(digest, True), "rb")

    def references(self) -> list[str]:
        """The identities of all snapshots that are kept, sorted."""
        try:
            names = os.listdir(self.snapshots)
        except FileNotFoundError:
            return []
        return sorted(f"sha256:{name.removesuffix(_LOCK)}" for name in names if name.endswith(_LOCK))

    def reference_path(self, snapshot: str) -> Path:
        """Where the text of a snapshot is kept."""
        return self.snapshots / f"{snapshot.removeprefix('sha256:')}{_LOCK}"

    def refer(self, snapshot: str, text: bytes) -> None:
        """Keep a snapshot; one that is damaged is written anew."""
        path = self.reference_path(snapshot)
        if not _has_bytes(path, text):
            atomic.make_folder(path.parent)
            atomic.write_file(path, text)

    # ---- what a runtime derives from trees (byte-code), kept beside them

    def derived_path(self, tree_digest: str, key: str) -> Path:
        plain = tree_digest.removeprefix("sha256:")
        return self.root / "derived" / plain[:2] / f"{plain[2:]}-{key}"

    def derived(self, tree_digest: str, key: str) -> Tree | None:
        """What was derived from a tree: its listing. Whether the files are there is not asked.

        Args:
            key: what it follows from beside the tree: the kind of runtime, and its version.
        """
        digest = self.noted_derived(self.derived_path(tree_digest, key))
        if digest is None:
            return None
        try:
            return self.tree(digest)
        except CacheError:
            return None

    @staticmethod
    def noted_derived(note: Path) -> str | None:
        """The digest of the tree that a note of something derived names; None where it is damaged."""
        return (sealed.read(note) or b"").decode("ascii", "replace").strip() or None

    def put_derived(self, tree_digest: str, key: str, made: Tree) -> None:
        """Keep which tree was derived from a tree."""
        self.put_tree(made)
        path = self.derived_path(tree_digest, key)
        atomic.make_folder(path.parent)
        sealed.write(path, (made.digest + "\n").encode("ascii"))

    # ---- what came of files that were unpacked or built

    def _made_path(self, key: str) -> Path:
        return self.made_folder / key[:2] / key[2:]

    def made(self, key: str) -> Made | None:
        """What came of a file, where its tree is whole in the cache.

        Args:
            key: sha256 in hex: of an archive that was unpacked, or of what a build was made of.
        """
        made = self.noted_made(self._made_path(key))
        return made if made and self.is_whole(made.tree) else None

    @staticmethod
    def noted_made(note: Path) -> Made | None:
        """What a note of something made says; None where it is damaged."""
        digest, *notes = (sealed.read(note) or b"").decode("utf-8", "replace").split("\n")
        return Made(digest, tuple(notes[:-1])) if digest else None

    def put_made(self, key: str, tree_digest: str, notes: Sequence[str] = ()) -> None:
        """Keep what came of a file, so that it need not be fetched or built again."""
        path = self._made_path(key)
        atomic.make_folder(path.parent)
        sealed.write(path, "\n".join([tree_digest, *notes, ""]).encode())

    def is_whole(self, tree_digest: str) -> bool:
        """Whether a tree and all of its files are here, by their sizes and times."""
        try:
            return self.has_files(self.tree(tree_digest))
        except CacheError:
            return False

    def has_files(self, tree: Tree) -> bool:
        """Whether all files of a tree are here, by their sizes and times."""
        return all(entry.kind == LINK or self.flaw(entry) is None for entry in tree)

    # ---- all of it

    def all_files(self) -> Iterator[os.DirEntry[str]]:
        """Every cached file, folder by folder."""
        yield from _two_levels(self.root / "files")

    def inodes(self) -> set[int]:
        """The inodes of all cached files. No file is asked for: the entries of the folders tell."""
        found: set[int] = set()
        for folder in os.listdir(self._files):
            try:
                with os.scandir(f"{self._files}/{folder}") as entries:
                    found.update([entry.inode() for entry in entries])
            except NotADirectoryError:
                continue
        return found

    def all_trees(self) -> Iterator[str]:
        """The digest of every tree."""
        for entry in _two_levels(self.root / "trees"):
            if not entry.name.startswith(".") and not entry.name.endswith(_COPY):
                yield f"sha256:{Path(entry.path).parent.name}{entry.name}"

    def all_derived(self) -> Iterator[tuple[str, Path]]:
        """The digest of every tree that something was derived from, and where that is noted."""
        for entry in _two_levels(self.root / "derived"):
            if not entry.name.startswith("."):
                yield f"sha256:{Path(entry.path).parent.name}{entry.name[:62]}", Path(entry.path)


def _has_bytes(path: Path, data: bytes) -> bool:
    try:
        return path.read_bytes() == data
    except OSError:
        return False


def _two_levels(root: Path) -> Iterator[os.DirEntry[str]]:
    try:
        folders = sorted(os.scandir(root), key=lambda folder: folder.name)
    except FileNotFoundError:
        return
    for folder in folders:
        if folder.is_dir(follow_symlinks=False):
            with os.scandir(folder.path) as entries:
                yield from entries
