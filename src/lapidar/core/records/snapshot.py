"""The records of a snapshot: values, compared by content, with no behaviour of their own.

Field by field they are described in ``docs/lockfile.md``; names with a hyphen there are the same names with
an underscore here.
"""

from __future__ import annotations

from typing import Annotated, Literal

import msgspec

__all__ = [
    "Conditions",
    "Digest",
    "Kept",
    "Libraries",
    "Library",
    "Origin",
    "Package",
    "Platform",
    "Remainder",
    "Runtime",
    "Snapshot",
    "Tool",
]

Digest = Annotated[str, msgspec.Meta(pattern=r"^sha256:[0-9a-f]{64}$")]
Count = Annotated[int, msgspec.Meta(ge=0)]
Name = Annotated[str, msgspec.Meta(min_length=1)]
# Relative, POSIX, and never climbing out of the folder it is joined to.
Inside = Annotated[str, msgspec.Meta(pattern=r"^(?!/)(?!(.*/)?\.\.(/|$))[^\0]+$")]


class Platform(msgspec.Struct, frozen=True, rename="kebab", forbid_unknown_fields=True, omit_defaults=True):
    """The kind of machine and operating system that the environment's bytes are for."""

    system: Name
    machine: Name
    libc: Name


class Runtime(msgspec.Struct, frozen=True, rename="kebab", forbid_unknown_fields=True, omit_defaults=True):
    """A language runtime: its executable, its own library, its standard library.

    `executable`, `site` and `headers` are paths below the environment: the interpreter in the runtime's tree,
    the folder where this runtime looks for packages, and the folder of its C headers.
    """

    language: Literal["python"]
    implementation: Name
    version: Name
    build: str
    executable: Inside
    site: Inside
    headers: Inside
    tree: Digest
    files: Count
    bytes: Count
    left_out: tuple[str, ...]


class Origin(msgspec.Struct, frozen=True, rename="kebab", forbid_unknown_fields=True, omit_defaults=True):
    """Where the bytes of a package came from.

    ``environment``: only the captured environment is known. ``archive``: the file at `url`. ``index``: the
    file `file` of the index at `index`. ``version-control``: the commit `commit` of the repository at `url`.
    ``local``: the folder `path` of the project; where `folders` are given, the package is used from these
    folders of the project (an editable installation) and its code is not part of the snapshot.
    """

    kind: Literal["environment", "archive", "index", "version-control", "local"]
    url: str | None = None
    index: str | None = None
    file: str | None = None
    sha256: str | None = None
    bytes: Count | None = None
    system: str | None = None
    commit: str | None = None
    revision: str | None = None
    subdirectory: Inside | None = None
    path: Inside | None = None
    folders: tuple[Inside, ...] | None = None


class Package(msgspec.Struct, frozen=True, rename="kebab", forbid_unknown_fields=True, omit_defaults=True):
    """One installed distribution.

    `wanted`: what the analysis itself needs asks for it by name; `groups`: the groups that ask for it by name.
    `extras`: those that are asked for with it. `built_with`: where it was built from source, the packages that built
    it, as "name version tree".
    """

    language: Literal["python"]
    name: Name
    version: Name
    tree: Digest
    files: Count
    bytes: Count
    requires: tuple[str, ...]
    wanted: bool
    origin: Origin
    groups: tuple[str, ...] = ()
    extras: tuple[str, ...] = ()
    built_with: tuple[str, ...] = ()

    @property
    def asked_for(self) -> bool:
        """Whether anyone asks for it by name, and not only another package."""
        return self.wanted or bool(self.groups)


class Kept(msgspec.Struct, frozen=True, rename="kebab", omit_defaults=True):
    """What of a package's record cannot be read off its files: kept beside them in a restored environment, so that
    capturing it gives the same record again.

    `only_groups`: it is asked for by its groups alone.
    """

    origin: Origin = Origin(kind="environment")
    groups: tuple[str, ...] = ()
    only_groups: bool = False
    extras: tuple[str, ...] = ()
    built_with: tuple[str, ...] = ()

    @classmethod
    def of(cls, package: Package) -> Kept:
        """What is kept of a package."""
        only_groups = bool(package.groups) and not package.wanted
        return cls(package.origin, package.groups, only_groups, package.extras, package.built_with)


class Remainder(msgspec.Struct, frozen=True, rename="kebab", forbid_unknown_fields=True, omit_defaults=True):
    """The files in the packages' folders that belong to no package; `paths` are their top-level names."""

    language: Literal["python"]
    tree: Digest
    files: Count
    bytes: Count
    paths: tuple[str, ...]


class Libraries(msgspec.Struct, frozen=True, rename="kebab", forbid_unknown_fields=True, omit_defaults=True):
    """The layer of system libraries: the tree of all of them, with what they open on demand.

    `loader` is the loader's file in the tree. `absolute`: files of the environment (paths below it) that name
    absolute folders to look for libraries in before all others (DT_RPATH).
    """

    loader: Inside
    tree: Digest
    files: Count
    bytes: Count
    absolute: tuple[Inside, ...] = ()


class Library(msgspec.Struct, frozen=True, rename="kebab", forbid_unknown_fields=True, omit_defaults=True):
    """One system library, by the name it is asked for.

    `owner`, `owner_version`: the operating system's package that has it. `used_by`: ``runtime``, or the packages (and
    ``tool NAME``) that use it where the runtime does not. `versions`: of the symbol versions that the environment's
    files need of it, the newest of each family.
    """

    soname: Inside
    sha256: Annotated[str, msgspec.Meta(pattern=r"^[0-9a-f]{64}$")]
    bytes: Count
    used_by: tuple[str, ...]
    owner: str | None = None
    owner_version: str | None = None
    versions: tuple[str, ...] = ()


class Tool(msgspec.Struct, frozen=True, rename="kebab", forbid_unknown_fields=True, omit_defaults=True):
    """An outside program: its executable or script, and the files that its package ships.

    `executable` is its path in the tree, which keeps the places that files have below the root of a system.
    `interpreter` is the path in the tree of the program that runs it, where it is a script.
    """

    name: Name
    executable: Inside
    tree: Digest
    files: Count
    bytes: Count
    owner: str | None = None
    owner_version: str | None = None
    interpreter: Inside | None = None


class Conditions(msgspec.Struct, frozen=True, rename="kebab", forbid_unknown_fields=True, omit_defaults=True):
    """Under what the environment ran when it was captured, and what a run is to hold.

    `processor`, `features`, `kernel`: what was there. `numerics`: ``native`` or ``portable``; `baseline`: the level of
    the processor that ``portable`` holds. `host`: libraries that cannot travel, with their versions. `variables`: those
    that a run sets; `secrets`: names of variables that the project declares and whose values are never kept.
    `env_file`: the project's file that variables are read from when a run begins.
    """

    # Always written: whether a string is a default's is told by identity, and this one may come from a file.
    numerics: Literal["native", "portable"]
    processor: str = ""
    features: tuple[str, ...] = ()
    kernel: str = ""
    baseline: str | None = None
    umask: Annotated[str, msgspec.Meta(pattern=r"^[0-7]{3,4}$")] | None = None
    variables: dict[str, str] = {}
    secrets: tuple[str, ...] = ()
    env_file: Inside | None = None
    host: tuple[str, ...] = ()


class Snapshot(msgspec.Struct, frozen=True, rename="kebab", forbid_unknown_fields=True, omit_defaults=True):
    """The record of all layers of one environment.

    `snapshot` is its identity: the digest of its canonical text, see `lapidar.core.lockfile`.
    """

    format: int
    snapshot: Digest
    platform: Platform
    runtime: tuple[Runtime, ...]
    package: tuple[Package, ...] = ()
    remainder: tuple[Remainder, ...] = ()
    libraries: Libraries | None = None
    library: tuple[Library, ...] = ()
    tool: tuple[Tool, ...] = ()
    conditions: Conditions | None = None

    @property
    def only_runtime(self) -> Runtime:
        """The runtime of the one language there is so far."""
        return self.runtime[0]

    def trees(self) -> list[tuple[str, str]]:
        """Every tree it needs, as pairs of who needs it (for people) and the tree's digest."""
        needed = [(runtime_label(runtime), runtime.tree) for runtime in self.runtime]
        needed += [(f"{package.name} {package.version}", package.tree) for package in self.package]
        needed += [("files of no package", rest.tree) for rest in self.remainder]
        needed += [(LIBRARIES, self.libraries.tree)] if self.libraries else []
        needed += [(tool_label(tool), tool.tree) for tool in self.tool]
        return needed


LIBRARIES = "system libraries"  # how that layer's tree is called in messages


def tool_label(tool: Tool) -> str:
    """How an outside program is called in messages: ``tool gnuplot``."""
    return f"tool {tool.name}"


def runtime_label(runtime: Runtime) -> str:
    """How a runtime is called in messages: ``cpython 3.11.7``."""
    return f"{runtime.implementation} {runtime.version}"


def short(snapshot_id: str) -> str:
    """The first digits of a snapshot's identity, as shown to people."""
    return snapshot_id.removeprefix("sha256:")[:12]
