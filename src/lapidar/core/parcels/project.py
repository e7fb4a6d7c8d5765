"""A project's own files, as they go into a parcel: what version control would take, and never what is secret."""

from __future__ import annotations

import os
import re
import stat
import subprocess
from collections.abc import Iterable, Iterator, Sequence
from fnmatch import fnmatchcase
from pathlib import Path
from typing import IO, NamedTuple

from lapidar.core.cache.digest import sha256_of
from lapidar.core.cache.trees import EXECUTABLE, FILE, LINK, Entry, Tree
from lapidar.core.errors import LapidarError
from lapidar.core.languages import sources
from lapidar.core.place import OWN_FOLDER, Place
from lapidar.core.system import git

__all__ = ["Project", "Suspect", "gathered"]

# Of what they hold the one purpose is to be secret.
_SECRET_NAMES = (
    ".env",
    ".env.*",
    ".netrc",
    "_netrc",
    ".pgpass",
    "id_rsa",
    "id_dsa",
    "id_ecdsa",
    "id_ed25519",
    "*.kdbx",
)
_SCANNED_BYTES = 2_000_000  # of a file: where somebody writes a password by hand
_MOST_LINE = 4_000
_LOOKS_SECRET = (
    (re.compile(r"-----BEGIN [A-Z ]*PRIVATE KEY"), "a private key"),
    (re.compile(r"\b(?:AKIA|ASIA)[0-9A-Z]{16}\b"), "a key of a cloud"),
    (re.compile(r"\bgh[pousr]_[A-Za-z0-9]{30,}|\bglpat-[\w-]{20,}"), "a token"),
    (re.compile(r"\beyJ[\w-]{10,}\.eyJ[\w-]{10,}\.[\w-]{10,}"), "a token"),
    (re.compile(r"[a-z][a-z0-9+.-]*://[^\s/:@'\"]+:[^\s/@'\"]{3,}@"), "an address with a password"),
    (
        re.compile(
            r"(?i)\b[\w.]*(?:password|passwd|pwd|secret|token|api_?key|access_?key)[\"']?\s*(?:[:=]|<-)\s*"
            r"[rbu]?[\"'](?!\$|<|\{|%)([^\"'\s]{8,})[\"']"
        ),
        "a password or a token",
    ),
)


class Suspect(NamedTuple):
    """A place in a file that looks like a credential: where, and what it looks like. What it is is never told."""

    path: str
    line: int
    what: str


class Project(NamedTuple):
    """The files of a project.

    Attributes:
        suspects: what in them looks like a credential.
        left: what is not taken, with why, a sentence each.
    """

    root: Path
    tree: Tree
    suspects: list[Suspect]
    left: list[str]

    def opened(self, entry: Entry) -> IO[bytes]:
        """The bytes of a file."""
        return open(self.root / entry.path, "rb")


def gathered(place: Place, never: Sequence[str], paths: Iterable[str] | None = None) -> Project:
    """Read all files of a project.

    Args:
        never: further files that are secret, relative to its root.
        paths: of the files that are meant instead, relative to its root.

    Raises:
        LapidarError: one cannot be read.
    """
    entries: list[Entry] = []
    suspects: list[Suspect] = []
    left: list[str] = []
    for path in sorted(_paths(place) if paths is None else paths):
        name = path.rpartition("/")[2]
        if path in never or any(fnmatchcase(name, one) for one in _SECRET_NAMES):
            left.append(f"{path} is not in it: it is there to be secret")
            continue
        try:
            status = os.lstat(place.root / path)
            if stat.S_ISLNK(status.st_mode):
                entry = Entry(path, LINK, os.readlink(place.root / path), 0)
                Tree([entry])
            elif stat.S_ISREG(status.st_mode):
                kind = EXECUTABLE if status.st_mode & stat.S_IXUSR else FILE
                entry = Entry(path, kind, sha256_of(str(place.root / path)), status.st_size)
                Tree([entry])
                suspects += _suspects(place.root, path, status.st_size)
            else:
                what = "a repository of its own" if stat.S_ISDIR(status.st_mode) else "neither a file nor a link"
                left.append(f"{path} is not in it: it is {what}")
                continue
        except (ValueError, UnicodeEncodeError) as error:
            left.append(
                f"{path.encode('utf-8', 'replace').decode()} is not in it: {str(error).partition(': ')[2] or error}"
            )
            continue
        except FileNotFoundError:
            continue  # version control has it, and it was deleted
        except OSError as error:
            raise LapidarError(
                f"The file {path} cannot be read",
                why=error.strerror or str(error),
                remedy="Make it readable, or have version control ignore it.",
            ) from error
        entries.append(entry)
    return Project(place.root, Tree(entries), suspects, left)


def _paths(place: Place) -> Iterator[str]:
    """What version control has or would take; where there is none, what its ignore lists leave."""
    try:
        told = git.run(place.root, "ls-files", "-z", "-co", "--exclude-standard")
        if told.returncode:
            raise LapidarError("it is no working copy of git")
        found = os.fsdecode(told.stdout).rstrip("\0").split("\0")
    except (LapidarError, OSError, subprocess.SubprocessError):
        found = list(sources.find(place.root, lambda name: True))
        kept = (".gitignore", f"{OWN_FOLDER}/project.toml", f"{OWN_FOLDER}/.gitignore")
        found += [name for name in kept if (place.root / name).is_file()]
    own = f"{OWN_FOLDER}/"
    yield from (
        path for path in filter(None, dict.fromkeys(found)) if not path.startswith(own) or path == f"{own}project.toml"
    )


def _suspects(root: Path, path: str, size: int) -> Iterator[Suspect]:
    if size > _SCANNED_BYTES:
        return
    data = (root / path).read_bytes()
    if b"\0" in data[:4096]:
        return
    for number, line in enumerate(data.decode("utf-8", "replace").splitlines(), 1):
        for pattern, what in _LOOKS_SECRET:
            if pattern.search(line[:_MOST_LINE]):
                yield Suspect(path, number, what)
                break
