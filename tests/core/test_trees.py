"""The identity of trees."""

from __future__ import annotations

import hashlib
import random
import unittest

from hypothesis import given
from hypothesis import strategies as st

from lapidar.core.cache.trees import EXECUTABLE, FILE, LINK, Entry, Tree
from lapidar.core.errors import CacheError

names = st.text(st.characters(blacklist_categories=["Cs"], blacklist_characters="/\0"), min_size=1, max_size=12).filter(
    lambda name: name not in (".", "..")
)
paths = st.lists(names, min_size=1, max_size=4).map("/".join)
digests = st.binary(min_size=32, max_size=32).map(bytes.hex)


@st.composite
def entry_lists(draw: st.DrawFn) -> list[Entry]:
    """Entries that can stand in one tree: no path twice, none both a file and a folder."""
    entries: dict[str, Entry] = {}
    for path in draw(st.lists(paths, max_size=12, unique=True)):
        if any(path.startswith(other + "/") or other.startswith(path + "/") for other in entries):
            continue
        kind = draw(st.sampled_from([FILE, EXECUTABLE, LINK]))
        if kind == LINK:
            entries[path] = Entry(path, LINK, draw(names), 0)
        else:
            entries[path] = Entry(path, kind, draw(digests), draw(st.integers(0, 10**12)))
    return list(entries.values())


class TreeIdentity(unittest.TestCase):
    @given(entry_lists())
    def test_listing_round_trip(self, entries: list[Entry]) -> None:
        tree = Tree(entries)
        again = Tree.parse(tree.listing(), tree.digest)
        self.assertEqual(again.entries, tree.entries)
        self.assertEqual(again.digest, tree.digest)

    @given(entry_lists(), st.randoms())
    def test_order_does_not_matter(self, entries: list[Entry], shuffler: random.Random) -> None:
        shuffled = list(entries)
        shuffler.shuffle(shuffled)
        self.assertEqual(Tree(shuffled).digest, Tree(entries).digest)

    @given(entry_lists().filter(bool), st.data())
    def test_every_field_matters(self, entries: list[Entry], data: st.DataObject) -> None:
        at = data.draw(st.integers(0, len(entries) - 1))
        entry = entries[at]
        if entry.kind == LINK:
            other = entry._replace(content=entry.content + "x")
        else:
            flipped = ("0" if entry.content[0] != "0" else "1") + entry.content[1:]
            kind = EXECUTABLE if entry.kind == FILE else FILE
            other = data.draw(st.sampled_from([entry._replace(content=flipped), entry._replace(kind=kind)]))
        self.assertNotEqual(Tree([*entries[:at], other, *entries[at + 1 :]]).digest, Tree(entries).digest)

    def test_a_known_listing(self) -> None:
        """The format as docs/cache.md gives it: a change of one byte would orphan every cache there is."""
        empty = hashlib.sha256(b"").hexdigest()
        tree = Tree(
            [
                Entry("site/b c", EXECUTABLE, empty, 0),
                Entry("site/a\tb", FILE, empty, 0),
                Entry("site/l", LINK, "b c", 0),
            ]
        )
        listing = f"lapidar tree 1\nf\t{empty}\t0\tsite/a\\tb\nx\t{empty}\t0\tsite/b c\nl\tb c\t0\tsite/l\n"
        self.assertEqual(tree.listing().decode(), listing)
        self.assertEqual(tree.digest, "sha256:" + hashlib.sha256(listing.encode()).hexdigest())

    def test_refuses_what_leads_outside(self) -> None:
        digest = "0" * 64
        for entry in (
            Entry("/etc/passwd", FILE, digest, 1),
            Entry("../x", FILE, digest, 1),
            Entry("a/../../x", FILE, digest, 1),
            Entry("a//b", FILE, digest, 1),
            Entry("", FILE, digest, 1),
            Entry("a/l", LINK, "/etc/passwd", 0),
            Entry("a/l", LINK, "../../x", 0),
            Entry("a", FILE, "nonsense", 1),
            Entry("a", "d", digest, 1),
        ):
            with self.subTest(entry=entry), self.assertRaises(ValueError):
                Tree([entry])

    def test_refuses_one_path_for_two_things(self) -> None:
        digest = "0" * 64
        with self.assertRaises(ValueError):
            Tree([Entry("a", FILE, digest, 1), Entry("a", EXECUTABLE, digest, 1)])
        with self.assertRaises(ValueError):
            Tree([Entry("a", FILE, digest, 1), Entry("a/b", FILE, digest, 1)])

    def test_a_listing_with_another_digest(self) -> None:
        tree = Tree([Entry("a", FILE, "0" * 64, 1)])
        with self.assertRaisesRegex(CacheError, "corrupt"):
            Tree.parse(tree.listing() + b"f\t" + b"1" * 64 + b"\t1\tb\n", tree.digest)

    def test_a_hostile_listing_with_the_right_digest(self) -> None:
        """Someone else's cache may hold a listing that leads out of the folder it is placed in."""
        for line in (
            "f\t" + "0" * 64 + "\t1\t../../outside\n",
            "f\t" + "0" * 64 + "\t1\ta/../../outside\n",
            "f\t" + "0" * 64 + "\t1\t/etc/cron.d/x\n",
            "l\t../..\t0\ta\n",
            "l\ta\t0\tb\nf\t" + "0" * 64 + "\t1\tb/c\n",
        ):
            listing = ("lapidar tree 1\n" + line).encode()
            with self.subTest(line=line), self.assertRaisesRegex(CacheError, "not safe"):
                Tree.parse(listing, "sha256:" + hashlib.sha256(listing).hexdigest())
