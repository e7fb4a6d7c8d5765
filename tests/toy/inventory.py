"""What is found of Glaze in an environment, and where its files go in a restored one."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from lapidar.core.cache.store import Cache
from lapidar.core.cache.stowing import Draft, FileDraft, Stowed
from lapidar.core.cache.trees import Entry, Tree
from lapidar.core.environment.layout import Layout, Placing
from lapidar.core.errors import EnvironmentUnusable, PackageBroken
from lapidar.core.languages.basic import BasicInventory
from lapidar.core.records.owner import Layer, Owner
from lapidar.core.records.snapshot import LanguageParts, Origin, Package, Runtime

INTERPRETER = "bin/glaze"
PACKAGES = "lib/glaze"
MANIFEST = "manifest.json"
VERSION_LINE = "# glaze "


def named(need: str) -> str:
    """Whose need it is: ``lead >= 2.0`` is one of lead."""
    return need.partition(">")[0].strip()


@dataclass(frozen=True)
class Manifest:
    """What a package says of itself."""

    name: str
    version: str
    needs: tuple[str, ...] = ()

    @classmethod
    def read(cls, folder: Path) -> Manifest:
        try:
            fields = json.loads((folder / MANIFEST).read_text("utf-8"))
            return cls(fields["name"], fields["version"], tuple(fields.get("needs", ())))
        except (OSError, ValueError, KeyError) as error:
            raise PackageBroken(
                f"{folder} has no good {MANIFEST}", why=str(error), remedy="Install it again."
            ) from error

    @classmethod
    def of(cls, cache: Cache, tree: str) -> Manifest:
        entry = next(one for one in cache.tree(tree) if one.path == MANIFEST)
        fields = json.loads(cache.read(entry))
        return cls(fields["name"], fields["version"], tuple(fields.get("needs", ())))

    @property
    def needed(self) -> tuple[str, ...]:
        return tuple(map(named, self.needs))

    @property
    def owner(self) -> Owner:
        return Owner(Layer.PACKAGES, "glaze", self.name, self.version)


@dataclass
class GlazeInventory(BasicInventory):
    """What was found in one environment."""

    folder: Path
    version: str
    packages: Sequence[Manifest]

    language = "glaze"

    def __post_init__(self) -> None:
        self.prefix = str(self.folder)
        self.process = str(self.folder / INTERPRETER)

    @property
    def _runtime(self) -> Owner:
        return Owner(Layer.RUNTIME, "glaze", "glaze", self.version)

    def drafts(self) -> Mapping[Owner, Sequence[Draft]]:
        drafts: dict[Owner, Sequence[Draft]] = {self._runtime: [FileDraft(INTERPRETER, self.process)]}
        for package in self.packages:
            drafts[package.owner] = drafts_of(self.folder / PACKAGES / package.name)
        return drafts

    def records(self, stowed: Mapping[Owner, Stowed]) -> LanguageParts:
        tree = stowed[self._runtime].tree
        runtime = Runtime(
            language="glaze",
            implementation="glaze",
            version=self.version,
            build="",
            executable=INTERPRETER,
            places={"packages": PACKAGES},
            tree=tree.digest,
            files=len(tree),
            bytes=tree.total_bytes,
            left_out=(),
        )
        needed = {name for package in self.packages for name in package.needed}
        packages = tuple(
            record(package, stowed[package.owner].tree, package.name not in needed, Origin(kind="environment"))
            for package in self.packages
        )
        return LanguageParts(runtime, packages, ())


def record(package: Manifest, tree: Tree, wanted: bool, origin: Origin) -> Package:
    return Package(
        language="glaze",
        name=package.name,
        version=package.version,
        tree=tree.digest,
        files=len(tree),
        bytes=tree.total_bytes,
        requires=package.needed,
        wanted=wanted,
        origin=origin,
    )


def drafts_of(folder: Path) -> list[Draft]:
    """The files of a package's folder."""
    files = sorted(path for path in folder.rglob("*") if path.is_file())
    return [FileDraft(str(path.relative_to(folder)), str(path)) for path in files]


def observe(folder: Path) -> GlazeInventory:
    """What an environment has."""
    packages = [Manifest.read(path) for path in sorted((folder / PACKAGES).glob("*/"))]
    return GlazeInventory(folder, version_of(folder / INTERPRETER), packages)


def version_of(interpreter: Path) -> str:
    """The version that an interpreter says of itself."""
    for line in interpreter.read_text("utf-8").splitlines()[1:2]:
        if line.startswith(VERSION_LINE):
            return line.removeprefix(VERSION_LINE)
    raise EnvironmentUnusable(f"{interpreter} does not say its version", remedy="Install glaze again.")


def lay_out(parts: LanguageParts, layout: Layout, at: Placing) -> None:
    """Add all that a restored environment has of it."""
    layout.add(parts.runtime.owner, _placed(at.trees[parts.runtime.tree], ""))
    for package in parts.packages:
        layout.add(package.owner, _placed(at.trees[package.tree], f"{PACKAGES}/{package.name}/"))


def _placed(tree: Tree, below: str) -> Iterator[tuple[Entry, str]]:
    for entry in tree:
        yield entry, below + entry.path
