"""Analyses that know each other: steps, refresh, lineage."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import time
from pathlib import Path
from typing import Any

from lapidar.core.records import results
from support import PROGRAM, Case, Ready, install, many, wheel

CLEAN = """\
import csv, os
os.makedirs("results", exist_ok=True)
rows = [row for row in csv.DictReader(open("raw/finds.csv")) if row["tin"]]
with open("results/clean.csv", "w") as out:
    writer = csv.DictWriter(out, ["sherd", "tin"])
    writer.writeheader()
    writer.writerows(rows)
"""
FIT = """\
import csv
rows = list(csv.DictReader(open("results/clean.csv")))
print("fitted", len(rows))
open("results/fit.txt", "w").write(str(round(sum(float(row["tin"]) for row in rows))) + "\\n")
"""
REPORT = """\
text = open("results/fit.txt").read()
open("results/report.md", "w").write("# Kilns\\n" + text)
"""


class Chain(Ready):
    def setUp(self) -> None:
        super().setUp()
        (self.project / "raw").mkdir()
        (self.project / "raw/finds.csv").write_text("sherd,tin\nS1,1.5\nS2,2.25\n")
        for name, text in (("clean", CLEAN), ("fit", FIT), ("report", REPORT)):
            (self.project / f"{name}.py").write_text(text)
        (self.project / "lapidar.toml").write_text(
            "".join(f'[analysis.{name}]\ncommand = "python {name}.py"\n' for name in ("report", "clean", "fit"))
        )

    def declare_in_order(self) -> None:
        (self.project / "lapidar.toml").write_text(
            "".join(f'[analysis.{name}]\ncommand = "python {name}.py"\n' for name in ("clean", "fit", "report"))
        )

    def ready(self) -> None:
        self.declare_in_order()
        self.lapidar("refresh")

    def edit(self, name: str, old: str, new: str) -> None:
        path = self.project / name
        text = path.read_text()
        self.assertIn(old, text)
        path.write_text(text.replace(old, new))

    def standings(self, *words: object) -> dict[str, str]:
        done = self.lapidar("steps", *words, "--json", code=0 if self.all_good(*words) else 1)
        return {one["name"]: one["standing"] for one in json.loads(done.stdout)["steps"]}

    def all_good(self, *words: object) -> bool:
        done = subprocess.run(
            [PROGRAM, "steps", "--json", *map(str, words)],
            cwd=self.project,
            env=self.variables,
            capture_output=True,
            check=False,
        )
        return bool(json.loads(done.stdout)["good"])

    def why(self, name: str) -> list[str]:
        (found,) = [one for one in json.loads(self.steps())["steps"] if one["name"] == name]
        return list(found["why"])

    def steps(self) -> str:
        return self.lapidar("steps", "--json", code=0 if self.all_good() else 1).stdout

    def refreshed(self, *words: object, code: int = 0) -> dict[str, str]:
        """What became of each step that was not up to date."""
        return {one["name"]: one["how"] for one in self.json("refresh", *words, code=code)["done"]}

    def read(self, name: str) -> str:
        return (self.project / name).read_text()


class Steps(Chain):
    def test_declared_and_never_run(self) -> None:
        self.declare_in_order()
        self.assertEqual(set(self.standings().values()), {"never ran"})
        said = self.lapidar("refresh").stdout
        self.assertIn("3 steps ran.", said)
        self.assertEqual(self.read("results/report.md"), "# Kilns\n4\n")
        self.assertEqual(self.refreshed(), {})
        self.assertIn("All up to date (3 steps)", self.lapidar("steps").stdout)

    def test_declared_in_another_order_than_they_read(self) -> None:
        done = self.lapidar("refresh")
        self.assertNotIn("failed", done.stdout)
        self.assertIn("report was run before results/fit.txt was made, and once more after that", done.stderr)
        self.assertEqual(self.read("results/report.md"), "# Kilns\n4\n")
        self.assertEqual(self.refreshed(), {})
        self.assertEqual([one["name"] for one in json.loads(self.steps())["steps"]], ["clean", "fit", "report"])

    def test_declared_and_seen(self) -> None:
        self.ready()
        self.assertNotIn("does not say so", self.lapidar("steps").stderr)
        self.edit("lapidar.toml", "[analysis.report]\n", '[analysis.report]\nafter = ["clean"]\n')
        said = self.lapidar("steps").stderr
        self.assertIn("report reads what fit makes (results/fit.txt), and its `after` in lapidar.toml does not", said)
        self.edit("lapidar.toml", '["clean"]', '["clean", "fit"]')
        self.assertNotIn("does not say so", self.lapidar("steps").stderr)

    def test_declared_results_give_an_order(self) -> None:
        """Of what never ran: its command names what another is to make."""
        (self.project / "lapidar.toml").write_text(
            '[analysis.count]\ncommand = "python count.py ./results/clean.csv"\n'
            '[analysis.clean]\ncommand = "python clean.py"\nresults = ["results/*.csv"]\n'
        )
        (self.project / "count.py").write_text(
            "import sys\nopen('count.txt', 'w').write(str(len(open(sys.argv[1]).readlines())))\n"
        )
        done = self.lapidar("refresh")
        self.assertNotIn("once more after that", done.stderr)
        self.assertEqual(self.read("count.txt"), "3")

    def test_where_there_is_none(self) -> None:
        (self.project / "lapidar.toml").unlink()
        for words in (["steps"], ["refresh"], ["refresh", "--dry-run"]):
            self.assertIn("No analysis is recorded or declared here", self.lapidar(*words).stdout)

    def test_declared_the_other_way_round(self) -> None:
        """Each looks for what the next makes; the last one for a sweep's."""
        (self.project / "lapidar.toml").write_text(
            "".join(f'[analysis.{name}]\ncommand = "python {name}.py"\n' for name in ("gather", "report", "fit"))
            + '[analysis.each]\ncommand = "python each.py"\nfor = { n = "1..2" }\n[analysis.clean]\ncommand = "python clean.py"\n'
        )
        (self.project / "each.py").write_text(
            "import os\nos.makedirs('each', exist_ok=True)\nopen('results/clean.csv').read()\nopen('each/' + os.environ['n'], 'w').close()\n"
        )
        (self.project / "gather.py").write_text(
            "import os\nopen('all.txt', 'w').write(open('results/report.md').read() + ' '.join(sorted(os.listdir('each'))))\n"
        )
        done = self.lapidar("refresh")
        self.assertEqual(self.read("all.txt"), "# Kilns\n4\n1 2")
        self.assertEqual(done.stderr.count("each was run before"), 1)
        self.assertEqual(self.refreshed(), {})

    def test_one_that_nobody_makes_a_file_for_has_failed(self) -> None:
        self.edit("fit.py", "results/clean.csv", "results/none.csv")
        done = self.lapidar("refresh", code=1).stdout
        self.assertIn("fit: failed", done)
        self.assertIn("report: failed", done)
        self.assertIn("clean: ran", done)

    def test_an_edit_of_the_data(self) -> None:
        self.ready()
        self.edit("raw/finds.csv", "2.25", "7.25")
        self.assertEqual(self.standings(), {"clean": "out of date", "fit": "waits for", "report": "waits for"})
        self.assertEqual(self.why("clean"), ["raw/finds.csv changed"])
        dry = self.lapidar("refresh", "--dry-run", code=1).stdout
        self.assertIn("At most 3 steps would run", dry)
        self.assertEqual(self.read("results/report.md"), "# Kilns\n4\n", "--dry-run runs nothing")
        self.assertEqual(self.refreshed(), {"clean": "ran", "fit": "ran", "report": "ran"})
        self.assertEqual(self.read("results/report.md"), "# Kilns\n9\n")

    def test_what_gives_the_same_stops_it(self) -> None:
        self.ready()
        self.edit("raw/finds.csv", "2.25", "2.26")
        self.assertEqual(self.refreshed(), {"clean": "ran", "fit": "ran"}, "fit rounds: the report stands")
        with (self.project / "clean.py").open("a") as script:
            script.write("# a comment\n")
        self.assertEqual(self.refreshed(), {"clean": "ran"})

    def test_back_again_is_taken_from_the_cache(self) -> None:
        self.ready()
        self.edit("raw/finds.csv", "2.25", "9.25")
        self.refreshed()
        self.edit("raw/finds.csv", "9.25", "2.25")
        said = self.lapidar("refresh").stdout
        self.assertIn("clean: taken from the run of", said)
        self.assertIn("3 taken from earlier runs", said)
        self.assertEqual(self.read("results/report.md"), "# Kilns\n4\n")
        self.edit("raw/finds.csv", "2.25", "9.25")
        self.assertEqual(set(self.refreshed("--really").values()), {"ran"})

    def test_results_that_are_gone_or_changed_by_hand(self) -> None:
        self.ready()
        (self.project / "results/fit.txt").write_text("by hand\n")
        (self.project / "results/report.md").unlink()
        self.assertEqual(self.why("fit"), ["its result results/fit.txt was changed since"])
        self.assertIn("its result results/report.md is gone", self.why("report"))
        self.assertEqual(self.refreshed(), {"fit": "taken", "report": "taken"})
        self.assertEqual(self.read("results/report.md"), "# Kilns\n4\n")

    def test_one_that_fails(self) -> None:
        self.ready()
        before = self.read("results/fit.txt"), self.read("lapidar.results")
        self.edit("fit.py", "import csv\n", 'import csv, sys\nopen("results/fit.txt", "w")\nsys.exit("no kiln here")\n')
        (self.project / "other.py").write_text('open("results/other.txt", "w").write("x")\n')
        with (self.project / "lapidar.toml").open("a") as file:
            file.write('[analysis.other]\ncommand = "python other.py"\n')
        told = {one["name"]: one for one in self.json("refresh", code=1)["done"]}
        self.assertEqual({name: one["how"] for name, one in told.items()},
                         {"fit": "failed", "other": "ran", "report": "held up"})  # fmt: skip
        self.assertEqual((told["fit"]["error"], told["fit"]["said"]), ("exit code 1", ["no kiln here"]))
        self.assertEqual(self.read("results/fit.txt"), before[0], "nothing of the project is changed by one that fails")
        self.assertEqual(self.standings()["fit"], "failed")
        self.edit("fit.py", 'sys.exit("no kiln here")\n', "")
        self.assertEqual(self.standings()["fit"], "out of date")
        self.assertEqual(self.refreshed()["fit"], "ran")

    def test_named_ones(self) -> None:
        self.ready()
        self.edit("raw/finds.csv", "2.25", "7.25")
        self.assertEqual(self.refreshed("report", "--only"), {})
        self.assertEqual(self.refreshed("fit"), {"clean": "ran", "fit": "ran"})
        self.assertIn("There is no step nothing", self.fails("refresh", "nothing"))
        self.assertIn("--only needs a name", self.fails("refresh", "--only"))

    def test_a_command_that_is_declared_otherwise(self) -> None:
        self.ready()
        self.edit("lapidar.toml", '"python fit.py"', '"python -O fit.py"')
        self.assertEqual(self.why("fit"), ["its command changed"])
        self.assertEqual(self.refreshed(), {"fit": "ran"})
        self.assertEqual(self.refreshed(), {})

    def test_the_whole_path_in_a_command(self) -> None:
        self.declare_in_order()
        self.edit("lapidar.toml", "python fit.py", f"python {self.project}/fit.py")
        self.lapidar("refresh")
        self.assertEqual(self.refreshed(), {})

    def test_a_circle(self) -> None:
        self.ready()
        self.edit(
            "clean.py",
            "import csv, os\n",
            'import csv, os\nif os.path.exists("results/report.md"):\n    open("results/report.md").read()\n',
        )
        self.lapidar("refresh", code=1)
        told = self.lapidar("steps", code=1).stdout
        self.assertIn("at odds", told)
        self.assertIn("in a circle", told)

    def test_two_that_write_one_file(self) -> None:
        self.ready()
        (self.project / "again.py").write_text('open("results/fit.txt", "w").write("x")\n')
        self.lapidar("record", "--", "python", "again.py")
        self.assertIn("results/fit.txt is written by again too", self.lapidar("steps", code=1).stdout)

    def test_one_that_adds_to_what_it_reads(self) -> None:
        (self.project / "lapidar.toml").unlink()
        (self.project / "book.txt").write_text("first\n")
        (self.project / "add.py").write_text('open("book.txt", "a").write("more\\n")\nopen("book.txt").read()\n')
        self.lapidar("record", "--", "python", "add.py")
        self.assertEqual(self.refreshed(), {})
        (self.project / "book.txt").write_text("other\n")
        self.refreshed()
        self.assertEqual(self.read("book.txt"), "other\nmore\n")
        self.assertEqual(self.refreshed(), {})

    def test_what_it_made_before_and_makes_no_more(self) -> None:
        self.ready()
        self.edit("report.py", "report.md", "kilns.md")
        self.assertEqual(self.refreshed(), {"report": "ran"})
        self.assertFalse((self.project / "results/report.md").exists())
        self.assertEqual(self.read("results/kilns.md"), "# Kilns\n4\n")

    def test_a_project_that_names_its_own_folder(self) -> None:
        self.ready()
        self.edit("report.py", '"results/fit.txt"', f'"{self.project}/results/fit.txt"')
        said = self.lapidar("refresh")
        self.assertIn("names the project's folder outright", said.stderr)
        self.edit("raw/finds.csv", "2.25", "7.25")
        self.refreshed()
        self.assertEqual(self.read("results/report.md"), "# Kilns\n9\n")

    def test_edited_while_it_runs(self) -> None:
        self.ready()
        self.edit("clean.py", "import csv, os\n", "import csv, os, time\ntime.sleep(1.5)\n")
        with subprocess.Popen(
            [PROGRAM, "refresh"], cwd=self.project, env=self.variables, stdout=subprocess.DEVNULL
        ) as it:
            time.sleep(1.0)
            self.edit("raw/finds.csv", "2.25", "9.75")
            it.wait()
        recorded = results.read(self.project / "lapidar.results").named("clean")
        assert recorded is not None
        self.assertEqual(self.refreshed(), {} if self.read("results/report.md") == "# Kilns\n11\n" else
                         {"clean": "ran", "fit": "ran", "report": "ran"})  # fmt: skip
        self.assertEqual(self.read("results/report.md"), "# Kilns\n11\n")

    def test_as_many_at_a_time_as_there_is_room_for(self) -> None:
        (self.project / "lapidar.toml").unlink()
        script = 'import sys, time\nbegan = time.time()\ntime.sleep(0.4)\nopen(f"{sys.argv[1]}.txt", "w").write(f"{began} {time.time()}")\n'
        (self.project / "wait.py").write_text(script)
        for name in ("a", "b"):
            self.lapidar("record", name, "--", "python", "wait.py", name)
        for words, together in ((("--jobs", "2"), True), (("--jobs", "1"), False)):
            for name in ("a", "b"):
                (self.project / f"{name}.txt").unlink()
            self.lapidar("refresh", "--really", *words)
            (one, two) = (tuple(map(float, self.read(f"{name}.txt").split())) for name in ("a", "b"))
            self.assertEqual(one[0] < two[1] and two[0] < one[1], together, (one, two))

    def test_two_refreshes_at_once(self) -> None:
        self.ready()
        self.edit("raw/finds.csv", "2.25", "7.25")
        several = [
            subprocess.Popen(
                [PROGRAM, "refresh"], cwd=self.project, env=self.variables, stdout=subprocess.PIPE, text=True
            )
            for _ in range(2)
        ]
        said = [one.communicate()[0] for one in several]
        self.assertEqual([one.returncode for one in several], [0, 0], said)
        self.assertEqual(sum(text.count(": ran in") for text in said), 3)

    def test_killed_at_any_moment_it_goes_on(self) -> None:
        self.ready()
        for at in range(many(40, 6)):
            value = f"{at + 3}.75"
            text = self.read("raw/finds.csv").splitlines()
            (self.project / "raw/finds.csv").write_text("\n".join([*text[:-1], f"S2,{value}"]) + "\n")
            with subprocess.Popen(
                [PROGRAM, "refresh"], cwd=self.project, env=self.variables, stdout=subprocess.DEVNULL
            ) as it:
                time.sleep(0.25 + 0.9 * at / many(40, 6))
                it.send_signal(signal.SIGKILL)
            results.read(self.project / "lapidar.results")
            self.refreshed()
            self.assertEqual(self.read("results/report.md"), f"# Kilns\n{round(1.5 + at + 3.75)}\n")
            self.assertEqual(self.refreshed(), {})
        left = [name for name in os.listdir(self.project / ".lapidar") if name.startswith("refresh-")]
        self.assertEqual(left, [])


class Sought(Chain):
    """What a run looked for, and what it looked through."""

    def script(self, text: str) -> None:
        (self.project / "lapidar.toml").unlink()
        (self.project / "look.py").write_text(text)
        self.lapidar("record", "--", "python", "look.py")
        self.assertEqual(self.refreshed(), {})

    def test_a_file_that_was_not_there(self) -> None:
        self.script("""
import os
text = open("extra.csv").read() if os.path.exists("extra.csv") else "none"
open("out.txt", "w").write(text)
""")
        (self.project / "other.csv").write_text("no matter\n")
        self.assertEqual(self.refreshed(), {})
        (self.project / "extra.csv").write_text("more\n")
        self.assertEqual(self.why("look"), ["extra.csv is new, and was looked for"])
        self.assertEqual(self.refreshed(), {"look": "ran"})
        self.assertEqual(self.read("out.txt"), "more\n")
        (self.project / "extra.csv").unlink()
        self.assertEqual(self.refreshed(), {"look": "taken"})

    def test_a_file_that_it_only_asked_about(self) -> None:
        (self.project / "flag").touch()
        self.script('import os\nopen("out.txt", "w").write(str(os.path.exists("flag")))\n')
        (self.project / "flag").write_text("what is in it is no matter")
        self.assertEqual(self.refreshed(), {})
        (self.project / "flag").unlink()
        self.assertEqual(self.why("look"), ["flag is gone"])

    def test_a_folder_of_data(self) -> None:
        self.script("""
import glob
open("out.txt", "w").write(" ".join(sorted(glob.glob("raw/*.csv"))))
""")
        (self.project / "raw/more.csv").write_text("x\n")
        self.assertEqual(self.refreshed(), {"look": "ran"})
        self.assertEqual(self.read("out.txt"), "raw/finds.csv raw/more.csv")

    def test_a_folder_that_was_not_there(self) -> None:
        for number, asks in enumerate(
            ("glob.glob('more/*')", "list(os.walk('more'))", "sorted(map(str, pathlib.Path('more').rglob('*')))")
        ):
            with self.subTest(asks):
                script = self.project / f"ask{number}.py"
                script.write_text(f"import glob, os, pathlib\nopen('out{number}', 'w').write(str({asks}))\n")
                self.lapidar("record", "--", "python", script.name)
                (self.project / "more").mkdir()
                (self.project / "more/one").touch()
                self.assertEqual(self.why(f"ask{number}"), ["more is new, and was looked for"])
                self.lapidar("refresh", f"ask{number}")
                self.assertIn("one", self.read(f"out{number}"))
                shutil.rmtree(self.project / "more")

    def test_the_folder_that_its_source_lies_in(self) -> None:
        """Whoever imports lists that too: only what the program asks for itself counts."""
        self.script("""
import glob, json
open("out.txt", "w").write(" ".join(sorted(glob.glob("*.csv"))))
""")
        (self.project / "new.csv").write_text("x\n")
        self.assertEqual(self.refreshed(), {"look": "ran"})
        self.assertEqual(self.read("out.txt"), "new.csv")
        (self.project / "lapidar.results").unlink()
        (self.project / "out.txt").unlink()
        (self.project / "plain.py").write_text('import json\nopen("plain.txt", "w").write("x")\n')
        self.lapidar("record", "--", "python", "plain.py")
        (self.project / "newer.csv").write_text("x\n")
        self.assertEqual(self.refreshed(), {})

    def test_other_ways_to_list(self) -> None:
        for at, text in enumerate((
            "import os; names = os.listdir('raw')",
            "import os; names = [one.name for one in os.scandir('raw')]",
            "import pathlib; names = [one.name for one in pathlib.Path('raw').iterdir()]",
            "import os; names = [name for _, _, files in os.walk('raw') for name in files]",
            "import subprocess; names = subprocess.check_output(['ls', 'raw'], text=True).split()",
            "import os, shutil; assert os.scandir in os.supports_fd; names = os.listdir(os.open('raw', os.O_RDONLY))",
            # As compiled readers of data sets do, of which Python knows nothing.
            "import ctypes; c = ctypes.CDLL(None); c.opendir.restype = c.readdir.restype = ctypes.c_void_p; "
            "raw = ctypes.c_void_p(c.opendir(b'raw')); "
            "names = [ctypes.string_at(entry + 19).decode() for entry in iter(lambda: c.readdir(raw), None)]",
        )):  # fmt: skip
            with self.subTest(text=text):
                (self.project / f"way{at}.py").write_text(
                    f"{text}\nopen('way{at}.txt', 'w').write(str(sorted(names)))\n"
                )
                self.lapidar("record", "--", "python", f"way{at}.py")
                name = f"new{at}.csv"
                (self.project / "raw" / name).write_text("x\n")
                self.assertIn(f"way{at}", self.refreshed(f"way{at}"))
                self.assertIn(name, self.read(f"way{at}.txt"))

    def test_a_script_that_reads_another_file_now(self) -> None:
        self.script('open("out.txt", "w").write(open("raw/finds.csv").read())\n')
        (self.project / "deep").mkdir()
        (self.project / "deep/other.csv").write_text("other\n")
        self.edit("look.py", "raw/finds.csv", "deep/other.csv")
        self.assertEqual(self.refreshed(), {"look": "ran"})
        self.assertEqual(self.read("out.txt"), "other\n")

    def test_links_that_lead_elsewhere_now(self) -> None:
        for name in ("one", "two"):
            (self.project / name).mkdir()
            (self.project / name / "finds.csv").write_text(f"{name}\n")
        (self.project / "folder").symlink_to("one")
        (self.project / "file.csv").symlink_to("one/finds.csv")
        for name, path in (("by_folder", "folder/finds.csv"), ("by_file", "file.csv")):
            (self.project / f"{name}.py").write_text(f"open('{name}.txt', 'w').write(open('{path}').read())\n")
            self.lapidar("record", "--", "python", f"{name}.py")
        self.assertEqual(self.refreshed("by_folder", "by_file"), {})
        for name, target in (("folder", "two"), ("file.csv", "two/finds.csv")):
            (self.project / name).unlink()
            (self.project / name).symlink_to(target)
        self.assertEqual(self.refreshed("by_folder", "by_file"), {"by_folder": "ran", "by_file": "ran"})
        self.assertEqual((self.read("by_folder.txt"), self.read("by_file.txt")), ("two\n", "two\n"))
        self.assertEqual(self.refreshed("by_folder", "by_file"), {})

    def test_data_that_names_other_data(self) -> None:
        (self.project / "which.txt").write_text("raw/finds.csv")
        self.script('open("out.txt", "w").write(open(open("which.txt").read()).read())\n')
        (self.project / "raw/second.csv").write_text("second\n")
        (self.project / "which.txt").write_text("raw/second.csv")
        self.assertEqual(self.refreshed(), {"look": "ran"})
        self.assertEqual(self.read("out.txt"), "second\n")

    def test_a_notebook_by_its_cells(self) -> None:
        book: dict[str, Any] = {
            "cells": [{"cell_type": "code", "source": ["1 + 1"], "outputs": [], "execution_count": None}]
        }
        (self.project / "book.ipynb").write_text(json.dumps(book))
        self.script("""
import json
cells = json.load(open("book.ipynb"))["cells"]
open("out.txt", "w").write("".join(cells[0]["source"]))
""")
        book["cells"][0] |= {"outputs": [{"output_type": "stream", "text": "2"}], "execution_count": 7}
        (self.project / "book.ipynb").write_text(json.dumps(book, indent=1))
        self.assertEqual(self.refreshed(), {})
        book["cells"][0]["source"] = ["1 + 2"]
        (self.project / "book.ipynb").write_text(json.dumps(book))
        self.assertEqual(self.why("look"), ["book.ipynb changed"])

    def test_a_file_of_variables(self) -> None:
        with (self.project / "lapidar.toml").open("a") as file:
            file.write('[conditions]\nenv-file = ".env"\n')
        (self.project / ".env").write_text("KILN=upper\n")
        (self.project / "look.py").write_text('import os\nopen("out.txt", "w").write(os.environ["KILN"])\n')
        self.lapidar("record", "look", "--", "python", "look.py")
        (self.project / ".env").write_text("KILN=river\n")
        self.assertEqual(self.refreshed("look"), {"look": "ran"})
        self.assertEqual(self.read("out.txt"), "river")


class Environments(Case):
    """The part of the environment that a step used, and no other."""

    own_cache = True

    def setUp(self) -> None:
        super().setUp()
        wheels = self.folder / "wheels"
        wheels.mkdir()
        self.made = {
            (name, version): wheel(wheels, name, version)
            for name in ("kilns", "glaze", "idle", "fast") for version in ("1.0", "2.0")
        }  # fmt: skip
        self.venv = self.environment(*(self.made[name, "1.0"] for name in ("kilns", "glaze", "idle")))
        self.lapidar("capture", self.venv, "--scope", "whole")
        self.lapidar("restore")

    def now(self, *names: str) -> None:
        """Install other versions, and capture."""
        for name in names:
            for old in self.venv.glob(f"lib/python3*/site-packages/{name}*"):
                shutil.rmtree(old) if old.is_dir() else old.unlink()
            install(self.made[name, "2.0"], self.venv)
        self.lapidar("capture", self.venv, "--scope", "whole")

    def record(self, text: str) -> None:
        (self.project / "fit.py").write_text(text)
        self.lapidar("record", "--", "python", "fit.py")

    def why(self, *words: object) -> list[str]:
        done = subprocess.run(
            [PROGRAM, "steps", "--json", *map(str, words)],
            cwd=self.project,
            env=self.variables,
            capture_output=True,
            check=False,
        )
        (one,) = json.loads(done.stdout)["steps"]
        return list(one["why"])

    def test_one_that_it_uses_and_one_that_it_does_not(self) -> None:
        self.record('import kilns\nopen("out.txt", "w").write(kilns.VERSION)\n')
        self.now("idle", "glaze")
        self.assertEqual(self.why(), [])
        self.assertEqual(
            self.why("--whole-snapshot"), ["glaze 1.0 -> 2.0, which it uses", "idle 1.0 -> 2.0, which it uses"]
        )
        self.assertIn("Nothing ran", self.lapidar("refresh").stdout)
        self.now("kilns")
        self.assertEqual(self.why(), ["kilns 1.0 -> 2.0, which it uses"])
        said = self.lapidar("refresh")
        self.assertIn("fit: ran", said.stdout)
        self.assertEqual((self.project / "out.txt").read_text(), "2.0")

    def test_one_that_it_looked_for_in_vain(self) -> None:
        self.record("""
try:
    import fast
    how = fast.VERSION
except ImportError:
    how = "slow"
open("out.txt", "w").write(how)
""")
        self.now("fast")
        self.assertEqual(self.why(), ["fast 2.0 is new, which it looked for"])
        self.lapidar("refresh")
        self.assertEqual((self.project / "out.txt").read_text(), "2.0")

    def test_asked_for_by_other_means(self) -> None:
        for text, counts in (
            ("import importlib.util; how = importlib.util.find_spec('fast') is None", True),
            ("import importlib.metadata as m\ntry:\n    how = m.version('fast')\nexcept m.PackageNotFoundError:\n    how = ''", True),
            ("import importlib.metadata as m; how = sorted(one.name for one in m.distributions())", True),
            ("import pkgutil; how = [one.name for one in pkgutil.iter_modules()]", True),
            ("import importlib.metadata as m; how = m.version('kilns')", False),
            ("import subprocess, sys; how = subprocess.run([sys.executable, '-c', 'import fast'], stderr=-3).returncode", True),
            ("import multiprocessing as m\ndef look(_):\n    try:\n        import fast\n    except ImportError:\n        return 1\nhow = m.Pool(1).map(look, [1])", True),
        ):  # fmt: skip
            with self.subTest(text=text):
                self.record(f"{text}\nopen('out.txt', 'w').write(str(how))\n")
                self.now("fast")
                self.assertEqual(bool(self.why()), counts, self.why())
                for old in self.venv.glob("lib/python3*/site-packages/fast*"):
                    shutil.rmtree(old) if old.is_dir() else old.unlink()
                self.lapidar("capture", self.venv, "--scope", "whole")
                self.lapidar("restore")
                (self.project / "lapidar.results").unlink()

    def test_variables_that_are_declared(self) -> None:
        self.record('import os\nopen("out.txt", "w").write(os.environ.get("KILN", ""))\n')
        (self.project / "lapidar.toml").write_text('[conditions]\nenv = ["KILN=upper"]\n')
        self.lapidar("capture", self.venv, "--scope", "whole")
        self.assertEqual(self.why(), ["the variable KILN was not set, and is upper"])
        self.lapidar("refresh")
        self.assertEqual((self.project / "out.txt").read_text(), "upper")

    def test_without_the_snapshot_of_then_all_counts(self) -> None:
        self.record('import kilns\nopen("out.txt", "w").write(kilns.VERSION)\n')
        self.now("idle")
        shutil.rmtree(self.cache / "snapshots")
        (self.cache / "snapshots").mkdir()
        self.assertEqual(self.why(), ["the environment is another, and what it used of it is not known here"])


class Lineage(Chain):
    def test_back_and_on(self) -> None:
        self.ready()
        found = self.json("lineage", "results/report.md")
        self.assertEqual([one["name"] for one in found["steps"]], ["report", "fit", "clean"])
        self.assertEqual(found["raw"], [{"path": "raw/finds.csv", "is_same": True}])
        self.assertTrue(found["good"])
        on = self.json("lineage", "raw/finds.csv", "--forward")
        self.assertEqual([one["name"] for one in on["steps"]], ["clean", "fit", "report"])
        said = self.lapidar("lineage", "results/report.md").stdout
        self.assertIn("results/report.md is what report made.", said)
        self.assertIn("All of it rests on raw/finds.csv.", said)

    def test_what_is_not_as_it_was(self) -> None:
        self.ready()
        (self.project / "results/report.md").write_text("by hand\n")
        self.assertIn("is not what report made", self.lapidar("lineage", "results/report.md", code=1).stdout)
        self.refreshed()
        self.edit("raw/finds.csv", "2.25", "7.25")
        said = self.lapidar("lineage", "results/report.md", code=1).stdout
        self.assertIn("Changed since it was read: raw/finds.csv.", said)
        (self.project / "results/report.md").unlink()
        self.assertIn("results/report.md is gone.", self.lapidar("lineage", "results/report.md", code=1).stdout)

    def test_a_file_that_nobody_knows(self) -> None:
        self.ready()
        self.assertIn("No record knows the file nothing.csv", self.fails("lineage", "nothing.csv"))
        self.assertIn("There is raw/finds.csv", self.fails("lineage", "finds.csv"))

    def test_from_a_folder_below(self) -> None:
        self.ready()
        done = self.lapidar("lineage", "report.md", cwd=self.project / "results")
        self.assertIn("results/report.md is what report made.", done.stdout)

    def test_drawn_and_written(self) -> None:
        from prov.model import ProvDocument

        self.ready()
        for name in ("steps.svg", "steps.png", "steps.html"):
            self.lapidar("steps", "--picture", name)
        drawn = self.read("steps.svg")
        for word in ("clean", "up to date", "raw/finds.csv", "report.md"):
            self.assertIn(f">{word}</text>", drawn)
        self.assertTrue((self.project / "steps.png").read_bytes().startswith(b"\x89PNG"))
        self.assertNotIn("<script", self.read("steps.html"))
        self.assertIn("is no name of a drawing", self.fails("steps", "--picture", "steps.gif"))
        self.lapidar("lineage", "results/report.md", "--prov", "report.json", "--picture", "way.svg")
        document = ProvDocument.deserialize(source=str(self.project / "report.json"), format="json")
        runs = {str(one.label) for one in document.get_records() if str(one.get_type()) == "prov:Activity"}
        self.assertEqual(runs, {"clean", "fit", "report"})


class Shared(Chain):
    def test_a_clone_takes_its_results_from_the_cache(self) -> None:
        self.ready()
        clone = self.folder / "clone"
        clone.mkdir()
        self.addCleanup(shutil.rmtree, clone)
        for name in ("clean.py", "fit.py", "report.py", "lapidar.toml", "lapidar.lock"):
            shutil.copy(self.project / name, clone / name)
        shutil.copytree(self.project / "raw", clone / "raw")
        said = self.lapidar("refresh", cwd=clone).stdout
        self.assertIn("3 taken from earlier runs", said)
        self.assertEqual((clone / "results/report.md").read_text(), "# Kilns\n4\n")

    def test_a_script_with_a_place_of_its_own(self) -> None:
        """Its environment, and the copy that it runs in, lie in the cache, where otherwise nobody looks."""
        text = "# /// script\n# dependencies = []\n# ///\nopen('out.txt', 'w').write(open('in.txt').read())\n"
        (self.project / "alone.py").write_text(text)
        (self.project / "in.txt").write_text("one")
        self.lapidar("--script", "alone.py", "record")
        (self.project / "in.txt").write_text("two")
        told = json.loads(self.lapidar("--script", "alone.py", "refresh", "--json").stdout)["done"]
        self.assertEqual([(one["name"], one["how"], one["changed"]) for one in told], [("alone", "ran", ["out.txt"])])
        self.assertEqual(self.read("out.txt"), "two")
        self.assertIn("Nothing ran", self.lapidar("--script", "alone.py", "refresh").stdout)

    def test_somebody_elses_record_is_asked_about(self) -> None:
        (self.project / "lapidar.toml").unlink()
        self.lapidar("record", "--", "python", "clean.py")
        self.edit("raw/finds.csv", "2.25", "7.25")
        shutil.rmtree(self.cache / "runs")
        said = self.fails("refresh")
        self.assertIn("The record of clean in", said)
        self.assertIn("it would run `python clean.py`", said)
        self.assertEqual(self.refreshed("--yes"), {"clean": "ran"})

    def test_interrupted(self) -> None:
        self.ready()
        self.edit("clean.py", "import csv, os\n", "import csv, os, time\ntime.sleep(60)\n")
        with subprocess.Popen([PROGRAM, "refresh"], cwd=self.project, env=self.variables, stderr=subprocess.PIPE) as it:
            time.sleep(2.5)
            it.send_signal(signal.SIGINT)
            self.assertEqual(it.wait(timeout=20), 130)
        self.assertEqual(self.read("results/report.md"), "# Kilns\n4\n")
        left = [name for name in os.listdir(self.project / ".lapidar") if name.startswith("refresh-")]
        self.edit("clean.py", "time.sleep(60)\n", "")
        self.assertEqual(self.refreshed(), {"clean": "ran"}, left)

    def test_a_record_of_before(self) -> None:
        """One that does not say what its run stood on counts all of the environment, and nothing that it looked for."""
        self.ready()
        file = self.project / "lapidar.results"
        told = results.read(file)
        before = Path(file).read_bytes()
        import msgspec

        stripped: Any = results.Results()
        for one in told.analysis:
            stripped = results.with_analysis(stripped, msgspec.structs.replace(one, lists="", record=""))
        results.write(stripped, file)
        self.assertNotEqual(file.read_bytes(), before)
        self.assertEqual(self.refreshed(), {})
        self.edit("raw/finds.csv", "2.25", "7.25")
        self.assertEqual(set(self.refreshed().values()), {"ran"})


class Sweeps(Chain):
    """One analysis, run once for each of many values."""

    def setUp(self) -> None:
        super().setUp()
        (self.project / "fit.py").write_text("""
import os, sys
os.makedirs("fits", exist_ok=True)
kiln, seed = sys.argv[1:]
rows = open("raw/finds.csv").read().count("S")
open(f"fits/{kiln}-{seed}.txt", "w").write(f"{kiln} {os.environ['seed']} {rows // 2}\\n")
""")
        (self.project / "gather.py").write_text(
            'import glob\nopen("all.txt", "w").write("".join(open(one).read() for one in sorted(glob.glob("fits/*"))))\n'
        )
        (self.project / "lapidar.toml").write_text(self.declared("1..3"))

    @staticmethod
    def declared(seeds: str) -> str:
        return f"""
[analysis.fit]
command = "python fit.py {{kiln}} {{seed}}"
for = {{ kiln = ["upper", "river"], seed = "{seeds}" }}
[analysis.gather]
command = "python gather.py"
after = ["fit"]
"""

    def test_all_of_them(self) -> None:
        said = self.lapidar("refresh").stdout
        self.assertIn("fit: 6 runs made", said)
        self.assertEqual(self.read("all.txt").splitlines()[0], "river 1 1")
        self.assertIn("fit (6 runs)", self.lapidar("steps").stdout)
        recorded = results.read(self.project / "lapidar.results")
        self.assertEqual([(one.name, one.runs) for one in recorded.sweep], [("fit", 6)])
        self.assertEqual([one.name for one in recorded.analysis], ["gather"])
        self.assertEqual(self.refreshed(), {})
        self.assertIn("fit[upper,2]: nothing differs (identical).", self.lapidar("rerun", "fit[upper,2]").stdout)

    def test_more_of_them_and_what_gives_the_same(self) -> None:
        self.lapidar("refresh")
        (self.project / "lapidar.toml").write_text(self.declared("1..4"))
        self.assertEqual(set(self.refreshed()), {"fit[upper,4]", "fit[river,4]", "gather"})
        self.assertEqual(len(self.read("all.txt").splitlines()), 8)
        self.edit("raw/finds.csv", "S2", "S2S")  # three letters, halved: the same
        self.assertEqual(len(self.refreshed()), 8, "gather reads the same bytes, and does not run")
        (self.project / "fits/river-2.txt").unlink()
        self.assertEqual(self.refreshed(), {"fit[river,2]": "taken"})

    def test_one_that_fails(self) -> None:
        self.edit("fit.py", "rows =", 'assert seed != "2" or kiln != "upper"\nrows =')
        told = {one["name"]: one["how"] for one in self.json("refresh", code=1)["done"]}
        self.assertEqual(told["fit[upper,2]"], "failed")
        self.assertEqual(told["gather"], "held up")
        self.assertEqual(sum(how == "ran" for how in told.values()), 5)
        self.edit("fit.py", 'assert seed != "2" or kiln != "upper"\n', "")
        self.assertIn("fit[upper,2]", self.refreshed())

    def test_over_files(self) -> None:
        (self.project / "raw/more.csv").write_text("sherd,tin\nS9,1\n")
        (self.project / "count.py").write_text("""
import os, sys
open("counted-" + os.path.basename(sys.argv[1]), "w").write(str(len(open(sys.argv[1]).readlines())))
""")
        (self.project / "lapidar.toml").write_text(
            '[analysis.count]\ncommand = "python count.py {finds}"\nfor = { finds = "raw/*.csv" }\n'
        )
        self.assertEqual(set(self.refreshed()), {"count[finds.csv]", "count[more.csv]"})
        self.edit("raw/more.csv", "S9,1\n", "S9,1\nS8,2\n")
        self.assertEqual(set(self.refreshed()), {"count[more.csv]"})
        self.assertEqual(self.read("counted-more.csv"), "3")

    def test_that_makes_no_sense(self) -> None:
        for text, said in (
            ('command = "python fit.py {nothing}"\nfor = { kiln = ["a"] }', "`for` has no such value"),
            ('command = "python fit.py"\nfor = { seed = "1..1000000" }', "would be"),
            ('command = "python fit.py"\nfor = { seed = [] }', "has no values for 'seed'"),
            ('command = "python fit.py"\nfor = { "a b" = ["x"] }', "has no values for 'a b'"),
        ):
            with self.subTest(text=text):
                (self.project / "lapidar.toml").write_text(f"[analysis.fit]\n{text}\n")
                self.assertIn(said, self.fails("steps"))

    def test_kept_by_a_prune_and_by_a_clone(self) -> None:
        self.lapidar("refresh")
        self.lapidar("cache", "prune", "--history-days", "0")
        shutil.rmtree(self.project / "fits")
        self.assertEqual(set(self.refreshed().values()), {"taken"})
        self.assertEqual(len(self.read("all.txt").splitlines()), 6)

    def test_over_files_that_are_not_there(self) -> None:
        (self.project / "lapidar.toml").write_text(self.declared("1..3").replace('"1..3"', '"none/*.csv"'))
        said = self.lapidar("steps", code=1).stderr
        self.assertIn("fit has no run: what it is for", said)
        self.assertNotIn("there is none of that name", said)

    def test_in_a_parcel(self) -> None:
        self.lapidar("refresh")
        parcel = self.folder / "fits.parcel.tar"
        self.lapidar("parcel", "make", "--with-results", "--with-project", "--without-lapidar", "--to", parcel)
        far = self.folder / "far"
        far.mkdir()
        self.addCleanup(shutil.rmtree, far)
        variables = {**self.variables, "LAPIDAR_CACHE": str(far / "cache")}
        self.lapidar("parcel", "open", parcel, "--into", far / "project", env=variables)
        self.lapidar("restore", env=variables, cwd=far / "project")
        told = json.loads(self.lapidar("steps", "--json", env=variables, cwd=far / "project").stdout)
        self.assertEqual({one["standing"] for one in told["steps"] if one["sweep"]}, {"up to date"})
        said = self.lapidar("rerun", "fit[upper,2]", "--yes", env=variables, cwd=far / "project").stdout
        self.assertIn("nothing differs (identical)", said)

    def test_a_prune_of_another_cache(self) -> None:
        """Of what it never had the list of it needs nothing, and is in no doubt."""
        self.lapidar("refresh")
        other = self.folder / "other-cache"
        self.addCleanup(shutil.rmtree, other)
        shutil.copytree(self.cache, other, symlinks=True)
        shutil.rmtree(other / "runs")
        listing = results.read(self.project / "lapidar.results").sweep[0].listing.removeprefix("sha256:")
        for path in other.rglob(f"*{listing[2:]}*"):
            path.unlink()
        self.variables["LAPIDAR_CACHE"] = str(other)
        self.lapidar("record", "gather", "--", "python", "gather.py")
        self.lapidar("cache", "prune", "--history-days", "0")

    def test_killed_it_goes_on(self) -> None:
        (self.project / "lapidar.toml").write_text(self.declared("1..10"))
        self.edit("fit.py", "import os, sys\n", "import os, sys, time\ntime.sleep(0.3)\n")
        with subprocess.Popen(
            [PROGRAM, "refresh"], cwd=self.project, env=self.variables, stdout=subprocess.DEVNULL
        ) as it:
            noted = self.cache / "runs"
            while not noted.is_dir() or len(list(noted.glob("*.results"))) < 3:
                time.sleep(0.02)
            it.send_signal(signal.SIGKILL)
        told = self.refreshed()
        self.assertEqual(set(told.values()), {"ran", "taken"})
        self.assertEqual(len(self.read("all.txt").splitlines()), 20)


class Team(Chain):
    """Runs that a colleague made, and that came by a store."""

    def setUp(self) -> None:
        super().setUp()
        self.declare_in_order()
        with (self.project / "lapidar.toml").open("a") as declared:
            declared.write('[conditions]\nnumerics = "portable"\n')
        self.lapidar("capture", self.captured)
        self.lapidar("restore")
        config = self.folder / "config/lapidar"
        config.mkdir(parents=True)
        for name in ("potter", "stranger"):
            words = ["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", "", "-f", str(self.folder / name)]
            subprocess.run(words, check=True)
        key = (self.folder / "potter.pub").read_text()
        (config / "signers").write_text(f'potter@kilns.example namespaces="lapidar" {key}')
        self.config = config / "config.toml"
        self.store = self.folder / "store"
        self.variables |= {"XDG_CONFIG_HOME": str(self.folder / "config"), "LAPIDAR_STORE": str(self.store)}
        # She has changed the data, and run all.
        self.edit("raw/finds.csv", "2.25", "7.25")
        self.lapidar("refresh")
        self.lapidar("parcel", "send", self.store, "--with-results", "--yes")
        clone = self.folder / "clone"
        clone.mkdir()
        for name in ("clean.py", "fit.py", "report.py", "lapidar.toml", "lapidar.lock", "raw"):
            source = self.project / name
            (shutil.copytree if source.is_dir() else shutil.copy)(source, clone / name)
        self.project = clone
        self.variables["LAPIDAR_CACHE"] = str(self.folder / "another cache")
        self.lapidar("restore", "--fetch")

    def sign(self, who: str) -> None:
        self.lapidar("parcel", "sign", self.store, "--key", self.folder / who)

    def test_what_somebody_trusted_signed_is_taken(self) -> None:
        said = self.lapidar("refresh", "--fetch", "--dry-run", code=1).stdout
        self.assertIn("3 steps would run", said)
        self.config.write_text('[trust]\nsigners = "signers"\n')
        self.sign("potter")
        done = self.lapidar("refresh", "--fetch")
        self.assertIn("clean: taken from the run that potter@kilns.example signed", done.stdout)
        self.assertIn("3 taken from earlier runs.", done.stdout)
        self.assertEqual(self.read("results/report.md"), "# Kilns\n9\n")
        self.assertEqual(self.refreshed(), {})
        self.lapidar("rerun", "report")
        self.edit("raw/finds.csv", "7.25", "1.25")
        self.assertEqual(set(self.refreshed("--fetch").values()), {"ran"}, "she did not run that")

    def test_what_nobody_trusted_signed_is_not(self) -> None:
        self.sign("stranger")
        done = self.lapidar("refresh", "--fetch")
        self.assertIn("3 steps ran", done.stdout)
        self.assertIn("your configuration names nobody whom you trust", done.stderr)
        self.config.write_text('[trust]\nsigners = "signers"\n')
        shutil.rmtree(self.project / "results")
        (self.project / "lapidar.results").unlink()
        shutil.rmtree(self.folder / "another cache/runs")
        self.assertEqual(set(self.refreshed("--fetch").values()), {"ran"})

    def test_a_store_that_is_damaged_or_away(self) -> None:
        self.config.write_text('[trust]\nsigners = "signers"\n')
        self.sign("potter")
        for blob in sorted((self.store / "blobs/sha256").iterdir(), key=lambda one: one.stat().st_size)[:40]:
            data = blob.read_bytes()
            if not data.startswith(b"{"):
                blob.write_bytes(data[:-1] + bytes([data[-1] ^ 1]))
        self.assertEqual(set(self.refreshed("--fetch").values()), {"ran"})
        self.assertEqual(self.read("results/report.md"), "# Kilns\n9\n")
        self.store.rename(self.folder / "away")
        self.edit("raw/finds.csv", "7.25", "1.25")
        self.assertEqual(set(self.refreshed("--fetch").values()), {"ran"})


class Kept(Chain):
    """A step that goes on where an attempt that was broken off had come to."""

    def setUp(self) -> None:
        super().setUp()
        (self.project / "fit.py").write_text(
            """
import glob, os, time
rows = len(open("results/clean.csv").readlines())
os.makedirs("checkpoints", exist_ok=True)
begun = max([int(name.split("-")[1]) for name in glob.glob("checkpoints/at-*")], default=0)
print("from", begun)
for number in range(begun, 3):
    open(f"checkpoints/at-{number + 1}", "w").write("x")
    time.sleep(0.1 if begun else SLOW)
open("results/fit.txt", "w").write(f"{rows}\\n")
""".replace("SLOW", "float(open('raw/pace').read())")
        )
        (self.project / "raw/pace").write_text("0")
        self.declare_in_order()
        self.edit("lapidar.toml", "[analysis.fit]\n", '[analysis.fit]\nkeep = ["checkpoints/*"]\nat-most = 30\n')
        self.lapidar("refresh")
        shutil.rmtree(self.project / "checkpoints")

    def recorded(self) -> results.Analysis:
        found = results.read(self.project / "lapidar.results").named("fit")
        assert found is not None
        return found

    def test_it_goes_on(self) -> None:
        self.assertEqual(self.refreshed(), {}, "what it keeps is no file that it stands on")
        self.edit("lapidar.toml", "at-most = 30", "at-most = 1")
        (self.project / "raw/pace").write_text("60")
        told = {one["name"]: one for one in self.json("refresh", code=1)["done"]}
        self.assertIn("what it kept is there for the next attempt", told["fit"]["error"])
        self.assertEqual(self.json("cache", "audit")["unknown"], [], "what attempts leave is the cache's own")
        self.assertFalse((self.project / "checkpoints").exists())
        self.assertEqual(self.refreshed("--really", "fit", "--only", code=1), {"fit": "failed"}, "from the start")
        self.assertEqual(self.refreshed(), {"fit": "ran"})
        names = {file.name for file in (*self.recorded().input, *self.recorded().result, *self.recorded().source)}
        self.assertEqual(names, {"results/clean.csv", "raw/pace", "fit.py", "results/fit.txt"})
        self.assertEqual(self.refreshed(), {})
        (self.project / "raw/pace").write_text("0")
        self.lapidar("refresh")
        self.lapidar("rerun", "fit")

    def test_what_was_kept_of_something_else(self) -> None:
        self.edit("lapidar.toml", "at-most = 30", "at-most = 1")
        (self.project / "raw/pace").write_text("60")
        self.refreshed(code=1)
        self.edit("raw/finds.csv", "2.25", "8.25")
        self.assertEqual(self.refreshed(code=1)["fit"], "failed", "it began anew: what it reads is another")

    def test_what_was_kept_is_damaged(self) -> None:
        self.edit("lapidar.toml", "at-most = 30", "at-most = 1")
        (self.project / "raw/pace").write_text("60")
        self.refreshed(code=1)
        for path in (self.cache / "files").rglob("*"):
            if path.is_file() and path.read_bytes() == b"x":
                path.chmod(0o644)
                path.write_bytes(b"y")
        self.assertEqual(self.refreshed(code=1)["fit"], "failed", "it began anew")

    def test_what_is_the_projects_is_no_state(self) -> None:
        """A pattern that names too much hides nothing that a step reads."""
        self.edit("lapidar.toml", '["checkpoints/*"]', '["*.py", "raw/*", "results/clean.csv", "checkpoints/*"]')
        done = self.lapidar("record", "fit")
        self.assertIn("counts as read although `keep` names it", done.stderr)
        names = {file.name for file in (*self.recorded().input, *self.recorded().source)}
        self.assertEqual(names, {"results/clean.csv", "raw/pace", "fit.py"})
        self.edit("raw/finds.csv", "S1,1.5", "S1,1.5\nS7,1.0")
        self.assertEqual(self.refreshed(), {"clean": "ran", "fit": "ran", "report": "ran"})
        self.assertEqual(self.refreshed(), {})

    def test_a_prune_leaves_it(self) -> None:
        self.edit("lapidar.toml", "at-most = 30", "at-most = 1")
        (self.project / "raw/pace").write_text("60")
        self.refreshed(code=1)
        self.lapidar("cache", "prune")
        self.assertEqual(self.refreshed(), {"fit": "ran"})


class FromRaw(Chain):
    def test_the_whole_chain(self) -> None:
        self.ready()
        said = self.lapidar("rerun", "report", "--from-raw").stdout
        self.assertIn("From the raw data on (clean -> fit -> report) nothing differs.", said)
        self.edit("raw/finds.csv", "2.25", "7.25")
        self.lapidar("rerun", "report", "--from-raw")  # from the recorded data

    def test_one_that_changed_the_raw_data_later(self) -> None:
        """What the others read was there before it: it is no part of what they stand on."""
        self.ready()
        self.lapidar("record", "later", "--", "python", "-c", "open('raw/finds.csv', 'a').write('S3,1.0\\n')")
        said = self.lapidar("rerun", "report", "--from-raw").stdout
        self.assertIn("From the raw data on (clean -> fit -> report) nothing differs.", said)

    def test_where_a_difference_begins(self) -> None:
        (self.project / "fit.py").write_text(
            'import time\nopen("results/clean.csv").read()\nopen("results/fit.txt", "w").write(str(time.time_ns()))\n'
        )
        self.ready()
        said = self.lapidar("rerun", "report", "--from-raw", code=1).stdout
        self.assertIn("the first that differs is fit.", said)
        self.assertNotIn("report: nothing differs", said)
        self.lapidar("rerun", "report")
        self.assertIn("There is no record of an analysis other", self.fails("rerun", "other", "--from-raw"))
