"""The layer of outside programs: an executable or a script, with the files that its package of the operating system
ships, and what it needs to run.

A tool's tree keeps the places that its files have below the root of a system (``usr/bin/...``), so that a root of its
own can be made of it where the program lives off absolute paths.
"""

from __future__ import annotations

import os
import re
import stat
from collections.abc import Iterator, Mapping, Sequence

from msgspec import Struct, field

from lapidar.core.cache.stowing import Draft, FileDraft, Stowed
from lapidar.core.cache.trees import LINK, Tree
from lapidar.core.environment import kept as kept_files
from lapidar.core.environment import launchers, marker, rooting, walk
from lapidar.core.environment.folder import Environment
from lapidar.core.environment.layout import Layout, Placing
from lapidar.core.languages.protocol import ObjectFile
from lapidar.core.layers import addons, packaged
from lapidar.core.layers.protocol import Judged, Judgement, Subject
from lapidar.core.records import words
from lapidar.core.records.declaration import SystemNeeds
from lapidar.core.records.findings import Finding, Problem
from lapidar.core.records.owner import LAPIDAR, Layer, Owner
from lapidar.core.records.snapshot import Snapshot, Tool
from lapidar.core.system import fonts, owners, starting

__all__ = [
    "EVERYWHERE",
    "FOLDER",
    "ToolFound",
    "ToolsFound",
    "files_of",
    "homes",
    "judge",
    "kept",
    "newer",
    "observe",
    "place",
]

FOLDER = f"{marker.PRIVATE}/tools"  # one for each tool's tree, and one to mount a root of its own on
KEPT = kept_files.TOOLS
_FIRST_LINE = re.compile(rb"^#!\s*(\S+)(?:[ \t]+(.*?))?\s*$", re.MULTILINE)
_SHELL = ("sh", "dash", "bash")
# What every system has and no analysis means by "needs the program"; and compilers, which the standard library starts
# only to find a library (ctypes.util): who needs one declares it.
EVERYWHERE = frozenset(
    "sh bash dash env true false echo cat ls cp mv rm mkdir rmdir touch chmod ln test pwd sleep kill uname head tail"
    " sort uniq wc cut tr date".split()
)
_OF_ANY_SYSTEM = EVERYWHERE | frozenset("python python3 pip sudo su git ldconfig gcc cc g++ c++ ld as objdump".split())
_SHOWN = 3
_OF_THE_SYSTEM = ("/bin", "/usr/bin", "/usr/local/bin")
# Programs, and libraries where every loader looks; those in folders of their own are plugins, which a program opens by
# their places.
_NO_PLACE_MATTERS = re.compile(r"(^|/)s?bin/|(^|/)lib(64|32)?/([a-z0-9_]+-linux-[a-z0-9]+/)?[^/]+\.so(\.[^/]*)?$")
_DEPTH = 4  # an interpreter may be a script itself
# What shell scripts call by name and every system has, each in a version of its own: the utilities of POSIX that work
# on files and texts, and their common companions.
_UTILITIES = frozenset(
    "awk basename bunzip2 bzcat bzip2 cat chmod cksum cmp comm cp csplit cut date dd df diff dirname du egrep env"
    " expand expr fgrep file find fold getconf getopt grep gunzip gzip head hostname iconv id install join ln ls"
    " md5sum mkdir mkfifo mktemp mv nl nohup nproc numfmt od paste patch pathchk pr printenv readlink realpath rm"
    " rmdir sed seq sha256sum shuf sleep sort split stat stty sync tac tail tar tee test timeout touch tr tsort"
    " tty uname unexpand uniq wc which xargs xz xzcat yes zcat zgrep".split()
)
_INTERPRETERS = frozenset("java perl ruby tclsh wish".split())  # which shell scripts start on files beside them
_MOST_OF_A_SCRIPT = 1 << 20  # bytes


def _folder_of(name: str) -> str:
    """Where the tree of a tool lies in a restored environment."""
    return f"{FOLDER}/{name}"


class ToolFound(Struct):
    """An outside program as found.

    Attributes:
        executable, interpreter: paths in its tree.
        paths: what is taken of this machine; whether it stands for the link itself.
        package: the operating system's package that has it.
        start: how it starts here; None where nobody tried, or nothing can be said.
    """

    name: str
    executable: str
    drafts: list[Draft] = field(default_factory=list)
    interpreter: str | None = None
    package: owners.SystemPackage | None = None
    start: starting.Start | None = None
    paths: dict[str, bool] = field(default_factory=dict)

    @property
    def has_places(self) -> bool:
        """Whether it has files at fixed places: it has a root of its own then."""
        mine = f"/{self.executable}"
        return any(path != mine and not _NO_PLACE_MATTERS.search(path) for path in self.paths)

    @property
    def owner(self) -> Owner:
        return Owner(Layer.TOOLS, name=self.name)

    def record(self, stowed: Stowed) -> Tool:
        """The record, once its files are stowed."""
        return Tool(
            name=self.name,
            executable=self.executable,
            tree=stowed.tree.digest,
            files=len(stowed.tree),
            bytes=stowed.tree.total_bytes,
            owner=self.package.name if self.package else None,
            owner_version=self.package.version if self.package else None,
            interpreter=self.interpreter,
        )


class ToolsFound(Struct):
    """The layer as found.

    Attributes:
        held: records of an earlier snapshot that stay as they are.
        warnings: what could not be taken.
    """

    tools: list[ToolFound] = field(default_factory=list)
    held: tuple[Tool, ...] = ()
    warnings: list[str] = field(default_factory=list)

    def drafts(self) -> Mapping[Owner, list[Draft]]:
        """The files of each program."""
        return {tool.owner: tool.drafts for tool in self.tools}

    def objects(self) -> Iterator[ObjectFile]:
        """The files of all programs that may need libraries."""
        for tool in self.tools:
            for draft in tool.drafts:
                if isinstance(draft, FileDraft):
                    yield ObjectFile(tool.owner, draft.source, f"{_folder_of(tool.name)}/{draft.path}")

    def records(self, stowed: Mapping[Owner, Stowed]) -> tuple[Tool, ...]:
        """The records, sorted."""
        new = [tool.record(stowed[tool.owner]) for tool in self.tools]
        return tuple(sorted([*self.held, *new], key=lambda tool: tool.name))


def kept(environment: Environment) -> tuple[Tool, ...]:
    """The tools of a restored environment; none where it has none."""
    return environment.kept(KEPT, tuple[Tool, ...]) or ()


def homes(environment: Environment) -> dict[str, str]:
    """The variables that lead others to where captured programs have all that is theirs: who loads Java into his own
    process looks for it by ``JAVA_HOME``."""
    found: dict[str, str] = {}
    for tool in kept(environment) if environment.is_private else ():
        if tool.name == "java" and (home := re.fullmatch(r"(.+)/bin/java", tool.executable)):
            found["JAVA_HOME"] = f"{environment.folder}/{_folder_of(tool.name)}/{home[1]}"
    return found


def files_of(tool: Tool, tree: Tree, path_of: Mapping[str, str]) -> Iterator[ObjectFile]:
    """The files of a recorded tool that may need libraries.

    Args:
        path_of: where the bytes of each entry lie, by its path in the tree.
    """
    for entry in tree:
        if entry.kind != LINK:
            yield ObjectFile(tool.part, path_of[entry.path], f"{_folder_of(tool.name)}/{entry.path}")


def observe(subject: Subject) -> ToolsFound:
    """Find outside programs, and take their packages' files: those that the project declares, those that its source or
    an observed run starts (what every system has is passed over), and those of an earlier snapshot."""
    found = ToolsFound()
    renewed = {os.path.basename(path) for path in subject.renewed}
    records = {tool.name: tool for tool in subject.held.tools if tool.name not in renewed}
    asked = [(path, False) for path in subject.renewed]
    asked += [(name, True) for name in subject.declaration.system.tools]
    asked += [(name, False) for name in _wanted(subject.programs)]
    asked += [(name, False) for name in records]
    own = str(subject.environment.programs) if subject.environment else ""
    done: set[str] = set()
    unstarted: list[str] = []
    for name, must in asked:
        short = os.path.basename(name)
        if short in done or (own and short not in records and _is_own(f"{own}/{short}", subject)):
            continue
        done.add(short)
        if short in records:
            if subject.environment:
                found.tools.append(_restored(records[short], subject.environment))
            else:
                found.held += (records[short],)
            continue
        path = name if "/" in name else _which(name, "" if own in _OF_THE_SYSTEM else own)
        if path is None or not os.path.isfile(path):
            if must or "/" not in name:
                who = "lapidar.toml needs" if must else "the project starts"
                found.warnings.append(f"the program {name} that {who} is not on this machine")
            continue
        if short in subject.unable:
            found.warnings.append(
                f"{short} was left out: it does not start from what is known of it: {subject.unable[short]}"
            )
            continue
        tool = _observe(short, path, found.warnings, subject)
        if tool:
            found.tools.append(tool)
            unstarted += [short] if tool.start is None else []
    if subject.starts and unstarted:
        found.warnings.append(
            f"nobody saw {words.some(unstarted, _SHOWN)} start: either that does not end, or this kernel keeps nothing "
            "apart; what only a start shows was not captured"
        )
    declared = subject.declaration.system
    _draft([tool for tool in found.tools if tool.paths], declared)
    if len(records) < len(found.tools) + len(found.held):  # those of a restored environment have theirs already
        found.warnings += _unmet(declared)
    elif (declared.packages or declared.files) and not records:
        found.warnings.append("lapidar.toml needs files for outside programs, and there is no such program")
    return found


def _wanted(programs: Sequence[str]) -> list[str]:
    """Of programs that a source names or a run started, those to be taken. One that no PATH has (a compiler's own) is
    started by another, and comes with that."""
    inner = [name for name in programs if "/" in name and os.path.dirname(name) not in _folders()]
    wanted = dict.fromkeys(name for name in programs if os.path.basename(name) not in _OF_ANY_SYSTEM)
    outer = [
        name for name in programs if "/" in name and os.path.basename(name) not in EVERYWHERE and name not in inner
    ]
    owned = owners.here().of([*inner, *outer]) if inner else {}
    coming = {one: set(owners.here().working_with([owned[one].name])) for one in outer if one in owned}
    for name in inner:
        if name in owned and (needing := [one for one, packages in coming.items() if owned[name].name in packages]):
            wanted.pop(name, None)
            wanted |= dict.fromkeys(needing)
    return list(wanted)


def _folders() -> list[str]:
    return [*_OF_THE_SYSTEM, *os.environ.get("PATH", os.defpath).split(":")]


def _unmet(declared: SystemNeeds) -> Iterator[str]:
    """What is declared for outside programs and cannot be taken."""
    for name in declared.packages:
        if not owners.here().has(name):
            yield f"the system has no package {name}, which lapidar.toml needs"
    for path in declared.files:
        if why := packaged.refused(path):
            yield f"{path}, which lapidar.toml needs, was not taken: {why}"


def _is_own(path: str, subject: Subject) -> bool:
    """Whether a program is one of the environment's own commands. Where the environment is a part of the system, its
    folder has everybody's programs: of these its own are those that its runtime starts."""
    if not os.path.exists(path) or os.path.dirname(path) not in _OF_THE_SYSTEM:
        return os.path.exists(path)
    started_by = _started_by(_head_of(path))
    runtime = subject.program.source if subject.program else ""
    return started_by is not None and os.path.realpath(started_by[0]) == os.path.realpath(runtime)


def _head_of(path: str) -> bytes:
    try:
        with open(path, "rb") as stream:
            return stream.read(256)
    except OSError:
        return b""


def _which(name: str, but_not: str = "") -> str | None:
    """The program on PATH.

    Args:
        but_not: a folder that is passed over.
    """
    for folder in os.environ.get("PATH", os.defpath).split(":"):
        path = f"{folder}/{name}"
        if folder.rstrip("/") != but_not and os.path.isfile(path) and os.access(path, os.X_OK):
            return path
    return None


def _observe(name: str, path: str, warnings: list[str], subject: Subject) -> ToolFound | None:
    real = os.path.realpath(path)
    mode = os.stat(real).st_mode
    if mode & (stat.S_ISUID | stat.S_ISGID):
        warnings.append(f"{name} ({real}) runs with another user's rights (setuid); such a program is never captured")
        return None
    if not os.access(real, os.R_OK):
        warnings.append(f"{name} ({real}) cannot be read, and was left out")
        return None
    tool = ToolFound(name, real.lstrip("/"))
    start = tool.start = starting.start(path, variables=_callers()) if subject.starts else None
    paths = tool.paths = {real: False}
    tool.package = owners.here().of([real]).get(real)
    # An interpreter's own package may be a part of the one that is called like it (perl-base), and a name another
    # package's than what it leads to (pdflatex).
    asked = {name, *(one.name for one in owners.here().of([path], of_links=True).values())}
    asked |= {tool.package.name} if tool.package else set()
    asked |= _take_interpreters(tool, real, paths, warnings)
    packaged.take(paths, asked)
    _take_what_all_have(paths)
    if _is_shell(tool.interpreter):
        _take_interpreters_named(paths)
        packaged.take_with_packages(paths, addons.named_by_shell(real))
    _take_modules(tool, real, paths, warnings)
    if start:  # what a wrapper starts in its turn
        packaged.take_with_packages(paths, map(os.path.realpath, start.observed.executed))
    packaged.take_made(paths, asked)
    # By it, or by what it starts of its own.
    opened = {file for by in set(paths) & set(subject.opened_by) for file in subject.opened_by[by]}
    packaged.take_opened(paths, filter(_is_of_the_system, {*opened, *(start.observed.opened if start else ())}))
    return tool


def _callers() -> dict[str, str]:
    """By what a program is found, and finds its libraries, where the caller is: environment modules set these."""
    return {name: os.environ[name] for name in ("PATH", "LD_LIBRARY_PATH") if name in os.environ}


def _draft(new: list[ToolFound], declared: SystemNeeds) -> None:
    """Make drafts of what was found, with what is declared for those that have files at fixed places, and with that
    a root of their own; where none has, for all."""
    having = [tool.name for tool in new if tool.has_places] or [tool.name for tool in new]
    for tool in new:
        if tool.name in having:
            packaged.take(tool.paths, declared.packages)
            packaged.take_made(tool.paths, declared.packages)
            packaged.take_declared(tool.paths, declared.files)
        found = sorted(tool.paths.items())
        tool.drafts = walk.drafts(
            walk.Found(one.lstrip("/"), one, link) for one, link in found if _can_be_taken(one)
        ).drafts


def _can_be_taken(path: str) -> bool:
    try:
        status = os.stat(path)
    except OSError:
        return False
    return not status.st_mode & (stat.S_ISUID | stat.S_ISGID) and os.access(path, os.R_OK)


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


def _take_interpreters(tool: ToolFound, real: str, paths: dict[str, bool], warnings: list[str]) -> set[str]:
    """What runs a script: perl, a shell. Returns the packages of those that are no shells."""
    script, asked_for = real, set[str]()
    for _ in range(_DEPTH):
        with open(script, "rb") as stream:
            started_by = _started_by(stream.read(256))
        if started_by is None:
            break
        interpreter, asked = started_by
        if asked:
            interpreter = _which(asked) or interpreter
        if not os.path.isfile(interpreter):
            warnings.append(f"{tool.name} is started by {interpreter}, which is not on this machine")
            break
        found = os.path.realpath(interpreter)
        if tool.interpreter is None:
            tool.interpreter = found.lstrip("/")
        paths[found] = False
        if not _is_shell(found) and (owner := owners.here().of([found]).get(found)):
            asked_for |= {owner.name, os.path.basename(interpreter)}
        script = found
    return asked_for


def _take_modules(tool: ToolFound, real: str, paths: dict[str, bool], warnings: list[str]) -> None:
    """The modules that a script loads by their names, with their packages."""
    interpreter = f"/{tool.interpreter}" if tool.interpreter else ""
    language = addons.of_interpreter(interpreter)
    if language is None:
        return
    found, missing = addons.modules_of(interpreter, language, [real])
    packaged.take_with_packages(paths, found)
    if missing:
        warnings.append(
            f"{tool.name} names modules of {language.title} that are nowhere on its search path: "
            + words.some(missing, _SHOWN)
        )


def _is_of_the_system(path: str) -> bool:
    """Whether what a program was seen to open is to be at the same place in its root: no file of somebody, of the
    kernel, or that the libraries' layer has."""
    held = fonts.is_font(path) or _NO_PLACE_MATTERS.search(path) or packaged.found_by_loader(path)
    held = held or not packaged.wanted(path)
    return path.startswith(("/usr/", "/etc/", "/opt/", "/var/lib/")) and not held and packaged.is_for_all(path)


def _take_what_all_have(paths: dict[str, bool]) -> None:
    """What every system has, for a root of its own: the shell by which programs start others, and what they start."""
    for path in filter(None, map(_which, sorted(EVERYWHERE | _UTILITIES))):
        paths.setdefault(packaged.merged(path), os.path.islink(path))
    shell = os.path.realpath("/bin/sh")
    if os.path.isfile(shell):
        paths[shell] = False
        if os.path.basename(shell) != "sh" and os.path.dirname(shell) == os.path.realpath("/bin"):
            paths[f"{os.path.dirname(shell)}/sh"] = True


def _take_interpreters_named(paths: dict[str, bool]) -> None:
    """What a shell script and those beside it start on files beside them: by the words in them."""
    waiting = [path for path, link in paths.items() if not link]
    while waiting:
        for word in _INTERPRETERS & _words_of_shell_script(waiting.pop()):
            path = _which(word)
            if path and packaged.merged(path) not in paths:
                packaged.take_with_packages(paths, [os.path.realpath(path)])
                paths[packaged.merged(path)] = os.path.islink(path)
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


def _restored(record: Tool, environment: Environment) -> ToolFound:
    """A tool of a restored environment, out of the files that were placed for it."""
    placed = environment.manifest.listing.paths_of(record.part) if environment.manifest else []
    prefix = f"{_folder_of(record.name)}/"
    found = []
    for path in placed:
        if path.startswith(prefix):
            lies = f"{environment.folder}/{path}"
            found.append(walk.Found(path[len(prefix) :], lies, os.path.islink(lies)))
    package = owners.SystemPackage.recorded(record.owner, record.owner_version)
    return ToolFound(record.name, record.executable, walk.drafts(found).drafts, record.interpreter, package)


def _lives_off_paths(tool: Tool, tree: Tree) -> bool:
    """Whether a tool has files beside its executables and libraries, which it looks for by absolute paths; or what its
    shell scripts call by its name."""
    mine = {tool.executable, tool.interpreter}
    if _is_shell(tool.interpreter):
        return any(not _is_shell(entry.path) and entry.path not in mine for entry in tree)
    return any(entry.path not in mine and not _NO_PLACE_MATTERS.search(entry.path) for entry in tree)


def place(snapshot: Snapshot, layout: Layout, at: Placing) -> None:
    """Add the programs and their launchers. They come with libraries of their own, or not at all."""
    if not snapshot.tools or at.private is None:
        return
    layout.generate(LAPIDAR, rooting.HELPER, rooting.helper(snapshot.platform.machine), executable=True)
    layout.generate(LAPIDAR, f"{FOLDER}/.mount/.keep", b"")
    layout.generate(LAPIDAR, KEPT, kept_files.render(snapshot.tools))
    for tool in snapshot.tools:
        tree = at.trees[tool.tree]
        folder = _folder_of(tool.name)
        layout.add(tool.part, ((entry, f"{folder}/{entry.path}") for entry in tree))
        layout.command(tool.name, _launcher(tool, tree, folder, at.private))
    if any(_links(at.trees[tool.tree]) for tool in snapshot.tools):
        layout.generate(LAPIDAR, launchers.LINKER, launchers.linker(at.private), executable=True)


def _links(tree: Tree) -> bool:
    """Whether a tool has the linker."""
    return any(entry.path == "usr/bin/ld" for entry in tree)


def _launcher(tool: Tool, tree: Tree, folder: str, private: launchers.Private) -> bytes:
    if _lives_off_paths(tool, tree):
        links = _links(tree)
        return launchers.tool(tool.name, tool.executable, tool.interpreter, private, rooting.HELPER, links)
    if tool.interpreter:
        return launchers.script(f"{folder}/{tool.executable}", f"{folder}/{tool.interpreter}", private)
    return launchers.program(f"{folder}/{tool.executable}", private)


def newer(tools: Sequence[Tool], own: str) -> dict[str, tuple[Tool, owners.SystemPackage]]:
    """Recorded programs whose package this machine has in another version now: by their paths here, each with its
    record and that package.

    Args:
        own: the folder of an environment's commands, which are the recorded ones themselves.
    """
    here = {tool.name: _which(tool.name, own) for tool in tools if tool.owner_version}
    real = {tool: os.path.realpath(path) for tool in tools if (path := here.get(tool.name))}
    packages = owners.here().of(real.values()) if real else {}
    return {
        path: (tool, package)
        for tool, path in real.items()
        if (package := packages.get(path))
        and package.name == tool.owner
        and package.version != tool.owner_version
        and os.path.basename(path) == tool.name
    }


def judge(snapshot: Snapshot, at: Judged) -> Judgement:
    """The programs that will not find their files here, and those that this machine has in another version."""
    from lapidar.core.system import namespaces

    others = tuple(
        f"{tool.name} on PATH is of {package.name} {package.version}, the snapshot's of {tool.owner_version}: "
        "lapidar capture takes it, or lapidar pin --renew where the project pins"
        for tool, package in newer(snapshot.tools, str(at.environment.programs)).values()
    )
    if not at.environment.is_private or not snapshot.tools or namespaces.allowed():
        return Judgement(remarks=others)
    return Judgement(
        remarks=others,
        findings=tuple(
            Finding(Layer.TOOLS, Problem.NO_ROOT_OF_ITS_OWN, name=tool.name)
            for tool in snapshot.tools
            if at.cache.has_tree(tool.tree) and _lives_off_paths(tool, at.cache.tree(tool.tree))
        ),
    )
