"""The first steps in a folder, in a clone, in the wrong place: each message's next command is typed, and cures it."""

from __future__ import annotations

import re
import shutil
import subprocess
from pathlib import Path

from lapidar.core.cache.history import History
from lapidar.core.cache.store import Cache
from lapidar.core.records import lockfile
from standins import Pinning
from support import PROGRAM, Case, make_environment, wheel

COMMIT = ["git", "-c", "user.name=kiln", "-c", "user.email=kiln@sherds.example", "commit", "-qm", "fired"]


class Steps(Pinning):
    own_cache = True

    def setUp(self) -> None:
        super().setUp()
        # Nothing is active, and what is on PATH is there by chance.
        del self.variables["VIRTUAL_ENV"]
        bare = self.folder / "by-chance"
        make_environment(bare)
        self.variables["PATH"] = f"{bare}/bin:/usr/bin:/bin"

    def typed(self, said: str) -> str:
        """Type the command that a message tells to type next, and have it work."""
        found = re.search(r"(?:next: |Next: |: |`)(lapidar [^`\n;,(]*)", said)
        assert found, said
        words = found[1].strip().rstrip(".").split()[1:]
        return self.lapidar(*words).stdout


class Starting(Steps):
    def test_it_asks_the_index_and_knows_usual_names(self) -> None:
        for name, module in (("PyYAML", "yaml"), ("opencv-python", "cv2"), ("beautifulsoup4", "bs4"), ("bs4", "other")):
            wheel(self.files, name, files={f"{module}/__init__.py": "X = 1\n"})
        (self.project / "fit.py").write_text("import yaml, cv2, bs4\nimport glazemath\nimport unheard_of\n")
        done = self.lapidar("start", "--yes")
        text = (self.project / "lapidar.toml").read_text()
        for name in ("pyyaml", "opencv-python", "beautifulsoup4", "glazemath"):
            self.assertIn(f'"{name}"', text)
        self.assertNotIn('"bs4"', text, "a package of the module's name that has another module")
        self.assertIn("nobody here is known to provide unheard_of;", done.stderr)
        self.typed(done.stdout)
        self.assertIn("opencv-python", self.locked())

    def test_nobody_to_ask_is_said_at_once(self) -> None:
        said = self.fails("start", input="\n\n\n")
        self.assertIn("no terminal", said)
        (self.project / "fit.py").write_text("import clay\n")
        self.assertIn("Wrote lapidar.toml", self.typed(said))

    def test_where_nothing_is_needed(self) -> None:
        (self.project / "fit.py").write_text("import json\n")
        done = self.lapidar("start", "--yes")
        self.typed(done.stdout)
        self.assertEqual(self.locked(), {})


class Layouts(Steps):
    def test_a_src_layout_that_nobody_installed(self) -> None:
        """Its own package is found by no interpreter; what the survey tells to write cures it."""
        (self.project / "src" / "mine").mkdir(parents=True)
        (self.project / "src" / "mine" / "__init__.py").write_text("from mine import inner\nX = inner.X\n")
        (self.project / "src" / "mine" / "inner.py").write_text("X = 1\n")
        (self.project / "fit.py").write_text("import clay\nfrom mine import X\nprint(X)\n")
        wheel(self.files, "mine", "9.9")  # somebody else's, which must not be taken for it
        self.lapidar("start", "--yes")
        self.assertNotIn("mine", (self.project / "lapidar.toml").read_text())
        self.lapidar("pin")
        self.lapidar("restore")
        spec = "import importlib.util as u; print(u.find_spec('mine'))"
        self.assertEqual(self.lapidar("run", "python", "-c", spec).stdout, "None\n")
        said = self.lapidar("survey").stdout
        self.assertIn(
            'in src, and on no path; PYTHONPATH = "src" in [conditions.env] of lapidar.toml, lapidar pin', said
        )
        text = (self.project / "lapidar.toml").read_text()
        (self.project / "lapidar.toml").write_text(text + '\n[conditions.env]\nPYTHONPATH = "src"\n')
        self.lapidar("pin")
        self.assertEqual(self.lapidar("run", "python", "fit.py").stdout, "1\n")
        self.assertIn("fit together", self.lapidar("survey").stdout)


class Capturing(Steps):
    def test_an_environment_that_nobody_meant(self) -> None:
        (self.project / "fit.py").write_text("import clay, drawing, json\n")
        for words in ((), ("--yes",), ("--scope", "used")):
            said = self.fails("capture", *words)
            self.assertIn("lacks what the project's source loads: clay, drawing", said)
            self.assertFalse(self.lock.exists())
        said = self.at_a_terminal(["capture"], "n")
        self.assertIn("Capture it all the same? [y/N]", said)
        self.assertFalse(self.lock.exists())
        self.typed(self.lapidar("start", "--yes").stdout)  # as the message says
        self.assertEqual(sorted(self.locked()), ["clay", "drawing"])

    def test_at_a_terminal_it_can_be_meant(self) -> None:
        (self.project / "fit.py").write_text("import clay\n")
        self.assertIn("Wrote lapidar.lock", self.at_a_terminal(["capture"], "y"))

    def test_one_that_is_named_is_meant(self) -> None:
        (self.project / "fit.py").write_text("import clay\n")
        said = self.lapidar("capture", self.folder / "by-chance").stderr
        self.assertIn("the source loads clay, which is not there", said)

    def test_one_that_is_active_may_lack_something(self) -> None:
        environment = self.environment(self.files / "clay-0.5-py3-none-any.whl")
        self.variables["VIRTUAL_ENV"] = str(environment)
        (self.project / "fit.py").write_text("import clay, drawing\n")
        self.lapidar("capture")
        self.assertEqual(list(self.locked()), ["clay"])
        (self.project / "fit.py").write_text("import drawing\n")
        self.assertIn("lacks what the project's source loads: drawing", self.fails("capture", "--yes"))

    def test_nothing_used_is_not_everything(self) -> None:
        environment = self.environment(self.files / "clay-0.5-py3-none-any.whl")
        self.variables["VIRTUAL_ENV"] = str(environment)
        (self.project / "fit.py").write_text("import json\n")
        self.assertIn("Not used by the project, left out: 1 package (clay)", self.lapidar("capture").stdout)
        self.assertEqual(self.locked(), {})

    def test_a_very_large_project_is_one_too(self) -> None:
        environment = self.environment(self.files / "clay-0.5-py3-none-any.whl")
        self.variables["VIRTUAL_ENV"] = str(environment)
        for number in range(3100):
            (self.project / f"step_{number}.py").write_text("import json\n")
        self.lapidar("capture")
        self.assertEqual(self.locked(), {})


class Clones(Steps):
    def setUp(self) -> None:
        super().setUp()
        subprocess.run(["git", "init", "-q"], cwd=self.project, check=True)
        (self.project / "fit.py").write_text("import clay\nopen('out.csv', 'w').write('1,2')\n")
        self.lapidar("need", "clay")
        self.lapidar("record", "fit", "--", "python", "fit.py")
        subprocess.run(["git", "add", "-A"], cwd=self.project, check=True)
        subprocess.run(COMMIT, cwd=self.project, check=True)
        clone = self.folder / "clone"
        subprocess.run(["git", "clone", "-q", self.project, clone], check=True)
        self.project = clone

    def lacking(self) -> None:
        """The way is told in the first line, and works."""
        for words in (("run", "python", "fit.py"), ("record", "other", "--", "python", "fit.py")):
            said = self.fails(*words)
            self.assertIn("`lapidar restore --fetch`", said)
            self.assertNotIn("lost", said)
        self.assertIn("next: lapidar restore --fetch", self.lapidar("check", code=1).stdout)

    def test_the_cache_is_here(self) -> None:
        said = self.fails("run", "python", "fit.py")
        self.assertIn("next: lapidar restore\n", said)
        self.typed(said)
        self.lapidar("run", "python", "fit.py")
        self.assertIn("nothing differs", self.lapidar("rerun").stdout)

    def test_there_is_no_cache(self) -> None:
        self.variables["LAPIDAR_CACHE"] = str(self.folder / "fresh")
        for words in (("run", "python", "fit.py"), ("check",), ("restore",), ("rerun",), ("history",)):
            said = self.fails(*words)
            self.assertIn("`lapidar restore --fetch`", said)
        self.assertFalse((self.folder / "fresh").exists())
        self.typed(said)
        self.lapidar("run", "python", "fit.py")
        self.lapidar("check")
        self.assertIn("nothing differs", self.lapidar("rerun", "--yes").stdout, "its recorded results lie in the clone")

    def test_the_cache_has_some_of_it(self) -> None:
        self.variables["LAPIDAR_CACHE"] = str(self.folder / "fresh")
        other = self.folder / "other"
        other.mkdir()
        self.lapidar("--project", other, "need", "drawing")
        self.lacking()
        said = self.fails("restore")
        self.assertIn("clay 0.5: not in this cache", said)
        cache = Cache(self.folder / "fresh")
        self.assertEqual(len(History(cache).ids()), 1, "what could not be restored is not noted")
        self.lapidar("cache", "audit")
        self.typed(said)
        self.lapidar("check", "--deep")

    def lose(self) -> None:
        for name in ("trees", "assembled"):
            shutil.rmtree(self.folder / "fresh" / name)
            (self.folder / "fresh" / name).mkdir()

    def test_another_snapshot_is_fetched_by_the_same_command(self) -> None:
        first = lockfile.read(self.lock).snapshot[7:19]
        first_lock = self.lock.read_bytes()
        self.lapidar("need", "drawing")
        self.variables["LAPIDAR_CACHE"] = str(self.folder / "fresh")
        self.lapidar("restore", "--fetch")
        shutil.copy(self.lock, self.folder / "later.lock")
        (self.folder / "earlier.lock").write_bytes(first_lock)
        self.lose()
        for words in (
            ("restore", "--lock", str(self.folder / "earlier.lock"), "--into", str(self.folder / "again")),
            ("return", str(self.folder / "earlier.lock"), "--yes"),
        ):
            said = self.fails(*words)
            self.assertIn(f"lapidar {' '.join(words)} --fetch", said)
            self.lapidar(*words, "--fetch")
            self.lose()
        self.assertEqual(lockfile.read(self.lock).snapshot[7:19], first)

    def test_a_folder_with_nothing(self) -> None:
        self.project = self.folder / "nothing"
        self.project.mkdir()
        self.assertIn("the project has no lapidar.lock", self.fails("run", "true"))


class ReadOnly(Steps):
    def in_read_only(self, *words: str) -> subprocess.CompletedProcess[str]:
        script = 'mount --bind "$1" "$1" && mount -o remount,ro,bind "$1" && cd "$1" && shift && exec "$@"'
        return self.in_namespace(script, str(self.project), PROGRAM, *words)

    def test_it_is_said_before_anything_is_done(self) -> None:
        self.lapidar("need", "clay")
        before = len(History(Cache(Path(self.variables["LAPIDAR_CACHE"]))).moments())
        shutil.rmtree(self.restored)
        for words in (
            ("need", "drawing"),
            ("drop", "clay"),
            ("capture", str(self.folder / "by-chance"), "--yes"),
            ("restore",),
            ("export", "pylock"),
        ):
            with self.subTest(words):
                done = self.in_read_only(*words)
                self.assertEqual(done.returncode, 3, done.stdout)
                self.assertIn("read-only", done.stderr)
                self.assertNotIn(".part-", done.stderr)
                self.assertEqual("--into" in done.stderr, words == ("restore",))
        self.assertEqual(len(History(Cache(Path(self.variables["LAPIDAR_CACHE"]))).moments()), before)
        done = self.in_read_only("restore", "--into", str(self.folder / "elsewhere"))
        self.assertEqual(done.returncode, 0, done.stderr)

    def test_start(self) -> None:
        (self.project / "fit.py").write_text("import clay\n")
        done = self.in_read_only("start", "--yes")
        self.assertIn("work in a copy of the project that you can write", done.stderr)


class NowhereYet(Case):
    def test_every_command_says_so(self) -> None:
        """Where there is neither declaration nor lockfile."""
        for words in (
            ("pin",), ("show",), ("restore",), ("check",), ("run", "true"), ("rerun",), ("export", "pylock"),
            ("changes",), ("return",), ("culprit",), ("outlook",), ("why", "clay"), ("prove",),
        ):  # fmt: skip
            with self.subTest(words):
                said = self.fails(*words)
                self.assertIn(f"{self.project} is no project: neither it nor a folder above has", said)
                self.assertIn("begin one here: lapidar start", said)
