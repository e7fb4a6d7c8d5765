"""The cache's folder: where each thing lies, and who may work in it at the same time."""

from __future__ import annotations

import enum
import fcntl
import os
import sys
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import NamedTuple

import tomli

from lapidar.core import atomic
from lapidar.core.cache.trees import EXECUTABLE, LINK, Entry, Tree
from lapidar.core.errors import CacheError, MissingFromCache

__all__ = ["FILE_TIME_SECONDS", "Cache", "FileFlaw", "default_folder"]

FORMAT = 1
# Every file of the cache has this modification time (2001-09-09T01:46:40Z). It is fixed so that byte-code
# compiled once stays valid wherever the source is placed, and so that an edit through a hard link shows.
FILE_TIME_SECONDS = 1_000_000_000
FILE_TIME_NS = FILE_TIME_SECONDS * 1_000_000_000
_MARK = "lapidar-cache.toml"
_FOLDERS = ("files", "trees", "derived", "assembled", "snapshots", "seen", "aside", "staging")


class FileFlaw(enum.StrEnum):
    """What is wrong with a cached file; the last is only found by reading it."""

    MISSING = "missing"
    SIZE = "altered: it has another size"
    TIME = "altered: its modification time was changed"
    BYTES = "corrupt"


def default_folder() -> Path:
    """`LAPIDAR_CACHE`, else a folder in the user's data folder (XDG Base Directory Specification).

    Not in the user's cache folder: it holds the only copy of captured bytes, and systems sweep that one.
    """
    named = os.environ.get("LAPIDAR_CACHE")
    if named:
        return Path(named).expanduser()
    data = os.environ.get("XDG_DATA_HOME") or "~/.local/share"
    return Path(data).expanduser() / "lapidar" / "cache"


class Made(NamedTuple):
    """What came of a file that was unpacked or built: the digest of its tree, and what else was noted."""

    tree: str
    notes: tuple[str, ...]


class Cache:
    """An opened cache.

    Args:
        root: its folder.
        create: whether to make it where it is missing.

    Raises:
        CacheError: there is none, the folder is something else, or its format is another one.
    """

    def __init__(self, root: Path, *, create: bool = False) -> None:
        self.root = Path(os.path.abspath(root))
        mark = self.root / _MARK
        if not mark.is_file():
            self._begin(mark, create)
        self._verify_format(mark)
        self._files = str(self.root / "files")

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
                remedy="Name the one that holds the snapshot with --cache or LAPIDAR_CACHE.",
            )
        try:
            for name in _FOLDERS:
                (self.root / name).mkdir(parents=True, exist_ok=True)
            part = self.root / "staging" / f"mark-{atomic.random_name()}"
            part.write_text(f"# A lapidar package cache. See docs/cache.md of lapidar.\nformat = {FORMAT}\n")
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

    def _holds_something_else(self) -> bool:
        """Whether the folder has more in it than the empty folders of a cache that is being begun."""
        for entry in os.scandir(self.root):
            if entry.name == "staging" or entry.name.startswith("."):
                continue
            if entry.name not in _FOLDERS or not entry.is_dir() or any(os.scandir(entry.path)):
                return True
        return False

    def _verify_format(self, mark: Path) -> None:
        try:
            number = tomli.loads(mark.read_text("utf-8")).get("format")
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
        """No other process uses it meanwhile. `waiting` is called once where others must be waited for."""
        with self._locked(fcntl.LOCK_EX, waiting):
            yield

    @contextmanager
    def _locked(self, kind: int, waiting: Callable[[], None] | None) -> Iterator[None]:
        descriptor = os.open(self.root / _MARK, os.O_RDONLY | os.O_CLOEXEC)
        try:
            try:
                fcntl.flock(descriptor, kind | fcntl.LOCK_NB)
            except BlockingIOError:
                if waiting:
                    waiting()
                fcntl.flock(descriptor, kind)
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

    # ---- files

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

    def entry_path(self, entry: Entry) -> str:
        return self.file_path(entry.content, entry.kind == EXECUTABLE)

    def flaw(self, entry: Entry) -> FileFlaw | None:
        """What is wrong with the cached bytes of a file, as far as can be told without reading them."""
        try:
            found = os.stat(self.entry_path(entry))
        except FileNotFoundError:
            return FileFlaw.MISSING
        if found.st_size != entry.bytes:
            return FileFlaw.SIZE
        return FileFlaw.TIME if found.st_mtime_ns != FILE_TIME_NS else None

    def read(self, entry: Entry) -> bytes:
        """The bytes of a file."""
        return Path(self.entry_path(entry)).read_bytes()

    def set_aside(self, path: str) -> None:
        """Move a bad file out of the way, so that the right bytes can be stowed again."""
        (self.root / "aside").mkdir(exist_ok=True)
        name = os.path.relpath(path, self.root).replace("/", "-")
        try:
            os.rename(path, self.root / "aside" / f"{name}-{atomic.random_name()}")
        except FileNotFoundError:
            pass

    # ---- trees

    def tree_path(self, digest: str) -> Path:
        plain = digest.removeprefix("sha256:")
        return self.root / "trees" / plain[:2] / plain[2:]

    def has_tree(self, digest: str) -> bool:
        return self.tree_path(digest).is_file()

    def put_tree(self, tree: Tree) -> str:
        """Keep a tree's listing; its files must be in the cache already.

        Returns:
            The tree's digest.
        """
        path = self.tree_path(tree.digest)
        if not path.exists():
            path.parent.mkdir(exist_ok=True)
            atomic.write_file(path, tree.listing(), mode=0o444)
        return tree.digest

    def tree(self, digest: str) -> Tree:
        """A tree by its digest.

        Raises:
            MissingFromCache: it is not there.
            CacheError: its listing is corrupt.
        """
        try:
            listing = self.tree_path(digest).read_bytes()
        except FileNotFoundError as error:
            raise MissingFromCache(f"The cache has no tree {digest}") from error
        return Tree.parse(listing, digest)

    # ---- what a runtime derives from trees (byte-code), kept beside them

    def derived_path(self, tree_digest: str, key: str) -> Path:
        plain = tree_digest.removeprefix("sha256:")
        return self.root / "derived" / plain[:2] / f"{plain[2:]}-{key}"

    def derived(self, tree_digest: str, key: str) -> Tree | None:
        """What was derived from a tree, whole or not at all.

        Args:
            key: what it follows from beside the tree: the kind of runtime, and its version.
        """
        try:
            digest = self.derived_path(tree_digest, key).read_text("ascii").strip()
            tree = self.tree(digest)
        except (OSError, ValueError, CacheError):
            return None
        return tree if all(self.flaw(entry) is None for entry in tree) else None

    def put_derived(self, tree_digest: str, key: str, made: Tree) -> None:
        """Keep which tree was derived from a tree."""
        self.put_tree(made)
        path = self.derived_path(tree_digest, key)
        path.parent.mkdir(exist_ok=True)
        atomic.write_file(path, (made.digest + "\n").encode("ascii"))

    # ---- what came of files that were unpacked or built

    def _made_path(self, key: str) -> Path:
        return self.root / "made" / key[:2] / key[2:]

    def made(self, key: str) -> Made | None:
        """What came of a file, where its tree is whole in the cache.

        Args:
            key: sha256 in hex: of an archive that was unpacked, or of what a build was made of.
        """
        try:
            digest, *notes = self._made_path(key).read_text("utf-8").splitlines()
            return Made(digest, tuple(notes)) if self.is_whole(digest) else None
        except (OSError, ValueError):
            return None

    def put_made(self, key: str, tree_digest: str, notes: Sequence[str] = ()) -> None:
        """Keep what came of a file, so that it need not be fetched or built again."""
        path = self._made_path(key)
        path.parent.mkdir(parents=True, exist_ok=True)
        atomic.write_file(path, "\n".join([tree_digest, *notes, ""]).encode())

    def is_whole(self, tree_digest: str) -> bool:
        """Whether a tree and all of its files are here, by their sizes and times."""
        try:
            return all(entry.kind == LINK or self.flaw(entry) is None for entry in self.tree(tree_digest))
        except CacheError:
            return False

    # ---- all of it

    def all_files(self) -> Iterator[os.DirEntry[str]]:
        """Every cached file, folder by folder."""
        yield from _two_levels(self.root / "files")

    def inodes(self, most: int) -> set[int] | None:
        """The inodes of all cached files; None where there are more than `most`. No file is asked for: the entries
        of the folders tell."""
        found: set[int] = set()
        try:
            folders = os.listdir(self._files)
        except FileNotFoundError:
            return found
        for folder in folders:
            with os.scandir(f"{self._files}/{folder}") as entries:
                found.update([entry.inode() for entry in entries])
            if len(found) > most:
                return None
        return found

    def all_trees(self) -> Iterator[str]:
        """The digest of every tree."""
        for entry in _two_levels(self.root / "trees"):
            if not entry.name.startswith("."):
                yield f"sha256:{Path(entry.path).parent.name}{entry.name}"

    def all_derived(self) -> Iterator[tuple[str, Path]]:
        """The digest of every tree that something was derived from, and where that is noted."""
        for entry in _two_levels(self.root / "derived"):
            if not entry.name.startswith("."):
                yield f"sha256:{Path(entry.path).parent.name}{entry.name[:62]}", Path(entry.path)


def _two_levels(root: Path) -> Iterator[os.DirEntry[str]]:
    try:
        folders = sorted(os.scandir(root), key=lambda folder: folder.name)
    except FileNotFoundError:
        return
    for folder in folders:
        with os.scandir(folder.path) as entries:
            yield from entries


def digest_of_name(path: str) -> tuple[str, bool]:
    """The digest (hex) that a cached file's name claims, and whether it is executable."""
    folder, _, name = path.rpartition("/")
    executable = name.endswith(".x")
    return sys.intern(folder[-2:]) + name.removesuffix(".x"), executable
