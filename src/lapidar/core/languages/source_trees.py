"""Source trees: unpacked from a source distribution, or checked out of version control."""

from __future__ import annotations

import hashlib
import os
import re
import shutil
import subprocess
import tarfile
import zipfile
from collections.abc import Iterable
from pathlib import Path, PurePosixPath
from typing import NamedTuple
from urllib.parse import parse_qs, urldefrag, urlsplit

from lapidar.core import languages
from lapidar.core.cache.digest import sha256_of
from lapidar.core.errors import DeclarationError, LapidarError, PackageBroken
from lapidar.core.net.addresses import without_credentials
from lapidar.core.place import OWN_FOLDER
from lapidar.core.system import git

__all__ = [
    "Checkout",
    "checked_out",
    "copied",
    "digest_here",
    "digest_of",
    "files_of",
    "is_environment",
    "parse_version_control",
    "telling_lines",
    "unpacked",
]

_ERROR = re.compile(
    r"\b(error|fatal|cannot find|not found|undefined reference|no such file)\b|\w(Error|Exception): ", re.I
)
_MADE = re.compile(re.escape(OWN_FOLDER))
_MADE_AT_TOP = re.compile(
    rf"{_MADE.pattern}|\.(tox|nox|mypy_cache|pytest_cache|ruff_cache|eggs)|.*\.egg-info|.*\.Rcheck"
)
_MADE_IN_BUILD = re.compile(rf"{_MADE.pattern}|lib(\..*)?|(bdist|temp)\..*")
_VERSION_CONTROL = {".git", ".hg", ".svn"}
_MOST_BYTES = 4_000_000_000
_COMMIT = re.compile(r"^[0-9a-f]{40}([0-9a-f]{24})?$")
_GIT_TIMEOUT_SECONDS = 600
_REVISION = re.compile(r"[A-Za-z0-9_][A-Za-z0-9_./+~^-]*")  # never an option of git


def telling_lines(log: str, most: int) -> list[str]:
    """The lines of what a build said that tell why it failed: those of errors, in their order, else the last ones."""
    lines = [line.rstrip() for line in log.strip().splitlines() if line.strip()]
    errors = [line for line in dict.fromkeys(lines) if _ERROR.search(line)]
    return errors[:most] or lines[-most:]


def unpacked(archive: Path, file_name: str, target: Path) -> Path:
    """Unpack a source distribution (Source distribution format).

    Returns:
        The folder of its source.

    Raises:
        PackageBroken: it is no archive, or holds what must not be (paths outside itself, devices).
    """
    target.mkdir(parents=True)
    try:
        if file_name.endswith(".zip"):
            _unzip(archive, target, file_name)
        else:
            with tarfile.open(archive) as tar:
                if sum(member.size for member in tar) > _MOST_BYTES:
                    raise PackageBroken(f"{file_name} unpacks to more than {_MOST_BYTES:,} bytes")
                tar.extractall(target, filter="data")
    except (tarfile.TarError, zipfile.BadZipFile, EOFError, OSError) as error:
        raise PackageBroken(f"{file_name} cannot be unpacked", why=str(error), remedy="Do not use it.") from error
    folders = [path for path in target.iterdir() if path.is_dir()]
    return folders[0] if len(folders) == 1 else target


def copied(folder: Path, target: Path) -> Path:
    """Copy a source folder to build from, without what building and running it left there, and without environments in
    it. Links are taken as what they lead to.

    Raises:
        PackageBroken: it cannot be read.
    """

    try:
        shutil.copytree(folder, target, ignore=lambda at, names: _left_out(folder, at, names))
    except (OSError, shutil.Error) as error:
        raise PackageBroken(f"{folder} cannot be read as source", why=str(error)) from error
    return target


def _left_out(folder: Path, at: str, names: list[str]) -> list[str]:
    """Of the names in a folder below a source those that are not copied."""
    pattern = _MADE_AT_TOP if Path(at) == folder else _MADE_IN_BUILD if Path(at) == folder / "build" else _MADE
    return [
        name
        for name in names
        if pattern.fullmatch(name) or is_environment(Path(at, name)) or _came_by_running(Path(at, name), folder)
    ]


def files_of(folder: Path) -> list[str]:
    """The files of a source folder that a copy of it has, but for those of version control: paths below it, sorted."""
    found = []
    for at, folders, names in os.walk(folder, followlinks=True):
        out = {*_left_out(folder, at, [*folders, *names]), *_VERSION_CONTROL}
        folders[:] = [name for name in folders if name not in out]
        below = os.path.relpath(at, folder)
        found += [name if below == "." else f"{below}/{name}" for name in names if name not in out]
    return sorted(found, key=lambda path: path.split("/"))


def digest_here(folder: Path) -> str:
    """The digest of a source folder as a copy of it would have it: see `digest_of`."""
    return _digest(folder, files_of(folder))


def _came_by_running(path: Path, below: Path) -> bool:
    inside = path.relative_to(below).as_posix()
    return path.is_file() and any(language.checking.made_by_running(inside) for language in languages.every())


def is_environment(folder: Path) -> bool:
    return any((folder / name).is_file() for name in ("pyvenv.cfg", "lib/lapidar/placed.json"))


def digest_of(folder: Path) -> str:
    """What a source folder is: all of its files, and of version control the commit, from which builds take versions."""
    names = (path.relative_to(folder).parts for path in sorted(folder.rglob("*")) if path.is_file())
    return _digest(folder, ("/".join(parts) for parts in names if not _VERSION_CONTROL.intersection(parts)))


def _digest(folder: Path, names: Iterable[str]) -> str:
    digest = hashlib.sha256()
    for name in names:
        if not os.path.isfile(path := f"{folder}/{name}"):
            continue
        executable = "x" if os.access(path, os.X_OK) else "-"
        digest.update(f"{name}\0{executable}{sha256_of(path)}\n".encode("utf-8", "surrogateescape"))
    if (folder / ".git").exists():
        described = git.run(folder, "describe", "--always", "--tags", "--long", "--dirty", seconds=_GIT_TIMEOUT_SECONDS)
        digest.update(described.stdout)
    return digest.hexdigest()


def _unzip(archive: Path, target: Path, file_name: str) -> None:
    with zipfile.ZipFile(archive) as content:
        for info in content.infolist():
            if info.filename.startswith("/") or ".." in info.filename.split("/"):
                raise PackageBroken(f"{file_name} holds a path outside itself: {info.filename!r}")
        if sum(info.file_size for info in content.infolist()) > _MOST_BYTES:
            raise PackageBroken(f"{file_name} unpacks to more than {_MOST_BYTES:,} bytes")
        content.extractall(target)


class Checkout(NamedTuple):
    """A reference to a repository: ``git+https://packages.example/repository@revision#subdirectory=folder``."""

    url: str
    revision: str
    subdirectory: str

    @property
    def shown(self) -> str:
        """The address without secrets."""
        return without_credentials(self.url)


def parse_version_control(reference: str) -> Checkout | None:
    """A direct reference to a repository (Version specifiers specification, direct references); None for others."""
    plain, fragment = urldefrag(reference)
    if not plain.startswith("git+"):
        return None
    plain = plain.removeprefix("git+")
    parts = urlsplit(plain)
    path, at, revision = parts.path.rpartition("@")
    if not at:
        path, revision = parts.path, ""
    wanted = Checkout(parts._replace(path=path).geturl(), revision, parse_qs(fragment).get("subdirectory", [""])[0])
    _refuse_odd(wanted, parts.scheme, reference)
    return wanted


def _refuse_odd(wanted: Checkout, scheme: str, reference: str) -> None:
    """Raises: DeclarationError: something of a reference would be more to git, or to us, than what it stands for."""
    folders = PurePosixPath(wanted.subdirectory)
    why = ""
    if scheme not in (*git.PROTOCOLS, "") or wanted.url.startswith("-"):
        why = f"its address begins with {wanted.url[:12]!r}"
    elif wanted.revision and not _REVISION.fullmatch(wanted.revision):
        why = f"{wanted.revision!r} is no revision"
    elif folders.is_absolute() or ".." in folders.parts:
        why = f"{wanted.subdirectory!r} leads out of the repository"
    if why or any(ord(char) < 32 for char in reference):
        raise DeclarationError(
            f"{without_credentials(reference)!r} is no reference to a repository",
            why=why,
            remedy="Write git+https://HOST/REPOSITORY@REVISION#subdirectory=FOLDER.",
        )


def checked_out(wanted: Checkout, target: Path) -> str:
    """Check a commit out, with `git` itself.

    Returns:
        The commit's full name.

    Raises:
        LapidarError: git is not here, or cannot get it.
    """
    target.mkdir(parents=True)
    _git(target, wanted, "init", "--quiet")
    revision = wanted.revision or "HEAD"
    try:
        _git(target, wanted, "fetch", "--quiet", "--depth", "1", "--", wanted.url, revision)
    except LapidarError:
        # Some hosts give single commits by name only where a branch ends: then all of it.
        _git(
            target,
            wanted,
            "fetch",
            "--quiet",
            "--",
            wanted.url,
            "+refs/heads/*:refs/heads/*",
            "+refs/tags/*:refs/tags/*",
        )
        _git(target, wanted, "checkout", "--quiet", "--detach", revision)
    else:
        _git(target, wanted, "checkout", "--quiet", "--detach", "FETCH_HEAD")
    commit = _git(target, wanted, "rev-parse", "HEAD").strip()
    if _COMMIT.match(wanted.revision) and commit != wanted.revision:
        raise LapidarError(f"{wanted.shown} gave commit {commit} for {wanted.revision}")
    return commit


def _git(folder: Path, wanted: Checkout, *words: str) -> str:
    try:
        done = git.run(folder, *words, seconds=_GIT_TIMEOUT_SECONDS)
    except subprocess.TimeoutExpired as error:
        raise LapidarError(f"{wanted.shown} does not answer within {_GIT_TIMEOUT_SECONDS} s") from error
    if done.returncode != 0:
        said = done.stderr.decode("utf-8", "replace").strip().splitlines() or ["no reason given"]
        last = said[-1].replace(wanted.url, wanted.shown)
        raise LapidarError(
            f"{wanted.shown} at {wanted.revision or 'its newest commit'} cannot be checked out",
            why=last,
            remedy="Look at the address and the revision. Nothing was changed.",
        )
    return done.stdout.decode("utf-8", "replace")
