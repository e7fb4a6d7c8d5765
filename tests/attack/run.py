"""Attacks the program for as long as one says, and tells what held.

python tests/attack/run.py --minutes 30 [--seed N]

Faults: a system call on its files fails, any of them, in any way. Kills: it is killed at any moment. Flips: a bit of
the cache flips. Texts: what it reads was changed. After each, nothing good may be lost, nothing half-written be found,
and the same commands bring everything in order. Failures are told with what repeats them.
"""

from __future__ import annotations

import argparse
import os
import random
import signal
import subprocess
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))

from attack.ground import PROGRAM, Broken, Ground, PinGround, RecordGround, new
from attack.injected import COMMANDS, PIN, Injector
from attack.texts import spoil
from lapidar.core.cache.digest import sha256_of
from lapidar.core.cache.files import digest_of_name
from lapidar.core.cache.store import Cache

_LONG = 3.0  # minutes, from which on a pin is attacked too: its ground takes a while to make


def kill(ground: Ground, chance: random.Random, commands: Mapping[str, Sequence[str]] = COMMANDS) -> str:
    """Kill a command at any moment."""
    command = chance.choice([*commands.values()])
    process = subprocess.Popen(
        [PROGRAM, *command], cwd=ground.project, env=ground.variables, stdout=-3, stderr=-3, start_new_session=True
    )
    time.sleep(chance.random() * 0.7)
    process.send_signal(signal.SIGKILL)
    process.wait()
    ground.nothing_is_half_there()
    ground.all_is_well_again()
    return " ".join(command)


def flip(ground: Ground, chance: random.Random) -> str:
    """Flip a bit anywhere in the cache: no good file is lost, and nothing wrong is taken for right."""
    before = (ground.project / "lapidar.lock").read_bytes()
    path = chance.choice([path for path in ground.cache.rglob("*") if path.is_file() and path.stat().st_size])
    status = path.stat()
    data = bytearray(path.read_bytes())
    data[at := chance.randrange(len(data))] ^= 1 << chance.randrange(8)
    path.chmod(0o644)
    path.write_bytes(data)
    path.chmod(status.st_mode & 0o777)
    os.utime(path, ns=(status.st_atime_ns, status.st_mtime_ns))
    told = f"byte {at} of {path.relative_to(ground.cache)}"
    if path.name == "lapidar-cache.toml":
        ground.run("cache", "audit")
        return told
    good = _good_files(ground)
    ground.run("cache", "prune", "--history-days", "400")
    lost = good - _good_files(ground)
    if lost:
        raise Broken(f"{told}: a prune deleted {len(lost)} good files")
    ground.run("cache", "audit")
    if ground.run("capture").returncode or ground.run("restore", "--verify").returncode:
        raise Broken(f"{told}: not mended by audit and capture")
    ground.all_is_well_again()
    if (ground.project / "lapidar.lock").read_bytes() != before:
        raise Broken(f"{told}: another lockfile")
    return told


def _good_files(ground: Ground) -> set[str]:
    files = [entry.path for entry in Cache(ground.cache).all_files()]
    return {path for path in files if sha256_of(path) == digest_of_name(path)[0]}


def main() -> int:
    """The exit code: 1 where something did not hold."""
    parser = argparse.ArgumentParser(description=(__doc__ or "").partition("\n")[0])
    parser.add_argument("--minutes", type=float, default=30)
    parser.add_argument("--seed", type=int, default=int(time.time()))
    options = parser.parse_args()
    chance = random.Random(options.seed)
    ends = time.monotonic() + options.minutes * 60
    tries: Counter[str] = Counter()
    failed: list[str] = []
    plain, plain_folder = new()
    faulty, faulty_folder = new()
    injector = Injector(faulty, faulty.place / "faults.so")
    faults = injector.every(chance)
    attacks: dict[str, Callable[[], object]] = {
        "fault": lambda: injector.inject(next(faults)),
        "kill": lambda: kill(plain, chance),
        "flip": lambda: flip(plain, chance),
        "text": lambda: spoil(plain, chance),
    }
    records_folder = tempfile.TemporaryDirectory(prefix="lapidar-attack-")
    records = RecordGround(Path(records_folder.name).resolve())
    record_injector = Injector(records, records.place / "faults.so", records.COMMANDS)
    record_faults = record_injector.every(chance)
    attacks |= {
        "record fault": lambda: record_injector.inject(next(record_faults)),
        "record kill": lambda: kill(records, chance, records.COMMANDS),
        "record text": lambda: spoil(records, chance),
        "several records at once": lambda: records.several_at_once(chance),
    }
    pins_folder = tempfile.TemporaryDirectory(prefix="lapidar-attack-")
    if options.minutes >= _LONG:
        pin_injector = Injector(pins := PinGround(Path(pins_folder.name).resolve()), pins.place / "faults.so", PIN)
        pin_faults = pin_injector.every(chance)
        attacks["pin fault"] = lambda: pin_injector.inject(next(pin_faults))
    while time.monotonic() < ends:
        for name, attack in attacks.items():
            tries[name] += 1
            try:
                attack()
            except Broken as error:
                failed.append(f"{name}: {error}")
                print(f"BROKEN {failed[-1]}", flush=True)
            finally:
                plain.back()
                records.back()
    for folder in (plain_folder, faulty_folder, records_folder, pins_folder):
        folder.cleanup()
    print(", ".join(f"{count} {name}s" for name, count in tries.items()), f"in {options.minutes:g} min")
    print(f"{len(failed)} did not hold (seed {options.seed})")
    return 1 if failed else 0


if __name__ == "__main__":
    raise SystemExit(main())
