"""lapidar restore and lapidar run."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import unittest
from pathlib import Path

from lapidar.core.cache.history import History
from lapidar.core.cache.store import Cache
from lapidar.core.records import lockfile
from support import PROGRAM, Case, install, site_of, tree_of, wheel


class Restoring(Case):
    def setUp(self) -> None:
        super().setUp()
        self.venv = self.environment(
            wheel(
                self.folder,
                "sherdlib",
                entry_points="[console_scripts]\nsherd = sherdlib:main\n",
                files={"sherdlib.py": "def main():\n    return 7\n"},
            )
        )
        self.lapidar("capture", self.venv)

    def test_it_replaces_an_older_one_in_one_step(self) -> None:
        self.lapidar("restore")
        (self.restored / "left-over").write_text("x")
        install(wheel(self.folder, "kilnlib"), self.venv)
        self.lapidar("capture", self.venv)
        said = self.lapidar("restore").stdout
        self.assertIn("Replaced", said)
        self.assertFalse((self.restored / "left-over").exists())
        self.assertEqual(self.python(self.restored, "import kilnlib; print(kilnlib.VERSION)"), "1.0")
        self.assertEqual([path.name for path in self.restored.parent.iterdir() if "lapidar-" in path.name], [])

    def test_it_does_nothing_where_all_matches(self) -> None:
        self.lapidar("restore")
        inode = self.restored.stat().st_ino
        self.assertIn("already matches", self.lapidar("restore").stdout)
        self.assertEqual(self.restored.stat().st_ino, inode)
        (site_of(self.restored) / "sherdlib.py").unlink()
        self.assertIn("Replaced", self.lapidar("restore").stdout)

    def test_it_keeps_itself_out_of_version_control(self) -> None:
        self.lapidar("restore")
        subprocess.run(["git", "init", "-q"], cwd=self.project, check=True)
        done = subprocess.run(
            ["git", "status", "--porcelain", "--untracked-files=all"],
            cwd=self.project,
            check=True,
            capture_output=True,
            text=True,
        )
        # What is left says that the rest is left out, and by what the history knows the project and its clones.
        own = {".lapidar/.gitignore", ".lapidar/project.toml"}
        self.assertEqual({line[3:] for line in done.stdout.splitlines()}, {"lapidar.lock", *own})

    def test_it_refuses_a_folder_it_did_not_make(self) -> None:
        mine = self.folder / "mine"
        mine.mkdir()
        (mine / "thesis.txt").write_text("years of work")
        self.assertIn("not an environment that lapidar made", self.fails("restore", "--into", mine))
        self.assertEqual(tree_of(mine).keys(), {"thesis.txt"})
        self.assertIn("not a folder", self.fails("restore", "--into", mine / "thesis.txt"))
        (self.folder / "empty").mkdir()
        self.lapidar("restore", "--into", self.folder / "empty")

    def test_from_the_history(self) -> None:
        first = lockfile.read(self.lock).snapshot.removeprefix("sha256:")
        install(wheel(self.folder, "kilnlib"), self.venv)
        self.lapidar("capture", self.venv)
        self.lapidar("restore", "--snapshot", first[:10])
        self.assertFalse((site_of(self.restored) / "kilnlib.py").exists())
        self.assertIn("No snapshot", self.fails("restore", "--snapshot", "zzzz"))
        for number in range(20):  # until two begin alike
            firsts = [found.removeprefix("sha256:")[0] for found in History(Cache(self.cache)).ids()]
            shared = next((first for first in firsts if firsts.count(first) > 1), None)
            if shared:
                break
            install(wheel(self.folder, f"more{number}"), self.venv)
            self.lapidar("capture", self.venv, "--lock", "more.lock")
        self.assertIn(f"begin with '{shared}'", self.fails("restore", "--snapshot", shared))

    def test_from_another_lockfile(self) -> None:
        other = self.folder / "other.lock"
        self.lock.rename(other)
        self.assertIn("no lockfile", self.fails("restore"))
        self.lapidar("restore", "--lock", other)

    def test_bad_lockfiles_place_nothing(self) -> None:
        good = self.lock.read_text()
        for bad in (good[: len(good) // 2], good.replace("1.0", "1.1"), "", "format = 99\n", "\x00\xff"):
            self.lock.write_text(bad)
            with self.subTest(bad=bad[:20]):
                self.fails("restore")
        self.assertFalse(self.restored.exists())

    def test_no_network_is_used(self) -> None:
        done = self.in_namespace('exec "$@"', PROGRAM, "restore", network=False)
        self.assertEqual(done.returncode, 0, done.stderr)

    def test_another_kind_of_machine(self) -> None:
        text = self.lock.read_text().replace('machine = "x86_64"', 'machine = "vax"')
        self.lock.write_text(text)
        wrong = self.fails("restore")
        digest = wrong.split("its content has ")[1].split()[0]
        self.lock.write_text(text.replace(text.split('snapshot = "')[1].split('"')[0], digest))
        self.assertIn("linux vax", self.fails("restore"))

    def test_placement_that_does_not_work(self) -> None:
        own = self.cache.stat().st_dev
        others = [Path(name) for name in ("/dev/shm", "/tmp", "/var/tmp") if os.access(name, os.W_OK)]
        shared = next((place for place in others if place.stat().st_dev != own), None)
        if shared is None:
            self.skipTest("there is no second file system to try it on")
        target = shared / f"lapidar-test-{os.getpid()}"
        self.addCleanup(shutil.rmtree, target, ignore_errors=True)
        self.assertIn("cannot be placed", self.fails("restore", "--into", target, "--placement", "link"))
        self.assertFalse(target.exists())
        self.lapidar("restore", "--into", target)
        self.lapidar("check", "--env", target, "--deep")

    def test_clones_where_the_file_system_can(self) -> None:
        make = next((name for name in ("mkfs.btrfs", "mkfs.xfs") if shutil.which(name)), None)
        if make is None:
            self.skipTest("there is nothing to make a copy-on-write file system with (Debian's btrfs-progs)")
        image, place = self.folder / "image", self.folder / "cow"
        place.mkdir()
        with image.open("wb") as stream:
            stream.truncate(600 << 20)
        subprocess.run([make, "-q", str(image)], check=True, capture_output=True)
        script = (
            f"mount -o loop '{image}' '{place}' || exit 77; export LAPIDAR_CACHE='{place}/cache'; "
            "used() { df --output=used -k '" + str(place) + "' | tail -1; }; "
            f"'{PROGRAM}' -q capture '{self.venv}' && '{PROGRAM}' restore --into '{place}/env' && sync && before=$(used) && "
            f"'{PROGRAM}' restore --into '{place}/env2' && sync && after=$(used) && echo grew $((after - before)) && "
            f"echo '# edited' >> '{place}/env2/bin/activate' && '{PROGRAM}' check --env '{place}/env' --deep"
        )
        done = self.in_namespace(script)
        if done.returncode == 77:
            self.skipTest("this kernel cannot mount the copy-on-write file system")
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        self.assertIn("shared blocks", done.stdout)
        self.assertLess(int(done.stdout.split("grew ")[1].split()[0]), 20_000)  # kB, of an environment of 70 MB

    def test_a_read_only_cache_is_enough(self) -> None:
        if os.getuid() != 0:
            self.skipTest("only root can mount the cache read-only")
        copy = self.folder / "cache-copy"
        shutil.copytree(self.cache, copy, copy_function=shutil.copy2)
        script = f"mount --bind '{copy}' '{copy}' && mount -o remount,bind,ro '{copy}' && exec \"$@\""
        done = self.in_namespace(script, PROGRAM, "--cache", copy, "restore")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.python(self.restored, "import sherdlib")
        done = self.in_namespace(script, PROGRAM, "--cache", copy, "capture", self.venv)
        self.assertEqual(done.returncode, 3)
        self.assertIn("cannot be written", done.stderr)


class Launching(Case):
    """The launch files: links, odd places, shells, user settings."""

    def setUp(self) -> None:
        super().setUp()
        self.venv = self.environment(
            wheel(
                self.folder,
                "sherdlib",
                entry_points="[console_scripts]\nsherd = sherdlib:main\n",
                files={"sherdlib.py": "import sys\ndef main():\n    print(sys.prefix)\n    return 7\n"},
            )
        )
        self.lapidar("capture", self.venv)
        self.place = self.folder / "a place"
        self.lapidar("restore", "--into", self.place)

    def prefix(self, *command: object, **settings: object) -> str:
        done = subprocess.run(
            [*map(str, command), "-c", "import sys; print(sys.prefix)"],
            capture_output=True,
            text=True,
            check=True,
            **settings,
        )  # type: ignore[call-overload]
        return str(done.stdout.strip())

    def test_however_it_is_started(self) -> None:
        for name in ("python", "python3"):
            self.assertEqual(self.prefix(self.place / "bin" / name), str(self.place))
        self.assertEqual(self.prefix("./python", cwd=self.place / "bin"), str(self.place))
        self.assertEqual(self.prefix("bin/../bin/python", cwd=self.place), str(self.place))
        self.assertEqual(self.prefix("python", env={"PATH": f"{self.place}/bin:/bin:/usr/bin"}), str(self.place))
        for target in (self.place / "bin" / "python", Path("a place/bin/python")):
            link = self.folder / "link"
            link.symlink_to(target)
            self.assertEqual(Path(self.prefix(link)).resolve(), self.place)
            link.unlink()

    def test_commands_start_from_anywhere(self) -> None:
        link = self.folder / "sherd"
        link.symlink_to(self.place / "bin" / "sherd")
        for command, folder in ((link, "/"), (self.place / "bin/sherd", "/"), ("./sherd", self.place / "bin")):
            done = subprocess.run([str(command)], cwd=folder, capture_output=True, text=True, check=False)
            self.assertEqual((done.returncode, Path(done.stdout.strip()).resolve()), (7, self.place), done.stderr)

    def test_children_are_of_the_environment(self) -> None:
        script = (
            "import multiprocessing, subprocess, sys, os\n"
            "def prefix(_): return sys.prefix\n"
            "if __name__ == '__main__':\n"
            "    assert 'LD_LIBRARY_PATH' not in os.environ\n"
            "    print(subprocess.check_output([sys.executable, '-c', 'import sys; print(sys.prefix)'], text=True).strip())\n"
            "    for method in ('spawn', 'fork', 'forkserver'):\n"
            "        with multiprocessing.get_context(method).Pool(2) as pool:\n"
            "            print(*set(pool.map(prefix, range(4))))\n"
        )
        path = self.folder / "children.py"
        path.write_text(script)
        done = subprocess.run([self.place / "bin/python", path], capture_output=True, text=True, check=False)
        self.assertEqual(done.stdout.splitlines(), [str(self.place)] * 4, done.stderr)

    def test_user_settings_do_not_get_in(self) -> None:
        version = site_of(self.place).parent.name
        user = self.folder / ".local/lib" / version / "site-packages"
        user.mkdir(parents=True)
        (user / "leaked.py").write_text("")
        variables = {**self.variables, "PYTHONHOME": "/nonsense"}
        said = self.python(self.place, "import importlib.util as u; print(u.find_spec('leaked'))", env=variables)
        self.assertEqual(said, "None")

    def test_a_virtual_environment_on_top(self) -> None:
        over = self.folder / "over"
        subprocess.run([self.place / "bin/python", "-m", "venv", "--without-pip", over], check=True)
        said = self.python(over, "import sys; print(sys.prefix, sys.base_prefix)")
        self.assertEqual(said, f"{over} {self.place}")
        self.lapidar("capture", over, "--lock", "over.lock")

    def test_extensions_can_be_compiled(self) -> None:
        if not shutil.which("cc"):
            self.skipTest("there is no C compiler")
        (self.folder / "kiln.c").write_text(
            '#include <Python.h>\nstatic struct PyModuleDef d = {PyModuleDef_HEAD_INIT, "kiln", 0, -1, 0};\n'
            "PyMODINIT_FUNC PyInit_kiln(void) { return PyModule_Create(&d); }\n"
        )
        include = self.python(self.place, "import sysconfig; print(sysconfig.get_path('include'))")
        self.assertTrue(include.startswith(str(self.place)))
        suffix = self.python(self.place, "import sysconfig; print(sysconfig.get_config_var('EXT_SUFFIX'))")
        subprocess.run(
            ["cc", "-shared", "-fPIC", f"-I{include}", "-o", f"kiln{suffix}", "kiln.c"], cwd=self.folder, check=True
        )
        self.python(self.place, "import kiln", cwd=self.folder)

    def test_activation(self) -> None:
        if not (self.place / "bin/python").exists():
            self.fail("there is no interpreter to activate")
        shells = {
            "bash": '. "$1/bin/activate"; command -v python; deactivate; command -v python; echo "[$VIRTUAL_ENV]"',
            "sh": 'LAPIDAR_ENVIRONMENT=$1; . "$1/bin/activate"; command -v python; deactivate; command -v python; echo "[$VIRTUAL_ENV]"',
            "fish": 'source "$argv[1]/bin/activate.fish"; command -v python; deactivate; command -v python; echo "[$VIRTUAL_ENV]"',
            "tcsh": 'setenv LAPIDAR_ENVIRONMENT "$1"; source "$1/bin/activate.csh"; which python; deactivate; which python; if (! $?VIRTUAL_ENV) echo "[]"',
        }
        tried = 0
        for shell, script in shells.items():
            if not shutil.which(shell):
                continue
            tried += 1
            with self.subTest(shell=shell):
                plain = self.folder / "plain"
                plain.mkdir(exist_ok=True)
                (plain / "python").write_text("#!/bin/sh\n")
                (plain / "python").chmod(0o755)
                path = self.folder / "script"
                path.write_text(script.replace("; ", "\n") + "\n")  # csh expands aliases line by line
                arguments = [shell, str(path), str(self.place)]
                variables = {"PATH": f"{plain}:/usr/bin:/bin", "HOME": str(self.folder), "TERM": "dumb"}
                done = subprocess.run(arguments, env=variables, capture_output=True, text=True, check=False)
                self.assertEqual(
                    done.stdout.splitlines(), [f"{self.place}/bin/python", f"{plain}/python", "[]"], done.stderr
                )
        self.assertGreaterEqual(tried, 2)


class Running(Case):
    def setUp(self) -> None:
        super().setUp()
        self.lapidar("capture", self.environment(wheel(self.folder, "sherdlib")))
        self.lapidar("restore")

    def test_the_exit_code_and_output_are_the_commands(self) -> None:
        script = "import sys; print('out'); print('err', file=sys.stderr); sys.exit(42)"
        done = self.lapidar("run", "python", "-c", script, code=42)
        self.assertEqual(done.stdout, "out\n")
        self.assertEqual(done.stderr, "err\n", "nothing of ours: numbers are as they were captured")
        done = self.lapidar("-q", "run", "python", "-c", script, code=42)
        self.assertEqual((done.stdout, done.stderr), ("out\n", "err\n"))
        self.lapidar("run", "--", "python", "-c", "import sherdlib")

    def test_no_shell_touches_the_words(self) -> None:
        words = ["$HOME", "a  b", "*", "`x`", "--json", "-q"]
        done = self.lapidar("run", "python", "-c", "import sys; print(sys.argv[1:])", *words)
        self.assertEqual(done.stdout.strip(), str(words))

    def test_signals_reach_the_command(self) -> None:
        script = (
            "import signal, sys, time\nsignal.signal(signal.SIGTERM, lambda *_: sys.exit(5))\n"
            "print('ready', flush=True)\ntime.sleep(30)\n"
        )
        with subprocess.Popen(
            [PROGRAM, "run", "python", "-c", script],
            cwd=self.project,
            env=self.variables,
            stdout=subprocess.PIPE,
            text=True,
        ) as process:
            assert process.stdout
            process.stdout.readline()
            process.send_signal(signal.SIGTERM)
            self.assertEqual(process.wait(10), 5)

    def test_path_and_user_settings(self) -> None:
        self.variables |= {"PYTHONPATH": "/nonsense", "PYTHONHOME": "/nonsense"}
        script = "import os, sys; print(os.environ['PATH'].split(':')[0], '/nonsense' in sys.path, os.environ['VIRTUAL_ENV'])"
        # PYTHONHOME would stop lapidar's own interpreter too, were it not isolated by hand here.
        self.variables.pop("PYTHONHOME")
        done = self.lapidar("run", "python", "-c", script)
        self.assertEqual(done.stdout.strip(), f"{self.restored}/bin False {self.restored}")
        self.assertIn("PYTHONPATH is set here and was left out", done.stderr)

    def test_what_cannot_be_run(self) -> None:
        self.assertIn("no command 'no-such-thing'", self.fails("run", "no-such-thing"))
        self.assertIn("no command to run", self.fails("run"))
        self.assertIn("no restored environment", self.fails("run", "--env", self.folder / "x", "python"))

    def test_it_says_when_the_environment_is_old(self) -> None:
        self.lapidar("capture", self.environment(wheel(self.folder, "kilnlib"), name="other"))
        self.assertIn("lapidar restore", self.lapidar("run", "python", "-c", "").stderr)


class Sparse(Case):
    def test_holes_stay_holes(self) -> None:
        """Stowed and copied: a large file that is mostly holes takes no more than its data."""
        environment = self.environment(wheel(self.folder, "sherdlib"))
        grid = site_of(environment) / "grid.bin"
        with grid.open("wb") as stream:
            stream.write(b"begin")
            stream.seek(60_000_000)
            stream.write(b"middle")
            stream.truncate(90_000_000)
        if grid.stat().st_blocks * 512 > 1_000_000:
            self.skipTest("this file system has no holes")
        self.lapidar("capture", environment, "--scope", "whole")
        self.lapidar("restore", "--placement", "copy")
        placed = site_of(self.restored) / "grid.bin"
        self.assertEqual(placed.stat().st_size, 90_000_000)
        self.assertLess(placed.stat().st_blocks * 512, 5_000_000)
        self.assertEqual(placed.read_bytes(), grid.read_bytes())


class IntoOneTarget(Case):
    def test_several_restores_at_once(self) -> None:
        """One wins, all end well, and what stands there is whole."""
        self.lapidar("capture", self.environment(wheel(self.folder, "sherdlib")))
        self.lapidar("restore", "--into", self.folder / "warm")
        for _ in range(2):
            running = [
                subprocess.Popen(
                    [PROGRAM, "restore", "--placement", placement],
                    cwd=self.project,
                    env=self.variables,
                    stdout=subprocess.PIPE,
                    stderr=subprocess.STDOUT,
                    text=True,
                )
                for placement in ("link", "copy", "link", "copy", "auto")
            ]
            for process in running:
                said = process.communicate()[0]
                self.assertEqual(process.returncode, 0, said)
            self.assertTrue(self.json("check", "--deep")["clean"])
            left = [path.name for path in (self.project / ".lapidar").iterdir() if "lapidar-" in path.name]
            self.assertEqual(left, [])


class TwoAtATime(Case):
    own_cache = True

    def test_captures_and_restores_at_once(self) -> None:
        """Two captures, then two restores into one folder, on one cache: both end well, with one result."""
        venv = self.environment(wheel(self.folder, "sherdlib"))

        def both(*words: str) -> None:
            running = [
                subprocess.Popen(
                    [PROGRAM, *words],
                    cwd=self.project,
                    env=self.variables,
                    stdout=subprocess.PIPE,
                    stderr=subprocess.PIPE,
                    text=True,
                )
                for _ in range(2)
            ]
            for process in running:
                said = process.communicate()
                self.assertEqual(process.returncode, 0, said)

        both("capture", str(venv))
        self.lapidar("cache", "audit")
        both("restore")
        self.lapidar("check", "--deep")
        self.assertEqual(
            sorted(path.name for path in self.restored.parent.iterdir()), [".gitignore", "env", "project.toml"]
        )
        self.assertEqual(list((self.cache / "staging").iterdir()), [])

    def test_prune_waits_for_whoever_uses_the_cache(self) -> None:
        venv = self.environment(wheel(self.folder, "sherdlib"))
        self.lapidar("capture", venv)
        with Cache(self.cache).in_use():
            process = subprocess.Popen(
                [PROGRAM, "cache", "prune"],
                env=self.variables,
                stdout=subprocess.PIPE,
                stderr=subprocess.PIPE,
                text=True,
            )
            assert process.stderr is not None
            self.assertIn("waiting for another lapidar", process.stderr.readline())
            self.assertIsNone(process.poll())
        process.communicate(timeout=60)
        self.assertEqual(process.returncode, 0)


if __name__ == "__main__":
    unittest.main()
