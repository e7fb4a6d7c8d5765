"""What a snapshot is in others' forms: a bill of materials, licences; and who holds what."""

from __future__ import annotations

import hashlib
import json
import os
import stat
import struct
from pathlib import Path
from urllib.parse import unquote

from cyclonedx.schema import SchemaVersion
from cyclonedx.validation.json import JsonStrictValidator
from msgspec.structs import replace
from rocrate.rocrate import ROCrate

from lapidar.core.records import lockfile
from support import Case, wheel
from toy.kiln import make_kiln

HEAD = "Metadata-Version: 2.4\nName: {}\nVersion: 1.0\n"
OSI = "Classifier: License :: OSI Approved :: "


class Given(Case):
    own_cache = True

    def setUp(self) -> None:
        super().setUp()
        told = {
            "spdx": "License-Expression: MIT OR Apache-2.0\nRequires-Dist: plain>=1\n",
            "plain": "License: BSD-3-Clause\n",
            "whole": "License: " + "All of a long text that somebody pasted there. " * 3 + f"\n{OSI}MIT License\n",
            "both": f"{OSI}MIT License\n{OSI}ISC License (ISCL)\n",
            "odd": "License: Potters' Own, see <kiln> & \u00e4\n",
            "silent": "License: UNKNOWN\n",
        }
        wheels = [
            wheel(
                self.folder, name, files={f"{name}.py": b"", f"{name}-1.0.dist-info/METADATA": HEAD.format(name) + text}
            )
            for name, text in told.items()
        ]
        self.venv = self.environment(*wheels)
        for name, text in told.items():  # a made-up wheel has its own metadata
            found = next(self.venv.rglob(f"{name}-1.0.dist-info")) / "METADATA"
            found.write_text(HEAD.format(name) + text)
        self.lapidar("capture", self.venv)

    def test_licences(self) -> None:
        found = {one["name"]: one["licence"] for one in self.json("show", "licences")}
        self.assertEqual(found["spdx"], "MIT OR Apache-2.0")
        self.assertEqual(found["plain"], "BSD-3-Clause")
        self.assertEqual(found["whole"], "MIT License")
        self.assertEqual(found["both"], "MIT License, ISC License (ISCL)")
        self.assertEqual((found["silent"], found["cpython"]), ("", "PSF-2.0"))
        self.assertIn("not said", self.lapidar("show", "licences").stdout)
        system = {one["name"]: one for one in self.json("show", "licences") if one["what"] == "package of the system"}
        self.assertIn("LGPL", system["libc6"]["licence"])
        self.assertTrue(system["libc6"]["here"])
        snapshot = lockfile.read(self.lock)  # of another version this machine knows nothing
        other = tuple(
            replace(one, owner_version="0.1-1") if one.owner == "libc6" else one for one in snapshot.libraries
        )
        altered = lockfile.identify(replace(snapshot, libraries=other))
        (self.project / "other.lock").write_text(lockfile.render(altered))
        told = {one["name"]: one for one in self.json("show", "licences", "--lock", "other.lock")}
        self.assertEqual((told["libc6"]["version"], told["libc6"]["licence"]), ("0.1-1", ""))

    def test_what_a_licence_keeps(self) -> None:
        store = self.folder / "store"
        self.lapidar("parcel", "send", store)  # neither "silent" nor "odd" forbids anything
        for text in ("License: Proprietary", "Classifier: Private :: Do Not Upload", "License: Kiln EULA 2"):
            found = next(self.venv.rglob("odd-1.0.dist-info")) / "METADATA"
            found.write_text(HEAD.format("odd") + text + "\n")
            self.lapidar("capture", self.venv, "--yes")
            said = self.fails("parcel", "send", store)
            self.assertIn("odd 1.0 says of its licence", said)
            self.assertIn("Nothing was sent", said)
            self.assertEqual(len(self.json("parcel", "list", store)), 1)
        self.assertIn("Send it all the same?", self.at_a_terminal(["parcel", "send", store], "n"))
        self.assertEqual(len(self.json("parcel", "list", store)), 1)
        self.lapidar("parcel", "send", store, "--yes")
        found.write_text(HEAD.format("odd") + "License: BSD 3-Clause. All rights reserved.\n")
        for kind, code in ((8, 0), (2, 3)):
            table = struct.pack(">4sIII", b"OS/2", 0, 28, 12) + struct.pack(">HHHHH", 4, 0, 0, 0, kind) + bytes(2)
            font = struct.pack(">IHHHH", 0x10000, 1, 0, 0, 0) + table
            (found.parent.parent / "odd.ttf").write_bytes(font)
            with (found.parent / "RECORD").open("a") as record:
                record.write("odd.ttf,,\n")
            self.lapidar("capture", self.venv, "--scope", "whole", "--yes")
            said = self.lapidar("parcel", "send", store, code=code).stderr
            self.assertEqual("the font site/odd.ttf of odd 1.0" in said, kind == 2, said)

    def test_a_bill_of_materials(self) -> None:
        self.lapidar("export", "bom")
        text = (self.project / "bom.json").read_text()
        self.assertIsNone(JsonStrictValidator(SchemaVersion.V1_6).validate_str(text))
        told = json.loads(text)
        by_name = {one["name"]: one for one in told["components"]}
        snapshot = lockfile.read(self.lock)
        self.assertEqual(by_name["spdx"]["purl"], "pkg:pypi/spdx@1.0")
        self.assertEqual(by_name["spdx"]["licenses"], [{"expression": "MIT OR Apache-2.0"}])
        self.assertEqual(by_name["odd"]["licenses"][0]["license"]["name"], "Potters' Own, see <kiln> & \u00e4")
        self.assertNotIn("licenses", by_name["silent"])
        libc = next(one for one in snapshot.libraries if one.soname == "libc.so.6")
        self.assertEqual(by_name["libc.so.6"]["hashes"], [{"alg": "SHA-256", "content": libc.sha256}])
        self.assertIn("pkg:deb/libc6@", by_name["libc.so.6"]["purl"])
        needs = {one["ref"]: one.get("dependsOn", []) for one in told["dependencies"]}
        self.assertEqual(needs["python/spdx"], ["python/plain"])
        self.lapidar("export", "bom", "--to", "again.json")
        self.assertEqual((self.project / "again.json").read_text(), text)
        self.lapidar("export", "bom", "--to", "-", "--cache", self.folder / "none")

    def test_a_device_is_never_replaced(self) -> None:
        device = self.folder / "device"
        try:
            os.mknod(device, 0o20666, os.makedev(1, 3))
        except PermissionError:
            self.skipTest("devices cannot be made here")
        for words in (("bom",), ("table",), ("image",)):
            done = self.lapidar("export", *words, "--to", device, code=3 if words == ("image",) else 0)
            self.assertTrue(stat.S_ISCHR(device.stat().st_mode), done.stderr)
        self.assertIn("is no regular file", self.fails("parcel", "make", "--without-lapidar", "--to", device))
        self.assertIn("is no regular file", self.fails("parcel", "make", "--ready", "--to", device))
        self.lapidar("capture", self.venv, "--lock", device)
        self.assertTrue(stat.S_ISCHR(device.stat().st_mode))

    def test_who_holds_it(self) -> None:
        first = lockfile.read(self.lock).snapshot
        for asked in ("spdx", "spdx<2", "SPDX == 1.0", "libc.so.6", "libc6", "cpython"):
            self.assertEqual([one["snapshot"] for one in self.json("cache", "holds", asked)], [first], asked)
        for asked in ("spdx>1", "nothing", "0" * 20):
            self.assertEqual(self.json("cache", "holds", asked), [])
        package = next(one for one in lockfile.read(self.lock).packages if one.name == "spdx")
        (found,) = self.json("cache", "holds", package.tree)
        self.assertEqual((found["what"], found["current"], found["lockfiles"]), ("spdx 1.0", 1, [str(self.lock)]))
        self.lock.unlink()
        (found,) = self.json("cache", "holds", "spdx")
        self.assertEqual(found["current"], 0)
        self.assertIn("is no name, no range", self.fails("cache", "holds", "<<<"))
        self.assertIn("`holds` a name", self.fails("cache", "holds"))


class Crates(Case):
    """A recorded analysis as a research object."""

    own_cache = True
    seeded = False

    def setUp(self) -> None:
        super().setUp()
        self.variables |= {"LAPIDAR_LANGUAGES": "toy.glaze", "PYTHONPATH": str(Path(__file__).parents[1])}
        kiln = make_kiln(self.project / "kiln", tin=("lead",), lead=(), ash=())
        (self.project / "in").mkdir()
        (self.project / "in" / "clay & ash.csv").write_text("b,2\na,1\n")
        (self.project / "work.sh").write_text("mkdir -p out\nsort in/*.csv > out/sorted.csv\n")
        self.lapidar("capture", kiln)
        self.lapidar("restore")
        self.lapidar("record", "kilns", "--", "sh", "work.sh")

    def test_read_by_its_own_library(self) -> None:
        (self.project / "pyproject.toml").write_text(
            '[project]\nname = "kilns"\nversion = "1"\nlicense = "CC-BY-4.0"\ndescription = "Which kiln?"\n'
            'authors = [{name = "A. Potter", email = "potter@kilns.example"}, {name = "B. Glazer"}]\n'
        )
        (self.project / "in" / "clay & ash.csv").write_text("changed since\n")
        self.lapidar("export", "crate")
        folder = self.project / "project-crate"
        found = ROCrate(folder)
        self.assertEqual((found.name, found.license), ("kilns", "CC-BY-4.0"))
        (run,) = found.get_by_type("CreateAction")
        self.assertEqual([one.id for one in run["object"]], ["in/clay%20&%20ash.csv"])
        self.assertEqual([one.id for one in run["result"]], ["out/sorted.csv"])
        self.assertEqual(run["instrument"].id, "work.sh")
        self.assertEqual({one["name"] for one in found.get_by_type("Person")}, {"A. Potter", "B. Glazer"})
        for one in found.get_by_type("File"):
            data = (folder / unquote(one.id)).read_bytes()
            self.assertEqual((one["sha256"], one["contentSize"]), (hashlib.sha256(data).hexdigest(), str(len(data))))
        self.assertEqual((folder / "in" / "clay & ash.csv").read_text(), "b,2\na,1\n", "as it was read")
        everything = {path.relative_to(folder).as_posix() for path in folder.rglob("*") if path.is_file()}
        self.assertEqual(
            {unquote(one.id) for one in found.root_dataset["hasPart"]}, everything - {"ro-crate-metadata.json"}
        )
        self.lapidar("export", "crate", "--to", "one.zip")
        self.lapidar("export", "crate", "--to", "two.zip")
        self.assertEqual(*((self.project / name).read_bytes() for name in ("one.zip", "two.zip")))
        self.lapidar("export", "crate", "--to", self.folder / "again")
        self.assertEqual(
            (self.folder / "again/ro-crate-metadata.json").read_bytes(),
            (folder / "ro-crate-metadata.json").read_bytes(),
        )

    def test_what_it_cannot_say(self) -> None:
        said = self.lapidar("export", "crate").stderr
        self.assertIn("no licence is stated", said)
        self.assertIn("no authors are stated", said)
        self.assertIn("not an empty folder", self.fails("export", "crate"))
        self.assertIn("no record of an analysis slips", self.fails("export", "crate", "slips", "--to", "x"))
        (self.project / "lapidar.results").unlink()
        self.assertIn("nothing is recorded", self.fails("export", "crate", "--to", "x"))
        self.assertFalse((self.project / "x").exists())
