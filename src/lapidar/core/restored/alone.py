"""A root of a run's own, in which nothing of this machine is in sight but what every system has: the kernel's own file
systems, the shell and the utilities of POSIX with their libraries, and a few lines of /etc that tell of another user on
another host. See hier(7)."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from types import MappingProxyType

from lapidar.core.layers.tools import EVERYWHERE
from lapidar.core.system import elf
from lapidar.core.system.loader import Loader, System
from lapidar.core.system.supervision import Root

__all__ = ["HOME", "PATH", "VARIABLES", "laid_out"]

HOME, _USER, _HOST = "/home/potter", "potter", "elsewhere"
PATH = "/usr/local/bin:/usr/bin:/bin"
# Whatever the caller has in hers is not elsewhere.
VARIABLES: Mapping[str, str] = MappingProxyType(
    {"HOME": HOME, "USER": _USER, "LOGNAME": _USER, "PATH": PATH, "SHELL": "/bin/sh", "TERM": "dumb"}
)
_KERNELS = ("/proc", "/sys", "/dev")
_TOPS = ("bin", "sbin", "lib", "lib32", "lib64", "libx32")
_EMPTY = ("/opt", "/root", "/run", "/srv", "/usr/bin", "/usr/lib", "/usr/share", "/var/lib", "/var/cache", HOME)
_FREE = ("/tmp", "/var/tmp")


def laid_out(folder: Path, shown: Sequence[Path]) -> tuple[Root, tuple[str, ...]]:
    """Lay out such a root.

    Args:
        folder: an empty one, that becomes it; nothing is copied into it.
        shown: folders that lie in it at their own places: the environment, the project.

    Returns:
        The root, and the folders in it that anybody may write into.
    """
    for name in _TOPS:
        if os.path.islink(f"/{name}"):  # where /bin and /usr/bin are one
            os.symlink(target := os.readlink(f"/{name}").lstrip("/"), folder / name)
            (folder / target).mkdir(parents=True, exist_ok=True)
    for path in (*_EMPTY, *_FREE):
        _at(folder, path).mkdir(parents=True, exist_ok=True)
    for path in _FREE:
        _at(folder, path).chmod(0o1777)
    _etc(folder / "etc")
    places = [*filter(os.path.isdir, _KERNELS), *map(os.path.realpath, shown), *_utilities()]
    for place in places:
        _make_room(folder, place)
    return Root(str(folder), tuple(places)), (*_FREE, HOME)


def _at(folder: Path, path: str) -> Path:
    return folder / path.lstrip("/")


def _etc(folder: Path) -> None:
    folder.mkdir()
    user, group = os.getuid(), os.getgid()
    root = "" if user == 0 else "root:x:0:0:root:/root:/bin/sh\n"
    for name, text in {
        "passwd": f"{root}{_USER}:x:{user}:{group}::{HOME}:/bin/sh\n",
        "group": f"{'' if group == 0 else 'root:x:0:'}\npotters:x:{group}:\n".lstrip(),
        "hostname": f"{_HOST}\n",
        "hosts": f"127.0.0.1 localhost {_HOST}\n::1 localhost\n",
        "nsswitch.conf": "passwd: files\ngroup: files\nhosts: files dns\n",
        "resolv.conf": "",
    }.items():
        (folder / name).write_text(text)


def _make_room(folder: Path, place: str) -> None:
    """What something can be mounted on: a folder, or an empty file."""
    at = _at(folder, place)
    if os.path.isdir(place):
        at.mkdir(parents=True, exist_ok=True)
        return
    at.parent.mkdir(parents=True, exist_ok=True)
    at.touch()


def _utilities() -> Iterator[str]:
    """The files of the utilities that every system has, and of their libraries."""
    programs = {name: found for name in EVERYWHERE if (found := shutil.which(name, path=PATH))}
    loader = Loader(System.here(), elf.read)
    yield from dict.fromkeys(_with_libraries(loader, programs.values()))


def _with_libraries(loader: Loader, programs: Iterable[str]) -> Iterator[str]:
    for program in programs:
        yield program
        real = os.path.realpath(program)
        facts = elf.read(real)
        if facts is not None and facts.interpreter:
            yield facts.interpreter
            yield from loader.closure(real).found.values()
