"""The layer of outside programs: an executable or a script, with the files that its package of the operating system
ships, and what it needs to run.

A tool's tree keeps the places that its files have below the root of a system (``usr/bin/...``), so that a root of its
own can be made of it where the program lives off absolute paths.
"""

from __future__ import annotations

import os
import re
import stat
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

from lapidar.core.cache.stowing import Draft, Stowed
from lapidar.core.cache.trees import Entry, Tree
from lapidar.core.environment import kept as kept_files
from lapidar.core.environment import manifest, marker, walk
from lapidar.core.layers.libraries import Object
from lapidar.core.records.snapshot import Tool
from lapidar.core.system import owners

__all__ = ["FOLDER", "KEPT", "Observed", "ObservedTool", "folder_of", "kept", "lives_off_paths", "observe", "place"]

FOLDER = f"{marker.PRIVATE}/tools"  # one for each tool's tree, and one to mount a root of its own on
KEPT = f"{marker.PRIVATE}/tools.json"
# Nothing of a program's work is in them.
_NOT_TAKEN = re.compile(
    r"/usr/share/(doc|man|info|lintian|bug|menu|applications|icons|pixmaps|bash-completion|zsh|fish|metainfo"
    r"|locale|doc-base|emacs|vim|nvim)/|/etc/(init\.d|cron|systemd|apparmor)|/usr/lib/systemd/"
)
_FIRST_LINE = re.compile(rb"^#!\s*(\S+)(?:[ \t]+(.*?))?\s*$", re.MULTILINE)
_SHELL = ("sh", "dash", "bash")
# What every system has and no analysis means by "needs the program"; and compilers, which the standard library starts
# only to find a library (ctypes.util): who needs one declares it.
_OF_ANY_SYSTEM = frozenset(
    "sh bash dash env true false echo cat ls cp mv rm mkdir rmdir touch chmod ln test pwd sleep kill python python3"
    " pip sudo su git uname head tail sort uniq wc cut tr date ldconfig gcc cc g++ c++ ld as objdump".split()
)
_DEPTH = 4  # an interpreter may be a script itself
# What a shell script calls by name and every system has, each in a version of its own: the utilities of POSIX that work
# on files and texts, and their common companions.
_UTILITIES = frozenset(
    "awk basename bunzip2 bzcat bzip2 cat chmod cksum cmp comm cp csplit cut date dd df diff dirname du egrep env"
    " expand expr fgrep file find fold getconf getopt grep gunzip gzip head hostname iconv id install join ln ls"
    " md5sum mkdir mkfifo mktemp mv nl nohup nproc numfmt od paste patch pathchk pr printenv readlink realpath rm"
    " rmdir sed seq sha256sum shuf sleep sort split stat stty sync tac tail tar tee test timeout touch tr tsort"
    " tty uname unexpand uniq wc which xargs xz xzcat yes zcat zgrep".split()
)
_MOST_OF_A_SCRIPT = 1 << 20  # bytes


def folder_of(name: str) -> str:
    """Where the tree of a tool lies in a restored environment."""
    return f"{FOLDER}/{name}"


@dataclass(slots=True)
class ObservedTool:
    """An outside program as found.

    Attributes:
        executable, interpreter: paths in its tree.
    """

    name: str
    executable: str
    drafts: list[Draft] = field(default_factory=list)
    interpreter: str | None = None
    owner: owners.Owner | None = None

    @property
    def label(self) -> str:
        return f"tool {self.name}"

    def record(self, stowed: Stowed) -> Tool:
        """The record, once its files are stowed."""
        return Tool(
            name=self.name,
            executable=self.executable,
            tree=stowed.tree.digest,
            files=len(stowed.tree),
            bytes=stowed.tree.total_bytes,
            owner=self.owner.name if self.owner else None,
            owner_version=self.owner.version if self.owner else None,
            interpreter=self.interpreter,
        )

    def objects(self) -> Iterator[Object]:
        """Its files that may need libraries."""
        for draft in self.drafts:
            if not draft.link and draft.source:
                yield Object(self.label, draft.source, f"{folder_of(self.name)}/{draft.path}")


@dataclass(slots=True)
class Observed:
    """The layer as found; `warnings` says what could not be taken."""

    tools: list[ObservedTool] = field(default_factory=list)
    warnings: list[str] = field(default_factory=list)


def kept(environment: Path) -> tuple[Tool, ...]:
    """The tools of a restored environment; none where it has none."""
    return kept_files.read(environment, KEPT, tuple[Tool, ...]) or ()


def observe(declared: Iterable[str], found: Iterable[str], environment: Path, kept: Iterable[Tool] = ()) -> Observed:
    """Find outside programs, and take their packages' files.

    Args:
        declared: names, or absolute paths, that the project declares.
        found: those that its source or an observed run starts; what every system has is passed over.
        environment: the environment's folder: its own commands are no outside programs. In a restored one its tools are
            taken from it.
        kept: what a restored environment says of its tools.
    """
    observed = Observed()
    records = {tool.name: tool for tool in kept}
    asked = [(name, True) for name in declared]
    asked += [(name, False) for name in found if os.path.basename(name) not in _OF_ANY_SYSTEM]
    asked += [(name, False) for name in records]
    done: set[str] = set()
    for name, must in asked:
        short = os.path.basename(name)
        if short in done or _is_own_command(environment, short, records):
            continue
        done.add(short)
        if short in records:
            observed.tools.append(_restored(records[short], environment))
            continue
        path = name if "/" in name else _which(name, environment)
        if path is None or not os.path.isfile(path):
            if must or "/" not in name:
                who = "lapidar.toml needs" if must else "the project starts"
                observed.warnings.append(f"the program {name} that {who} is not on this machine")
            continue
        tool = _observe(short, path, observed.warnings)
        if tool:
            observed.tools.append(tool)
    return observed


def _is_own_command(environment: Path, name: str, records: dict[str, Tool]) -> bool:
    return name not in records and (environment / "bin" / name).exists()


def _which(name: str, environment: Path) -> str | None:
    """The program on PATH, but for those of the environment."""
    own = str(environment / "bin")
    for folder in os.environ.get("PATH", os.defpath).split(":"):
        path = f"{folder}/{name}"
        if folder.rstrip("/") != own and os.path.isfile(path) and os.access(path, os.X_OK):
            return path
    return None


def _observe(name: str, path: str, warnings: list[str]) -> ObservedTool | None:
    real = os.path.realpath(path)
    mode = os.stat(real).st_mode
    if mode & (stat.S_ISUID | stat.S_ISGID):
        warnings.append(f"{name} ({real}) runs with another user's rights (setuid); such a program is never captured")
        return None
    if not os.access(real, os.R_OK):
        warnings.append(f"{name} ({real}) cannot be read, and was left out")
        return None
    tool = ObservedTool(name, real.lstrip("/"))
    paths = {real: False}
    tool.owner = owners.here().of([real]).get(real)
    _take_package(paths, tool.owner)
    _take_interpreters(tool, real, paths, warnings)
    _take_shell(paths)
    if _is_shell(tool.interpreter):
        _take_utilities(paths)
    tool.drafts = walk.drafts(
        (one.lstrip("/"), one, link) for one, link in sorted(paths.items()) if _can_be_taken(one)
    ).drafts
    return tool


def _can_be_taken(path: str) -> bool:
    try:
        status = os.stat(path)
    except OSError:
        return False
    return not status.st_mode & (stat.S_ISUID | stat.S_ISGID) and os.access(path, os.R_OK)


def _take_package(paths: dict[str, bool], owner: owners.Owner | None) -> None:
    """The files of a package, and of those that hold a part of it (gnuplot-nox, gnuplot-data)."""
    if owner is None:
        return
    for name in (owner.name, *owners.here().shipped_with(owner.name)):
        for path in owners.here().files_of(name):
            if not _NOT_TAKEN.search(path):
                paths.setdefault(_merged(path), os.path.islink(path))


def _merged(path: str) -> str:
    """/bin and /lib became links into /usr: one place for each file."""
    folder, name = os.path.split(path)
    return f"{os.path.realpath(folder)}/{name}"


def _started_by(head: bytes) -> tuple[str, str] | None:
    """What a script's first line names: the interpreter's path, and where that is `env` the name that it is to look
    for ("" otherwise). None for what is no script."""
    matched = _FIRST_LINE.match(head)
    if matched is None:
        return None
    path, words = os.fsdecode(matched[1]), os.fsdecode(matched[2] or b"").split()
    return path, words[-1] if words and os.path.basename(path) == "env" else ""


def _is_shell(path: str | None) -> bool:
    return path is not None and os.path.basename(path) in _SHELL


def _take_interpreters(tool: ObservedTool, real: str, paths: dict[str, bool], warnings: list[str]) -> None:
    """What runs a script, with its own package: perl, a shell."""
    script = real
    for _ in range(_DEPTH):
        with open(script, "rb") as stream:
            started_by = _started_by(stream.read(256))
        if started_by is None:
            return
        interpreter, asked = started_by
        if asked:
            interpreter = _which(asked, Path("/nowhere")) or interpreter
        if not os.path.isfile(interpreter):
            warnings.append(f"{tool.name} is started by {interpreter}, which is not on this machine")
            return
        found = os.path.realpath(interpreter)
        if tool.interpreter is None:
            tool.interpreter = found.lstrip("/")
        paths[found] = False
        if not _is_shell(found):
            _take_package(paths, owners.here().of([found]).get(found))
        script = found


def _take_shell(paths: dict[str, bool]) -> None:
    """The shell by which programs start others, for a root of their own."""
    shell = os.path.realpath("/bin/sh")
    if os.path.isfile(shell):
        paths[shell] = False
        if os.path.basename(shell) != "sh" and os.path.dirname(shell) == os.path.realpath("/bin"):
            paths[f"{os.path.dirname(shell)}/sh"] = True


def _take_utilities(paths: dict[str, bool]) -> None:
    """What a shell script and those beside it call by its name, for a root of their own: by the words in them."""
    waiting = [path for path, link in paths.items() if not link]
    while waiting:
        for word in _UTILITIES & _words_of_shell_script(waiting.pop()):
            path = _which(word, Path("/nowhere"))
            if path and _merged(path) not in paths:
                paths[_merged(path)] = os.path.islink(path)
                waiting.append(os.path.realpath(path))  # some are shell scripts too


def _words_of_shell_script(path: str) -> set[str]:
    try:
        with open(path, "rb") as stream:
            text = stream.read(2)
            text += stream.read(_MOST_OF_A_SCRIPT) if text == b"#!" else b""
    except OSError:
        return set()
    path, asked = _started_by(text) or ("", "")
    if not _is_shell(asked or path):
        return set()
    return {word.decode("ascii") for word in re.findall(rb"[a-z][a-z0-9]*", text.partition(b"\n")[2])}


def _restored(record: Tool, environment: Path) -> ObservedTool:
    """A tool of a restored environment, out of the files that were placed for it."""
    restored = manifest.read(environment)
    paths = restored.manifest.listing.paths_of(f"tool {record.name}") if restored else []
    prefix = f"{folder_of(record.name)}/"
    found = [
        (path[len(prefix) :], str(environment / path), os.path.islink(environment / path))
        for path in paths
        if path.startswith(prefix)
    ]
    owner = owners.Owner(record.owner, record.owner_version or "") if record.owner else None
    return ObservedTool(record.name, record.executable, walk.drafts(found).drafts, record.interpreter, owner)


def lives_off_paths(tool: Tool, tree: Tree) -> bool:
    """Whether a tool has files beside its executables and libraries, which it looks for by absolute paths; or what its
    shell scripts call by its name."""
    mine = {tool.executable, tool.interpreter}
    if _is_shell(tool.interpreter):
        return any(not _is_shell(entry.path) and entry.path not in mine for entry in tree)
    return any(entry.path not in mine and not re.search(r"(^|/)s?bin/|\.so(\.|$)", entry.path) for entry in tree)


def place(tool: Tool, tree: Tree) -> Iterator[tuple[Entry, str]]:
    """Where each entry of a tool's tree goes in a restored environment."""
    for entry in tree:
        yield entry, f"{folder_of(tool.name)}/{entry.path}"
