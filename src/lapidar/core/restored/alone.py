"""A root of a run's own, in which nothing of this machine is in sight but what every system has: the kernel's own file
systems, the shell and the utilities of POSIX with their libraries, and a few lines of /etc that tell of another user on
another host. See hier(7)."""

from __future__ import annotations

import functools
import os
import shutil
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from types import MappingProxyType

from msgspec import Struct

from lapidar.core.layers.tools import EVERYWHERE
from lapidar.core.system import elf
from lapidar.core.system.loader import Loader, System
from lapidar.core.system.supervision import Root

__all__ = ["HOME", "PATH", "PLAIN", "VARIABLES", "Elsewhere", "laid_out", "others"]

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


class Elsewhere(Struct, frozen=True):
    """How another machine may be besides.

    Attributes:
        called: in a sentence: "with ...".
        remedy: what would make it count for nothing.
        zone: the name of its time zone; UTC unless given.
        variables: what its user has set.
        one_processor: whether it has one processor.
        emulator: the words that what the environment launches stands behind.
    """

    called: str = ""
    remedy: str = ""
    zone: str = ""
    variables: tuple[tuple[str, str], ...] = ()
    one_processor: bool = False
    emulator: tuple[str, ...] = ()


PLAIN = Elsewhere()
_HOLD = "say what must hold, [conditions] {} in lapidar.toml, and capture again"
_EMULATOR, _OLDER = "qemu-x86_64", "Nehalem"  # the first of its family that x86-64-v2 holds for
_OTHERS = (
    Elsewhere("another time zone", _HOLD.format('env = ["TZ=UTC"]'), zone="Pacific/Chatham"),
    Elsewhere(
        "another language",
        _HOLD.format('env = ["LANG=C.UTF-8"]'),
        variables=(("LANG", "tr_TR.UTF-8"), ("LANGUAGE", "tr")),
    ),
    Elsewhere(
        "one processor",
        _HOLD.format('numerics = "portable"')
        + ", which holds the threads of numeric libraries; where the source itself "
        "asks how many processors there are, give it a number",
        one_processor=True,
    ),
)


def others() -> tuple[Elsewhere, ...]:
    """How other machines may be, as far as this one can be so: an older processor where it has an emulator."""
    emulator = shutil.which(_EMULATOR)
    if emulator is None:
        return _OTHERS
    return (
        *_OTHERS,
        Elsewhere(
            "an older processor",
            _HOLD.format('numerics = "portable"') + ", which holds what numeric libraries choose by the processor",
            emulator=(emulator, "-cpu", _OLDER),
        ),
    )


def laid_out(folder: Path, shown: Sequence[Path], besides: Elsewhere = PLAIN) -> tuple[Root, tuple[str, ...]]:
    """Lay out such a root.

    Args:
        folder: an empty one, that becomes it; nothing is copied into it.
        shown: folders that lie in it at their own places: the environment, the project.
        besides: how it is: its time zone is set as far as this machine knows that, and its emulator lies in it.

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
    if besides.zone and os.path.isfile(place := f"/usr/share/zoneinfo/{besides.zone}"):
        shutil.copyfile(place, folder / "etc/localtime")
    # Where a link leads to one of them, it lies at both places.
    own = dict.fromkeys(place for path in shown for place in (os.path.realpath(path), os.path.abspath(path)))
    emulator = _with_libraries(_loader(), besides.emulator[:1])
    places = dict.fromkeys([*filter(os.path.isdir, _KERNELS), *own, *_utilities(), *emulator])
    for place in places:
        _make_room(folder, place)
    return Root(str(folder), tuple(places)), (*_FREE, HOME)


def _at(folder: Path, path: str) -> Path:
    return folder / path.lstrip("/")


def _etc(folder: Path) -> None:
    folder.mkdir()
    user, group = os.getuid(), os.getgid()
    for name, text in {
        "passwd": ("root:x:0:0:root:/root:/bin/sh\n" if user else "") + f"{_USER}:x:{user}:{group}::{HOME}:/bin/sh\n",
        "group": ("root:x:0:\n" if group else "") + f"potters:x:{group}:\n",
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


@functools.cache
def _utilities() -> tuple[str, ...]:
    """The files of the utilities that every system has, and of their libraries."""
    programs = filter(None, (shutil.which(name, path=PATH) for name in sorted(EVERYWHERE)))
    return tuple(dict.fromkeys(_with_libraries(_loader(), programs)))


def _loader() -> Loader:
    return Loader(System.here(), elf.read)


def _with_libraries(loader: Loader, programs: Iterable[str]) -> Iterator[str]:
    for program in programs:
        yield program
        real = os.path.realpath(program)
        facts = elf.read(real)
        if facts is not None and facts.interpreter:
            yield facts.interpreter
            yield from loader.closure(real).found.values()
