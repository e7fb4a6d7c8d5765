"""Runs the tests in processes that share nothing, and closes with a line that says how many passed and failed.

python tests/run.py                 all but the slow ones (slow.txt); with LAPIDAR_TEST_ALL=1 these too
python tests/run.py commands.test_check core.test_trees

A test is given to whichever process is free; the tests of a class that makes something for all of them (`setUpClass`,
or `together = True`) stay in one. What many tests need once, a cache that holds the runtime of these tests with its
byte-code, is made by the first that asks (see `support.py`), and commands are begun by a process that has loaded the
program (see `forks.py`); with LAPIDAR_TEST_PROCESS_EACH=1 each is a process of its own.
"""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
import time
import unittest
from collections import deque
from collections.abc import Iterator
from pathlib import Path
from typing import IO, Any

SLOWEST = 12
ENOUGH_BYTES = 8_000_000_000
HERE = Path(__file__).parent
ALL = bool(os.environ.get("LAPIDAR_TEST_ALL"))
SEED = os.environ.get("LAPIDAR_TEST_SEED")  # of generated examples; unless given they are the same every time
TIMES = os.environ.get("LAPIDAR_TEST_TIMES")  # a file that every test's time goes to
# Twice as many as processors: many tests wait for a time to pass, or for a process that does.
PROCESSES = int(os.environ.get("LAPIDAR_TEST_PROCESSES") or 2 * (os.cpu_count() or 1))
# What takes longer belongs into slow.txt: a test that has a processor to itself half of the time takes twice as long.
SLOW_SECONDS = 4.0 * PROCESSES / (os.cpu_count() or 1)


# ---- in a process of tests


class Result(unittest.TestResult):
    """What became of each test, as it is told to the first process."""

    def __init__(self) -> None:
        super().__init__()
        self.told: list[dict[str, Any]] = []
        self._began = 0.0
        self._flaws: list[str] = []
        self._skipped = ""

    def startTest(self, test: unittest.TestCase) -> None:
        self._began = time.monotonic()
        self._flaws, self._skipped = [], ""
        super().startTest(test)

    def stopTest(self, test: unittest.TestCase) -> None:
        super().stopTest(test)
        self._tell(test.id(), time.monotonic() - self._began)

    def _tell(self, name: str, seconds: float) -> None:
        self.told.append({"name": name, "seconds": seconds, "flaws": self._flaws, "skipped": self._skipped})

    def _note(self, test: unittest.TestCase, error: Any) -> None:
        self._flaws.append(self._exc_info_to_string(error, test))  # type: ignore[attr-defined]
        if not isinstance(test, unittest.TestCase):  # what a class makes for its tests failed: no test begins
            self._tell(str(test), 0.0)
            self._flaws = []

    def addError(self, test: unittest.TestCase, err: Any) -> None:
        self._note(test, err)

    def addFailure(self, test: unittest.TestCase, err: Any) -> None:
        self._note(test, err)

    def addSubTest(self, test: unittest.TestCase, subtest: unittest.TestCase, err: Any) -> None:
        if err is not None:
            self._flaws.append(f"{subtest.id()}\n{self._exc_info_to_string(err, test)}")  # type: ignore[attr-defined]

    def addUnexpectedSuccess(self, test: unittest.TestCase) -> None:
        self._flaws.append("it was expected to fail, and passed")

    def addSkip(self, test: unittest.TestCase, reason: str) -> None:
        self._skipped = reason
        if not isinstance(test, unittest.TestCase):
            self._tell(str(test), 0.0)


def work() -> None:
    """Run what the first process names, a unit a line, until it names nothing more."""
    answers = os.fdopen(os.dup(1), "w")
    os.dup2(2, 1)  # what tests print is no answer
    sys.path.insert(0, str(HERE))
    _never_by_the_clock()
    for line in sys.stdin:
        result = Result()
        unittest.TestLoader().loadTestsFromNames(json.loads(line)).run(result)
        answers.write(json.dumps(result.told) + "\n")
        answers.flush()


def _never_by_the_clock() -> None:
    """No generated example fails because a machine is busy, and which examples there are is the same every time: only
    where `LAPIDAR_TEST_SEED` is set are they searched for anew, from that number."""
    import hypothesis.core
    from hypothesis import HealthCheck, settings

    settings.register_profile(
        "busy", deadline=None, suppress_health_check=[HealthCheck.too_slow], derandomize=not SEED, database=None
    )
    settings.load_profile("busy")
    if SEED:  # as its plugin for another runner of tests does
        setattr(hypothesis.core, "global_force_seed", int(SEED))  # noqa: B010  (typed as None there)


# ---- in the first process


def work_in_memory() -> None:
    """Put the tests' folders into memory where there is plenty: they flush thousands of files to the disk."""
    memory = "/dev/shm"
    if "TMPDIR" in os.environ or not os.access(memory, os.W_OK):
        return
    found = os.statvfs(memory)
    if found.f_bavail * found.f_frsize > ENOUGH_BYTES and not found.f_flag & os.ST_NOEXEC:
        os.environ["TMPDIR"] = memory


def tests_of(suite: unittest.TestSuite | unittest.TestCase) -> Iterator[unittest.TestCase]:
    """Every test of a suite, one by one."""
    if isinstance(suite, unittest.TestCase):
        yield suite
    else:
        for one in suite:
            yield from tests_of(one)


def left_out(suite: unittest.TestSuite) -> set[str]:
    """The names of slow tests.

    Raises:
        SystemExit: the list has one that is not there.
    """
    lines = (HERE / "slow.txt").read_text().splitlines()
    slow = {line for line in lines if line and not line.startswith("#")}
    gone = slow - {test.id() for test in tests_of(suite)}
    if gone:
        raise SystemExit(f"tests/slow.txt names tests that are not there: {', '.join(sorted(gone))}")
    return slow


def units(suite: unittest.TestSuite, without: set[str]) -> deque[list[str]]:
    """The names of tests that are run in one process one after the other; the largest come first."""
    together: dict[str, list[str]] = {}
    for test in tests_of(suite):
        if test.id() in without:
            continue
        kind = type(test)
        shares = getattr(kind, "together", False) or kind.setUpClass.__func__ is not _NOTHING  # type: ignore[attr-defined]
        together.setdefault(f"{kind.__module__}.{kind.__qualname__}" if shares else test.id(), []).append(test.id())
    slow = [name for name in together if getattr(_class_of(name, together), "slow", False)]
    order = sorted(together, key=lambda name: (name not in slow, -len(together[name])))
    return deque(together[name] for name in order)


_NOTHING = unittest.TestCase.setUpClass.__func__  # type: ignore[attr-defined]


def _class_of(name: str, together: dict[str, list[str]]) -> object:
    module, _, rest = together[name][0].rpartition(".")[0].rpartition(".")
    return getattr(sys.modules.get(module), rest, None)


class Crew:
    """The processes of tests.

    Attributes:
        told: what became of each test.
    """

    def __init__(self, waiting: deque[list[str]]) -> None:
        self.waiting = waiting
        self.told: list[dict[str, Any]] = []
        self._lock = threading.Lock()

    def run(self) -> None:
        """Until nothing waits any more."""
        threads = [threading.Thread(target=self._tend) for _ in range(max(1, min(PROCESSES, len(self.waiting))))]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()

    def _tend(self) -> None:
        """Hand units to one process after the other; one that dies is followed by another."""
        while self.waiting:
            with tempfile.TemporaryFile("w+") as log:
                command = [sys.executable, str(Path(__file__).resolve()), "--work"]
                process = subprocess.Popen(
                    command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=log, text=True, cwd=HERE.parent
                )
                assert process.stdin and process.stdout
                self._feed(process.stdin, process.stdout, log)
                process.stdin.close()
                process.stdout.close()
                process.wait()

    def _feed(self, asking: IO[str], answers: IO[str], log: IO[str]) -> None:
        while True:
            try:
                names = self.waiting.popleft()
            except IndexError:
                return
            asking.write(json.dumps(names) + "\n")
            asking.flush()
            answer = answers.readline()
            if not answer:
                log.seek(0)
                flaw = "the process that ran it ended\n" + log.read()[-4000:]
                self._take([{"name": names[0], "seconds": 0.0, "flaws": [flaw], "skipped": ""}])
                return
            self._take(json.loads(answer))

    def _take(self, told: list[dict[str, Any]]) -> None:
        with self._lock:
            self.told += told
            for one in told:
                how = "FAILED" if one["flaws"] else f"skipped: {one['skipped']}" if one["skipped"] else "ok"
                print(f"{one['name']} ... {how}", flush=True)


def grown_slow(told: list[dict[str, Any]], listed: set[str]) -> list[str]:
    """The tests that took too long for `make test` and are not listed as slow, the slowest first."""
    slow = [one for one in told if one["seconds"] > SLOW_SECONDS and one["name"] not in listed]
    return [one["name"] for one in sorted(slow, key=lambda one: -one["seconds"])]


def conclude(told: list[dict[str, Any]], began: float, listed: set[str]) -> int:
    """Say what there is to say, the counts last; the exit code.

    Args:
        listed: the names of tests that are known as slow.
    """
    for one in told:
        for flaw in one["flaws"]:
            print(f"\n{'=' * 70}\nFAILED {one['name']}\n{flaw}")
    times = [f"{one['seconds']:6.1f} s  {one['name']}" for one in sorted(told, key=lambda one: -one["seconds"])]
    print("\n".join(times[:SLOWEST]))
    if TIMES:
        Path(TIMES).write_text("\n".join(times) + "\n")
    skipped = [one for one in told if one["skipped"] and not one["flaws"]]
    for one in skipped:
        print(f"SKIPPED {one['name']}: {one['skipped']}")
    if skipped:
        print("`make test-tools` installs what Debian has for these.")
    failed = sum(bool(one["flaws"]) for one in told)
    for name in grown_slow(told, listed):
        print(f"NOW SLOW {name}: it took more than {SLOW_SECONDS:g} s and is not in tests/slow.txt")
    if SEED:
        print(f"generated examples: LAPIDAR_TEST_SEED={SEED}")
    print(f"in {time.monotonic() - began:.0f} s, {PROCESSES} processes")
    passed = len(told) - failed - len(skipped)
    print(f"{passed} passed, {failed} failed" + (f", {len(skipped)} skipped" if skipped else ""))
    return 1 if failed or not told else 0


def main() -> int:
    # What is started in the background ignores Ctrl-C, and so would all that it starts: the tests send it.
    signal.signal(signal.SIGINT, signal.default_int_handler)
    if sys.argv[1:] == ["--work"]:
        work()
        return 0
    began = time.monotonic()
    work_in_memory()  # before any module of the tests makes a folder
    sys.path.insert(0, str(HERE))
    loader = unittest.TestLoader()
    names = sys.argv[1:]
    suite = loader.loadTestsFromNames(names) if names else loader.discover(str(HERE), top_level_dir=str(HERE))
    listed = set() if names else left_out(suite)
    without = set() if ALL else listed
    import forks
    from support import SEEDS

    shared = Path(tempfile.mkdtemp(prefix="lapidar-tests-"))
    forking = None if os.environ.get("LAPIDAR_TEST_PROCESS_EACH") else forks.start(shared)
    try:
        seeds = shared / "seeds"
        seeds.mkdir()
        os.environ[SEEDS] = str(seeds)
        crew = Crew(units(suite, without))
        crew.run()
    finally:
        if forking:
            forking.kill()
        shutil.rmtree(shared, ignore_errors=True)
    if without:
        print(f"{len(without)} slow tests were left out: LAPIDAR_TEST_ALL=1 make test runs them too.")
    if names:
        listed = {one["name"] for one in crew.told}
    return conclude(crew.told, began, listed)


if __name__ == "__main__":
    raise SystemExit(main())
