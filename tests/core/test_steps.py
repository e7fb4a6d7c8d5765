"""The graph of analyses, and when a step is up to date: made-up projects, edited in any way, against a plain model."""

from __future__ import annotations

import hashlib
import io
import json
import os
import shutil
import tempfile
import time
import unittest
from collections.abc import Collection, Sequence
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from lapidar.core.cache.runs import RunNote, Runs
from lapidar.core.cache.store import Cache
from lapidar.core.cache.stowing import StreamDraft, stow
from lapidar.core.cache.trees import FILE, Entry, Tree
from lapidar.core.flows import steps as stepping
from lapidar.core.flows.refresh import Refreshed, RefreshOptions, refresh
from lapidar.core.languages.python import using
from lapidar.core.place import Place
from lapidar.core.progress import Silent
from lapidar.core.records import results
from lapidar.core.records.declaration import DeclaredAnalysis
from lapidar.core.records.results import Analysis, RecordedFile
from lapidar.core.results import listing
from lapidar.core.steps.engines.protocol import Done, How
from lapidar.core.steps.graph import Standing, Step, ordered
from lapidar.core.steps.used import EVERYTHING, Used, listed_but, names_in, packed
from lapidar.core.system import processor
from support import InFolder, many

NOTHING = hashlib.sha256(b"").hexdigest()


def sha(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()


@dataclass
class Program:
    """What a made-up script does: its results follow from all that it reads, asks for and lists."""

    reads: list[str]
    writes: list[str]
    tries: list[str] = field(default_factory=list)
    lists: list[str] = field(default_factory=list)
    salt: int = 0
    coarse: bool = False  # the same result for many inputs
    fails: bool = False

    def text(self) -> str:
        return json.dumps(self.__dict__)

    def result(self, name: str, read: dict[str, bytes], there: list[bool], names: list[list[str]]) -> bytes:
        whole = repr((self.salt, sorted(read.items()), there, names)).encode()
        number = int(sha(whole), 16)
        return f"{name}:{number % 3 if self.coarse else number}".encode()


class Elsewhere:
    """An engine that runs made-up scripts: results, and the record of the run, are in the cache alone."""

    is_elsewhere = True

    def __init__(self, place: Place, cache: Cache) -> None:
        self.place, self.cache = place, cache
        self.asked: list[tuple[Step, tuple[str, ...]]] = []
        self.bad: set[str] = set()
        self.ran: list[str] = []

    def submit(self, step: Step, earlier: Collection[str] = ()) -> bool:
        self.asked.append((step, tuple(earlier)))
        return True

    def hand_over(self) -> None:
        pass

    def cancel(self) -> None:
        pass

    def wait(self) -> Sequence[Done]:
        step, earlier = self.asked.pop(0)
        if any(one in self.bad for one in earlier):
            return [Done(step.name, How.HELD_UP, error="one before it failed")]
        if earlier and self.stands(step, earlier):
            return [Done(step.name, How.STANDS)]
        self.ran.append(step.name)
        root = self.place.root
        script = step.command[1]
        program = Program(**json.loads((root / script).read_text()))
        if program.fails:
            self.bad.add(step.name)
            return [Done(step.name, How.FAILED, error="exit code 1")]
        read = {one: (root / one).read_bytes() for one in program.reads if (root / one).is_file()}
        absent = [one for one in [*program.reads, *program.tries] if not (root / one).exists()]
        present = [one for one in program.tries if (root / one).exists()]
        listed = {one: found for one in program.lists if (found := names_in(self.place, one)) is not None}
        names = [sorted(listed_but(found, one, program.writes)) for one, found in sorted(listed.items())]
        made = {
            one: program.result(one, read, [one in present for one in program.tries], names) for one in program.writes
        }
        used = Used(parts=("runtime/x",), absent=tuple(absent), present=tuple(present), listed=listed)
        self._keep(step, script, read, made, used)
        return [Done(step.name, How.RAN)]

    def stands(self, step: Step, earlier: Collection[str]) -> bool:
        """Whether nothing but what those before it made was another, and that came out the same."""
        made = {file for name in earlier for file in step.after.get(name, ())}
        if not made or step.analysis is None or any(one.name not in made for one in step.reasons):
            return False
        read = [one for one in (*step.analysis.source, *step.analysis.input) if one.name in made]
        files = [(self.place.root / one.name, one.sha256) for one in read]
        return all(path.is_file() and sha(path.read_bytes()) == digest for path, digest in files)

    def _keep(self, step: Step, script: str, read: dict[str, bytes], made: dict[str, bytes], used: Used) -> None:
        def files(several: dict[str, bytes], kind: str = "") -> tuple[RecordedFile, ...]:
            return tuple(RecordedFile(one, sha(data), len(data), kind) for one, data in sorted(several.items()))

        drafts = [StreamDraft("printed", partial(io.BytesIO, b""), 0)]
        drafts += [StreamDraft(f"results/{one}", partial(io.BytesIO, data), len(data)) for one, data in made.items()]
        with self.cache.in_use():
            tree = stow(self.cache, {"made": drafts}, None, Silent())["made"].tree.digest
            source = {script: (self.place.root / script).read_bytes()}
            one = Analysis(
                name=step.name, record="", command=step.command, snapshot="sha256:" + 64 * "0", numerics="native",
                exit_code=0, printed=NOTHING, printed_bytes=0, given=tree, made=tree,
                source=files(source), input=files(read), result=files(made, "text"),
            )  # fmt: skip
            one = results.identified(listing.packed(one, self.cache, packed(used)))
        features = " ".join(processor.features())
        Runs(self.cache).add(one, RunNote(time.time(), one.record, "", 0.1, 1, "x", features=features))


class Model:
    """The same on dictionaries: what a run of everything from nothing gives, and which steps have to run."""

    def __init__(self) -> None:
        self.last: dict[str, Any] = {}

    def refresh(self, programs: dict[str, Program], raw: dict[str, bytes], files: dict[str, bytes]) -> tuple[
        dict[str, bytes], list[str]
    ]:  # fmt: skip
        """The results, and the steps that run, where each runs that does not stand as it last ran."""
        there = dict(raw)
        ran = []
        for name, program in programs.items():
            read = {one: there[one] for one in program.reads if one in there}
            tries = [one in there for one in program.tries]
            names = [sorted(self._names(there, folder) - set(program.writes)) for folder in sorted(set(program.lists))]
            made = {one: program.result(one, read, tries, names) for one in program.writes}
            stands_on = (program.text(), read, tries, names, made)
            if self.last.get(name) != stands_on or any(files.get(one) != data for one, data in made.items()):
                ran.append(name)
            self.last[name] = stands_on
            there |= made
        return {one: data for one, data in there.items() if one not in raw}, ran

    @staticmethod
    def _names(there: dict[str, bytes], folder: str) -> set[str]:
        return {one.removeprefix(f"{folder}/") for one in there if os.path.dirname(one) == folder}


@st.composite
def universes(draw: st.DrawFn) -> tuple[dict[str, Program], dict[str, bytes], list[tuple[str, Any]]]:
    """Programs in an order that they can be run in, raw data, and edits."""
    raw = {f"raw/{at}": f"data {at}".encode() for at in range(draw(st.integers(1, 4)))}
    programs: dict[str, Program] = {}
    known = list(raw)
    for at in range(draw(st.integers(1, many(9, 5)))):
        reads = draw(st.lists(st.sampled_from(known), max_size=3, unique=True))
        writes = [f"out/{at}-{part}" for part in range(draw(st.integers(1, 2)))]
        programs[f"s{at}"] = Program(
            reads, writes, draw(st.lists(st.sampled_from(["opt/a", "opt/b"]), max_size=1)),
            draw(st.lists(st.just("raw"), max_size=1)), coarse=draw(st.booleans()),
        )  # fmt: skip
        known += writes
    kinds = st.sampled_from(
        ["data", "salt", "coarse", "try", "new", "gone", "by hand", "back", "reads", "touch", "lost"]
    )
    edits = draw(st.lists(st.tuples(kinds, st.integers(0, 99)), max_size=6))
    return programs, raw, edits


class Universes(unittest.TestCase):
    """Whatever is edited: after a refresh all is as from nothing, nothing ran that need not, and a second runs nothing."""

    @settings(max_examples=many(300, 40), deadline=None)
    @given(universes(), st.booleans())
    def test_any(
        self, universe: tuple[dict[str, Program], dict[str, bytes], list[tuple[str, Any]]], really: bool
    ) -> None:
        programs, raw, edits = universe
        folder = Path(tempfile.mkdtemp(prefix="lapidar-universe-")).resolve()
        try:
            self._try(folder, programs, raw, edits, really)
        finally:
            shutil.rmtree(folder)

    def _try(self, folder: Path, programs: dict[str, Program], raw: dict[str, bytes], edits: Any, really: bool) -> None:
        place = Place.of_project(folder / "project")
        for below in ("raw", "opt", "out"):
            (place.root / below).mkdir(parents=True)
        cache, model = Cache(folder / "cache", create=True), Model()
        for path, data in raw.items():
            (place.root / path).write_bytes(data)
        (place.root / "lapidar.toml").write_text(
            "".join(f'[analysis.{name}]\ncommand = "run {name}.json"\n' for name in programs)
        )
        self._write(place, programs)
        before: list[tuple[dict[str, bytes], dict[str, str]]] = [
            (dict(raw), {n: p.text() for n, p in programs.items()})
        ]
        for kind, number in [("first", 0), *edits]:
            self._edit(place, programs, raw, kind, number, before)
            self._write(place, programs)
            there = {f"out/{one.name}": one.read_bytes() for one in (place.root / "out").iterdir()}
            wanted, to_run = model.refresh(programs, raw, there)
            engine = Elsewhere(place, cache)
            done = self._refresh(place, cache, engine, really)
            self.assertTrue(done.is_good, [one for one in done.done if one.error])
            found = {f"out/{one.name}": one.read_bytes() for one in (place.root / "out").iterdir()}
            self.assertEqual(found, wanted, kind)
            if really:
                self.assertEqual(sorted(engine.ran), sorted(to_run), kind)
            else:
                self.assertLessEqual(set(engine.ran), set(to_run), kind)
                self.assertEqual(sorted(one.name for one in done.done), sorted(to_run), kind)
            again = Elsewhere(place, cache)
            self.assertEqual(self._refresh(place, cache, again, really).done, [], "a second refresh runs nothing")
            self.assertTrue(all(one.is_good for one in stepping.judge(place, cache).graph.steps.values()))

    def _refresh(self, place: Place, cache: Cache, engine: Elsewhere, really: bool) -> Refreshed:
        return refresh(place, cache, [], RefreshOptions(engine=engine, really=really))

    @staticmethod
    def _write(place: Place, programs: dict[str, Program]) -> None:
        for name, program in programs.items():
            path = place.root / f"{name}.json"
            if not path.exists() or path.read_text() != program.text():
                path.write_text(program.text())

    @staticmethod
    def _edit(
        place: Place, programs: dict[str, Program], raw: dict[str, bytes], kind: str, number: int, before: list[Any]
    ) -> None:
        program = list(programs.values())[number % len(programs)]
        path = sorted(raw)[number % len(raw)]
        match kind:
            case "data":
                raw[path] += b"!"
            case "salt":
                program.salt += 1
            case "coarse":
                program.coarse = not program.coarse
            case "reads":
                program.reads = program.reads[1:] if program.reads else [path]
            case "try":
                raw["opt/a" if number % 2 else "opt/b"] = b"new"
            case "new":
                raw[f"raw/new-{number % 3}"] = b"new"
            case "lost":
                raw.pop(path) if len(raw) > 1 else None
                (place.root / path).unlink() if path not in raw else None
            case "gone":
                shutil.rmtree(place.root / "out")
                (place.root / "out").mkdir()
            case "by hand":
                (place.root / program.writes[0]).write_bytes(b"by hand")
            case "touch":
                for one in (place.root / "raw").iterdir():
                    os.utime(one)
            case "back":
                raw.clear()
                raw |= before[0][0]
                for name, text in before[0][1].items():
                    programs[name].__dict__.update(json.loads(text))
                for below in ("raw", "opt"):
                    for one in (place.root / below).iterdir():
                        if f"{below}/{one.name}" not in raw:
                            one.unlink()
        for name, data in raw.items():
            if not (place.root / name).exists() or (place.root / name).read_bytes() != data:
                (place.root / name).write_bytes(data)


def step(name: str, reads: Sequence[str] = (), makes: Sequence[str] = (), **more: Any) -> Step:
    def files(several: Sequence[str]) -> tuple[RecordedFile, ...]:
        return tuple(RecordedFile(one, NOTHING, 0) for one in several)

    after = more.pop("after", ())
    one = Analysis(
        name=name, record="", command=("run", name), snapshot="sha256:" + 64 * "0", numerics="native", exit_code=0,
        printed=NOTHING, printed_bytes=0, given="sha256:" + 64 * "0", made="sha256:" + 64 * "0",
        input=files(reads), result=files(makes),
    )  # fmt: skip
    return Step(name, one, DeclaredAnalysis(name, after=after), Used(**more) if more else EVERYTHING)


class Order(unittest.TestCase):
    def names(self, *steps: Step) -> list[str]:
        return list(ordered(steps).steps)

    def test_by_what_they_read(self) -> None:
        self.assertEqual(self.names(step("c", ["b.csv"]), step("b", ["a.csv"], ["b.csv"]), step("a", [], ["a.csv"])),
                         ["a", "b", "c"])  # fmt: skip

    def test_by_what_is_declared(self) -> None:
        self.assertEqual(self.names(step("a", after=("b", "nobody")), step("b")), ["b", "a"])

    def test_a_circle_is_named(self) -> None:
        graph = ordered([step("a", ["b.csv"], ["a.csv"]), step("b", ["a.csv"], ["b.csv"]), step("c", ["a.csv"])])
        self.assertEqual(graph.steps["a"].standing, Standing.AT_ODDS)
        self.assertIn("b", graph.steps["a"].odds[0])
        self.assertNotEqual(graph.steps["c"].standing, Standing.AT_ODDS)

    def test_two_that_write_one_file_are_named(self) -> None:
        graph = ordered([step("a", [], ["x"]), step("b", [], ["x"])])
        self.assertIn("x is written by b too", graph.steps["a"].odds[0])

    def test_one_that_changes_its_own_input_is_no_circle(self) -> None:
        self.assertEqual(ordered([step("a", ["x"], ["x"])]).steps["a"].odds, [])

    def test_who_looks_through_a_folder_comes_after_who_fills_it(self) -> None:
        gathers = step("gathers", ["parts/one"], ["all"], listed={"parts": ("one",)})
        self.assertEqual(self.names(gathers, step("two", [], ["parts/two"])), ["two", "gathers"])

    def test_what_rests_on_it_is_no_part_of_its_listing(self) -> None:
        first = step("first", ["x.csv"], ["y"], listed={".": ("x.csv",)})
        graph = ordered([first, step("second", ["y"], ["plot.png"])])
        self.assertEqual([one.odds for one in graph.steps.values()], [[], []])
        self.assertEqual(list(graph.steps), ["first", "second"])

    def test_a_thousand(self) -> None:
        several = [step(f"s{at}", [f"{at - 1}"], [f"{at}"]) for at in range(1000)]
        self.assertEqual(self.names(*reversed(several)), [f"s{at}" for at in range(1000)])


class Names(unittest.TestCase):
    """What a package is looked for by, and what a run looked for."""

    TREE = Tree(
        Entry(path, FILE, NOTHING, 0)
        for path in (
            "site/kilns/__init__.py", "site/kilns/_fast.cpython-311-x86_64-linux-gnu.so", "site/space/ash/glaze.py",
            "site/single.py", "bin/kiln", "site/kilns-1.dist-info/METADATA",
        )
    )  # fmt: skip

    def test_of_modules(self) -> None:
        names = set(using.given("kilns", self.TREE))
        self.assertLessEqual({"kilns", "kilns._fast", "space", "space.ash", "space.ash.glaze", "single"}, names)
        self.assertIn("distribution kilns", names)
        self.assertNotIn(".", names)

    def test_what_every_start_runs(self) -> None:
        tree = Tree([Entry("site/odd.pth", FILE, NOTHING, 0)])
        self.assertIn(".", set(using.given("odd", tree)))

    def test_one_that_told_nothing_may_have_looked_for_anything(self) -> None:
        self.assertIn("*", set(using.sought([], [], "/env/site")))
        self.assertEqual(
            set(using.sought(["python/begun", "python/module/a.b", "python/distribution/Kilns_X"], [], "/env/site")),
            {"a.b", "distribution kilns-x"},
        )
        self.assertIn("*", set(using.sought(["python/begun", "python/folder/env/site"], [], "/env/site")))


class Imported(InFolder):
    """What a folder has says whether it may have been looked through to import from it."""

    def test_of_what(self) -> None:
        for path in (
            "package/__init__.py",
            "compiled/fast.so",
            "space/inner/glaze.py",
            "data/1.csv",
            "data/more/2.csv",
        ):
            (self.root / path).parent.mkdir(parents=True, exist_ok=True)
            (self.root / path).touch()
        root = str(self.root)
        found = {name: using.imports_from(f"{root}/{name}", root) for name in ("package", "compiled", "space", "data")}
        self.assertEqual(found, {"package": True, "compiled": True, "space": True, "data": False})
        self.assertTrue(using.imports_from(f"{root}/data", f"{root}/data"), "where it began is the first of its path")
        self.assertFalse(using.imports_from(f"{root}/gone", root))


class Listings(InFolder):
    def test_less_what_was_made(self) -> None:
        names = ("a.csv", "made.csv", "results/", "other/")
        self.assertEqual(listed_but(names, ".", ["made.csv", "results/x/y"]), {"a.csv", "other/"})
        self.assertEqual(listed_but(("x", "sub/"), "results", ["results/x", "elsewhere/sub"]), {"sub/"})

    def test_of_a_folder_that_is_not_there(self) -> None:
        self.assertIsNone(names_in(Place.of_project(self.root), "nowhere"))
