"""What every store promises, asked of the cache and of another one; and what is taken from one that lies."""

from __future__ import annotations

import functools
import hashlib
import http.server
import shutil
from pathlib import Path

from lapidar.core.cache.layered import LayeredCache
from lapidar.core.cache.store import Cache
from lapidar.core.cache.stowing import FileDraft, LinkDraft, StreamDraft, stow
from lapidar.core.cache.trees import LINK, Tree
from lapidar.core.errors import CacheError, MissingFromCache
from lapidar.core.place import Place
from lapidar.core.progress import Silent
from lapidar.core.records import lockfile
from lapidar.core.restored import sources
from lapidar.core.stores.protocol import Store, WritableStore
from support import Case, InFolder, wheel
from toy.loopback import answering
from toy.stores import Memory, OverHTTP, write_folder


class Promises(InFolder):
    """The tests that every store passes."""

    def made(self, name: str) -> WritableStore:
        return LayeredCache(self.root / name, create=True)

    def spoil(self, store: WritableStore, digest: str) -> None:
        """Have it hold other bytes of the same size under a digest."""
        path = Path(store.file_path(digest, False))  # type: ignore[attr-defined]
        path.chmod(0o644)
        path.write_bytes(b"x" * path.stat().st_size)

    def filled(self, name: str = "filled") -> tuple[WritableStore, Tree]:
        """One with a tree of a file, a program, a link, an empty and a large file."""
        cache = Cache(self.root / f"{name}-origin", create=True)
        folder = self.root / f"{name}-files"
        folder.mkdir()
        (folder / "ware").write_text("bowl")
        (folder / "fire").write_text("#!/bin/sh\n")
        (folder / "fire").chmod(0o755)
        (folder / "large").write_bytes(bytes(range(256)) * 40_000)
        (folder / "empty").write_text("")
        drafts = [FileDraft(path.name, str(path)) for path in folder.iterdir()]
        tree = stow(cache, {"": [*drafts, LinkDraft("link", "ware")]}, None, Silent())[""].tree
        store = self.made(name)
        self.assertEqual(store.take([tree.digest], cache, Silent()), [tree.digest])
        return store, tree

    def test_what_was_taken_is_there(self) -> None:
        store, tree = self.filled()
        self.assertTrue(store.has_tree(tree.digest))
        self.assertEqual(store.tree(tree.digest).listing(), tree.listing())
        for entry in tree:
            if entry.kind != LINK:
                with store.open_blob(entry.content) as stream:
                    self.assertEqual(hashlib.sha256(stream.read()).hexdigest(), entry.content)
        again, _ = self.filled("again")
        self.assertEqual(again.take([tree.digest], store, Silent()), [], "it has it whole")

    def test_what_is_not_there_is_told(self) -> None:
        store, nothing = self.made("empty"), "sha256:" + "0" * 64
        self.assertFalse(store.has_tree(nothing))
        self.assertRaises(MissingFromCache, store.tree, nothing)
        self.assertRaises(OSError, store.open_blob, "0" * 64)
        self.assertEqual(store.take([nothing], self.made("other"), Silent()), [])
        self.assertEqual(list(store.references()), [])

    def test_only_what_lacks_is_read(self) -> None:
        store, tree = self.filled()
        other = self.made("other")
        half = Tree([entry for entry in tree if entry.path in ("ware", "large")])
        cache = Cache(self.root / "half", create=True)
        drafts = [
            StreamDraft(entry.path, functools.partial(store.open_blob, entry.content), entry.bytes) for entry in half
        ]
        stow(cache, {"": drafts}, None, Silent())
        other.take([half.digest], cache, Silent())
        asked: list[str] = []
        opened = store.open_blob

        def listening(digest: str):  # type: ignore[no-untyped-def]
            asked.append(digest)
            return opened(digest)

        store.open_blob = listening  # type: ignore[method-assign]
        other.take([tree.digest], store, Silent())
        had = {entry.content for entry in half}
        self.assertEqual(had & set(asked), set())
        self.assertEqual(len(asked), 2)

    def test_nothing_that_a_store_says_is_believed(self) -> None:
        store, tree = self.filled()
        ware = next(entry for entry in tree if entry.path == "ware")
        self.spoil(store, ware.content)
        other = self.made("other")
        with self.assertRaises(CacheError) as caught:
            other.take([tree.digest], store, Silent())
        self.assertIn("does not hold what it says: ware", str(caught.exception))
        self.assertFalse(other.has_tree(tree.digest))
        self.assertRaises(OSError, other.open_blob, ware.content)
        good, _ = self.filled("good")
        self.assertEqual(other.take([tree.digest], good, Silent()), [tree.digest])

    def test_snapshots_are_kept_by_their_identity(self) -> None:
        store = self.made("one")
        for digit in "21":
            store.refer("sha256:" + digit * 64, b"text")
        self.assertEqual(list(store.references()), ["sha256:" + digit * 64 for digit in "12"])

    def test_a_lease_is_a_context(self) -> None:
        store, tree = self.filled()
        with store.in_use(), store.in_use():
            self.assertTrue(store.has_tree(tree.digest))


class InMemory(Promises):
    def made(self, name: str) -> WritableStore:
        return Memory()

    def spoil(self, store: WritableStore, digest: str) -> None:
        assert isinstance(store, Memory)
        store.blobs[digest] = b"x" * len(store.blobs[digest])


class FromAStore(Case):
    """An environment whose bytes only another store has."""

    own_cache = True

    def setUp(self) -> None:
        super().setUp()
        self.venv = self.environment(wheel(self.folder, "sherdlib"))
        self.lapidar("capture", self.venv)
        self.snapshot = lockfile.read(self.lock)
        self.full = Cache(self.cache)
        self.empty = Cache(self.folder / "empty", create=True)

    def taken_from(self, store: Store) -> None:
        """It restores from the empty cache, and every byte is right."""
        with self.empty.in_use():
            brought = sources.bring(Place.of_project(self.project), self.empty, self.snapshot, Silent(), [store])
        self.assertEqual(len(brought.notes), 1)
        self.assertIn(f"taken from {store.called}: ", brought.notes[0])
        self.assertIn("sherdlib 1.0", brought.notes[0])
        self.variables["LAPIDAR_CACHE"] = str(self.empty.root)
        shutil.rmtree(self.venv)
        self.lapidar("restore", "--verify")
        self.lapidar("check", "--deep")
        self.assertEqual(self.python(self.restored, "import sherdlib; print(sherdlib.VERSION)"), "1.0")

    def test_in_memory(self) -> None:
        memory = Memory()
        memory.take([part.tree for part in self.snapshot.parts()], self.full, Silent())
        self.taken_from(memory)
        self.assertEqual(memory.users, 0)

    def test_a_folder_over_http(self) -> None:
        trees = [self.full.tree(part.tree) for part in self.snapshot.parts()]
        entries = {entry.content: entry for tree in trees for entry in tree if entry.kind != LINK}
        write_folder(((digest, self.full.read(one)) for digest, one in entries.items()), trees, self.folder / "served")
        handler = functools.partial(Quiet, directory=str(self.folder / "served"))
        with answering(handler) as host:
            self.taken_from(OverHTTP(f"http://{host}"))


class Quiet(http.server.SimpleHTTPRequestHandler):
    def log_message(self, format: str, *args: object) -> None:
        pass
