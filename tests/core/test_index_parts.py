"""The parts of the index client by themselves: pages, pieces of wheels, the choice of an index, kept answers."""

from __future__ import annotations

import hashlib
import io
import os
import random
import time
import unittest
import zipfile
from pathlib import Path
from unittest import mock

from hypothesis import given, settings
from hypothesis import strategies as st

from lapidar.core import sealed
from lapidar.core.cache.store import Cache, Made
from lapidar.core.cache.trees import Entry
from lapidar.core.errors import IndexTrouble, LapidarError, PackageBroken
from lapidar.core.languages.python.index import page
from lapidar.core.languages.python.index.indexes import PURPOSE, Indexes, NoMetadata, name_of
from lapidar.core.languages.python.index.page import File
from lapidar.core.languages.python.index.remote_wheel import NoRanges, RemoteFile, remote_metadata
from lapidar.core.languages.python.standards import wheel as wheels
from lapidar.core.net.http import Client
from lapidar.core.records.declaration import Index
from lapidar.standin.index import FileFacts, StandInIndex
from lapidar.standin.packages import write_source, write_wheel
from support import InFolder


class Served(InFolder):
    """A folder of packages, and an index over it."""

    def setUp(self) -> None:
        super().setUp()
        self.files = self.root / "files"
        self.files.mkdir()
        self.cache = Cache(self.root / "cache", create=True)

    def index(self, **settings: object) -> StandInIndex:
        index = StandInIndex(self.files, **settings)  # type: ignore[arg-type]
        index.start()
        self.addCleanup(index.stop)
        return index

    def indexes(self, *several: Index) -> Indexes:
        found = Indexes(several, self.cache)
        self.addCleanup(found.close)
        return found


class Pages(Served):
    def test_both_forms_say_the_same(self) -> None:
        write_wheel(self.files, "clay", "1.0")
        write_wheel(self.files, "clay", "1.1")
        write_source(self.files, "clay", "1.2", {})
        facts = {
            "clay-1.0-py3-none-any.whl": FileFacts(withdrawn='it "cracked" & broke', requires_python=">=3.9,<4"),
            "clay-1.1-py3-none-any.whl": FileFacts(withdrawn=""),
        }
        json_form = self.indexes(Index("a", self.index(facts=facts).address)).files("clay")
        html_form = self.indexes(Index("b", self.index(facts=facts, json=False).address)).files("clay")
        for one, other in zip(json_form, html_form, strict=True):
            for field in ("name", "sha256", "requires_python", "withdrawn", "has_metadata"):
                self.assertEqual(getattr(one, field), getattr(other, field), field)
        self.assertEqual([file.withdrawn for file in json_form], ['it "cracked" & broke', "", None])
        self.assertEqual([bool(file.uploaded) for file in (*json_form, *html_form)], [True] * 3 + [False] * 3)

    def test_json_in_its_forms(self) -> None:
        text = (
            b'{"meta": {"api-version": "1.3"}, "name": "clay", "versions": ["1"], "more": 1, "files": ['
            b'{"filename": "clay-1-py3-none-any.whl", "url": "/f/clay-1-py3-none-any.whl#x", "hashes": {}, "yanked": true,'
            b' "dist-info-metadata": {"sha256": "ab"}, "gpg-sig": false},'
            b'{"filename": "clay-2.tar.gz", "url": "https://b.example/c", "hashes": {"sha256": "AB"}, "requires-python": null,'
            b' "core-metadata": false, "dist-info-metadata": true, "size": 7, "upload-time": "2024-05-01T00:00:00Z"}]}'
        )
        first, second = page.parse(text, "application/vnd.pypi.simple.v1+json", "https://a.example/simple/clay/", "i")
        self.assertEqual(
            (first.url, first.withdrawn, first.metadata_sha256),
            ("https://a.example/f/clay-1-py3-none-any.whl", "", "ab"),
        )
        self.assertEqual(
            (second.url, second.sha256, second.has_metadata, second.bytes), ("https://b.example/c", "ab", False, 7)
        )
        with self.assertRaisesRegex(IndexTrouble, "version 2.1"):
            page.parse(b'{"meta": {"api-version": "2.1"}, "files": []}', "application/json", "https://a.example/", "i")

    @given(st.text(max_size=300))
    @settings(max_examples=200)
    def test_no_page_breaks_the_reader(self, text: str) -> None:
        for kind in ("text/html", "application/json", "text/plain"):
            try:
                page.parse(text.encode("utf-8", "surrogatepass"), kind, "https://a.example/simple/x/", "i")
            except IndexTrouble:
                pass

    def test_names_of_files(self) -> None:
        for name, expected in (
            ("Sherd_Plot-1.0-py3-none-any.whl", "sherd-plot"),
            ("sherd.plot-1.0.tar.gz", "sherd-plot"),
            ("sherd-plot-1.0.zip", "sherd-plot"),
            ("nothing.whl", None),
            ("README.txt", None),
            ("sherd-plot.tar.gz", None),
        ):
            self.assertEqual(name_of(name), expected, name)

    def test_which_index_is_asked(self) -> None:
        main, lab, own = (
            Index("main", "https://a.example"),
            Index("lab", "https://b.example", ("kiln-*", "clay")),
            Index("own", "https://c.example", ("clay",)),
        )
        indexes = self.indexes(main, lab, own)
        self.assertEqual(indexes.of_name("numpy"), [main])
        self.assertEqual(indexes.of_name("kiln-map"), [lab])
        self.assertEqual(indexes.of_name("clay"), [lab, own])
        self.assertEqual(self.indexes(lab).of_name("numpy"), [])

    def test_the_first_index_that_has_a_name(self) -> None:
        write_wheel(self.files, "clay", "1.0")
        other = self.root / "other"
        other.mkdir()
        write_wheel(other, "clay", "9.0")
        write_wheel(other, "glaze", "1.0")
        indexes = self.indexes(Index("one", str(self.files)), Index("two", str(other)))
        self.assertEqual([file.name for file in indexes.files("clay")], ["clay-1.0-py3-none-any.whl"])
        self.assertEqual([file.name for file in indexes.files("glaze")], ["glaze-1.0-py3-none-any.whl"])
        self.assertEqual(indexes.files("slip"), [])
        self.assertIn("glaze", indexes.names("glaz"))

    def test_a_folder_laid_out_as_an_index(self) -> None:
        place = self.root / "simple" / "clay"
        place.mkdir(parents=True)
        made = write_wheel(self.files, "clay", "1.0")
        (place / "index.html").write_text(f'<a href="../../files/{made.name}#sha256={"0" * 64}">x</a>')
        for address in (str(self.root), self.root.as_uri()):  # the folder that holds both pages and files
            indexes = self.indexes(Index("a", address))
            (file,) = indexes.files("clay")
            self.assertIn(b"Name: clay", indexes.metadata(file))
            with self.assertRaisesRegex(IndexTrouble, "promised sha256 0000"), indexes.fetched(file):
                pass


class Pieces(Served):
    def test_any_piece_is_the_same_as_of_the_file(self) -> None:
        data = random.Random(5).randbytes(200_000)
        (self.files / "big-1.0.bin").write_bytes(data)
        address = self.index().address.replace("/simple", "/files/big-1.0.bin")
        remote, source = RemoteFile(Client(PURPOSE, None), address), random.Random(6)
        local = io.BytesIO(data)
        for _ in range(60):
            at, size = source.randrange(len(data) + 100), source.choice([1, 10, 5000, 60_000])
            whence = source.choice([io.SEEK_SET, io.SEEK_END])
            at = at if whence == io.SEEK_SET else -min(at, len(data))
            self.assertEqual(remote.seek(at, whence), local.seek(at, whence))
            self.assertEqual(remote.read(size), local.read(size))
            self.assertEqual(remote.tell(), max(local.tell(), remote.tell()))

    def test_metadata_for_a_request_or_two(self) -> None:
        small = write_wheel(self.files, "clay", "1.0")
        write_wheel(self.files, "large", "1.0", {f"large/{at}.bin": os.urandom(9000) for at in range(400)})
        index = self.index()
        for name, most in ((small.name, 1), ("large-1.0-py3-none-any.whl", 4)):
            client = Client(PURPOSE, None)
            url = index.address.replace("/simple", f"/files/{name}")
            self.assertIn(b"Name:", remote_metadata(client, url))
            self.assertLessEqual(client.requests, most)

    def test_where_it_cannot_be(self) -> None:
        (self.files / "no-1.0-py3-none-any.whl").write_bytes(b"no zip, no metadata " * 4000)
        without_ranges = self.index(ranges=False)
        url = without_ranges.address.replace("/simple", "/files/no-1.0-py3-none-any.whl")
        with self.assertRaises(NoRanges):
            RemoteFile(Client(PURPOSE, None), url)
        with self.assertRaises(zipfile.BadZipFile):
            remote_metadata(
                Client(PURPOSE, None), self.index().address.replace("/simple", "/files/no-1.0-py3-none-any.whl")
            )
        with self.assertRaisesRegex(NoMetadata, "no-1.0-py3-none-any.whl is broken"):
            self.indexes().metadata(File(name="no-1.0-py3-none-any.whl", url=url))

    def test_served_metadata_must_be_what_was_promised(self) -> None:
        write_wheel(self.files, "clay", "1.0")
        indexes = self.indexes(Index("a", self.index().address))
        (file,) = indexes.files("clay")
        wrong = File(name=file.name, url=file.url, has_metadata=True, metadata_sha256="0" * 64)
        with self.assertRaisesRegex(NoMetadata, "not what its index promises"):
            indexes.metadata(wrong)


class Kept(Served):
    def test_conditional_requests_and_their_age(self) -> None:
        write_wheel(self.files, "clay", "1.0")
        index = self.index()
        url = f"{index.address}/clay/"
        client = Client(PURPOSE, self.root / "kept")
        first = client.get(url, accept=page.ACCEPT)
        again = client.get(url, accept=page.ACCEPT)
        self.assertEqual((first.body, first.headers["content-type"]), (again.body, again.headers["content-type"]))
        self.assertEqual(client.requests, 2)  # the second was answered with "not modified"
        self.assertNotIn("html", again.headers["content-type"])
        index.json = False
        self.assertIn("html", Client(PURPOSE, self.root / "other").get(url, accept=page.ACCEPT).headers["content-type"])
        for path in (self.root / "kept").rglob("*"):
            if path.is_file():  # as if the host had said that it is good for long
                kept = sealed.read(path)
                assert kept
                head, _, body = kept.partition(b"\n")
                until = str(time.time() + 1000).encode()
                start = head.index(b'"good_until": ') + len(b'"good_until": ')
                sealed.write(path, head[:start] + until + head[head.index(b",", start) :] + b"\n" + body)
        index.stop()
        self.assertEqual(client.get(url, accept=page.ACCEPT).body, first.body)
        self.assertEqual(client.requests, 2)

    def test_a_folder_that_cannot_be_written_is_no_matter(self) -> None:
        write_wheel(self.files, "clay", "1.0")
        (self.root / "a-file").write_text("")
        answer = Client(PURPOSE, self.root / "a-file" / "kept").get(f"{self.index().address}/clay/")
        self.assertEqual(answer.status, 200)

    def test_credentials_do_not_follow_to_another_host(self) -> None:
        """A redirect to another place gets no name and no password along."""
        write_wheel(self.files, "clay", "1.0")
        index = self.index(credentials="anna:oxblood")
        with mock.patch.dict(os.environ, {"NETRC": str(self.root / "none")}):
            url = index.address.replace("//", "//anna:oxblood@") + "/clay/"
            self.assertEqual(Client(PURPOSE, self.root / "kept").get(url).status, 200)
            with self.assertRaisesRegex(LapidarError, "name and a password"):
                Client(PURPOSE, None).get(f"{index.address}/clay/")
        kept = b"".join(path.read_bytes() for path in (self.root / "kept").rglob("*") if path.is_file())
        self.assertNotIn(b"oxblood", kept)


class HostileWheels(Served):
    def test_a_flipped_byte_is_never_taken_for_good(self) -> None:
        """Wherever a byte of a wheel is another: it is refused, or what comes out is not changed by it."""
        made = write_wheel(
            self.files,
            "clay",
            "1.0",
            {"clay/data.bin": random.Random(1).randbytes(3000), "clay/__init__.py": "X = 1\n" * 50},
        )
        whole, right = made.read_bytes(), wheels.tree(made).digest
        source = random.Random(2)
        refused = 0
        for at in sorted(source.sample(range(len(whole)), 400)):
            spoiled = bytearray(whole)
            spoiled[at] ^= 1 << source.randrange(8)
            made.write_bytes(spoiled)
            try:
                found = wheels.tree(made).digest
            except PackageBroken:
                refused += 1
                continue
            names_changed = found != right
            if names_changed:
                # The names in the list of members and their modes have no checksum; the bytes of each file have.
                before = {entry.content for entry in self.tree_of(whole, made)}
                self.assertLessEqual({entry.content for entry in wheels.tree(made)}, before)
        self.assertGreater(refused, 200)

    def tree_of(self, data: bytes, made: Path) -> list[Entry]:
        spoiled = made.read_bytes()
        made.write_bytes(data)
        entries = list(wheels.tree(made))
        made.write_bytes(spoiled)
        return entries

    def test_metadata_must_be_of_the_wheel(self) -> None:
        made = write_wheel(self.files, "clay", "1.0")
        for name in ("glaze-1.0-py3-none-any.whl", "clay-1.1-py3-none-any.whl"):
            with self.assertRaisesRegex(PackageBroken, "lies about what it is"), wheels.opened(made, name):
                pass
        with wheels.opened(
            made, "Clay-1.0.0-py3-none-any.whl"
        ) as content:  # the same name and version, written otherwise
            self.assertEqual((content.metadata.name, content.metadata.version), ("clay", "1.0"))
        with self.assertRaisesRegex(PackageBroken, "not the name of a wheel"), wheels.opened(made, "clay.whl"):
            pass

    def test_what_is_drafted_is_what_is_in_it(self) -> None:
        made = write_wheel(
            self.files,
            "clay",
            "1.0",
            {"clay/a.txt": "a", "clay-1.0.data/scripts/fire": "#!python\nprint(1)\n", "clay-1.0.data/headers/clay.h": "//",
             "clay-1.0.data/data/share/clay.txt": "s", "clay-1.0.data/platlib/clay/b.so": b"\x7fELF"},
        )  # fmt: skip
        with wheels.opened(made) as content:
            drafts = {draft.path: draft for draft in content.drafts()}
            self.assertEqual(sorted(drafts), [
                "prefix/bin/fire", "prefix/include/python/clay/clay.h", "prefix/share/clay.txt",
                "site/clay-1.0.dist-info/METADATA", "site/clay-1.0.dist-info/WHEEL", "site/clay.py", "site/clay/a.txt",
                "site/clay/b.so",
            ])  # fmt: skip
            opener = drafts["prefix/bin/fire"].opener
            assert opener is not None
            with opener() as stream:
                self.assertEqual(stream.read(), b"#!python\nprint(1)\n")
            self.assertTrue(drafts["prefix/bin/fire"].executable)

    def test_an_unknown_kind_of_data(self) -> None:
        made = write_wheel(self.files, "clay", "1.0", {"clay-1.0.data/elsewhere/x": "x"})
        with self.assertRaisesRegex(PackageBroken, "unknown kind of data"), wheels.opened(made):
            pass


class WhatCameOfFiles(Served):
    def test_it_is_kept_and_no_longer_believed_where_the_tree_is_not_whole(self) -> None:
        from lapidar.core.cache.stowing import stow
        from lapidar.core.progress import Silent

        made = write_wheel(self.files, "clay", "1.0")
        key = hashlib.sha256(made.read_bytes()).hexdigest()
        self.assertIsNone(self.cache.made(key))
        with wheels.opened(made) as content:
            tree = stow(self.cache, {"clay": content.drafts()}, None, Silent())["clay"].tree
        self.assertEqual(tree.digest, wheels.tree(made).digest)
        self.cache.put_made(key, tree.digest, ["glaze 1.0"])
        self.assertEqual(self.cache.made(key), Made(tree.digest, ("glaze 1.0",)))
        next(path for path in (self.cache.root / "files").rglob("*") if path.is_file()).unlink()
        self.assertIsNone(self.cache.made(key))


if __name__ == "__main__":
    unittest.main()
