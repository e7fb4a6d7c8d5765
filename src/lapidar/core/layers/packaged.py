"""What a program is taken with: the files of its packages of the operating system, of those without which these do not
work, and what installing them has made. Libraries that the loader finds by their names are not among them: they have a
layer of their own."""

from __future__ import annotations

import functools
import os
import re
import stat
from collections.abc import Iterable, Iterator
from pathlib import Path

from lapidar.core.system import elf, owners
from lapidar.core.system.loader import System

__all__ = [
    "found_by_loader",
    "is_for_all",
    "merged",
    "refused",
    "take",
    "take_declared",
    "take_made",
    "take_opened",
    "take_with_packages",
    "wanted",
]

# Nothing of a program's work is in them.
_NOT_TAKEN = re.compile(
    r"/usr/share/(doc|man|info|lintian|bug|menu|applications|icons|pixmaps|bash-completion|zsh|fish|metainfo"
    r"|locale|doc-base|emacs|vim|nvim)/|/etc/(init\.d|cron|systemd|apparmor)|/usr/lib/systemd/|/gconv/"
)
# Data that comes with the libraries, and what every machine has of its own.
_HELD = (
    *(f"/usr/share/{name}/" for name in "zoneinfo locale terminfo fontconfig".split()),
    "/usr/lib/locale/",
    "/usr/lib/os-release",
    *(f"/etc/{name}/" for name in "apt fonts pam.d pki security ssh ssl".split()),
    *(f"/var/lib/{name}/" for name in "apt dbus dpkg rpm systemd ucf".split()),
    # Also what is called like them, with more behind.
    *(
        f"/etc/{name}"
        for name in "ca-certificates environment gai.conf group gshadow host.conf hostname hosts ld.so locale.alias"
        " localtime machine-id mtab nsswitch.conf os-release passwd profile resolv.conf shadow shells sub sudoers"
        " timezone".split()
    ),
)
# A library in one of the loader's folders, and what a linker asks for by the name without a version.
_LIBRARY = re.compile(r"^(?:/usr(?:/local)?)?/lib(64|32)?/([a-z0-9_]+-linux-[a-z0-9]+/)?[^/]+\.so\.[^/]*$")
_FOR_LINKING = re.compile(r"^(?:/usr(?:/local)?)?/lib(64|32)?/([a-z0-9_]+-linux-[a-z0-9]+/)?[^/]+\.so$")
# What installing makes lies here; folders that many packages have files in are nobody's own.
_MADE_BELOW = ("/etc/", "/var/lib/", "/usr/lib/", "/usr/share/")
_SHARED = re.compile(
    r"/(bin|sbin|lib|lib64|lib/[a-z0-9_]+-linux-[a-z0-9]+|share|etc|share/(perl5|java|tcltk|misc|fonts|ca-certificates)"
    r"|lib/ruby|share/(doc|man)(/.*)?|(lib|share)/[a-z0-9_-]*/?perl5?(/.*)?)$"
    r"|^/(etc|var/lib)(/(alternatives|dpkg|rpm|apt|systemd|ucf|default|profile\.d|X11|xdg|logrotate\.d))?$"
)
_OF_SYSTEM = ("/usr/", "/etc/", "/opt/", "/var/lib/", "/var/cache/")
_SECRET = re.compile(
    r"(^|[._/-])(private|secrets?|credentials?|password|passwd|token|id_(rsa|ed25519))|\.(key|pem|p12)$"
)
_MOST_BYTES = 64 << 20  # of a file that installing has made
_MOST_OF_A_TEXT, _DIGITS = 1 << 16, 32


def take(paths: dict[str, bool], names: Iterable[str]) -> None:
    """Take packages, and those without which what they have does not work.

    Args:
        paths: what is taken; whether it stands for the link itself.
    """
    for name in owners.here().working_with(names):
        for path, link in _taken_of(name):
            paths.setdefault(path, link)


@functools.cache
def _taken_of(package: str) -> tuple[tuple[str, bool], ...]:
    """What is taken of one package alone: many programs need the same ones."""
    found: dict[str, bool] = {}
    for path in owners.here().files_of(package):
        link, for_linking = os.path.islink(path), _FOR_LINKING.search(path)
        if not wanted(path) or _LIBRARY.search(path) or (for_linking and not link and _is_library(path)):
            continue
        if not link and found_by_loader(path):
            continue
        found.setdefault(merged(path), link)
        if for_linking and link:
            found.setdefault(os.path.realpath(path), False)
    return tuple(found.items())


def take_with_packages(paths: dict[str, bool], files: Iterable[str]) -> None:
    """Take files, and all that comes with them where a package of the operating system has them."""
    new = [path for path in files if merged(path) not in paths and os.path.realpath(path) not in paths]
    for path in new:
        paths.setdefault(merged(path), os.path.islink(path))
    take(paths, sorted({owner.name for owner in owners.here().of(new).values()}))


def take_declared(paths: dict[str, bool], places: Iterable[str]) -> None:
    """Take files and folders that a project declares, less what is refused."""
    for place in places:
        if refused(place):
            continue
        for path in _files_in(place):
            if not refused(path):
                paths.setdefault(merged(path), os.path.islink(path))


def refused(place: str) -> str:
    """Why a file or folder may not be taken along; "" where it may."""
    if not os.path.exists(place):
        return "it is not on this machine"
    if not os.path.realpath(place).startswith(_OF_SYSTEM):
        return "it is somebody's, or of a run, and not the system's"
    if place.startswith(_HELD) or _SECRET.search(place):
        return "each machine has its own, or it looks like a secret"
    if not os.path.isdir(place) and not is_for_all(place):
        return "it is not the system's own and there for all"
    return ""


def _files_in(place: str) -> Iterator[str]:
    if not os.path.isdir(place):
        yield place
    for top, _, names in os.walk(place):
        yield from (f"{top}/{name}" for name in sorted(names))


def take_opened(paths: dict[str, bool], files: Iterable[str]) -> None:
    """Take files that a program was seen to open, with the links beside them that lead there: by these it asked."""
    by_folder: dict[str, list[str]] = {}
    for file in files:
        paths.setdefault(merged(file), False)
        by_folder.setdefault(os.path.dirname(file), []).append(file)
    for folder, opened in by_folder.items():
        with os.scandir(folder) as entries:
            for entry in entries:
                if entry.is_symlink() and os.path.realpath(entry.path) in opened:
                    paths.setdefault(merged(entry.path), True)


def take_made(paths: dict[str, bool], names: Iterable[str]) -> None:
    """Take what installing has made: what lies in folders of the program's own and no package has, and what the steps
    of the packages' installation name.

    Args:
        names: of the packages that were asked for.
    """
    kept = [_kept_by(name) for name in owners.here().working_with(names)]
    own = {folder for folders, _ in kept for folder in folders}
    named = {path for _, several in kept for path in several}
    found = [*_beside(paths), *_below(own), *(one for path in named for one in _named(path, paths))]
    found = [path for path in dict.fromkeys(found) if path not in paths and wanted(path) and is_for_all(path)]
    owned = owners.here().of(found, of_links=True)
    found = [path for path in found if path not in owned and os.path.getsize(path) <= _MOST_BYTES]
    paths |= {path: os.path.islink(path) for path in found}


@functools.cache
def _kept_by(package: str) -> tuple[frozenset[str], frozenset[str]]:
    """The folders of one package, and what the steps of its installation name."""
    here = owners.here()
    return frozenset(map(merged, here.folders_of(package))), frozenset(map(merged, here.named_by_installing(package)))


def found_by_loader(path: str) -> bool:
    """Whether a file is a library that the loader finds by its name."""
    return path in _found_by_name()


def _is_library(path: str) -> bool:
    """Whether it is one itself, and not a text that tells the linker which it is to take."""
    return elf.read(path) is not None


@functools.cache
def _found_by_name() -> frozenset[str]:
    """The files that the loader's cache leads to, wherever they lie: an alternative has a folder of its own."""
    known = System.here().cache.values()
    return frozenset(os.path.realpath(path) for places in known for path, _ in places)


def wanted(path: str) -> bool:
    """Whether a file may be of a program's work. A link at the top (/lib) is how a system is laid out."""
    return os.path.dirname(path) != "/" and not path.startswith(_HELD) and not _NOT_TAKEN.search(path)


def merged(path: str) -> str:
    """/bin and /lib became links into /usr: one place for each file."""
    folder, name = os.path.split(path)
    return f"{_real(folder)}/{name}"


@functools.lru_cache(maxsize=1 << 16)
def _real(folder: str) -> str:
    return os.path.realpath(folder)


def is_for_all(path: str) -> bool:
    """Whether a file is there for all: the system's own, readable by all, and nothing that looks like a secret."""
    try:
        status = os.stat(path)
    except OSError:
        return False
    # On a cluster, programs in /opt may be another administrator's.
    is_systems = status.st_uid == 0 or path.startswith(("/opt/", "/usr/"))
    if not is_systems or not status.st_mode & stat.S_IROTH or not stat.S_ISREG(status.st_mode):
        return False
    return not _SECRET.search(path) and not (status.st_size <= _MOST_OF_A_TEXT and _tells_the_machine(path))


def _tells_the_machine(path: str) -> bool:
    """Whether a file has this machine's identity in it (machine-id(5))."""
    try:
        own = Path("/etc/machine-id").read_bytes().strip()
        return len(own) >= _DIGITS and own in Path(path).read_bytes()
    except OSError:
        return False


def _named(path: str, paths: dict[str, bool]) -> Iterator[str]:
    """What a step of installation names: a file that it made, or a name that leads, link by link, to one of the
    program's (an alternative)."""
    if not path.startswith(_MADE_BELOW) and not os.path.islink(path):
        return
    links: list[str] = []
    while os.path.islink(path) and len(links) < 8:
        links.append(path)
        path = merged(os.path.normpath(os.path.join(os.path.dirname(path), os.readlink(path))))
    if not links:
        yield path
    elif path in paths:
        yield from links


def _below(folders: set[str]) -> Iterator[str]:
    """The files in folders that packages keep for what is made later, and in those below."""
    for folder in sorted(folders):
        if folder.startswith(("/etc/", "/var/lib/")) and not _SHARED.search(folder):
            yield from _files_in(folder)


def _beside(paths: dict[str, bool]) -> Iterator[str]:
    """What no package has in folders that nobody but the program has files in."""
    beside: dict[str, list[str]] = {}
    for folder in sorted({os.path.dirname(path) for path in paths}):
        if folder.count("/") < 3 or _SHARED.search(folder):
            continue
        try:
            names = sorted(os.listdir(folder))
        except OSError:
            continue
        beside[folder] = [f"{folder}/{name}" for name in names if os.path.isfile(f"{folder}/{name}")]
    owned = owners.here().of({path for several in beside.values() for path in several} - set(paths))
    for several in beside.values():
        if not any(path in owned for path in several):
            yield from (path for path in several if path not in paths)
