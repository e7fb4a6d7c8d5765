"""The index client against an index that is slow, failing, lying, cut off, or speaks another dialect."""

from __future__ import annotations

import os
import random
import signal
import subprocess
import time
import unittest
from typing import Any

from lapidar.core.errors import IndexTrouble
from lapidar.core.languages.python.index import page
from lapidar.standin.index import FileFacts
from standins import Pinning
from support import PROGRAM, wheel


class Dialects(Pinning):
    def pinned_with(self, **settings: Any) -> dict[str, str]:
        index = self.serve(**settings)
        self.variables["LAPIDAR_INDEX"] = index.address
        self.variables["LAPIDAR_CACHE"] = str(self.folder / f"cache-{len(os.listdir(self.folder))}")
        self.lapidar("pin")
        found = dict(self.locked())
        self.lock.unlink()
        self.asked = index.requests
        return found

    def test_every_way_to_the_same_answer(self) -> None:
        """JSON and HTML, with metadata beside the files, in pieces of them, and only in whole files."""
        self.declare("sherdplot", "glazemath>=2", "newest")
        wheel(self.files, "bulky", files={"bulky.bin": os.urandom(60_000)})
        self.declare("sherdplot", "glazemath>=2", "newest", "bulky")
        expected = {"bulky": "1.0", "clay": "0.5", "glazemath": "2.2", "newest": "1.0", "sherdplot": "1.9"}
        self.assertEqual(self.pinned_with(), expected)
        self.assertLessEqual(sum(path.endswith(".metadata") for path in self.asked), 7)
        # What is looked at: five pages and six times metadata; what is fetched: five files.
        self.assertLessEqual(len(self.asked) - 5, 1.3 * 11)
        self.assertEqual(self.pinned_with(json=False), expected)
        self.assertEqual(self.pinned_with(serves_metadata=False), expected)
        self.assertFalse([path for path in self.asked if path.endswith(".metadata")])
        self.assertEqual(self.pinned_with(json=False, serves_metadata=False, ranges=False), expected)

    def test_pages_are_asked_for_conditionally(self) -> None:
        self.declare("clay")
        self.lapidar("pin")
        pages = [path for path in self.index.requests if path.startswith("/simple/clay")]
        self.assertEqual(len(pages), 1)
        self.lapidar("pin", "--renew")
        wheel(self.files, "clay", "0.6")
        self.lapidar("pin", "--renew")
        self.assertEqual(self.locked(), {"clay": "0.6"})
        # A torn or altered answer on the disk is asked for again.
        for kept in (self.cache / "index").rglob("*"):
            if kept.is_file():
                kept.write_bytes(kept.read_bytes()[:-5])
        self.lapidar("pin", "--renew")
        self.assertEqual(self.locked(), {"clay": "0.6"})

    def test_html_in_its_forms(self) -> None:
        text = (
            "<!DOCTYPE html><html><head><base href='https://files.packages.example/a/'></head><body>"
            "<a href='../b/clay-1.0-py3-none-any.whl#sha256=" + "A" * 64 + "' data-requires-python='&gt;=3.9' "
            "data-yanked data-dist-info-metadata='sha256=" + "b" * 64 + "'>clay</a>"
            "<a href='clay-1.1.tar.gz' data-yanked='it &amp; that'>x</a><a href='/about'>about</a></body></html>"
        )
        first, second = page.of_html(text, "https://packages.example/simple/clay/", "i")
        self.assertEqual(first.url, "https://files.packages.example/b/clay-1.0-py3-none-any.whl")
        self.assertEqual((first.sha256, first.requires_python, first.withdrawn), ("a" * 64, ">=3.9", ""))
        self.assertEqual((first.has_metadata, first.metadata_sha256), (True, "b" * 64))
        self.assertEqual((second.withdrawn, second.has_metadata, second.sha256), ("it & that", False, ""))
        newer = "<html><head><meta name='pypi:repository-version' content='2.0'></head></html>"
        with self.assertRaisesRegex(IndexTrouble, "version 2.0"):
            page.of_html(newer, "https://packages.example/simple/clay/", "i")

    def test_names_and_passwords(self) -> None:
        index = self.serve(credentials="anna:oxblood 7")
        self.declare("clay")
        self.variables["LAPIDAR_INDEX"] = index.address
        said = self.fails("pin")
        self.assertIn("asks for a name and a password (status 401)", said)
        self.assertIn("netrc", said)
        netrc = self.folder / ".netrc"
        netrc.write_text('machine 127.0.0.1 login anna password "oxblood 7"\n')
        netrc.chmod(0o600)
        self.lapidar("pin")
        self.lock.unlink()
        netrc.unlink()
        self.variables["LAPIDAR_INDEX"] = index.address.replace("//", "//anna:oxblood%207@")
        self.lapidar("pin", "--renew")
        for path in [self.lock, *self.cache.rglob("index/*/*"), *self.cache.rglob("snapshots/*")]:
            if path.is_file():
                self.assertNotIn(b"oxblood", path.read_bytes(), path)


class Faults(Pinning):
    own_cache = True
    seconds = "1"

    def failing(self, part: str, *faults: str) -> str:
        """What pin says when requests fail so; nothing may have changed."""
        self.declare("clay", "drawing")
        self.index.faults = {part: list(faults)}
        said = self.fails("pin")
        self.assertFalse(self.lock.exists())
        self.assertEqual(os.listdir(self.cache / "staging"), [])
        self.index.faults = {}
        return said

    def test_what_passes_is_tried_again(self) -> None:
        self.declare("clay", "drawing")
        self.index.faults = {
            "/simple/clay": ["503", "cut 20", "429"],
            "drawing-1.2-py3-none-any.whl.metadata": ["500", "slow 2"],
            "/files/clay-0.5-py3-none-any.whl": ["ok", "cut 300", "cut 200", "502"],
            "/files/drawing": ["cut 10"],
        }
        self.lapidar("pin")
        self.assertEqual(self.locked(), {"clay": "0.5", "drawing": "1.2"})
        self.assertTrue(all(not left for left in self.index.faults.values()), self.index.faults)
        self.lapidar("restore")
        self.lapidar("check", "--deep")

    def test_what_does_not_pass(self) -> None:
        self.assertIn("refuses access (status 403)", self.failing("/simple/clay", "403"))
        self.assertIn("status 500", self.failing("/simple/clay", *["500"] * 4))
        self.assertIn("status 418", self.failing("/simple/clay", "418"))
        self.assertIn("breaks off", self.failing("/simple/clay", *["cut 20"] * 4))
        began = time.monotonic()
        self.assertIn("timed out", self.failing("/simple/clay", *["slow 30"] * 4))
        self.assertLess(time.monotonic() - began, 25)
        self.assertIn(
            "could not be fetched whole", self.failing("/files/clay-0.5-py3-none-any.whl", "ok", *["cut 0"] * 9)
        )
        self.assertIn("is not there any more", self.failing("/files/clay-0.5-py3-none-any.whl", "404"))

    def test_a_host_that_is_not_there_or_no_index(self) -> None:
        self.declare("clay")
        self.variables["LAPIDAR_INDEX"] = "http://127.0.0.1:9/simple"
        said = self.fails("pin")
        self.assertIn("cannot be used", said)
        self.assertIn("refused", said)
        self.variables["LAPIDAR_INDEX"] = (
            self.index.address.replace("/simple", "/files/clay-0.5-py3-none-any.whl") + "#"
        )
        self.fails("pin")
        self.variables["LAPIDAR_INDEX"] = str(self.folder / "nowhere")
        self.assertIn("There is no folder", self.fails("pin"))
        with self.assertRaisesRegex(IndexTrouble, "not a package index"):
            page.parse(b"hello", "text/plain", "https://packages.example/clay/", "https://packages.example")
        with self.assertRaisesRegex(IndexTrouble, "form of the standard"):
            page.parse(b'{"files": 3}', "application/json", "https://packages.example/clay/", "x")
        with self.assertRaisesRegex(IndexTrouble, "links to no package"):
            page.parse(b"<html><a href='/x'>x</a></html>", "text/html", "https://packages.example/clay/", "x")

    def test_a_file_that_is_not_what_was_promised(self) -> None:
        name = "clay-0.5-py3-none-any.whl"
        self.index.facts = {name: FileFacts(sha256="1" * 64)}
        said = self.failing("nothing")
        self.assertIn("promised sha256 " + "1" * 64, said)
        self.assertRegex(said, "got [0-9a-f]{64}")
        self.assertFalse([path for path in self.cache.rglob("*") if path.is_file() and b"kiln-tools" in path.read_bytes()
                          and "index" not in path.parts and "seen" not in path.parts])  # fmt: skip

    def test_no_room_on_the_disk(self) -> None:
        wheel(self.files, "bulk", files={f"bulk{at}.bin": os.urandom(1_000_000) for at in range(12)})
        self.lapidar("capture", self.venv, "--lock", "runtime.lock", "--cache", self.folder / "small-start")
        self.declare("bulk")
        script = (
            'mount -t tmpfs -o size=90m none "$1" && cp -a "$2/." "$1" && '
            'dd if=/dev/zero of="$1/filler" bs=1M count=500 2>/dev/null; rm -f "$1/filler.2"; '
            'truncate -s -6M "$1/filler"; shift 2; exec "$@"'
        )
        place = self.folder / "small"
        place.mkdir()
        done = self.in_namespace(script, place, self.folder / "small-start", *self.program("pin", "--cache", place))
        self.assertEqual(done.returncode, 3, done.stdout + done.stderr)
        self.assertIn("no space", done.stderr.lower())
        self.assertFalse(self.lock.exists())

    def program(self, *words: object) -> list[str]:
        return [PROGRAM, *map(str, words)]


class Killed(Pinning):
    own_cache = True

    def test_pin_at_many_moments(self) -> None:
        """Whenever it is killed: no half lockfile, no half tree, and the next run works."""
        source = random.Random(3)
        wheel(self.files, "bulk", files={f"bulk{at}.bin": source.randbytes(400_000) for at in range(20)})
        self.declare("bulk", "sherdplot")
        self.lapidar("pin")
        whole = self.lock.read_bytes()
        self.lock.unlink()
        began = time.monotonic()
        self.lapidar("pin", "--cache", self.folder / "other")
        takes = time.monotonic() - began
        stopped = 0
        for moment in range(6):
            cache = self.folder / f"cache-{moment}"
            self.lock.unlink(missing_ok=True)
            process = subprocess.Popen(
                [PROGRAM, "pin", "--cache", str(cache)],
                cwd=self.project,
                env=self.variables,
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
            )
            time.sleep(takes * (moment + source.random()) / 6)
            process.send_signal(signal.SIGKILL)
            was_stopped = process.wait() != 0
            stopped += was_stopped
            # The one that was timed may have had a busier machine.
            takes *= 1 if was_stopped else 0.7
            self.assertIn(self.lock.read_bytes() if self.lock.exists() else whole, (whole,))
            self.lapidar("pin", "--cache", cache)
            self.assertEqual(self.lock.read_bytes(), whole)
            self.assertIn("sound", self.lapidar("cache", "audit", "--cache", cache).stdout)
        self.assertGreater(stopped, 2)


if __name__ == "__main__":
    unittest.main()
