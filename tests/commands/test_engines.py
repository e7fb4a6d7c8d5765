"""Steps on other machines: a real batch system of two nodes, a real scheduler of tasks with two workers."""

from __future__ import annotations

import json
import shutil
import signal
import subprocess
import tarfile
import tempfile
import time
from pathlib import Path
from typing import ClassVar

import batch
from commands import test_steps
from lapidar.core.records import results
from roots import bare_root
from support import PROGRAM, many


class OnSlurm(test_steps.Chain):
    slurm: ClassVar[batch.Slurm]
    _slurm_folder: ClassVar[Path]

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        if batch.is_here():
            cls._slurm_folder = Path(tempfile.mkdtemp(prefix="lapidar-slurm-", dir="/tmp"))
            cls._slurm_folder.chmod(0o755)
            cls.addClassCleanup(shutil.rmtree, cls._slurm_folder, ignore_errors=True)
            cls.slurm = batch.Slurm(cls._slurm_folder)
            cls.addClassCleanup(cls.slurm.stop)

    def setUp(self) -> None:
        if not batch.is_here():
            self.skipTest(
                "there is no Slurm here (Debian's slurmctld, slurmd, slurm-client, munge), or this is not root"
            )
        super().setUp()
        near = self.folder / "near"
        near.mkdir(exist_ok=True)
        self.variables |= {
            **self.slurm.variables,
            "LAPIDAR_NEAR": str(near),
            "XDG_CONFIG_HOME": str(self.folder / "config"),
        }
        self.configure("")

    def configure(self, more: str) -> None:
        file = self.folder / "config/lapidar/config.toml"
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_text(f'[engine.cluster]\nkind = "slurm"\n{more}')

    def sleeping(self, seconds: float) -> None:
        with (self.project / "clean.py").open("a") as script:
            script.write(f"import time\ntime.sleep({seconds})\n")

    def goes_on(self) -> None:
        """A fit that takes very long, unless an attempt before it had begun."""
        (self.project / "fit.py").write_text(
            "import os, time\nopen('results/clean.csv').read()\nbegun = os.path.exists('half')\nopen('half', 'w').close()\n"
            "time.sleep(0 if begun else 600)\nopen('results/fit.txt', 'w').write('half and half')\n"
        )

    def jobs(self) -> list[str]:
        return self.slurm.ask("squeue", "-h", "-r", "-n", "lapidar", "-o", "%i").split()

    def until_it_runs(self) -> str:
        for _ in range(200):
            told = self.slurm.ask("squeue", "-h", "-r", "-n", "lapidar", "-t", "R", "-o", "%i").split()
            if told:
                return told[0]
            time.sleep(0.1)
        raise AssertionError("no job came to run")

    def test_a_chain_has_the_bytes_of_one_machine(self) -> None:
        self.declare_in_order()
        told = self.json("refresh", "--on", "cluster")["done"]
        self.assertEqual({one["name"]: one["how"] for one in told}, dict.fromkeys(("clean", "fit", "report"), "ran"))
        self.assertTrue(all(any("it ran on n" in note for note in one["notes"]) for one in told), told)
        self.assertEqual(self.read("results/report.md"), "# Kilns\n4\n")
        self.assertEqual(list((self.cache / "work").rglob("*")), [self.cache / "work/batches"], "nothing is left of it")
        self.assertEqual(self.refreshed(), {}, "what ran there is what would run here")
        self.edit("raw/finds.csv", "2.25", "7.25")
        self.assertEqual(set(self.refreshed("--on", "cluster").values()), {"ran"})
        self.assertEqual(self.read("results/report.md"), "# Kilns\n9\n")
        self.lapidar("rerun", "report")
        self.edit("raw/finds.csv", "7.25", "2.25")
        self.assertEqual(set(self.refreshed("--on", "cluster").values()), {"taken"})

    def test_what_comes_after_is_handed_over_with_it(self) -> None:
        """Who asked may go: jobs wait for each other in the queue, and take what those before them made."""
        self.ready()
        self.edit("raw/finds.csv", "2.25", "7.25")
        done = self.json("refresh", "--on", "cluster", "--hand-over")
        self.assertEqual((done["done"], done["handed_over"]), ([], ["clean", "fit", "report"]))
        self.assertEqual(self.read("results/report.md"), "# Kilns\n4\n", "nothing has come here yet")
        self.assertIn("3 steps handed over to run elsewhere", self.lapidar("steps", code=1).stdout)
        while self.jobs():
            time.sleep(0.2)
        told = json.loads(self.lapidar("steps", "--json", code=1).stdout)["handed_over"]
        self.assertEqual(told, dict.fromkeys(("clean", "fit", "report"), True))
        self.assertEqual(set(self.refreshed().values()), {"taken"}, "here too")
        self.assertEqual(self.read("results/report.md"), "# Kilns\n9\n")
        self.edit("raw/finds.csv", "7.25", "7.26")
        self.assertEqual(self.refreshed("--on", "cluster"), {"clean": "ran", "fit": "ran"}, "the report stands")
        self.edit("raw/finds.csv", "7.26", "1.25")
        before = self.arrays()
        for _ in range(2):
            self.lapidar("refresh", "--on", "cluster", "--hand-over")
        self.assertLessEqual(set(self.refreshed("--on", "cluster").values()), {"ran", "taken"}, "what ended is taken")
        self.assertEqual(len(self.arrays() - before), 3, "and hands it over once")
        self.assertEqual(self.read("results/report.md"), "# Kilns\n3\n")
        self.assertEqual(list((self.cache / "work").rglob("*")), [self.cache / "work/batches"])

    def test_a_node_that_has_nothing(self) -> None:
        """Neither Python nor a shell's worth of anything: a root of its own with the Lapidar out of a parcel."""
        root = bare_root(self, self.folder / "bare")
        parcel = self.folder / "it.parcel.tar"
        self.declare_in_order()
        self.lapidar("parcel", "make", "--to", parcel)
        with tarfile.open(parcel) as outer, tarfile.open(fileobj=outer.extractfile("lapidar.tar.gz")) as inner:
            inner.extractall(root / "shared", filter="fully_trusted")
        (inside := root / str(self.cache).lstrip("/")).mkdir(parents=True)
        enter = self.folder / "enter"
        enter.write_text(
            f"#!/bin/sh\nexec unshare --mount sh -c 'mount --bind {self.cache} {inside} && mount -t proc proc {root}/proc && "
            f"exec chroot {root} /bin/env -i PATH=/bin SLURM_ARRAY_TASK_ID=$SLURM_ARRAY_TASK_ID "
            'SLURMD_NODENAME=bare /shared/lapidar/env/bin/lapidar "$@"\' enter "$@"\n'
        )
        enter.chmod(0o755)
        self.configure(f'lapidar = "{enter}"\n')
        told = self.json("refresh", "--on", "cluster")["done"]
        self.assertEqual([one["notes"] for one in told], [["it ran on bare"]] * 3)
        self.assertEqual(self.read("results/report.md"), "# Kilns\n4\n")
        self.assertEqual(self.refreshed(), {})

    def test_a_sweep_and_what_gathers_it(self) -> None:
        (self.project / "fit.py").write_text(
            "import os, sys\nos.makedirs('fits', exist_ok=True)\nopen('fits/' + sys.argv[1], 'w').write(os.environ['seed'])\n"
        )
        (self.project / "gather.py").write_text(
            "import glob\nopen('all.txt', 'w').write(' '.join(sorted(glob.glob('fits/*'))))\n"
        )
        (self.project / "lapidar.toml").write_text(
            '[analysis.fit]\ncommand = "python fit.py {seed}"\nfor = { seed = "1..3" }\n'
            '[analysis.gather]\ncommand = "python gather.py"\nafter = ["fit"]\n'
        )
        before = self.arrays()
        self.assertEqual(self.refreshed("--on", "cluster")["gather"], "ran")
        self.assertEqual(self.read("all.txt"), "fits/1 fits/2 fits/3")
        self.assertEqual(len(self.arrays() - before), 2, "both were handed over at once")
        self.assertEqual(self.refreshed(), {})

    def test_a_step_that_goes_on_at_the_next_attempt(self) -> None:
        self.ready()
        self.goes_on()
        self.edit("lapidar.toml", "[analysis.fit]\n", '[analysis.fit]\nkeep = ["half"]\nat-most = 2\n')
        told = {one["name"]: one for one in self.json("refresh", "--on", "cluster", code=1)["done"]}
        self.assertIn("what it kept is there for the next attempt", told["fit"]["error"])
        self.assertEqual(self.refreshed("fit", "--really", "--on", "cluster", code=1), {"fit": "failed"}, "anew")
        self.assertEqual(self.refreshed("--on", "cluster"), {"fit": "ran", "report": "ran"})
        self.assertFalse((self.project / "half").exists())

    def test_a_job_that_is_requeued(self) -> None:
        """The batch system takes its node away: it says so first, and what the step keeps is there at the next."""
        self.ready()
        self.goes_on()
        self.edit("lapidar.toml", "[analysis.fit]\n", '[analysis.fit]\nkeep = ["half"]\n')
        words = [PROGRAM, "refresh", "fit", "--json", "--on", "cluster"]
        with subprocess.Popen(words, cwd=self.project, env=self.variables, stdout=subprocess.PIPE, text=True) as it:
            job = self.until_it_runs()
            kept = self.cache / "work/kept"
            time.sleep(3)  # it is somewhere in its long sleep
            self.slurm.ask("scontrol", "requeue", job)
            while not kept.is_dir() or not list(kept.iterdir()):
                time.sleep(0.2)
            # The controller would let it wait for two minutes.
            while "BeginTime" not in self.slurm.ask("squeue", "-h", "-r", "-j", job, "-o", "%r"):
                time.sleep(0.2)
            self.slurm.ask("scontrol", "update", f"JobId={job}", "StartTime=now")
            (told,) = json.loads(it.communicate()[0])["done"]
        self.assertEqual(told["how"], "ran")
        self.assertIn("at attempt 2", told["notes"][0])
        found = results.read(self.project / "lapidar.results").named("fit")
        assert found is not None
        self.assertEqual({one.path for one in (*found.source, *found.input)}, {"fit.py", "results/clean.csv"})

    def test_one_that_wants_more_memory_than_it_declares(self) -> None:
        self.ready()
        self.edit("lapidar.toml", "[analysis.fit]\n", '[analysis.fit]\nmemory = "300MB"\n')
        self.edit("fit.py", "import csv\n", "import csv\nmuch = bytearray(500_000_000)\n")
        told = {one["name"]: one for one in self.json("refresh", "--on", "cluster", code=1)["done"]}
        self.assertEqual((told["fit"]["how"], told["fit"]["said"][-1]), ("failed", "MemoryError"))
        self.assertIn("held up", told["report"]["how"])

    def test_one_that_looks_for_more_than_it_was_given(self) -> None:
        (self.project / "lapidar.toml").unlink()
        (self.project / "which.txt").write_text("raw/finds.csv")
        (self.project / "look.py").write_text('open("out.txt", "w").write(open(open("which.txt").read()).read())\n')
        self.lapidar("record", "--", "python", "look.py")
        (self.project / "raw/second.csv").write_text("second\n")
        (self.project / "which.txt").write_text("raw/second.csv")
        self.assertEqual(self.refreshed("--on", "cluster"), {"look": "ran"})
        self.assertEqual(self.read("out.txt"), "second\n")

    def test_one_that_fails_there(self) -> None:
        self.ready()
        self.edit("fit.py", "import csv\n", 'import csv, sys\nsys.exit("no kiln here")\n')
        told = {one["name"]: one for one in self.json("refresh", "--on", "cluster", code=1)["done"]}
        self.assertEqual((told["fit"]["how"], told["fit"]["error"]), ("failed", "exit code 1"))
        self.assertEqual(told["fit"]["said"], ["no kiln here"])
        self.assertEqual(self.jobs(), [])

    def test_who_asked_is_killed(self) -> None:
        self.ready()
        self.sleeping(3)
        with subprocess.Popen([PROGRAM, "refresh", "--on", "cluster"], cwd=self.project, env=self.variables) as it:
            job = self.until_it_runs()
            it.send_signal(signal.SIGKILL)
        self.assertEqual(self.refreshed("clean", "--on", "cluster"), {"clean": "ran"})
        self.assertEqual(self.slurm.ask("squeue", "-h", "-r", "-n", "lapidar", "-t", "all", "-o", "%A").split().count(
            job.partition("_")[0]), 1, "it was waited for, and not handed over again")  # fmt: skip
        while self.jobs():
            time.sleep(0.2)
        self.sleeping(1)
        with subprocess.Popen([PROGRAM, "refresh", "--on", "cluster"], cwd=self.project, env=self.variables) as it:
            self.until_it_runs()
            it.send_signal(signal.SIGKILL)
        while self.jobs():
            time.sleep(0.2)
        self.assertEqual(self.refreshed("clean"), {"clean": "taken"}, "it ended meanwhile: here too it is taken")

    def test_a_job_that_is_cancelled_by_hand(self) -> None:
        self.ready()
        self.configure("tries = 1\n")
        self.sleeping(60)
        with subprocess.Popen(
            [PROGRAM, "refresh", "--on", "cluster"],
            cwd=self.project,
            env=self.variables,
            stdout=subprocess.PIPE,
            text=True,
        ) as it:
            self.slurm.ask("scancel", self.until_it_runs())
            said = it.communicate()[0]
        self.assertEqual(it.returncode, 1)
        self.assertIn("came to nothing: it was cancelled, or its node died", said)
        self.assertEqual(self.read("results/report.md"), "# Kilns\n4\n")

    def test_a_node_that_dies(self) -> None:
        self.ready()
        self.sleeping(2)
        with subprocess.Popen(
            [PROGRAM, "refresh", "clean", "--on", "cluster"],
            cwd=self.project,
            env=self.variables,
            stdout=subprocess.PIPE,
            text=True,
        ) as it:
            job = self.until_it_runs()
            node = self.slurm.ask("squeue", "-h", "-r", "-j", job, "-o", "%N").strip()
            self.slurm.kill(f"slurmd-{node}")
            self.slurm.ask("scancel", "--signal=KILL", "--full", job)
            self.slurm.start(node)
            said = it.communicate()[0]
        self.assertEqual(it.returncode, 0, said)
        self.assertIn("clean: ran", said)

    def arrays(self) -> set[str]:
        told = self.slurm.ask("squeue", "-h", "-r", "-t", "all", "-n", "lapidar", "-o", "%F")
        return set(told.split())

    def test_two_hundred_runs(self) -> None:
        runs = many(200, 60)
        (self.project / "fit.py").write_text(
            "import os, sys\nos.makedirs('fits', exist_ok=True)\nopen('fits/' + sys.argv[1], 'w').write(os.environ['seed'])\n"
        )
        (self.project / "lapidar.toml").write_text(
            f'[analysis.fit]\ncommand = "python fit.py {{seed}}"\nfor = {{ seed = "1..{runs}" }}\n'
        )
        before = self.arrays()
        self.assertEqual(len(self.refreshed("--on", "cluster")), runs)
        self.assertEqual({one.name for one in (self.project / "fits").iterdir()}, set(map(str, range(1, runs + 1))))
        # An array holds as many as the cluster allows, here 50: nothing is handed over one by one.
        self.assertEqual(len(self.arrays() - before), -(-runs // 50))
        self.assertEqual(self.refreshed(), {})

    def test_what_cannot_be_used(self) -> None:
        self.declare_in_order()
        self.assertIn("There is no engine nowhere", self.fails("refresh", "--on", "nowhere"))
        self.configure('options = ["--partition=none"]\n')
        self.assertIn("sbatch failed", self.lapidar("refresh", "--on", "cluster", code=3).stderr)
        file = self.folder / "config/lapidar/config.toml"
        file.write_text('[engine.cluster]\nkind = "other"\n')
        self.assertIn("of an unknown kind", self.fails("refresh", "--on", "cluster"))
        file.write_text('[engine.cluster]\nkind = "slurm"\nnothing = 1\n')
        self.assertIn("is not valid", self.lapidar("refresh", "--on", "cluster", code=3).stderr)


class OnDask(test_steps.Chain):
    def setUp(self) -> None:
        super().setUp()
        near = self.folder / "near"
        near.mkdir(exist_ok=True)
        self.variables["LAPIDAR_NEAR"] = str(near)
        self.scheduler = batch.Scheduler(self.folder, self.variables)
        self.addCleanup(self.scheduler.stop)

    def test_a_chain_and_a_sweep(self) -> None:
        self.declare_in_order()
        on = ("--on", self.scheduler.address)
        self.assertEqual(self.refreshed(*on), dict.fromkeys(("clean", "fit", "report"), "ran"))
        self.assertEqual(self.read("results/report.md"), "# Kilns\n4\n")
        self.assertEqual(self.refreshed(), {})
        self.edit("raw/finds.csv", "2.25", "2.26")
        self.assertEqual(self.refreshed(*on), {"clean": "ran", "fit": "ran"}, "the report stands")
        self.edit("fit.py", "import csv\n", 'import csv, sys\nsys.exit("no kiln here")\n')
        told = {one["name"]: one for one in self.json("refresh", *on, code=1)["done"]}
        self.assertEqual((told["fit"]["error"], told["fit"]["said"]), ("exit code 1", ["no kiln here"]))
        (self.project / "gather.py").write_text("open('all.txt', 'w').write('x')\n")
        (self.project / "fit.py").write_text(
            "import os, sys\nos.makedirs('fits', exist_ok=True)\nopen(f'fits/{sys.argv[1]}-{sys.argv[2]}', 'w').write('x')\n"
        )
        (self.project / "lapidar.toml").write_text(test_steps.Sweeps.declared("1..5"))
        self.assertEqual(len(self.refreshed("fit", *on)), 10)
        self.assertEqual(len(list((self.project / "fits").iterdir())), 10)

    def test_nobody_answers(self) -> None:
        self.declare_in_order()
        self.assertIn("No scheduler answers", self.lapidar("refresh", "--on", "tcp://127.0.0.1:9", code=3).stderr)
