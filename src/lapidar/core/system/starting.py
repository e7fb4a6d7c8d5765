"""Start a program once, only to see whether it does: with a word that every program has an answer to, with nothing to
read, no network, nothing that can be written, and not for long."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Mapping, Sequence

from msgspec import Struct, field

from lapidar.core.errors import LapidarError
from lapidar.core.system import supervision
from lapidar.core.system.observed import ObservedRun
from lapidar.core.system.supervision import Root, RunOptions

__all__ = ["WORDS", "Start", "start"]

WORDS = ("--version", "-version", "-V", "--help")  # the first that a program ends well with is asked
_SECONDS = 5.0
_WRITABLE = ("/dev/null",)
_MOST_SAID = 4096  # bytes
# Nothing of the caller's; no display.
_VARIABLES = {"PATH": os.defpath, "HOME": "/nonexistent", "LC_ALL": "C", "TERM": "dumb"}


class Start(Struct, frozen=True):
    """How a program started.

    Attributes:
        word: what it was given.
        code: its exit code; negative where a signal ended it.
        prints: whether it printed anything.
        said: the last line of what it said on standard error.
        observed: what it used.
    """

    word: str
    code: int
    prints: bool = False
    said: str = ""
    observed: ObservedRun = field(default_factory=lambda: ObservedRun(0, (), (), ()))

    @property
    def is_good(self) -> bool:
        return self.code == 0


def start(
    program: str, words: Sequence[str] = WORDS, variables: Mapping[str, str] | None = None, root: Root | None = None
) -> Start | None:
    """Start it.

    Args:
        program: its path.
        words: asked in turn, until it ends well with one.
        variables: beside the few that every start has.
        root: where it is to start instead of the host's root.

    Returns:
        How it ended with the first word that it ended well with, else with the first; None where it cannot be kept
        apart or watched here, or does not end: then nothing can be said.
    """
    first: Start | None = None
    for word in words:
        found = _once(program, word, {**_VARIABLES, **(variables or {})}, root)
        if found is None or found.is_good:
            return found
        first = first or found
    return first


def _once(program: str, word: str, variables: Mapping[str, str], root: Root | None) -> Start | None:
    with open(os.devnull, "rb") as nothing, tempfile.TemporaryFile() as said, tempfile.TemporaryFile() as printed:
        how = RunOptions(
            input=nothing.fileno(), output=printed.fileno(), errors=said.fileno(), folder="/", session=True,
            at_most=_SECONDS, grace=0, watches=True, network=False, writable=_WRITABLE, by_mounts=True, apart=True,
            root=root,
        )  # fmt: skip
        try:
            ended = supervision.run(program, [program, word], variables, how)
        except LapidarError:
            return None
        if ended.is_late or ended.not_isolated:
            return None
        said.seek(0)
        lines = said.read(_MOST_SAID).decode("utf-8", "replace").strip().splitlines()
        prints = os.fstat(printed.fileno()).st_size > 0
    return Start(word, ended.code, prints, lines[-1] if lines else "", ended.observed)
