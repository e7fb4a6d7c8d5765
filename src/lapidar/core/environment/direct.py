"""What launchers do, by small programs: where the place of an environment is known and no shell need be there, as in a
runnable image. Such a program is our own (`native/start.c`) with a description behind it, which is read off the
launcher's text."""

from __future__ import annotations

import posixpath
import re
import shlex
import struct
from collections.abc import Callable, Iterator
from pathlib import Path

from lapidar.core.errors import LapidarError

__all__ = ["BY_SHELL", "Start", "directly", "entry", "is_launcher"]

BY_SHELL = b"#!/bin/sh\n"
"""What a script of the shell begins with."""

_OURS = b"# Written by lapidar restore: "
_TOOL = b"starts an outside program in a root of its own"
_KINDS = (
    b"starts the interpreter",
    b"starts a program of",
    b"starts a script of a package",
    _TOOL,
)
_FOR_BOTH = b"#!/bin/sh\n''':'\n"  # a script that the shell reads first, and then the interpreter
_SET = re.compile(r'export (\w+)="(.*)"')
_OPENED = re.compile(r'exec 9<"(.*)"')
_ESCAPED = re.compile(r'\\([\\"$`])')
_PLACEHOLDER = "\x01"  # where the name is to stand that a launcher was started by
_PROGRAM_HEADERS, _FLAGS, _SECTIONS = 64, 48, (40, 58)  # places in an ELF header: elf(5)

Start = Callable[[str, str], tuple[str, str]]
"""Where an outside program and its executable lie: (name, executable) -> the path to start, and what it is called."""


def directly(launcher: bytes, path: str, at: str, machine: str, tools: Start) -> bytes | None:
    """What does the same as a launcher of an environment, without a shell.

    Args:
        launcher: its text.
        path: where it lies below the environment.
        at: where the environment will lie: an absolute path.
        machine: the kind of processor: ``x86_64``.
        tools: where outside programs will lie.

    Returns:
        None for what is no launcher, or needs a shell.

    Raises:
        LapidarError: there is no such program of ours for that kind of processor.
    """
    _, _, told = launcher.partition(_OURS)
    own = {"$at": at, "${file%/*}": f"{at}/{posixpath.dirname(path)}", "${file##*/}": posixpath.basename(path)}
    if launcher.startswith(_FOR_BOTH):
        shells, _, others = launcher.partition(b"\n'''\n")
        return f"#!{_words_of(shells.decode(), own)[0]}\n".encode() + others
    if not launcher.startswith(BY_SHELL) or not told.startswith(_KINDS):
        return None
    text = launcher.decode("utf-8", "surrogateescape")
    parts = list(_parts(text, own))
    if told.startswith(_TOOL):
        _, name, executable, _ = _words_of(text, own)[1:5]
        program, called = tools(name, executable)
        parts += [f"!{program}", f"w{called}"]
    else:
        words = _words_of(text, own)
        parts += [f"!{words[0]}", *("n" if word == _PLACEHOLDER else f"w{word}" for word in words)]
    return _program(machine, parts)


def is_launcher(text: bytes) -> bool:
    """Whether a text is one that `restore` wrote for the shell."""
    return text.startswith(BY_SHELL) and _OURS in text


def entry(umask: int | None, machine: str) -> bytes:
    """What starts the command that it is given.

    Args:
        umask: the file mode mask to set; None to leave it.
    """
    return _program(machine, [] if umask is None else [f"u{umask:03o}"])


def _parts(text: str, own: dict[str, str]) -> Iterator[str]:
    """What a launcher sets before it starts something, as descriptions have it."""
    for line in text.splitlines():
        if line.startswith("unset "):
            yield from (f"-{name}" for name in line.split()[1:])
        elif found := _SET.fullmatch(line):
            yield f"={found[1]}={_placed(found[2], own)}"
        elif found := _OPENED.fullmatch(line):
            yield f"9{_placed(found[1], own)}"


def _words_of(text: str, own: dict[str, str]) -> list[str]:
    """The words of the last command of a launcher, but for the caller's."""
    line = text.rstrip("\n").rpartition("\nexec ")[2].removesuffix(' "$@"')
    words = shlex.split(_filled(line.replace('"$name"', _PLACEHOLDER), own))
    return [re.sub(r"\\([$`])", r"\1", word) for word in words]  # it has undone the others


def _placed(text: str, own: dict[str, str]) -> str:
    """What stands inside the shell's double quotes."""
    return _ESCAPED.sub(r"\1", _filled(text, own))


def _filled(text: str, own: dict[str, str]) -> str:
    for name, value in own.items():
        text = text.replace(name, value)
    return text


def _program(machine: str, parts: list[str]) -> bytes:
    """The program with a description behind it, which becomes part of its one segment."""
    try:
        data = (Path(__file__).parents[1] / "system" / "native" / f"start.{machine}").read_bytes()
    except FileNotFoundError as error:
        raise LapidarError(
            f"No image can be made for {machine}", why="there is no starter for that kind of processor"
        ) from error
    (size,) = struct.unpack_from("<Q", data, _PROGRAM_HEADERS + 32)
    told = b"".join(part.encode("utf-8", "surrogateescape") + b"\0" for part in parts) + b"\0"
    made = bytearray(data[:size] + told)
    struct.pack_into("<I", made, _FLAGS, size)
    struct.pack_into("<QQ", made, _PROGRAM_HEADERS + 32, len(made), len(made))
    for place, kind in zip(_SECTIONS, ("<Q", "<HHH"), strict=True):
        struct.pack_into(kind, made, place, *([0] * (len(kind) - 1)))
    return bytes(made)
