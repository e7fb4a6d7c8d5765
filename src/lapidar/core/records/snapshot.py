"""The records of a snapshot: values, compared by content, with no behaviour of their own.

Field by field they are described in ``docs/lockfile.md``; names with a hyphen there are the same names with
an underscore here.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Annotated, Literal, NamedTuple

import msgspec

from lapidar.core.records.owner import LIBRARIES, Layer, Owner, PackageName

__all__ = [
    "Conditions",
    "Digest",
    "LanguageParts",
    "Libraries",
    "Library",
    "Origin",
    "Package",
    "PackageFacts",
    "Part",
    "Platform",
    "Remainder",
    "Runtime",
    "Snapshot",
    "Tool",
]

Digest = Annotated[str, msgspec.Meta(pattern=r"^sha256:[0-9a-f]{64}$")]
Count = Annotated[int, msgspec.Meta(ge=0)]
Name = Annotated[str, msgspec.Meta(min_length=1)]
User = Annotated[
    str, msgspec.Meta(pattern=r"^(runtime/[^/]+|packages/[^/]+/[^/]+|remainder/[^/]+|tools/[^/]+|project|run)$")
]
# Relative, POSIX, and never climbing out of the folder it is joined to.
Inside = Annotated[str, msgspec.Meta(pattern=r"^(?!/)(?!(.*/)?\.\.(/|$))[^\0]+$")]


class Platform(msgspec.Struct, frozen=True, rename="kebab", forbid_unknown_fields=True, omit_defaults=True):
    """The kind of machine and operating system that the environment's bytes are for."""

    system: Name
    machine: Name
    libc: Name


class Runtime(msgspec.Struct, frozen=True, rename="kebab", forbid_unknown_fields=True, omit_defaults=True):
    """A language runtime: its executable, its own library, its standard library.

    `executable` is the interpreter in the runtime's tree. `places` are folders below the environment by the names that
    the language gives them: where this runtime looks for packages, where it has its C headers ...
    """

    language: Name
    implementation: Name
    version: Name
    build: str
    executable: Inside
    places: dict[str, Inside]
    tree: Digest
    files: Count
    bytes: Count
    left_out: tuple[str, ...]

    @property
    def owner(self) -> Owner:
        """What its files are called by."""
        return Owner(Layer.RUNTIME, self.language, self.implementation, self.version)


class Origin(msgspec.Struct, frozen=True, rename="kebab", forbid_unknown_fields=True, omit_defaults=True):
    """Where the bytes of a package came from.

    ``environment``: only the captured environment is known. ``archive``: the file at `url`. ``index``: the
    file `file` of the index at `index`. ``version-control``: the commit `commit` of the repository at `url`.
    ``local``: the folder `path` of the project; where `folders` are given, the package is used from these
    folders of the project (an editable installation) and its code is not part of the snapshot. Otherwise its tree is
    what was built of that folder: `sources` is the digest of what was there, `live` are the folders below it that have
    files of the tree at the same paths with the same bytes, and `made` the paths that have others there.
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
    sources: Digest | None = None
    live: tuple[Inside, ...] | None = None
    made: tuple[Inside, ...] | None = None


class Package(msgspec.Struct, frozen=True, rename="kebab", forbid_unknown_fields=True, omit_defaults=True):
    """One installed distribution.

    `wanted`: what the analysis itself needs asks for it by name; `groups`: the groups that ask for it by name.
    `extras`: those that are asked for with it. `built_with`: where it was built from source, the packages that built
    it, as "name version tree".
    """

    language: Name
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
    def key(self) -> PackageName:
        """What it is known by, whatever its version."""
        return PackageName(self.language, self.name)

    @property
    def asked_for(self) -> bool:
        """Whether anyone asks for it by name, and not only another package."""
        return self.wanted or bool(self.groups)

    @property
    def owner(self) -> Owner:
        """What its files are called by."""
        return Owner(Layer.PACKAGES, self.language, self.name, self.version)


class PackageFacts(msgspec.Struct, frozen=True, rename="kebab", omit_defaults=True):
    """What of a package's record cannot be read off its files: kept beside them in a restored environment, so that
    capturing it gives the same record again.

    `only_groups`: it is asked for by its groups alone. `requires`: what it needs, where its own files do not say so.
    """

    origin: Origin = Origin(kind="environment")
    groups: tuple[str, ...] = ()
    only_groups: bool = False
    extras: tuple[str, ...] = ()
    built_with: tuple[str, ...] = ()
    requires: tuple[str, ...] = ()

    @classmethod
    def of(cls, package: Package, *, says_needs: bool = True) -> PackageFacts:
        """What is kept of a package.

        Args:
            says_needs: whether its own files say what it needs.
        """
        only_groups = bool(package.groups) and not package.wanted
        requires = () if says_needs else package.requires
        return cls(package.origin, package.groups, only_groups, package.extras, package.built_with, requires)


class Remainder(msgspec.Struct, frozen=True, rename="kebab", forbid_unknown_fields=True, omit_defaults=True):
    """The files in the packages' folders that belong to no package; `paths` are their top-level names."""

    language: Name
    tree: Digest
    files: Count
    bytes: Count
    paths: tuple[str, ...]

    @property
    def owner(self) -> Owner:
        """What these files are called by."""
        return Owner(Layer.REMAINDER, self.language)


class Libraries(msgspec.Struct, frozen=True, rename="kebab", forbid_unknown_fields=True, omit_defaults=True):
    """The layer of system libraries: the tree of all of them, with what they open on demand.

    `loader` is the loader's file in the tree. `absolute`: files of the environment (paths below it) that name
    absolute folders to look for libraries in before all others (DT_RPATH). `left`: libraries that files may open, which
    were on the machine and were not taken.
    """

    loader: Inside
    tree: Digest
    files: Count
    bytes: Count
    absolute: tuple[Inside, ...] = ()
    left: tuple[Inside, ...] = ()


class Library(msgspec.Struct, frozen=True, rename="kebab", forbid_unknown_fields=True, omit_defaults=True):
    """One system library, by the name it is asked for.

    `owner`, `owner_version`: the operating system's package that has it. `used_by`: the runtimes that use it; where
    none does, the packages, outside programs ... that do, each as `Owner.user` writes it. `versions`: of the symbol
    versions that the environment's files need of it, the newest of each family.
    """

    soname: Inside
    sha256: Annotated[str, msgspec.Meta(pattern=r"^[0-9a-f]{64}$")]
    bytes: Count
    used_by: tuple[User, ...]
    owner: str | None = None
    owner_version: str | None = None
    versions: tuple[str, ...] = ()

    @property
    def users(self) -> tuple[Owner, ...]:
        """Who uses it."""
        return tuple(Owner.of_user(text) for text in self.used_by)


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

    @property
    def part(self) -> Owner:
        """What its files are called by; `owner` is the operating system's package."""
        return Owner(Layer.TOOLS, name=self.name)


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


class Part(NamedTuple):
    """A part of a snapshot that has a tree: whose it is, the tree's digest, its entries and the size of its files."""

    owner: Owner
    tree: str
    files: int
    bytes: int


class LanguageParts(NamedTuple):
    """What a snapshot has of one language."""

    runtime: Runtime
    packages: tuple[Package, ...]
    remainders: tuple[Remainder, ...]

    @property
    def above_runtime(self) -> tuple[Package | Remainder, ...]:
        """What lies in the packages' folders."""
        return (*self.packages, *self.remainders)

    @property
    def every(self) -> tuple[Runtime | Package | Remainder, ...]:
        """All of it."""
        return (self.runtime, *self.packages, *self.remainders)

    @property
    def is_captured(self) -> bool:
        """Whether its packages were found in an environment, and not chosen from an index: such have no file."""
        return any(one.origin.kind in ("environment", "index") and not one.origin.sha256 for one in self.packages)


_FIELDS = {
    "runtimes": "runtime",
    "packages": "package",
    "remainders": "remainder",
    "library_layer": "libraries",
    "libraries": "library",
    "tools": "tool",
}


class Snapshot(msgspec.Struct, frozen=True, rename=_FIELDS, forbid_unknown_fields=True, omit_defaults=True):
    """The record of all layers of one environment.

    `snapshot` is its identity: the digest of its canonical text, see `lapidar.core.records.lockfile`. Tables that there
    may be several of have the name of one in a lockfile (``[[package]]``).
    """

    format: int
    snapshot: Digest
    platform: Platform
    runtimes: tuple[Runtime, ...]
    packages: tuple[Package, ...] = ()
    remainders: tuple[Remainder, ...] = ()
    library_layer: Libraries | None = None
    libraries: tuple[Library, ...] = ()
    tools: tuple[Tool, ...] = ()
    conditions: Conditions | None = None

    @property
    def languages(self) -> tuple[str, ...]:
        """Its languages, sorted."""
        return tuple(sorted(runtime.language for runtime in self.runtimes))

    def runtime_of(self, language: str) -> Runtime | None:
        """The runtime of a language; None where it has none."""
        return next((runtime for runtime in self.runtimes if runtime.language == language), None)

    def of_languages(self) -> Iterator[LanguageParts]:
        """What it has of each language."""
        for runtime in sorted(self.runtimes, key=lambda runtime: runtime.language):
            language = runtime.language
            packages = tuple(one for one in self.packages if one.language == language)
            yield LanguageParts(runtime, packages, tuple(one for one in self.remainders if one.language == language))

    def parts(self) -> list[Part]:
        """Every part that has a tree."""
        several: list[Runtime | Package | Remainder] = [*self.runtimes, *self.packages, *self.remainders]
        parts = [Part(one.owner, one.tree, one.files, one.bytes) for one in several]
        if layer := self.library_layer:
            parts.append(Part(LIBRARIES, layer.tree, layer.files, layer.bytes))
        return parts + [Part(tool.part, tool.tree, tool.files, tool.bytes) for tool in self.tools]

    def tree_of(self, user: str) -> str | None:
        """The digest of the tree of one part, by what its owner is called (`Owner.user`); None where it has none."""
        return next((part.tree for part in self.parts() if part.owner.user == user), None)
