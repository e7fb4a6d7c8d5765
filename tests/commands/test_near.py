"""Environments in a folder of this node: made once for many processes, kept while somebody runs in them."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import time
from pathlib import Path

from commands.test_parcel import OfKiln
from support import PROGRAM
from toy.kiln import add_package, make_kiln


class OnANode(OfKiln):
    def setUp(self) -> None:
        super().setUp()
        self.make()
        self.near = self.folder / "scratch"
        self.near.mkdir()
        self.variables["LAPIDAR_NEAR"] = str(self.near)
        self.whole_cache = self.cache
        self.elsewhere()
        self.variables["LAPIDAR_CACHE"] = str(self.folder / "no cache")

    @property
    def own(self) -> Path:
        return self.near / f"lapidar-{os.getuid()}"

    def environments(self) -> list[Path]:
        return sorted(path for path in self.own.glob("*/env"))

    def begun(self, *words: object) -> subprocess.Popen[str]:
        command = [PROGRAM, "run", "--from", str(self.parcel), "--", *map(str, words)]
        return subprocess.Popen(
            command, cwd=self.project, env=self.variables, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
        )

    def test_many_at_once_make_one(self) -> None:
        processes = [self.begun("sh", "-c", 'echo "$VIRTUAL_ENV"; ls -id "$VIRTUAL_ENV"') for _ in range(12)]
        said = {process.communicate(timeout=60)[0] for process in processes}
        self.assertEqual(len(said), 1, said)
        self.assertEqual([process.returncode for process in processes], [0] * 12)
        self.assertEqual(len(self.environments()), 1)
        self.assertEqual(self.own.stat().st_mode & 0o777, 0o700)
        self.parcel.rename(self.folder / "moved.tar")
        self.lapidar("run", "--from", self.folder / "moved.tar", "--", "true")
        self.assertEqual(len(self.environments()), 1)

    def test_of_a_project_and_its_cache(self) -> None:
        self.variables["LAPIDAR_CACHE"] = str(self.whole_cache)
        self.project = self.folder / "project"
        self.lapidar("restore", "--near")
        self.assertEqual(
            self.lapidar("run", "--near", "--", "sh", "-c", "echo $VIRTUAL_ENV").stdout.strip(),
            str(self.environments()[0]),
        )
        self.lapidar("restore", "--near", self.folder, "--from", self.parcel)
        self.assertTrue((self.folder / f"lapidar-{os.getuid()}").is_dir())
        self.assertIn("Two environments are named", self.fails("run", "--near", "--env", "x", "--", "true"))

    def test_killed_while_it_is_made(self) -> None:
        for moment in (0.12, 0.2, 0.3):
            process = self.begun("true")
            time.sleep(moment)
            process.send_signal(signal.SIGKILL)
            process.communicate()
        self.lapidar("run", "--from", self.parcel, "--", "true")
        self.assertEqual(len(self.environments()), 1)

    def test_what_nobody_uses_goes_and_what_somebody_runs_in_stays(self) -> None:
        self.lapidar("run", "--from", self.parcel, "--", "true")
        (first,) = self.environments()
        sleeper = subprocess.Popen(
            [PROGRAM, "run", "--from", self.parcel, "--", "sh", "-c", "echo here; read line; ls -d $VIRTUAL_ENV"],
            cwd=self.project, env=self.variables, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True,
        )  # fmt: skip
        assert sleeper.stdout
        self.assertEqual(sleeper.stdout.readline(), "here\n")
        self.other_parcel("2.0")
        os.utime(first.parent / "used", (0, 0))
        self.lapidar("run", "--from", self.parcel, "--", "true")
        self.assertEqual(len(self.environments()), 2, "somebody runs in it")
        said, _ = sleeper.communicate("\n")
        self.assertEqual(said.strip(), str(first))
        self.other_parcel("3.0")
        os.utime(first.parent / "used", (0, 0))
        self.lapidar("run", "--from", self.parcel, "--", "true")
        self.assertNotIn(first, self.environments())
        self.assertEqual(len(self.environments()), 2)

    def other_parcel(self, version: str) -> None:
        here, near = self.project, self.variables["LAPIDAR_CACHE"]
        self.variables["LAPIDAR_CACHE"] = str(self.whole_cache)
        self.project = self.folder / "project"
        shutil.rmtree(self.project / "kiln", ignore_errors=True)
        kiln = make_kiln(self.project / "kiln", tin=("lead",), lead=(), ash=())
        add_package(kiln, "soda", version)
        self.lapidar("capture", kiln)
        self.make()
        self.project, self.variables["LAPIDAR_CACHE"] = here, near

    def test_a_folder_that_will_not_do(self) -> None:
        self.own.mkdir(mode=0o755)
        self.assertIn("is not yours alone", self.fails("run", "--from", self.parcel, "--", "true"))
        self.own.rmdir()
        self.own.symlink_to(self.folder)
        self.assertIn("is not yours alone", self.fails("run", "--from", self.parcel, "--", "true"))
        self.own.unlink()
        self.variables["LAPIDAR_NEAR"] = str(self.folder / "nowhere")
        self.assertIn("There is no folder", self.fails("run", "--from", self.parcel, "--", "true"))
        self.variables["LAPIDAR_NEAR"] = str(self.near)
        mounts = 'mount -t tmpfs -o {} none "$1" && shift && exec "$@"'
        for options, told in (("noexec", "Nothing may be executed"), ("size=8k", "no space is left")):
            words = (self.near, PROGRAM, "run", "--from", self.parcel, "--", "true")
            done = self.in_namespace(mounts.format(options), *words)
            self.assertEqual(done.returncode, 3, done.stderr)
            self.assertIn(told, done.stderr)
