"""The daily hour: it knows its own environment, and small slips are told before they do harm."""

from __future__ import annotations

import argparse
import ast
import json
import os
import re
import shutil
import stat
import subprocess
import sys
import time
from pathlib import Path

from lapidar.cli.main import COMMANDS, build_parser
from lapidar.core import spelling
from lapidar.core.records import lockfile
from standins import Pinning
from support import PROGRAM, Case, site_of, tree_of, wheel


class OwnEnvironment(Pinning):
    """What is declared, pinned, restored and imported, against each other."""

    def setUp(self) -> None:
        super().setUp()
        self.active = self.variables.pop("VIRTUAL_ENV")
        self.declare("Kiln.Tools", "sherdplot<2")
        self.pin("--runtime", self.venv)
        (self.project / "fit.py").write_text("import kilns\nimport sherdplot\n")

    def standings(self, *words: object, code: int = 0) -> dict[str, str]:
        rows = self.json("survey", *words, "--exit-code", code=code)["rows"]
        return {row["module"] or row["distribution"]: row["standing"] for row in rows}

    def test_without_an_environment_by_the_lockfile(self) -> None:
        self.assertEqual(self.standings(), {"kilns": "provided", "sherdplot": "provided"})
        self.assertIn("judged by lapidar.lock", self.lapidar("survey").stdout)
        self.lapidar("restore")
        self.assertEqual(self.standings(), {"kilns": "provided", "sherdplot": "provided"})
        self.assertIn("the project's restored environment", self.lapidar("survey").stdout)
        self.variables["VIRTUAL_ENV"] = self.active  # of another project
        self.assertIn("the project's restored environment", self.lapidar("survey").stdout)

    def test_what_is_declared_and_not_here_is_known_by_what_it_provides(self) -> None:
        self.lock.unlink()
        found = self.json("survey", self.venv)
        (row,) = [row for row in found["rows"] if row["module"] == "kilns"]
        self.assertEqual((row["standing"], row["distribution"]), ("missing", "kiln-tools"))
        said = self.lapidar("survey", self.venv).stdout
        self.assertIn("missing, though declared; lapidar pin", said)
        self.assertNotIn("lapidar need", said)

    def test_another_version_than_declared(self) -> None:
        self.lapidar("restore")
        declaration = self.project / "lapidar.toml"
        declaration.write_text(declaration.read_text().replace("sherdplot<2", "sherdplot>=2"))
        self.assertEqual(self.standings(code=1)["sherdplot"], "out of range")
        self.assertIn("1.9 is here, sherdplot>=2 is declared", self.lapidar("survey").stdout)
        self.assertIn("sherdplot>=2 is declared, and 1.9 is locked", self.lapidar("check", code=1).stdout)

    def test_imports_that_nobody_declares(self) -> None:
        self.lapidar("restore")
        self.lapidar("check")
        (self.project / "more.py").write_text(
            "import clay\nimport lost_glaze\ntry:\n    import perhaps\nexcept ImportError:\n    pass\n"
        )
        said = self.lapidar("check", code=1).stdout
        self.assertRegex(said, r"clay: imported at more.py:1, and clay is not declared")
        self.assertRegex(said, r"lost_glaze: imported at more.py:2, and nothing that is locked provides it")
        self.assertIn("lapidar need clay", said)
        self.assertNotIn("perhaps", said)

    def test_what_is_still_imported_is_said_before_it_is_dropped(self) -> None:
        before = self.lock.read_bytes()
        said = self.lapidar("drop", "kiln.tools", "--dry-run").stderr
        self.assertIn("kiln-tools is still imported as kilns: fit.py:1", said)
        self.assertEqual(self.lock.read_bytes(), before)

    def test_left_out_groups_stay_left_out(self) -> None:
        self.declare("Kiln.Tools", more='[needs.groups]\nreport = ["drawing"]\n')
        self.pin()
        self.lapidar("restore", "--leave-out", "report")
        self.lapidar("need", "clay")
        self.assertEqual(
            {path.name.split("-")[0].lower() for path in site_of(self.restored).glob("*.dist-info")},
            {"clay", "kiln.tools"},
        )


class Intentions(Pinning):
    """What was asked for is no drift; what was edited is."""

    def test_another_snapshot_on_purpose(self) -> None:
        self.declare("clay")
        self.pin()
        first = lockfile.read(self.lock).snapshot.removeprefix("sha256:")
        old = self.folder / "old.lock"
        old.write_bytes(self.lock.read_bytes())
        self.declare("clay", "drawing")
        self.pin()
        for words in (["--snapshot", first[:12]], ["--lock", old]):
            self.lapidar("restore", *words, "--replace")
            told = self.json("check")
            self.assertTrue(told["clean"])
            self.assertIn(f"as restored with {words[0]}", " ".join(told["remarks"]))
            said = self.lapidar("run", "true").stderr
            self.assertIn(f"as restored with {words[0]}", said)
            self.assertNotIn("lapidar restore", said)
            (site_of(self.restored) / "clay.py").unlink()
            self.assertIn("lapidar restore", self.lapidar("check", code=1).stdout)
        self.lapidar("restore")
        self.assertEqual(self.json("check")["remarks"], [])
        for command in (["show"], ["check"], ["why", "clay"], ["export", "requirements", "--to", "-"]):
            code = 1 if command == ["check"] else 0  # it is the lockfile's environment
            here = self.lapidar(*command, "--snapshot", first[:12], code=code).stdout
            self.assertEqual(here, self.lapidar(*command, "--lock", old, code=code).stdout, command)

    def test_another_projects_lockfile_replaces_nothing_by_itself(self) -> None:
        self.declare("clay")
        self.pin()
        self.lapidar("restore")
        other = self.folder / "other"
        other.mkdir()
        shutil.copy(self.lock, other)
        self.declare("clay", "drawing")
        self.pin()
        self.lapidar("restore")
        before = tree_of(self.restored)
        self.assertIn("--replace", self.fails("restore", "--lock", other / "lapidar.lock"))
        self.assertEqual(tree_of(self.restored), before)
        # An environment of another project is not replaced by this one's either.
        self.lapidar("restore", cwd=other)
        self.assertIn("--replace", self.fails("restore", "--into", other / ".lapidar/env"))
        self.lapidar("restore", "--lock", other / "lapidar.lock", "--replace")
        self.assertNotEqual(tree_of(self.restored), before)

    def test_edited_conditions(self) -> None:
        self.declare("clay", more='[conditions]\nenv = ["KILN=one"]\n')
        self.pin()
        self.lapidar("restore")
        self.lapidar("check")
        self.declare("clay", more='[conditions]\nnumerics = "portable"\nenv = ["KILN=two"]\nenv-file = "more.env"\n')
        said = self.lapidar("check", code=1).stdout
        self.assertIn("numerics: portable is declared, and native is locked", said)
        self.assertIn("variable KILN: two is declared, and one is locked", said)
        self.assertIn("next: lapidar pin", said)
        (self.project / "more.env").write_text("GLAZE=ash\n")
        echo = ["run", "sh", "-c", "echo $KILN $GLAZE"]
        self.assertEqual(self.lapidar(*echo).stdout, "one ash\n")  # a file of variables needs no new snapshot
        said = self.lapidar("pin").stdout
        self.assertRegex(said, r"condition +numerics +native +portable")
        self.assertRegex(said, r"condition +variable KILN +one +two")
        self.lapidar("restore")
        self.lapidar("check")
        self.assertEqual(self.lapidar(*echo).stdout, "two ash\n")

    def test_a_day_that_is_kept(self) -> None:
        self.declare("sherdplot")
        said = self.pin("--as-of", "2025-05-15")
        self.assertEqual(self.locked()["sherdplot"], "1.9")
        self.assertIn("as-of = 2025-05-15 in lapidar.toml", said)
        self.declare("sherdplot", more="[index]\nas-of = 2025-05-15\n")
        self.assertNotIn("for this pin alone", self.pin("--renew"))
        self.assertEqual(self.locked()["sherdplot"], "1.9")
        self.lapidar("need", "glazemath", "--no-restore")
        self.assertEqual(self.locked()["glazemath"], "2.2")
        self.declare("sherdplot", more='[index]\nas-of = "2025-05-15"\n')
        self.assertIn("is not a date", self.fails("pin"))


class Merging(Pinning):
    """Two branches that pinned, and git between them."""

    def git(self, *words: str, code: int = 0) -> None:
        settings = ["-c", "user.name=Kiln", "-c", "user.email=kiln@packages.example", "-c", "init.defaultBranch=main"]
        done = subprocess.run(["git", *settings, *words], cwd=self.project, env=self.variables, capture_output=True)
        self.assertEqual(done.returncode, code, done.stderr)

    def test_a_conflict_is_settled_by_pinning(self) -> None:
        self.declare("clay")
        self.pin("--runtime", self.venv)
        self.git("init", "-q")
        self.git("add", "lapidar.toml", "lapidar.lock")
        self.git("commit", "-qm", "clay")
        self.git("checkout", "-qb", "other")
        self.declare("clay", "glazemath==1.4")
        self.pin()
        self.git("commit", "-qam", "glaze")
        self.git("checkout", "-q", "main")
        self.declare("clay", "drawing")
        self.pin()
        self.git("commit", "-qam", "plots")
        self.git("merge", "-q", "other", code=1)
        self.assertIn("<<<<<<<", self.lock.read_text())
        for command in (["check"], ["restore"], ["show"], ["need", "drawing"]):
            self.assertIn("marks of a merge", self.fails(*command))
        self.assertIn("Settle lapidar.toml by hand", self.fails("pin"))
        self.declare("clay", "drawing", "glazemath")
        said = self.lapidar("pin").stderr
        self.assertIn("both sides", said)
        # Not the newest there is: what either side had pinned is kept to.
        self.assertEqual(self.locked(), {"clay": "0.5", "drawing": "1.2", "glazemath": "1.4"})
        self.assertNotIn("<<<<<<<", self.lock.read_text())


class Living(Case):
    def test_a_package_that_cannot_be_imported(self) -> None:
        broken = wheel(self.folder, "glazemath", "1.4", files={"glazemath.py": "from sherdlib import gone\n"})
        partly = wheel(self.folder, "kilns", files={"kilns.py": "", "kilnplots.py": "import nothing_of_that_name\n"})
        user = wheel(self.folder, "sherdplot", "2.1", requires=["glazemath"])
        self.lapidar(
            "capture", self.environment(wheel(self.folder, "sherdlib"), broken, partly, user), "--scope", "whole"
        )
        self.lapidar("restore")
        self.assertTrue(self.json("check")["clean"])
        (found,) = self.json("check", "--live", code=1)["findings"]
        self.assertEqual((found["layer"], found["name"]), ("packages", "glazemath"))
        self.assertIn("cannot import name 'gone' from 'sherdlib'", found["problem"])
        self.assertIn("glazemath 1.4, which you, sherdplot 2.1 need", found["problem"])


class Healing(Case):
    """A file that was edited through a hard link is everybody's."""

    own_cache = True

    def setUp(self) -> None:
        super().setUp()
        self.venv = self.environment(wheel(self.folder, "sherdlib"))
        self.lapidar("capture", self.venv, "--scope", "whole")
        self.lapidar("restore", "--placement", "link")
        self.other = self.folder / "other"
        self.other.mkdir()
        shutil.copy(self.lock, self.other)
        shutil.rmtree(self.cache / "assembled", ignore_errors=True)

    def edit(self) -> Path:
        path = site_of(self.restored) / "sherdlib.py"
        path.chmod(0o644)
        path.write_text(path.read_text() + "# debugged here\n")
        return path

    def test_healed_from_wherever_the_bytes_are(self) -> None:
        time.sleep(2.1)  # what was captured is remembered by its place once its times have settled
        self.lapidar("capture", self.venv, "--scope", "whole")
        edited = self.edit()
        said = self.lapidar("restore", cwd=self.other).stderr
        self.assertIn(f"was altered through one of its links: {edited}", said)
        self.assertIn(f"its bytes were taken from {site_of(self.venv) / 'sherdlib.py'}", said)
        self.assertEqual(
            (site_of(self.other / ".lapidar/env") / "sherdlib.py").read_bytes(),
            (site_of(self.venv) / "sherdlib.py").read_bytes(),
        )
        self.lapidar("check", "--deep", cwd=self.other)
        self.lapidar("check", "--deep")  # it was linked to the altered file, and is right again too
        self.lapidar("cache", "audit", "--json")
        self.lapidar("restore")
        self.lapidar("check", "--deep")

    def test_from_an_environment_that_has_copies(self) -> None:
        self.lapidar("restore", "--placement", "copy", cwd=self.other)
        shutil.rmtree(self.venv)
        self.edit()
        self.assertIn("its bytes were taken from", self.lapidar("restore", "--placement", "copy", "--verify").stderr)
        self.lapidar("check", "--deep")
        self.lapidar("restore", "--placement", "link", "--verify", cwd=self.other)

    def test_nowhere_else(self) -> None:
        shutil.rmtree(self.venv)
        edited = self.edit()
        said = self.fails("restore", cwd=self.other)
        self.assertIn(f"was altered through one of its links: {edited}", said)
        self.assertIn("lapidar restore --fetch", said)
        self.assertFalse((self.other / ".lapidar/env").exists())


class Refilling(Pinning):
    """A lockfile, and a cache that has nothing of it."""

    def setUp(self) -> None:
        super().setUp()
        self.declare("sherdplot")
        self.pin()
        self.lapidar("restore")
        self.before = self.placed()
        self.empty = self.folder / "empty cache"

    def placed(self) -> dict[str, tuple[str, bool, str]]:
        """The environment, but for the list of inodes and what names that."""
        own = ("lapidar.toml", "lib/lapidar/placed.json")
        return {path: found for path, found in tree_of(self.restored).items() if path not in own}

    def test_all_of_it_is_brought_again(self) -> None:
        said = self.lapidar("--cache", self.empty, "restore", "--fetch").stderr
        self.assertIn("which has the same bytes", said)
        self.assertEqual(self.placed(), self.before)
        self.lapidar("--cache", self.empty, "check", "--deep")

    def test_pin_fills_it_too(self) -> None:
        locked = self.lock.read_bytes()
        self.lapidar("--cache", self.empty, "pin")
        self.assertEqual(self.lock.read_bytes(), locked)
        self.lapidar("--cache", self.empty, "restore")
        self.assertEqual(self.placed(), self.before)

    def test_nothing_of_it_is_one_finding(self) -> None:
        self.lapidar("--cache", self.empty, "cache", "summary", code=3)
        self.lapidar("--cache", self.empty, "capture", self.venv, "--lock", self.folder / "other.lock")
        shutil.rmtree(self.empty / "trees")
        (self.empty / "trees").mkdir()
        found = self.json("--cache", self.empty, "check", code=1)["findings"]
        self.assertEqual(len(found), 1, found)
        self.assertIn("nothing of it", found[0]["problem"])
        self.assertIn("is it the right one?", self.fails("--cache", self.empty, "restore", "--into", self.folder / "x"))

    def test_a_runtime_by_its_version(self) -> None:
        rows = self.json("runtimes")
        here = [row for row in rows if row["interpreter"]]
        kept = [row for row in rows if row["snapshots"]]
        self.assertIn(lockfile.read(self.lock).runtimes[0].version, {row["version"] for row in kept})
        for row in here[:2]:
            short = ".".join(row["version"].split(".")[:2])
            self.declare("clay", more=f'[runtime]\npython = "{short}"\n')
            self.pin()
            self.assertTrue(lockfile.read(self.lock).runtimes[0].version.startswith(f"{short}."))
            self.declare("clay")
            self.pin("--runtime", short)
            self.assertTrue(lockfile.read(self.lock).runtimes[0].version.startswith(f"{short}."))
        said = self.fails("pin", "--runtime", "3.99")
        self.assertIn("There is no runtime that fits", said)
        self.assertIn(here[0]["version"], said)


# A command as it is told, up to the end of its words: a mark, the words of another program, the next command.
TOLD = re.compile(r"(`?)\blapidar ([A-Za-z]+)\b((?:(?! -- |\blapidar\b)[^`\n;:.,|#])*)")


def _options_of(name: str) -> set[str]:
    every = next(one for one in build_parser(name)._actions if isinstance(one, argparse._SubParsersAction))
    return {option for action in every.choices[name]._actions for option in action.option_strings}


class Words(Case):
    """What is typed, and what is shown for it."""

    def test_help(self) -> None:
        alone = self.lapidar().stdout
        self.assertEqual(alone, self.lapidar("help").stdout)
        self.assertIn("exit codes:", alone)
        for name in ("restore", "pin"):
            self.assertEqual(self.lapidar("help", name).stdout, self.lapidar(name, "--help").stdout)
        narrow = self.lapidar("help", "restore", env={**self.variables, "COLUMNS": "60"}).stdout
        before_examples = narrow.partition("examples:")[0]
        self.assertLessEqual(max(map(len, before_examples.splitlines())), 60)

    def test_piped_tables_are_as_wide_as_asked_for(self) -> None:
        long = "a" * 40
        (self.project / "fit.py").write_text("".join(f"import {long}{number}, sherdlib\n" for number in range(3)))
        environment = self.environment(wheel(self.folder, "sherdlib"))
        words = ["survey", environment, "--offline", "-v"]
        wide = self.lapidar(*words).stdout
        narrow = self.lapidar(*words, env={**self.variables, "COLUMNS": "70"}).stdout
        table = narrow.partition("\n\n")[2].partition("\n\n")[0]
        self.assertLessEqual(max(map(len, table.splitlines())), 70)
        self.assertGreater(max(map(len, wide.splitlines())), 70)
        plain = "".join(narrow.split())
        self.assertEqual([number for number in range(3) if f"fit.py:{number + 1}" not in plain], [])

    def test_slips_of_the_finger(self) -> None:
        for words, near in (
            (["restor"], "restore"),
            (["chekc"], "check"),
            (["restore", "--placment", "copy"], "--placement"),
            (["show", "pakcages"], "packages"),
            (["restore", "--placement", "cop"], "copy"),
        ):
            said = self.lapidar(*words, code=2).stderr
            self.assertIn(f"Near to it: {near}.", said)
            told = self.json(*words, code=2)
            self.assertIn(near, told["error"]["remedy"])
        self.lapidar("capture", self.environment(wheel(self.folder, "sherdlib")), "--scope", "whole")
        self.assertIn("Near to it: sherdlib.", self.fails("show", "packages", "shredlib"))
        self.assertIn("Near to it: sherdlib.", self.lapidar("why", "sherdlb").stdout)

    def test_the_words_of_a_command_are_its_own(self) -> None:
        self.lapidar("capture", self.environment(wheel(self.folder, "sherdlib")), "--scope", "whole")
        self.lapidar("restore")
        script = "import sys; print(sys.argv[1:])"
        for words in (["--json", "-q", "--env", "x"], ["--help"], ["--", "--version"]):
            said = self.lapidar("run", "python", "-c", script, *words).stdout
            self.assertEqual(said.strip(), repr(words))

    def test_completion_and_manual(self) -> None:
        for shell in ("bash", "zsh", "fish"):
            self.assertIn("lapidar", self.lapidar("completion", shell).stdout)
        line = "lapidar restore --pla"
        variables = {**self.variables, "_ARGCOMPLETE": "1", "COMP_LINE": line, "COMP_POINT": str(len(line))}
        out = self.folder / "completed"
        subprocess.run([PROGRAM], env={**variables, "_ARGCOMPLETE_STDOUT_FILENAME": str(out)}, check=False)
        self.assertEqual(out.read_text().strip(), "--placement")
        page = self.lapidar("help", "--manual").stdout
        self.assertEqual(page, (Path(__file__).parents[2] / "docs/lapidar.1").read_text(), "make docs/lapidar.1 again")

    def test_every_command_that_is_told_can_be_typed(self) -> None:
        """In messages, help and docs: a command between backticks exists, and has the options that follow it."""
        root = Path(__file__).parents[2]
        parsers = {name: _options_of(name) for name in COMMANDS}
        told = 0
        for path in [*(root / "src/lapidar").rglob("*.py"), *(root / "docs").rglob("*.md"), root / "README.md"]:
            text = path.read_text("utf-8")
            nodes = ast.walk(ast.parse(text)) if path.suffix == ".py" else ()
            strings = [one.value for one in nodes if isinstance(one, ast.Constant) and isinstance(one.value, str)]
            for quoted, name, rest in TOLD.findall("\n".join(strings) if strings else text):
                with self.subTest(f"{path.name}: {name} {rest}"):
                    if quoted and not name.isupper() and name != "tree":  # which begins a listing
                        self.assertIn(name, COMMANDS)
                    for option in re.findall(r"(?<![\w-])--[a-z][a-z-]*", rest) if name in COMMANDS else ():
                        self.assertIn(option, parsers[name])
                        told += 1
        self.assertGreater(told, 100)

    def test_near_names_are_what_people_mean(self) -> None:
        import lapidar.core.languages.python.index.well_known as well_known

        names = well_known.listed()
        self.assertGreater(len(names), 2000)
        for slip, meant in (
            ("pandsa", "pandas"),
            ("nunpy", "numpy"),
            ("scikit-laern", "scikit-learn"),
            ("reqeusts", "requests"),
        ):
            self.assertEqual(spelling.near(slip, names)[0], meant)

    def test_near_names(self) -> None:
        self.assertEqual(spelling.near("pandsa", ["panda3d", "pands", "pandas", "numpy"]), ["pands", "pandas"])
        self.assertEqual(spelling.near("numpy", ["numpy"]), [])
        self.assertEqual(spelling.near("sckit-lear", ["scikit-learn", "sktime"]), ["scikit-learn"])
        self.assertEqual(spelling.distance("glaze", "galze", 2), 1)
        self.assertGreater(spelling.distance("glaze", "kilns", 2), 2)


class Running(Case):
    """Which program a command means."""

    def setUp(self) -> None:
        super().setUp()
        self.lapidar("capture", self.environment(wheel(self.folder, "sherdlib")))
        self.lapidar("restore")
        self.outside = self.folder / "bin"
        self.outside.mkdir()
        self.variables["PATH"] = f"{self.outside}:{self.variables['PATH']}"

    def program(self, name: str, text: str, folder: Path | None = None) -> Path:
        path = (folder or self.outside) / name
        path.write_text(text)
        path.chmod(0o755)
        return path

    def with_path(self, environment: Path) -> dict[str, str]:
        return self.variables | {"PATH": f"{environment}/bin:{self.variables['PATH']}"}

    def test_no_program_of_another_environment(self) -> None:
        ran = self.folder / "ran"
        plot = self.program("kilnplot", f"#!{sys.executable}\nopen({str(ran)!r}, 'w')\n")
        self.program("pip", f"#!/bin/sh\ntouch {ran}\n")
        for name in ("kilnplot", "pip", "python3.77"):
            self.program("python3.77", f"#!/bin/sh\ntouch {ran}\n")
            said = self.fails("run", name, "install", "x")
            self.assertIn(f"{name} is not in the environment", said)
            self.assertIn("lapidar need", said)
            self.assertFalse(ran.exists())
        self.lapidar("run", plot)  # by its path it is meant
        self.assertTrue(ran.exists())
        slips = "[console_scripts]\nslips = slips:main\n"
        module = {"slips.py": "import sys\ndef main(): print(sys.prefix)\n"}
        other = self.environment(wheel(self.folder, "slips", entry_points=slips, files=module), name="other")
        self.assertIn("slips is not in the environment", self.fails("run", "slips", env=self.with_path(other)))
        self.assertEqual(self.lapidar("run", other / "bin" / "slips").stdout.strip(), str(other))
        self.lapidar("capture", other)
        self.lapidar("restore")
        self.assertEqual(self.lapidar("run", other / "bin" / "slips").stdout.strip(), str(self.restored))
        self.program("kilnshell", "#!/bin/sh\necho fired\n")  # of no language
        self.assertEqual(self.lapidar("run", "kilnshell").stdout, "fired\n")

    def test_installers_are_told_what_to_do_instead(self) -> None:
        """Externally Managed Environments: what installers look for, where they look for it."""
        script = (
            "import os, sysconfig; print(open(os.path.join(sysconfig.get_path('stdlib'), 'EXTERNALLY-MANAGED')).read())"
        )
        self.assertIn("lapidar need NAME", self.lapidar("run", "python", "-c", script).stdout)
        before = self.lock.read_bytes()
        self.lapidar("capture", self.restored)
        self.assertEqual(self.lock.read_bytes(), before)

    def test_scripts(self) -> None:
        (self.project / "fit.py").write_text("print('fitted')\n")
        for words in (["fit.py", "--fast"], ["./fit.py"]):
            self.assertIn(f"lapidar run python {' '.join(words)}", self.fails("run", *words))
        self.assertIn("There is no file ./fti.py", self.fails("run", "./fti.py"))
        self.assertIn(".lapidar is a folder, and no program", self.fails("run", "./.lapidar"))
        where = "import sys, os\nprint(os.path.realpath(sys.prefix), sys.argv[1:])\n"
        for line in ("#!/usr/bin/env python3", f"#!{os.path.dirname(sys.executable)}/python3", "#!/usr/bin/python3 -B"):
            for mode in (0o755, 0o644):
                path = self.program("fire", f"{line}\n{where}", self.project)
                path.chmod(mode)
                said = self.lapidar("run", "./fire", "hot").stdout
                self.assertEqual(said.strip(), f"{self.restored} ['hot']", line)
        path = self.program("shell", "#!/bin/sh\necho $1\n", self.project)
        self.assertEqual(self.lapidar("run", "./shell", "hot").stdout, "hot\n")
        path.chmod(stat.S_IRUSR)
        self.assertIn("cannot be executed", self.fails("run", "./shell"))


class Slips(Case):
    def test_the_machines_own_runtime_is_not_captured_by_accident(self) -> None:
        said = self.fails("capture")
        self.assertIn("has no environment and no source", said)
        self.assertFalse(self.lock.exists())


class OldProjects(Pinning):
    """What a colleague left behind."""

    def setUp(self) -> None:
        super().setUp()
        (self.project / "requirements.txt").write_text(
            "--find-links /home/colleague/wheels\n--extra-index-url https://theirs.packages.example/simple\n"
            "-f own\nsklearn>=0.2\npkg-resources==0.0.0\nargparse\nglazemath<3,>=1\n"
        )
        (self.project / "own").mkdir()
        (self.project / "fit.py").write_text("import glazemath\n")

    def started(self, *words: object) -> tuple[str, str]:
        done = self.lapidar("start", "--yes", *words)
        return done.stdout + done.stderr, (self.project / "lapidar.toml").read_text()

    def test_places_and_names_of_another_machine(self) -> None:
        said, text = self.started()
        for place in ("/home/colleague/wheels", "https://theirs.packages.example/simple"):
            self.assertIn(f"requirements.txt names {place} as a place of packages", said)
            self.assertNotIn(place, text)
        self.assertIn(str(self.project / "own"), text)
        self.assertIn("scikit-learn is meant", said)
        self.assertIn('"scikit-learn>=0.2"', text)
        self.assertIn("pkg-resources==0.0.0 is no distribution", said)
        self.assertIn("argparse is no distribution", said)
        self.assertIn('"glazemath>=1,<3"', text)  # the lower bound first
        self.assertNotIn("argparse", text)
        self.assertIn("\n\n[needs]\n", text)

    def test_the_runtime_that_it_speaks_for(self) -> None:
        told = {"cells": [], "metadata": {"language_info": {"name": "python", "version": "3.8.5"}}, "nbformat": 4}
        (self.project / "explore.ipynb").write_text(json.dumps(told))
        _, text = self.started()
        self.assertIn('python = "==3.8.*"', text)
        (self.project / "lapidar.toml").unlink()
        (self.project / "requirements.txt").write_text("kilnlib==1.19.2\n")
        for tag in ("cp36-cp36m", "cp37-cp37m", "cp310-cp310"):
            wheel(self.files, "kilnlib", "1.19.2" if "10" not in tag else "2.0", tag=f"{tag}-manylinux_2_17_x86_64")
        _, text = self.started("--index", self.index.address)
        self.assertIn('python = "3.7"', text)

    def test_a_day_is_guessed(self) -> None:
        (self.project / "requirements.txt").unlink()
        os.utime(self.project / "fit.py", (1747267200, 1747267200))  # 2025-05-15
        said, text = self.started("--guess", "auto")
        self.assertIn("Nothing newer than 2025-05-15", said)
        self.assertIn("as-of = 2025-05-15", text)
        (self.project / "lapidar.toml").write_text(
            text.replace("packages = [", 'packages = ["sherdplot", "glazemath", ')
        )
        self.assertIn("is no day", self.fails("start", "--yes", "--guess", "yesterday", "--project", self.folder))

    def test_extras_are_groups_that_one_can_take(self) -> None:
        (self.project / "requirements.txt").unlink()
        (self.project / "pyproject.toml").write_text(
            '[project]\nname = "kilns"\nversion = "1"\ndependencies = ["clay"]\n'
            '[project.optional-dependencies]\nPlots = ["drawing"]\nfast = ["glazemath"]\n'
        )
        said, _ = self.started()
        self.assertIn("offers the extras plots, fast", said)
        self.pin("--runtime", self.venv)
        self.assertEqual(self.locked(), {"clay": "0.5"})
        (self.project / "lapidar.toml").write_text('[needs]\nextras = ["plots"]\n')
        self.pin()
        self.assertEqual(self.locked(), {"clay": "0.5", "drawing": "1.2"})
        self.lapidar("restore", "--leave-out", "plots")
        (self.project / "lapidar.toml").write_text('[needs]\nextras = ["slow"]\n')
        self.assertIn("offers no extra slow", self.fails("pin"))

    def test_many_changes_are_told_in_short(self) -> None:
        (self.project / "requirements.txt").unlink()
        names = [f"sherd{number}" for number in range(30)]
        for name in names:
            wheel(self.files, name)
        self.declare(*names)
        said = self.lapidar("pin", "--dry-run", "--runtime", self.venv).stdout
        self.assertIn("and 10 more (-v shows all); together 30 new", said)
        self.assertEqual(said.count("sherd"), 20)
        self.assertEqual(self.lapidar("pin", "--dry-run", "-v", "--runtime", self.venv).stdout.count("sherd"), 30)
