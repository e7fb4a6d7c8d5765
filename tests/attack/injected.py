"""Faults of system calls: each call that a command makes on its files fails once, in each way that it can."""

from __future__ import annotations

import errno
import itertools
import random
import subprocess
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

from attack.ground import Broken, Ground

__all__ = ["COMMANDS", "PIN", "Fault", "Injector"]

SHORT = 0
KINDS = (errno.ENOSPC, errno.EIO, errno.EACCES, errno.EMFILE, SHORT)
COMMANDS: dict[str, Sequence[str]] = {
    "capture": ("capture",),
    "restore": ("restore",),
    "prune": ("cache", "prune", "--history-days", "0"),
    "audit": ("cache", "audit"),
}
PIN: dict[str, Sequence[str]] = {"pin": ("pin",)}


class Fault(NamedTuple):
    """A call of a command, by its number, and how it fails."""

    command: str
    call: int
    number: int

    @property
    def shown(self) -> str:
        kind = errno.errorcode[self.number] if self.number else "short"
        return f"{self.command}: call {self.call}, {kind}"


class Injector:
    """Injects faults into commands on a ground.

    Args:
        library: where the compiled `faults.c` is to lie.
        commands: those that are run.
    """

    def __init__(self, ground: Ground, library: Path, commands: Mapping[str, Sequence[str]] = COMMANDS) -> None:
        self.ground = ground
        self.commands = commands
        self.library = library
        source = Path(__file__).with_name("faults.c")
        options = ["-shared", "-fPIC", "-O1", "-w"]
        subprocess.run(["gcc", *options, "-o", str(library), str(source), "-ldl"], check=True)
        ground.change()
        ground.keep()

    def every(self, chance: random.Random) -> Iterator[Fault]:
        """All faults of all commands, in random order; and again, without an end."""
        faults = [
            Fault(command, call, number)
            for command in self.commands
            for call, number in itertools.product(range(1, self._calls(command) + 1), KINDS)
        ]
        while faults:
            chance.shuffle(faults)
            yield from faults

    def _calls(self, command: str) -> int:
        """How many calls a command makes."""
        told = self.ground.place / "count"
        told.unlink(missing_ok=True)
        self._run(command, {"FAULT_AT": "0", "FAULT_COUNT": str(told)})
        self.ground.back()
        return max(map(int, told.read_text().split()))

    def _run(self, command: str, settings: dict[str, str]) -> None:
        more = {"LD_PRELOAD": str(self.library), "FAULT_BELOW": str(self.ground.place), **settings}
        self.ground.run(*self.commands[command], more=more)

    def inject(self, fault: Fault) -> None:
        """Have a command meet a fault, look at what is left, and have it run again.

        Raises:
            Broken: something was lost, half-written, or told as what it is not.
        """
        try:
            self._run(fault.command, {"FAULT_AT": str(fault.call), "FAULT_ERRNO": str(fault.number)})
            self.ground.nothing_is_half_there()
            self.ground.all_is_well_again()
        except Broken as error:
            raise Broken(f"{fault.shown}: {error}") from error
        finally:
            self.ground.back()
